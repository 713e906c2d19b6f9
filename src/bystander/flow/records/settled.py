"""What was settled beside a study, as it is read."""

from __future__ import annotations

import stat
from collections.abc import Callable
from pathlib import Path

from bystander.design import RecordHead, Settled, SettledLink, SettledPlace
from bystander.errors import DataError, UsageError
from bystander.exchange import SETTLED_FILE, read_settled, read_settled_links, read_settled_places
from bystander.files import held_lock, make_private_folder, mode_at, read_at_most, write_whole

__all__ = [
    "add_settled",
    "judged_beside",
    "links_beside",
    "read_file",
    "settled_beside",
    "settled_file",
    "study_folder",
]

OWN_FOLDER = ".bystander"

_MOST_BYTES, _MOST_STUDY = 2**22, 2**24


def settled_file(head: RecordHead, archive: Path) -> Path:
    """Return the file beside a record's study: where the archive in use lies, if a study lies there too.

    So a project that was copied with its archive has a list of its own. A record from elsewhere has it beside the
    archive that holds it.
    """
    return study_folder(head, archive) / SETTLED_FILE


def study_folder(head: RecordHead, archive: Path) -> Path:
    """Return the folder of a record's study, as above."""
    then, here = Path(head.study_folder), _around(archive)
    beside = archive.absolute().parent.name == OWN_FOLDER and (not head.study_file or (here / head.study_file).exists())
    return here if beside or not head.observed_here or not then.is_dir() else then


def _around(archive: Path) -> Path:
    own = archive.absolute().parent
    return own.parent if own.name == OWN_FOLDER else own


def _refuse_other_study(head: RecordHead, folder: Path) -> None:
    """Raise UsageError where another study than a record's lies beside the archive."""
    then = Path(head.study_folder)
    if not head.observed_here or not head.study_file or not then.is_dir() or then.resolve() == folder.resolve():
        return
    texts = [read_at_most(place / head.study_file, _MOST_STUDY) for place in (folder, then) if _is_file(place, head)]
    if len(texts) == 2 and texts[0] != texts[1]:
        raise UsageError(
            f"record {head.name} was observed with {then / head.study_file}, and {folder / head.study_file}, beside "
            "the archive in use, is another study; make them the same, or observe here"
        )


def _is_file(folder: Path, head: RecordHead) -> bool:
    return stat.S_ISREG(mode_at(folder / head.study_file))


def add_settled(head: RecordHead, archive: Path, added: Callable[[str], str]) -> Path:
    """Write one entry more into the file beside a record's study, one process at a time, and return the file.

    Parameters
    ----------
    added : callable
        Takes the text of the file as it is, and returns it with the entry.

    Raises
    ------
    DataError, UsageError
        When the file is not one of ours, or another study lies there.
    """
    folder = study_folder(head, archive)
    _refuse_other_study(head, folder)
    file = folder / SETTLED_FILE
    # Held from reading to renaming: of two that read the same text, the later would write the earlier's entry away.
    with held_lock(_lock_of(file)):
        before, _ = read_file(file)  # one that cannot be read is not written over
        text = added(before)
        read_settled(text, file.name)  # what was written must be readable
        read_settled_places(text, file.name)
        read_settled_links(text, file.name)
        write_whole(file, text, 0o666)  # it is committed, and others read it
    return file


def _lock_of(file: Path) -> Path:
    """Return the file that is locked: not the list itself, which another file takes the place of."""
    own = file.parent / OWN_FOLDER
    make_private_folder(own)
    return own / "settled.lock"


def settled_beside(head: RecordHead, archive: Path) -> tuple[Settled, ...]:
    """Return what was settled beside the study of a record; nothing where no file is, or not ours to read."""
    return read_settled(*_beside(head, archive))


def judged_beside(head: RecordHead, archive: Path) -> tuple[SettledPlace, ...]:
    """Return what was judged of places of a record's study; nothing where no file is, or not ours to read."""
    return tuple(one for one in read_settled_places(*_beside(head, archive)) if one.study == head.study.name)


def links_beside(head: RecordHead, archive: Path) -> tuple[SettledLink, ...]:
    """Return what became of edits of a record's study; nothing where no file is, or not ours to read."""
    return tuple(one for one in read_settled_links(*_beside(head, archive)) if one.study == head.study.name)


def _beside(head: RecordHead, archive: Path) -> tuple[str, str]:
    """Return the text of the file beside a study, and the file's name."""
    file = settled_file(head, archive)
    try:
        return _text(file), file.name
    except PermissionError:
        return "", file.name


def read_file(file: Path) -> tuple[str, tuple[Settled, ...]]:
    """Return the text of such a file and its entries; nothing where there is none.

    Raises
    ------
    DataError
        Where it is no such file.
    PermissionError
        Where it may not be read.
    """
    text = _text(file)
    return text, read_settled(text, file.name)


def _text(file: Path) -> str:
    """Return the text of such a file, "" where there is none; raises as `read_file`."""
    mode = mode_at(file)
    if mode and not stat.S_ISREG(mode):
        raise DataError(f"{file.name}: it is no file")  # a pipe would be waited for
    try:
        data = read_at_most(file, _MOST_BYTES)
    except (FileNotFoundError, NotADirectoryError):
        return ""
    except PermissionError:
        raise
    except OSError as error:
        raise DataError(f"{file.name}: it cannot be read: {error.strerror}") from None
    if data is None:
        raise DataError(f"{file.name}: it is too large, and no list of what was settled")
    try:
        return data.decode("utf-8").replace("\r\n", "\n")
    except UnicodeDecodeError:
        raise DataError(f"{file.name}: it is no UTF-8 text") from None
