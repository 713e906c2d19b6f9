"""Copies of a laid-out arm in deeper folders, by their paths."""

from __future__ import annotations

__all__ = ["deeper"]

_ARMS = "/.bystander/arms/"
_DEEPER = "deeper/"


def deeper(path: str, depth: int) -> str:
    """Return where a path inside a laid-out arm lies in the copy that is so many folders deeper.

    The copy of `.bystander/arms/KEY` at depth 2 is `.bystander/arms/deeper/deeper/KEY`.
    """
    if not depth:
        return path
    before, arms, inside = path.rpartition(_ARMS)
    return before + arms + _DEEPER * depth + inside
