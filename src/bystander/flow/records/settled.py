"""What was settled beside a study, as it is read."""

from __future__ import annotations

import stat
from pathlib import Path

from bystander.design import RecordHead, Settled, SettledLink, SettledPlace
from bystander.errors import DataError
from bystander.exchange import SETTLED_FILE, read_settled, read_settled_links, read_settled_places
from bystander.files import mode_at, read_at_most

__all__ = ["judged_beside", "links_beside", "read_file", "settled_beside", "settled_file"]

OWN_FOLDER = ".bystander"

_MOST_BYTES = 2**22


def settled_file(head: RecordHead, archive: Path) -> Path:
    """Return the file beside a record's study; of a record from elsewhere, beside the archive that holds it."""
    folder = Path(head.study_folder)
    if not head.observed_here or not folder.is_dir():
        own = archive.absolute().parent
        folder = own.parent if own.name == OWN_FOLDER else own
    return folder / SETTLED_FILE


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
