"""The name that a program gave a thread: an attribute of the object of `threading` that its outermost frame runs.

An instance keeps its attributes in a row of values whose names its class holds, as long as nobody asked for its
dictionary; where that row lies differs from version to version.
"""

from __future__ import annotations

import struct
from collections.abc import Callable

from bystander.field.watching.memory import Memory, TornError

__all__ = ["BOOTSTRAP", "thread_name"]

BOOTSTRAP = "Thread._bootstrap"
_CACHED_KEYS = {"3.11": 872, "3.12": 880, "3.13": 880}  # in a class: the names of its instances' attributes
_BASIC_SIZE = 32
_KEYS_HEAD = struct.Struct("<qBBBxIqq")  # references, sizes, kind, version, free places, names
_WITH_VALUES = 2  # the kind of keys that several instances share
_MOST_NAMES = 64
_POINTER = struct.Struct("<Q")


def thread_name(memory: Memory, version: str, thread: int, text: Callable[[int], str]) -> str:
    """Return the name of a thread; "" where it cannot be told.

    Parameters
    ----------
    thread : int
        Where its object lies.
    text : callable
        Reads a string.

    Raises
    ------
    OSError, TornError, struct.error
        When it changed while it was read.
    """
    kind = memory.word(thread + 8)
    keys = memory.word(kind + _CACHED_KEYS[version])
    values = _values(memory, version, thread, kind) if keys else 0
    if not values:
        return ""
    _, _, index_bytes, keys_kind, _, _, names = _KEYS_HEAD.unpack_from(memory.read(keys, _KEYS_HEAD.size))
    if keys_kind != _WITH_VALUES or not 0 < names <= _MOST_NAMES or index_bytes > 16:
        return ""
    entries = bytes(memory.read(keys + _KEYS_HEAD.size + (1 << index_bytes), 16 * names)[: 16 * names])
    for at in range(names):
        (name,) = _POINTER.unpack_from(entries, 16 * at)
        if name and text(name) == "_name":
            value = memory.word(values + 8 * at)
            return text(value) if value else ""
    return ""


def _values(memory: Memory, version: str, instance: int, kind: int) -> int:
    """Return where the values of an instance's attributes begin; 0 where a dictionary holds them."""
    if version == "3.11":
        return memory.word(instance - 32)
    if version == "3.12":
        tagged = memory.word(instance - 24)
        return tagged + 1 if tagged & 1 else 0
    size = memory.word(kind + _BASIC_SIZE)
    if not 16 <= size <= 4096:
        raise TornError
    head = bytes(memory.read(instance + size, 8)[:4])  # capacity, size, whether it lies here, whether it counts
    return instance + size + 8 if head[3] == 1 else 0
