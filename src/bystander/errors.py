"""One tree of errors; the command line maps each class to an exit code once."""

from __future__ import annotations

from collections.abc import Sequence

__all__ = [
    "ArchiveError",
    "ArmError",
    "BudgetError",
    "BystanderError",
    "DataError",
    "FirstTryError",
    "GateError",
    "InspectionError",
    "LauncherError",
    "MachineBusyError",
    "NoSpaceError",
    "NotAppliedError",
    "NotKeptError",
    "NothingEditedError",
    "OwnFilesError",
    "StudyError",
    "UnitError",
    "UnknownRecordError",
    "UntrustedRepositoryError",
    "UsageError",
]


class BystanderError(Exception):
    """Something could not be done; the message is one clear sentence."""


class UsageError(BystanderError):
    """The command, the study or a file is wrong; the user can mend it."""


class UnitError(UsageError):
    """A text is no duration, share or size."""


class StudyError(UsageError):
    """A study is wrong; all its problems are told at once.

    Parameters
    ----------
    problems : sequence of str
        One sentence each: file, key path, value and what would be right.
    """

    def __init__(self, problems: Sequence[str]) -> None:
        super().__init__("\n".join(problems))
        self.problems = tuple(problems)


class OwnFilesError(UsageError):
    """An arm runs files that are not its own."""


class DataError(UsageError):
    """A file to be read in is damaged or has wrong columns or values."""


class UnknownRecordError(UsageError):
    """The archive has no such record."""


class BudgetError(BystanderError):
    """The time that is given could show nothing."""


class GateError(BystanderError):
    """What a gate is asked could not be told, whatever came out."""


class InspectionError(BystanderError):
    """There is nothing to look into, or a trial of it does not come to a good end."""


class ArmError(BystanderError):
    """An arm could not be made ready: git, a folder or a build step failed."""


class FirstTryError(BystanderError):
    """What was typed without a study fails in its first try: nothing is recorded of it."""


class NotKeptError(ArmError):
    """The state of a folder is not kept; the message says why, as a clause about it."""


class NotAppliedError(ArmError):
    """A patch does not apply to the state that it is meant for."""


class NothingEditedError(BystanderError):
    """There is nothing to compare: the folder stands as it was."""


class UntrustedRepositoryError(ArmError):
    """A repository belongs to another user, and this one never said that it is to be trusted."""


class LauncherError(BystanderError):
    """The launcher could not start or went away."""


class NoSpaceError(BystanderError):
    """A disk is full; what ended is kept, and the record can be resumed.

    Parameters
    ----------
    record : str
        The record that was interrupted by it; "" where none was begun.
    """

    def __init__(self, message: str, record: str = "") -> None:
        super().__init__(message)
        self.record = record


class ArchiveError(BystanderError):
    """The archive cannot be opened or written."""


class MachineBusyError(BystanderError):
    """Another observation runs on this machine."""
