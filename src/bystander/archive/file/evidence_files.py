"""Large evidence lies in files beside the archive, named by the digest of what is in them."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator
from contextlib import suppress
from pathlib import Path

from bystander.archive.file.place import on_a_full_disk
from bystander.design import Payload
from bystander.errors import ArchiveError
from bystander.files import make_private_folder, new_private_file

__all__ = ["LARGE_BYTES", "EvidenceFiles"]

LARGE_BYTES = 2**20  # above, a payload is no part of the database
_BEGUN = ".part"


class EvidenceFiles:
    """The folder of an archive's large payloads: `ARCHIVE.evidence/DIGEST`."""

    def __init__(self, archive: Path) -> None:
        self.folder = archive.with_name(archive.name + ".evidence")

    def keep(self, payload: Payload) -> None:
        """Write a payload; it is on disk when this returns."""
        target = self.folder / payload.digest
        part = target.with_name(f"{target.name}.{os.getpid()}{_BEGUN}")
        try:
            if target.exists() and target.stat().st_size == len(payload.data):
                return
            if not self.folder.exists():
                make_private_folder(self.folder)
                _sync(self.folder.parent)
            part.unlink(missing_ok=True)
            with os.fdopen(new_private_file(part), "wb") as file:
                file.write(payload.data)
                file.flush()
                os.fsync(file.fileno())
            part.replace(target)
            _sync(self.folder)
        except OSError as error:
            with suppress(OSError):
                part.unlink(missing_ok=True)
            text = f"evidence cannot be kept in {self.folder}: {error.strerror}"
            raise on_a_full_disk(self.folder) or ArchiveError(text) from error

    def read(self, digest: str, codec: str) -> Payload:
        """Return a payload; raise ArchiveError when its file is gone or is not what it was."""
        try:
            payload = Payload((self.folder / digest).read_bytes(), codec)
        except OSError as error:
            raise ArchiveError(f"evidence in {self.folder / digest} cannot be read: {error.strerror}") from error
        if payload.digest != digest:
            raise ArchiveError(f"evidence in {self.folder / digest} is damaged: it is not what was written")
        return payload

    def __iter__(self) -> Iterator[Path]:
        """Yield the files that there are, half-written ones too."""
        with suppress(OSError):
            yield from sorted(self.folder.iterdir())

    def keep_only(self, digests: Iterable[str]) -> int:
        """Remove what no row names any more, and return the bytes that came free."""
        wanted, freed = set(digests), 0
        for file in list(self):
            if file.name not in wanted:
                with suppress(OSError):
                    freed += file.stat().st_size
                    file.unlink()
        with suppress(OSError):
            self.folder.rmdir()  # where it is empty
        return freed


def _sync(folder: Path) -> None:
    """Bring the names in a folder to the disk."""
    fd = os.open(folder, os.O_RDONLY | os.O_CLOEXEC)
    try:
        os.fsync(fd)
    finally:
        os.close(fd)
