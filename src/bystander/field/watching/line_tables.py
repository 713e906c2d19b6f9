"""From an instruction of a code object to its line: the location table of CPython 3.11 and later (PEP 657)."""

from __future__ import annotations

__all__ = ["line_at"]

_SHORT, _ONE_LINE, _NO_COLUMNS, _LONG, _NONE = 0, 10, 13, 14, 15


def line_at(table: bytes, first_line: int, offset: int) -> int:
    """Return the line of an instruction; that of the code's beginning where it has none.

    Parameters
    ----------
    offset : int
        In bytes from the first instruction; below 0 before that has begun.
    """
    line, at, place = first_line, 0, 0
    found = first_line
    try:
        while at < len(table):
            head = table[at]
            kind, length = head >> 3 & 15, (head & 7) + 1
            at += 1
            if kind in (_NO_COLUMNS, _LONG):
                value, shift = 0, 0
                while True:
                    byte = table[at]
                    at += 1
                    value |= (byte & 63) << shift
                    shift += 6
                    if not byte & 64:
                        break
                line += -(value >> 1) if value & 1 else value >> 1
                for _ in range(3 if kind == _LONG else 0):
                    while table[at] & 64:
                        at += 1
                    at += 1
            elif kind == _NONE:
                pass
            elif kind >= _ONE_LINE:
                line += kind - _ONE_LINE
                at += 2
            else:
                at += 1
            if kind != _NONE:
                found = line
            if place <= offset < place + 2 * length:
                return found
            place += 2 * length
    except IndexError:  # the table was cut off
        pass
    return first_line
