"""Where CPython keeps what we read, by version: offsets in bytes, as its headers have them (64 bits, no debug build).

From 3.13 on a process says most of them itself, in a table at the beginning of its runtime; before, they stand here.
"""

from __future__ import annotations

import struct
from collections.abc import Mapping
from dataclasses import dataclass, fields

__all__ = ["KNOWN_VERSIONS", "Layout", "layout_of"]

KNOWN_VERSIONS = ("3.11", "3.12", "3.13")
_COOKIE = b"xdebugpy"


@dataclass(frozen=True)
class Layout:
    """Offsets.

    Attributes
    ----------
    runtime_* : int
        In the runtime; interpreter_* in an interpreter, thread_* in a thread's state, frame_* in a frame, code_* in
        a code object, text_* in a string.
    thread_frame : int
        The innermost frame; where `boxed` is not negative a pointer to a box, which has the frame there.
    in_kernel_stack : int
        The owner of frames that stand for no function of Python.
    """

    runtime_interpreters: int
    interpreter_threads: int
    thread_next: int
    thread_native: int
    thread_chunk: int
    thread_frame: int
    frame_code: int
    frame_previous: int
    frame_instruction: int
    frame_owner: int
    frame_locals: int
    code_first_line: int
    code_file: int
    code_qualified: int
    code_lines: int
    code_instructions: int
    text_ascii: int
    text_other: int
    boxed: int = -1
    chunk_previous: int = 0
    bytes_data: int = 32
    no_function: int = 3


_LAYOUTS: Mapping[str, Layout] = {
    "3.11": Layout(
        40, 16, 8, 160, 296, 56, 32, 48, 56, 69, 72, 72, 112, 128, 136, 184, 48, 72, boxed=8,
    ),
    "3.12": Layout(
        40, 72, 8, 144, 232, 56, 0, 8, 56, 70, 72, 68, 112, 128, 136, 192, 40, 56, boxed=0,
    ),
    "3.13": Layout(632, 7344, 8, 160, 232, 72, 0, 8, 56, 70, 72, 68, 112, 128, 136, 200, 40, 56),
}  # fmt: skip

# In the table of 3.13, as words: where each of ours stands.
_TOLD_3_13 = {
    "runtime_interpreters": 5, "interpreter_threads": 9, "thread_next": 21, "thread_frame": 23, "thread_native": 25,
    "thread_chunk": 26, "frame_previous": 29, "frame_code": 30, "frame_instruction": 31, "frame_locals": 32,
    "frame_owner": 33, "code_file": 35, "code_qualified": 37, "code_lines": 38, "code_first_line": 39,
    "code_instructions": 43,
}  # fmt: skip
_WORDS = 50


def layout_of(version: str, told: bytes) -> Layout | None:
    """Return the layout of a version such as "3.12"; None where it is not known.

    Parameters
    ----------
    told : bytes
        What stands at the beginning of the runtime.
    """
    layout = _LAYOUTS.get(version)
    if layout is None or version != "3.13":
        return layout
    if told[:8] != _COOKIE or len(told) < 8 * _WORDS:
        return None
    words = struct.unpack_from(f"<{_WORDS}Q", told)
    known = {field.name: getattr(layout, field.name) for field in fields(layout)}
    return Layout(**{**known, **{name: words[at] for name, at in _TOLD_3_13.items()}})
