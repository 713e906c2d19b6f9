"""Records are kept and read back; the only room that speaks SQL."""

from typing import TYPE_CHECKING

from bystander.archive.archive import Archive

if TYPE_CHECKING:
    from bystander.archive.writer import RecordWriter

__all__ = ["Archive", "RecordWriter"]
