"""Where a name lies in an ELF file: only the dynamic symbols are looked at, which exported names are among."""

from __future__ import annotations

import struct
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

__all__ = ["Exported", "exported"]

_MAGIC = b"\x7fELF\x02\x01"  # 64 bits, little-endian
_SECTION = struct.Struct("<IIQQQQIIQQ")
_SEGMENT = struct.Struct("<IIQQQQQQ")
_SYMBOL = struct.Struct("<IBBHQQ")
_LOADED, _DYNAMIC_SYMBOLS = 1, 11
_MOST_BYTES = 64 * 2**20  # of one table


@dataclass(frozen=True)
class Exported:
    """Names that a file exports, by address; where it may be loaded anywhere, less the address of its beginning."""

    addresses: dict[str, int]
    movable: bool
    contents: dict[str, bytes]


def exported(path: Path, names: tuple[str, ...]) -> Exported | None:
    """Return where a file has those of some names that it exports; None where it is no ELF file of 64 bits.

    The first eight bytes of what lies there come with it, where the file holds them.
    """
    try:
        state = path.stat()
        return _exported(path, state.st_ino, state.st_mtime_ns, names)
    except (OSError, ValueError, struct.error, IndexError):
        return None


@lru_cache(maxsize=256)
def _exported(path: Path, _inode: int, _changed: int, names: tuple[str, ...]) -> Exported | None:
    with path.open("rb") as file:
        head = file.read(64)
        if head[:6] != _MAGIC:
            return None
        (kind,) = struct.unpack_from("<H", head, 16)
        segments_at, sections_at = struct.unpack_from("<QQ", head, 32)
        segment_size, segments, section_size, sections = struct.unpack_from("<HHHH", head, 54)

        def table(at: int, size: int, count: int) -> list[bytes]:
            file.seek(at)
            data = file.read(min(size * count, _MOST_BYTES))
            return [data[i * size : (i + 1) * size] for i in range(count)]

        loaded = [_SEGMENT.unpack_from(one) for one in table(segments_at, segment_size, segments)]
        loaded = [one for one in loaded if one[0] == _LOADED]
        described = [_SECTION.unpack_from(one) for one in table(sections_at, section_size, sections)]
        lowest = min(address - offset for _, _, offset, address, *_ in loaded)
        addresses: dict[str, int] = {}
        contents: dict[str, bytes] = {}
        for section in described:
            if section[1] != _DYNAMIC_SYMBOLS:
                continue
            texts = table(described[section[6]][4], described[section[6]][5], 1)[0]
            symbols = table(section[4], section[5], 1)[0]
            for name in names:
                if (address := _address(symbols, texts, name)) is not None:
                    addresses[name] = address - lowest
                    for _, _, offset, begin, _, in_file, *_ in loaded:
                        if begin <= address < begin + in_file:
                            file.seek(offset + address - begin)
                            contents[name] = file.read(8)
    movable = kind == 3
    if not movable:
        addresses = {name: address + lowest for name, address in addresses.items()}
    return Exported(addresses, movable, contents)


def _address(symbols: bytes, texts: bytes, name: str) -> int | None:
    """Return the address of a defined symbol."""
    at = texts.find(b"\0" + name.encode() + b"\0") + 1
    if not at:
        return None
    wanted, found = struct.pack("<I", at), symbols.find(struct.pack("<I", at))
    while found >= 0:
        if found % _SYMBOL.size == 0:
            _, _, _, section, value, _ = _SYMBOL.unpack_from(symbols, found)
            return int(value) if section else None
        found = symbols.find(wanted, found + 1)
    return None
