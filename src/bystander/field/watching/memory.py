"""Another process's memory, read from outside with process_vm_readv(2): nothing in it is stopped or changed."""

from __future__ import annotations

import ctypes
import os
import struct
from collections.abc import Sequence

__all__ = ["Memory", "TornError"]

_WORD = struct.Struct("<Q")
MOST_BYTES = 1 << 18
_MOST_STRETCHES = 1024  # of one call, as the kernel allows


class TornError(Exception):
    """What was read makes no sense: it changed meanwhile."""


class _Stretch(ctypes.Structure):
    _fields_ = (("base", ctypes.c_void_p), ("length", ctypes.c_size_t))


class Memory:
    """One process's memory; what `read` returns is valid until anything is read, of any process."""

    _libc = ctypes.CDLL(None, use_errno=True)
    _readv = getattr(_libc, "process_vm_readv", None)
    if _readv is not None:
        _readv.restype = ctypes.c_ssize_t
        _readv.argtypes = (
            ctypes.c_int, ctypes.POINTER(_Stretch), ctypes.c_ulong, ctypes.POINTER(_Stretch), ctypes.c_ulong,
            ctypes.c_ulong,
        )  # fmt: skip

    # One for all: what is read is used before anything else is.
    _buffer = ctypes.create_string_buffer(MOST_BYTES)
    _bytes = memoryview(_buffer).cast("B")
    _here, _there = _Stretch(ctypes.addressof(_buffer), 0), _Stretch(0, 0)
    _stretches = (_Stretch * _MOST_STRETCHES)()
    _to, _from = ctypes.pointer(_here), ctypes.pointer(_there)

    def __init__(self, process: int) -> None:
        self.process = process

    def read(self, address: int, size: int) -> memoryview:
        """Return so many bytes.

        Raises
        ------
        PermissionError
            When this process may not be read.
        OSError
            When it is gone, or has nothing there.
        TornError
            When the size makes no sense.
        """
        if not 0 < size <= MOST_BYTES or not 0 < address < 1 << 63:
            raise TornError
        self._here.length = self._there.length = size
        self._there.base = address
        if self._readv is None:
            raise PermissionError(0, "this system has no way to read another process")
        done = self._readv(self.process, self._to, 1, self._from, 1, 0)
        if done != size:
            error = ctypes.get_errno() if done < 0 else 0
            raise OSError(error, os.strerror(error) if error else "only a part could be read")
        return self._bytes

    def gather(self, addresses: Sequence[int], size: int) -> bytes:
        """Return so many bytes at each of some addresses, one after another; raises what `read` does."""
        count = len(addresses)
        if count > _MOST_STRETCHES or count * size > MOST_BYTES:
            raise TornError
        stretches = self._stretches
        for k, address in enumerate(addresses):
            stretches[k].base, stretches[k].length = address, size
        self._here.length = count * size
        assert self._readv is not None
        done = self._readv(self.process, self._to, 1, stretches, count, 0)
        if done != count * size:
            error = ctypes.get_errno() if done < 0 else 0
            raise OSError(error, os.strerror(error) if error else "only a part could be read")
        return bytes(self._bytes[: count * size])

    def word(self, address: int) -> int:
        """Return eight bytes as a number without sign."""
        return int(_WORD.unpack_from(self.read(address, 8))[0])
