"""A running CPython, read from outside: its threads, and the chain of frames of each."""

from __future__ import annotations

import os
import struct
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import NamedTuple

from bystander.field.watching.layouts import KNOWN_VERSIONS, Layout, layout_of
from bystander.field.watching.line_tables import line_at
from bystander.field.watching.memory import Memory, TornError
from bystander.field.watching.symbols import exported
from bystander.field.watching.thread_names import BOOTSTRAP, thread_name

__all__ = ["Chain", "Code", "Interpreter", "NoInterpreterError"]

_NAMES = ("_PyRuntime", "PyCode_Type", "Py_Version")
_TOLD_BYTES = 400
_MOST_THREADS = 4096
_MOST_FRAMES = 200  # innermost ones of a chain; beyond, those of the first chunk at the outer end
_MOST_CHUNKS = 4096
_CHUNK = 16384
_TEXT_HEAD, _LENGTH_AT, _STATE_AT = 40, 16, 32
_MOST_TEXT = 1000  # letters of a name that are kept
_MOST_TABLE = 1 << 17
_CODE_OBJECT = 256
_IN_CHUNK = 24  # from a chunk's beginning to its first frame, which was called from the chunk before
_GENERATOR = 1  # the owner of a frame


class NoInterpreterError(Exception):
    """No interpreter is read there, and why: as a clause; "" where there is none (yet)."""


class Chain(NamedTuple):
    """The frames of a thread, innermost first, as pairs of a code object's address and an instruction's.

    `cut` says how many innermost frames stand before a gap, where a chain was too long; 0 without a gap. `outermost`
    is where the outermost frame lies.
    """

    frames: tuple[tuple[int, int], ...]
    cut: int = 0
    outermost: int = 0


@dataclass
class Code:
    """A function as the interpreter has it.

    Attributes
    ----------
    signs : bytes
        By which it is known to be the same still.
    """

    name: str
    file: str
    first_line: int
    table: bytes
    signs: bytes
    lines: dict[int, int] = field(default_factory=dict)


class Interpreter:
    """The interpreter of one process; it shares code objects with what was forked from it.

    Raises
    ------
    NoInterpreterError
        When there is none, it is of an unknown version, or it may not be read.
    """

    def __init__(self, process: int, parent: Interpreter | None = None) -> None:
        self.process, self._memory = process, Memory(process)
        self.version: str
        self._layout: Layout
        self._runtime: int
        self._code_type: int
        self.codes: dict[int, Code] = dict(parent.codes) if parent else {}
        if parent:
            self.version, self._layout = parent.version, parent._layout
            self._runtime, self._code_type = parent._runtime, parent._code_type
        else:
            self.version, self._layout, self._runtime, self._code_type = _found(process, self._memory)
        lay = self._layout
        last = max(lay.thread_next, lay.thread_native, lay.thread_chunk, lay.thread_frame)
        self._state_bytes = last + 8
        self._frame = _frame_struct(lay)
        self._first_chunks: dict[int, tuple[int, int]] = {}
        self.remade = 0  # code objects that turned out to be others
        self.states: dict[int, int] = {}  # address of a thread's state by its number in the kernel

    def find_threads(self) -> None:
        """Read which threads there are; raise OSError or TornError when that cannot be read."""
        lay, memory = self._layout, self._memory
        head = memory.word(self._runtime + lay.runtime_interpreters)
        state = memory.word(head + lay.interpreter_threads) if head else 0
        found: dict[int, int] = {}
        for _ in range(_MOST_THREADS):
            if not state:
                break
            block = memory.read(state, self._state_bytes)
            found[_word(block, lay.thread_native)] = state
            state = _word(block, lay.thread_next)
        self.states = found

    def chain(self, thread: int) -> Chain | None:
        """Return the frames of a thread; None where it has none.

        Raises
        ------
        OSError, TornError, struct.error
            When they changed while they were read.
        """
        lay, memory, state = self._layout, self._memory, self.states[thread]
        block = memory.read(state, self._state_bytes)
        if _word(block, lay.thread_native) != thread:
            del self.states[thread]
            raise TornError
        chunk, frame = _word(block, lay.thread_chunk), _word(block, lay.thread_frame)
        if not frame:
            return None
        if lay.boxed >= 0:
            frame = memory.word(frame + lay.boxed)
        found = self._walked(chunk, frame) if frame else None
        return found if found and found.frames else None

    def _walked(self, chunk: int, frame: int) -> Chain:
        frames: list[tuple[int, int]] = []
        size, unpack, none = self._frame[0].size, self._frame[0].unpack_from, self._layout.no_function
        order = self._frame[1]
        low = high = 0
        block = b""
        inner, at_chunk, last = 0, chunk, 0
        for _ in range(3 * _MOST_FRAMES):
            if not low <= frame or not frame + size <= high:
                if at_chunk and at_chunk < frame < at_chunk + _CHUNK:
                    low, high = at_chunk, frame + size
                else:
                    low, high = frame, frame + size
                block = bytes(self._memory.read(low, high - low)[: high - low])
            told = unpack(block, frame - low)
            code, previous, instruction, owner = (told[i] for i in order)
            if owner != none:
                frames.append((code, instruction))
                last = frame
            if not previous:
                if owner == _GENERATOR:  # it was left meanwhile: one that runs has somebody around it
                    raise TornError
                return Chain(tuple(frames), inner, last)
            frame = previous
            if len(frames) == _MOST_FRAMES and not inner:
                # Too long: go on with the outermost ones, which say how the thread came here.
                inner = len(frames)
                at_chunk, frame = self._outermost(chunk)
                if not frame:
                    break
            elif not (at_chunk and at_chunk < frame < at_chunk + _CHUNK) and not inner and at_chunk:
                at_chunk = self._chunk_before(at_chunk, frame)
        return Chain(tuple(frames), inner)

    def _chunk_before(self, chunk: int, frame: int) -> int:
        """Return the chunk of a stack that a frame lies in, where it is the next one outwards; else the same."""
        previous = self._memory.word(chunk + self._layout.chunk_previous)
        return previous if previous < frame < previous + _CHUNK else chunk

    def _outermost(self, chunk: int) -> tuple[int, int]:
        """Return the first chunk of a thread's stack, and the last frame in it; (0, 0) where there is but one."""
        before, first = self._first_chunks.get(chunk, (0, 0))
        if before and self._memory.word(before + self._layout.chunk_previous) == first:
            return first, self._memory.word(before + _IN_CHUNK + self._layout.frame_previous)
        newest, before = chunk, 0
        for _ in range(_MOST_CHUNKS):
            previous = self._memory.word(chunk + self._layout.chunk_previous)
            if not previous:
                break
            before, chunk = chunk, previous
        if not before:
            return 0, 0
        self._first_chunks = {newest: (before, chunk)}
        return chunk, self._memory.word(before + _IN_CHUNK + self._layout.frame_previous)

    def codes_of(self, addresses: Sequence[int]) -> list[Code]:
        """Return the functions of code objects, each looked at anew: what is freed soon makes room for others.

        Raises
        ------
        OSError, TornError, struct.error
            Where there is none, or it changed while it was read.
        """
        distinct = list(dict.fromkeys(addresses))
        size = self._layout.code_lines + 8
        data = self._memory.gather(distinct, size)
        for k, address in enumerate(distinct):
            signs = self._signs(data[k * size : (k + 1) * size])
            known = self.codes.get(address)
            if known is None or known.signs != signs:
                self.remade += known is not None
                self.codes[address] = self._read_code(address, signs)
        return [self.codes[address] for address in addresses]

    def _signs(self, block: bytes) -> bytes:
        """Return what tells a code object from others: its size, constants, names, line, file and tables."""
        lay = self._layout
        return block[8:40] + block[lay.code_first_line : lay.code_first_line + 4] + block[lay.code_file :]

    def _read_code(self, address: int, signs: bytes) -> Code:
        lay = self._layout
        block = bytes(self._memory.read(address, _CODE_OBJECT)[:_CODE_OBJECT])
        if _word(block, 8) != self._code_type:
            raise TornError
        lines = _word(block, lay.code_lines)
        (length,) = struct.unpack_from("<q", self._memory.read(lines, lay.bytes_data), 16)
        if not 0 <= length < _MOST_TABLE:
            raise TornError
        table = bytes(self._memory.read(lines + lay.bytes_data, max(1, length))[:length])
        (first,) = struct.unpack_from("<i", block, lay.code_first_line)
        name, file = self._text(_word(block, lay.code_qualified)), self._text(_word(block, lay.code_file))
        return Code(name, file, first, table, signs)

    def thread_name(self, chain: Chain) -> str:
        """Return the name that the program gave a thread; "" where it gave none. Raises what `chain` does."""
        if not chain.outermost or self.codes_of([chain.frames[-1][0]])[0].name != BOOTSTRAP:
            return ""
        thread = self._memory.word(chain.outermost + self._layout.frame_locals)
        return thread_name(self._memory, self.version, thread, self._text)

    def line(self, code: Code, address: int, instruction: int) -> int:
        """Return the line of an instruction."""
        offset = instruction - address - self._layout.code_instructions
        found = code.lines.get(offset)
        if found is None:
            if not -16 <= offset < 1 << 24:
                raise TornError
            found = line_at(code.table, code.first_line, offset)
            if not 0 <= found < 1 << 31:
                raise TornError
            code.lines[offset] = found
        return found

    def _text(self, address: int) -> str:
        """Return a string, cut where it is long."""
        head = self._memory.read(address, _TEXT_HEAD)
        (length,) = struct.unpack_from("<q", head, _LENGTH_AT)
        (state,) = struct.unpack_from("<I", head, _STATE_AT)
        width, compact, ascii_only = state >> 2 & 7, state >> 5 & 1, state >> 6 & 1
        if not compact or width not in (1, 2, 4) or not 0 <= length < 1 << 30:
            raise TornError
        if not length:
            return ""
        at = address + (self._layout.text_ascii if ascii_only else self._layout.text_other)
        kept = min(length, _MOST_TEXT)
        data = bytes(self._memory.read(at, kept * width)[: kept * width])
        text = data.decode({1: "latin-1", 2: "utf-16-le", 4: "utf-32-le"}[width], "replace")
        return text if kept == length else text + "…"


def _word(block: bytes | memoryview, at: int) -> int:
    return int(struct.unpack_from("<Q", block, at)[0])


def _frame_struct(lay: Layout) -> tuple[struct.Struct, tuple[int, int, int, int]]:
    """Return what reads a frame at once, and where code, frame before, instruction and owner stand in what it gives."""
    wanted = sorted([(lay.frame_code, 0), (lay.frame_previous, 1), (lay.frame_instruction, 2), (lay.frame_owner, 3)])
    text, at = "<", 0
    for offset, which in wanted:
        text += f"{offset - at}x" + ("B" if which == 3 else "Q")
        at = offset + (1 if which == 3 else 8)
    places = [which for _, which in wanted]
    order = (places.index(0), places.index(1), places.index(2), places.index(3))
    return struct.Struct(text), order


def _found(process: int, memory: Memory) -> tuple[str, Layout, int, int]:
    """Return version, layout, and where runtime and the type of code objects lie."""
    for path, base in _mapped(process).items():
        found = exported(path, _NAMES)
        if found is None or "_PyRuntime" not in found.addresses:
            continue
        bias = base if found.movable else 0
        addresses = {name: bias + address for name, address in found.addresses.items()}
        version = _version(found.contents.get("Py_Version", b""))
        if version not in KNOWN_VERSIONS or "PyCode_Type" not in addresses:
            what = f"Python {version} is not known here" if version else "a Python older than 3.11"
            first, last = KNOWN_VERSIONS[0], KNOWN_VERSIONS[-1]
            raise NoInterpreterError(f"{what}; frames are read of {first} to {last}, calls are counted all the same")
        try:
            told = bytes(memory.read(addresses["_PyRuntime"], _TOLD_BYTES)[:_TOLD_BYTES])
        except PermissionError as error:
            raise NoInterpreterError("its memory may not be read") from error
        except (OSError, TornError) as error:
            raise NoInterpreterError("") from error
        layout = layout_of(version, told)
        if layout is None:
            raise NoInterpreterError(f"its Python {version} is laid out otherwise")
        return version, layout, addresses["_PyRuntime"], addresses["PyCode_Type"]
    raise NoInterpreterError("")


def _version(data: bytes) -> str:
    if len(data) < 4:
        return ""
    (number,) = struct.unpack_from("<I", data)
    return f"{number >> 24}.{number >> 16 & 255}"


def _mapped(process: int) -> dict[Path, int]:
    """Return the files that may hold an interpreter, the program itself first, and where each begins."""
    try:
        program = str(Path(f"/proc/{process}/exe").readlink())
        text = Path(f"/proc/{process}/maps").read_text(errors="surrogateescape")
    except PermissionError as error:
        raise NoInterpreterError("its memory may not be read") from error
    except OSError as error:
        raise NoInterpreterError("") from error
    found: dict[Path, int] = {}
    for line in text.splitlines():
        words = line.split(None, 5)
        if len(words) < 6 or not words[5].startswith("/"):
            continue
        name = words[5]
        if name == program or "libpython" in os.path.basename(name):  # noqa: PTH119 - for each line of many
            found.setdefault(Path(name), int(words[0].split("-", 1)[0], 16) - int(words[2], 16))
    return found
