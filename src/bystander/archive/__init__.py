"""Records are kept and read back; the only room that speaks SQL."""

from bystander.archive.archive import Archive

__all__ = ["Archive"]
