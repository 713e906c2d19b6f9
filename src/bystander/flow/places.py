"""Where things are, the study's file and the archive; and where files may be written."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from pathlib import Path

from bystander.design import Study, read_study
from bystander.errors import StudyError, UsageError
from bystander.field import StudyFolder
from bystander.files import read_at_most
from bystander.units import either, size_text

__all__ = [
    "STUDY_FILE",
    "StudyFolder",
    "find_archive",
    "import_archive",
    "load_study",
    "new_archive",
    "refuse_unfit",
]

STUDY_FILE = "bystander.toml"
_MOST_STUDY = 16 * 2**20
_ARCHIVE = Path(".bystander", "archive.sqlite")


def load_study(path: Path | None, here: Path) -> tuple[Study, StudyFolder]:
    """Return the study of a file (bystander.toml here, by default) and the folder it lies in.

    Raises
    ------
    UsageError, StudyError
        When there is no such file, or something is wrong in it.
    """
    file = path or here / STUDY_FILE
    try:
        data = read_at_most(file, _MOST_STUDY)
        if data is None:
            raise StudyError([f"{file.name}: it is larger than {size_text(_MOST_STUDY)}, and no study"])
        text = data.decode("utf-8").replace("\r\n", "\n")
    except FileNotFoundError:
        hint = "bystander new writes one" if path is None else "name one that is there"
        raise UsageError(f"there is no study {file.name} in {file.parent.resolve()}; {hint}") from None
    except (OSError, UnicodeDecodeError) as error:
        reason = error.strerror if isinstance(error, OSError) else "it is no UTF-8 text"
        raise StudyError([f"{file.name}: it cannot be read: {reason}"]) from None
    home = StudyFolder(file.parent)
    home.file = file.name
    return read_study(text, file.name, home), home


def new_archive(given: Path | None, variables: Mapping[str, str], home: StudyFolder) -> Path:
    """Return the archive that an observation here writes to."""
    if given := given or _from(variables):
        return given
    return home.own / _ARCHIVE.name


def find_archive(given: Path | None, variables: Mapping[str, str], here: Path) -> Path:
    """Return the archive in the current folder or above; raise UsageError when there is none.

    `--archive` and BYSTANDER_ARCHIVE point elsewhere.
    """
    if given := given or _from(variables):
        return given
    for folder in (here, *here.parents):
        if (folder / _ARCHIVE).exists():
            return folder / _ARCHIVE
    raise UsageError(
        f"there is no archive in {here} or above; bystander observe makes one, --archive points to another"
    )


def _from(variables: Mapping[str, str]) -> Path | None:
    given = variables.get("BYSTANDER_ARCHIVE")
    return Path(given) if given else None


def import_archive(given: Path | None, variables: Mapping[str, str], here: Path) -> Path:
    """Return the archive that an import writes to: the one in the current folder or above, else a new one here."""
    try:
        return find_archive(given, variables, here)
    except UsageError:
        return new_archive(given, variables, StudyFolder(here))


def refuse_unfit(targets: Sequence[Path], formats: Collection[str], kind: str, summary: Path | None = None) -> None:
    """Raise UsageError when a file to be written does not tell its kind, is named twice, or can be none there.

    Parameters
    ----------
    formats : collection of str
        The suffixes that there are.
    kind : str
        What a suffix tells, for the message: "the kind of report".
    summary : Path, optional
        A file that is appended to: it may have any suffix, and may be a pipe.
    """
    for target in targets:
        if target.suffix.lower() not in formats:
            raise UsageError(f'--to: "{target.name}" does not tell {kind}; end it in {either(formats)}')
        if targets.count(target) > 1:
            raise UsageError(f"--to: {target} is named twice")
        if target.exists() and not (target.is_file() or target.is_dir()):
            raise UsageError(f"--to: {target} is a pipe or a device, and would be replaced; name a file")
    for option, target in (*(("--to", target) for target in targets), *([("--summary", summary)] if summary else [])):
        if not target.absolute().parent.is_dir():
            raise UsageError(f"{option}: there is no folder {target.absolute().parent}; make it first")
        if target.is_dir():
            raise UsageError(f"{option}: {target} is a folder; name a file")
