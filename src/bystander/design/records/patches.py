"""Patches in the unified format: the files and hunks of an edit, its size, and a patch of some of its hunks."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from bystander.design.studies.chain import EditSize

__all__ = ["FilePatch", "edit_size", "hunk_texts", "patch_text", "read_patch"]

_FILE = "diff --git "
_HUNK = re.compile(r"^@@ -\d+(?:,\d+)? \+(\d+)(?:,\d+)? @@(.*)$")
_NAMES = re.compile(r'^(?:\+\+\+|---) ("?)[ab]/(.*?)"?\t?$')
_MOVED = re.compile(r'^(?:rename|copy) to ("?)(.*?)"?$')
_DEFINES = re.compile(r"^(?:(?:async|pub|def|class|fn|func|function) )+([\w.$]+)")  # the name of what a hunk lies in
_ESCAPE = re.compile(rb"\\([0-3][0-7]{2}|.)", re.DOTALL)
_CONTROLS = bytes.maketrans(b"abtnvfr", b"\a\b\t\n\v\f\r")
_BARE = re.compile(r'^diff --git .* ("?)b/(.*?)"?$')


@dataclass(frozen=True)
class FilePatch:
    """What a patch does to one file.

    Attributes
    ----------
    path : str
        As it is after the edit, or was before it where the file is gone.
    header : str
        The lines before the first hunk.
    hunks : tuple of str
        Whole, each with its own head; empty where only a mode or a name changes, or bytes that are no text.
    """

    path: str
    header: str
    hunks: tuple[str, ...]

    @property
    def pieces(self) -> int:
        """Into how many parts it can be split: its hunks, or itself."""
        return max(1, len(self.hunks))

    def lines(self, hunk: int) -> tuple[int, int]:
        """Return how many lines a hunk adds and takes away."""
        body = self.hunks[hunk].split("\n")[1:] if self.hunks else []
        return sum(line.startswith("+") for line in body), sum(line.startswith("-") for line in body)

    def where(self, hunk: int) -> str:
        """Return where the first change of a hunk stands after the edit, with the function that it lies in."""
        head, *body = self.hunks[hunk].split("\n") if self.hunks else [""]
        found = _HUNK.match(head)
        if found is None or found[1] == "0":  # nothing of the file is left
            return self.path
        told = found[2].strip().rstrip(":")  # what git found above the hunk
        function = name[1] if (name := _DEFINES.match(told)) else told
        first = next((i for i, line in enumerate(body) if line[:1] in ("+", "-")), 0)
        for line in body[: first + 1]:  # what begins within it is nearer
            if name := _DEFINES.match(line[1:].strip()):
                function = name[1]
        return f"{self.path}:{int(found[1]) + first}" + (f" {function}" if function else "")


def read_patch(text: str) -> tuple[FilePatch, ...]:
    """Return the files of a patch that git wrote, in their order; what stands before the first of them is left out."""
    found: list[FilePatch] = []
    header: list[str] = []
    hunks: list[list[str]] = []

    def close() -> None:
        if header:
            found.append(FilePatch(_path(header), "\n".join(header) + "\n", tuple("\n".join(h) + "\n" for h in hunks)))
            header.clear()
            hunks.clear()

    lines = text.split("\n")
    if lines and not lines[-1]:
        lines.pop()
    left = [0, 0]  # lines of the old and of the new side that the hunk still has
    for line in lines:
        if left[0] > 0 or left[1] > 0:
            hunks[-1].append(line)
            if not line.startswith("\\"):
                left[0] -= not line.startswith("+")
                left[1] -= not line.startswith("-")
        elif line.startswith(_FILE):
            close()
            header.append(line)
        elif header and _HUNK.match(line):
            hunks.append([line])
            left = [_count(line, "-"), _count(line, "+")]
        elif header and hunks and line.startswith("\\"):
            hunks[-1].append(line)  # "No newline at end of file"
        elif header and not hunks:
            header.append(line)
    close()
    return tuple(found)


def _count(head: str, side: str) -> int:
    found = re.search(rf"\{side}\d+(?:,(\d+))?", head)
    return int(found[1] or 1) if found else 0


def _path(header: Sequence[str]) -> str:
    """Return the file's name; a deleted one has its name on the old side."""
    for named in (_NAMES, _MOVED, _BARE):
        if names := [_unquoted(found[2], bool(found[1])) for line in header if (found := named.match(line))]:
            return names[-1]
    return header[0].removeprefix(_FILE)


def _unquoted(name: str, quoted: bool) -> str:
    """Return a name that git may have put in quotes, bytes beyond ASCII and control characters as in C."""
    if not quoted:
        return name
    return _ESCAPE.sub(_byte, name.encode("utf-8", "surrogateescape")).decode("utf-8", "replace")


def _byte(found: re.Match[bytes]) -> bytes:
    """Return the byte that an escape stands for."""
    text = found[1]
    return bytes([int(text, 8)]) if len(text) > 1 else text.translate(_CONTROLS)


def hunk_texts(files: Iterable[FilePatch]) -> tuple[str, ...]:
    """Return each hunk in a line: "tidebook/telegrams.py:17 is_right, +2 -1"."""
    found = []
    for one in files:
        if not one.hunks:
            found.append(one.path)
        for hunk in range(len(one.hunks)):
            added, removed = one.lines(hunk)
            found.append(f"{one.where(hunk)}, +{added} -{removed}")
    return tuple(found)


def patch_text(files: Iterable[tuple[FilePatch, Sequence[int]]]) -> str:
    """Return a patch of some hunks, each file with the positions of those that it takes.

    A file without hunks is taken whole where any position is given.
    """
    return "".join(
        one.header + "".join(one.hunks[i] for i in sorted(taken) if one.hunks) for one, taken in files if taken
    )


def edit_size(files: Sequence[FilePatch]) -> EditSize:
    """Return how much a patch changes."""
    added = removed = 0
    for one in files:
        for hunk in range(len(one.hunks)):
            more, less = one.lines(hunk)
            added, removed = added + more, removed + less
    return EditSize(added, removed, sum(one.pieces for one in files), len(files))
