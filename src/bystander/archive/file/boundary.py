"""What is read of an archive's file passes here: whatever is wrong with it becomes one sentence."""

from __future__ import annotations

import functools
import sqlite3
from collections.abc import Callable
from pathlib import Path
from typing import Concatenate, ParamSpec, Protocol, TypeVar

from bystander.archive.file.place import on_a_full_disk
from bystander.design import mending
from bystander.errors import ArchiveError, BystanderError

__all__ = ["damaged", "told_as_damage"]

# What decoding and counting raise on values that nobody wrote.
_OF_DAMAGE = (
    ValueError, TypeError, KeyError, IndexError, AttributeError, OverflowError, RecursionError, MemoryError,
    AssertionError, sqlite3.Error,
)  # fmt: skip


class _Reads(Protocol):
    @property
    def path(self) -> Path:
        """The archive's file."""


P = ParamSpec("P")
R = TypeVar("R")
S = TypeVar("S", bound=_Reads)


def damaged(path: Path, why: object, record: str = "") -> BystanderError:
    """Return the error of an archive, or of one record in it, that is not what was written, or whose disk is full."""
    if full := on_a_full_disk(path):
        return full
    text = " ".join(str(why).split())[:200] or type(why).__name__
    where = f" in record {record}" if record else ""
    return ArchiveError(f"the archive {path} is damaged{where}: {text}; {mending(path)} saves what is whole in it")


def told_as_damage(method: Callable[Concatenate[S, P], R]) -> Callable[Concatenate[S, P], R]:
    """Have a method that reads raise ArchiveError for whatever a damaged file makes it stumble over."""

    def reading(self: S, /, *values: P.args, **named: P.kwargs) -> R:
        try:
            return method(self, *values, **named)
        except _OF_DAMAGE as error:
            raise damaged(self.path, error) from error

    functools.update_wrapper(reading, method)
    return reading
