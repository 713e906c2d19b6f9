"""`bystander demo`: the harbour office is laid out in a folder, ready to be observed."""

from __future__ import annotations

import io
import re
import sys
from dataclasses import dataclass, fields
from email import message_from_string
from email.utils import parsedate_to_datetime
from pathlib import Path

from bystander.demo import FILES
from bystander.errors import UsageError
from bystander.field import Git, StudyFolder
from bystander.files import copy_file, copy_tree, write_whole
from bystander.flow.places import STUDY_FILE, new_archive
from bystander.flow.records.imports import ImportOptions, import_files
from bystander.verdicts import Ladder

__all__ = ["RecordedHistory", "demo_archive", "lay_out", "lay_out_history", "lumped", "recorded", "recorded_history"]

_MARKS = Path(__file__).parents[3] / "bystander_marks.py"  # a copy of its own, as projects have it
_BYTE_CODE = "__pycache__"
_FAILURES, _HISTORY = FILES / "failures", FILES / "history"
_HISTORY_BEGINS = "2026-06-02T09:00:00+00:00"
_AUTHOR = {
    "GIT_AUTHOR_NAME": "Harbour Office",
    "GIT_AUTHOR_EMAIL": "office@harbour.example",
    "GIT_COMMITTER_NAME": "Harbour Office",
    "GIT_COMMITTER_EMAIL": "office@harbour.example",
}
_REVISIONS = (
    ("v1", "2026-03-02T09:00:00+00:00", "tidebook as the office knows it"),
    ("v2", "2026-05-18T09:00:00+00:00", "Read the waves once, check telegrams, reuse notices"),
)


def lay_out(folder: Path, with_failures: bool = False) -> Path:
    """Lay out the harbour office: a git repository with two tagged revisions, and a study; return the study.

    The same files give the same commit ids everywhere.

    Parameters
    ----------
    with_failures : bool
        Add a workload that fails three times of four, and one that hangs.

    Raises
    ------
    UsageError
        When the folder holds something already.
    """
    _refuse_full(folder)
    git = Git(folder)
    git.run("init", "--quiet", "--initial-branch=main", "--template=")
    for tag, date, subject in _REVISIONS:
        for files in (FILES / tag, _FAILURES / tag)[: 2 if with_failures else 1]:
            copy_tree(files, folder, _BYTE_CODE.__eq__)
        copy_file(_MARKS, folder / _MARKS.name)
        _committed(git, date, subject)
        git.run("tag", tag)
    text, truths = (_text(name, with_failures) for name in (STUDY_FILE, "truths.toml"))
    # A name on the PATH may be a script that starts the interpreter, and its cost would be measured too.
    write_whole(folder / STUDY_FILE, text.replace("PYTHON", sys.executable), 0o666)
    write_whole(folder / "truths.toml", truths, 0o666)
    return folder / STUDY_FILE


def lay_out_history(folder: Path) -> Path:
    """Lay out the harbour office with a longer history, of a commit for each file of edits; return the study.

    The same files give the same commit ids everywhere.

    Raises
    ------
    UsageError
        When the folder holds something already.
    """
    _refuse_full(folder)
    copy_tree(_HISTORY / "start", folder, _BYTE_CODE.__eq__)
    git = Git(folder)
    git.run("init", "--quiet", "--initial-branch=main", "--template=")
    _committed(git, _HISTORY_BEGINS, "tidebook prints the harbour's day")
    git.run("tag", "start")
    for patch in sorted((_HISTORY / "patches").glob("*.patch")):
        text = patch.read_text(encoding="utf-8")
        git.apply_here(text)
        head = message_from_string(text)
        subject = re.sub(r"\s*\n\s*", " ", head["Subject"]).partition("] ")[2]
        _committed(git, parsedate_to_datetime(head["Date"]).isoformat(), subject)
    for name in (STUDY_FILE, "truths.toml"):
        text = (_HISTORY / name).read_text(encoding="utf-8")
        write_whole(folder / name, text.replace("PYTHON", sys.executable), 0o666)
    return folder / STUDY_FILE


def _refuse_full(folder: Path) -> None:
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise UsageError(f"{folder} is there already and not empty; name another folder: bystander demo FOLDER")
    folder.mkdir(parents=True, exist_ok=True)


def _committed(git: Git, date: str, subject: str) -> None:
    when = {**_AUTHOR, "GIT_AUTHOR_DATE": date, "GIT_COMMITTER_DATE": date}
    git.run("add", "--all")
    git.run("commit", "--quiet", "--no-gpg-sign", "-m", subject, variables=when)


@dataclass(frozen=True)
class RecordedHistory:
    """The names of recorded records: the chain of the history, its lumped edit taken apart, and a search in it."""

    chain: str
    pieces: str
    search: str


def recorded_history(archive: Path) -> RecordedHistory:
    """Put what was recorded of the history into an archive, and return the names."""
    files = (_HISTORY / f"{one.name}.json" for one in fields(RecordedHistory))
    return RecordedHistory(
        *(import_files([str(file)], io.BytesIO(), archive, ImportOptions()).record for file in files)
    )


def lumped(made: Ladder) -> str:
    """Return the link of a ladder that is several edits in one; "" where there is none."""
    sizes = {rung.link.name: rung.link.size for rung in made.rungs}
    return next((name for name, size in sizes.items() if size and size.lumped), "")


def _text(name: str, with_failures: bool) -> str:
    """Return a file of the office, with what the failing workloads add to it."""
    files = (FILES / name, _FAILURES / name)[: 2 if with_failures else 1]
    return "".join(file.read_text(encoding="utf-8") for file in files)


def demo_archive(study: Path) -> Path:
    """Return the archive of a demo that is laid out."""
    return new_archive(None, {}, StudyFolder(study.parent))


def recorded(archive: Path) -> str:
    """Put the recorded observation into an archive and return its name."""
    return import_files([str(FILES / "recorded.json")], io.BytesIO(), archive, ImportOptions()).record
