"""The harbour office: the files of the demo, and nothing else."""

from __future__ import annotations

from pathlib import Path

__all__ = ["FILES"]

FILES = Path(__file__).parent / "harbour"
