"""Arms: states of the code or configuration."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from bystander.design.studies.workloads import Workload

__all__ = ["PLACEBO", "Arm", "KeptState"]

PLACEBO = "placebo"  # the name of that arm


@dataclass(frozen=True)
class KeptState:
    """Files as they were, kept so that they can be laid out again.

    Attributes
    ----------
    how : str
        "tree" of git, with what is its own beside the archive; or "copy", a folder beside the archive.
    digest : str
        The tree's id, or the digest of the folder.
    inside : str
        Where in it the study's folder lies; "" for its top.
    record : str
        The record that ran it, by its name then; "" for the state in which a folder was found.
    made : str
        How it was made of another one, as a clause: "before, with piece 2"; "" for a state as somebody left it.
    """

    how: str
    digest: str
    inside: str = ""
    record: str = ""
    made: str = ""

    def same_files(self, other: KeptState) -> bool:
        """Whether another state has the same files."""
        return (self.how, self.digest) == (other.how, other.digest)

    @property
    def identity(self) -> str:
        """What a reader should know it by."""
        of = self.made or (f"as record {self.record} ran it" if self.record else "this folder as it stood")
        return f"{of} ({self.digest.rpartition('-')[2][:10]})"


@dataclass(frozen=True)
class Arm:
    """One state of the code or configuration.

    Attributes
    ----------
    folder : str
        Where it lies, relative to the study; "." is the working tree.
    revision : str or None
        A git revision to check out apart instead.
    environment : mapping
        Variables set for its trials and build steps.
    settings : mapping
        Values for placeholders.
    build : tuple of str
        Commands that install or compile, run once.
    before_all : tuple of str
        Commands that run once before its first trial, and again when a record is resumed.
    command : mapping
        Commands, or callables, by workload that replace the study's; the key "" stands for all workloads.
    in_place : bool
        Run in the folder itself, without a snapshot (observations without a study).
    placebo : bool
        Made like the reference, apart from it; what it shows is noise.
    weigh : str
        What is left out of this arm, only to see what it weighs: its answers may differ. "" for nothing.
    filters : bool
        Whether git may run the filters that the repository's configuration names, when this arm is laid out.
    kept : KeptState or None
        The state in which its files are laid out, instead of how a folder or revision is now.
    """

    name: str
    folder: str = "."
    revision: str | None = None
    environment: Mapping[str, str] = field(default_factory=dict)
    settings: Mapping[str, str] = field(default_factory=dict)
    build: tuple[str, ...] = ()
    before_all: tuple[str, ...] = ()
    command: Mapping[str, str] = field(default_factory=dict)
    in_place: bool = False
    placebo: bool = False
    weigh: str = ""
    filters: bool = False
    kept: KeptState | None = None

    @property
    def filled(self) -> dict[str, str]:
        """The values of placeholders under this arm: its settings, and its name as {arm}."""
        return {"arm": self.name, **self.settings}

    def values_for(self, workload: Workload) -> dict[str, str]:
        """Return the values of placeholders of a workload under this arm: inputs come before arm before workload.

        {arm} stands for the arm's name where no setting or input has that name.
        """
        return {"arm": self.name, **workload.settings, **self.settings, **workload.inputs}

    def command_for(self, workload: Workload) -> str:
        """Return the command template that this arm runs for a workload; "" where it runs none."""
        return self.command.get(workload.base, self.command.get("", workload.template))
