"""Records are kept and read back; the only room that speaks SQL."""

from bystander.archive.archive import Archive
from bystander.archive.reader import EndedEarly

__all__ = ["Archive", "EndedEarly"]
