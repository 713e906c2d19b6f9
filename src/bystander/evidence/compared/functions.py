"""The functions of a Python file, each with a digest of its own body, so that what was edited can be told."""

from __future__ import annotations

import ast
import difflib
import hashlib
import re
import warnings
from collections.abc import Iterator
from typing import NamedTuple

__all__ = ["Function", "functions_of", "hunk_of"]

_NESTED = (ast.FunctionDef, ast.AsyncFunctionDef, ast.ClassDef, ast.Lambda, ast.GeneratorExp)
Nested = ast.FunctionDef | ast.AsyncFunctionDef | ast.ClassDef | ast.Lambda | ast.GeneratorExp


class Function(NamedTuple):
    """A function, class body or module.

    Attributes
    ----------
    name : str
        Qualified, as frames have it; several of one name in a file follow each other.
    first, last : int
        Lines; decorators belong to it.
    digest : str
        Of arguments and body without name, texts that document, and what is nested in it.
    size : int
        How much of it there is: letters of its written-out syntax.
    """

    name: str
    first: int
    last: int
    digest: str
    size: int


def functions_of(text: str) -> list[Function] | None:
    """Return the functions of a file in the order of their lines; None where it is no Python that can be read."""
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # of somebody else's code, at each look
            module = ast.parse(text)
        found = [_told("<module>", 1, text.count("\n") + 1, module), *_inside(module, "")]
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        return None
    return sorted(found, key=lambda one: one.first)


def hunk_of(texts: tuple[str, str], name: str, lines: tuple[int, int], most: int) -> tuple[str, ...]:
    """Return how a function differs between two files, as lines of a unified difference; "..." where it is cut.

    Parameters
    ----------
    texts : pair of str
        The files, before and after.
    name : str
        Qualified.
    lines : pair of int
        Where it begins, about: of several of that name the nearest is meant.
    most : int
        Lines that are told, at most.
    """
    sides = []
    for text, line in zip(texts, lines, strict=True):
        mine = [one for one in functions_of(text) or () if one.name == name]
        if not mine:
            return ()
        one = min(mine, key=lambda found: abs(found.first - line))
        sides.append((one.first, text.splitlines()[one.first - 1 : one.last]))
    (before, old), (after, new) = sides
    found = [*difflib.unified_diff(old, new, lineterm="", n=2)][2:]
    told = [_moved(line, before - 1, after - 1) for line in found]
    return tuple(told if len(told) <= most else [*told[:most], "..."])


def _moved(line: str, before: int, after: int) -> str:
    """Return a line of a difference; a head tells lines of the files, not of the function."""
    head = re.fullmatch(r"@@ -(\d+)((?:,\d+)?) \+(\d+)((?:,\d+)?) @@", line)
    if not head:
        return line
    return f"@@ -{int(head[1]) + before}{head[2]} +{int(head[3]) + after}{head[4]} @@"


def _inside(node: ast.AST, prefix: str) -> Iterator[Function]:
    for child in ast.iter_child_nodes(node):
        if not isinstance(child, _NESTED):
            yield from _inside(child, prefix)
            continue
        name = prefix + _name(child)
        first = min([child.lineno, *(one.lineno for one in getattr(child, "decorator_list", ()))])
        yield _told(name, first, child.end_lineno or child.lineno, child)
        yield from _inside(child, name + ("." if isinstance(child, ast.ClassDef) else ".<locals>."))


def _name(node: ast.AST) -> str:
    if isinstance(node, ast.Lambda):
        return "<lambda>"
    return "<genexpr>" if isinstance(node, ast.GeneratorExp) else str(getattr(node, "name", ""))


def _told(name: str, first: int, last: int, node: ast.AST) -> Function:
    parts = list(_written(node, outermost=True))
    text = " ".join(parts)
    return Function(
        name, first, last, hashlib.sha256(text.encode("utf-8", "surrogatepass")).hexdigest()[:16], len(text)
    )


def _written(node: ast.AST, outermost: bool = False) -> Iterator[str]:
    """Yield the words of a body; functions and classes in it are left out, as making one costs nothing."""
    if isinstance(node, _NESTED) and not outermost:
        if isinstance(node, ast.Lambda | ast.GeneratorExp):
            yield _name(node)
        return
    yield type(node).__name__
    for field, value in ast.iter_fields(node):
        if field in ("name", "ctx", "type_comment", "kind", "returns", "annotation") and isinstance(
            node, (*_NESTED, ast.arg)
        ):
            continue
        items = value if isinstance(value, list) else [value]
        if field == "body" and items and _documents(items[0]):
            items = items[1:]
        for item in items:
            if isinstance(item, ast.AST):
                yield from _written(item)
            elif item is not None:
                yield f"{field}={item!r}"


def _documents(node: object) -> bool:
    return isinstance(node, ast.Expr) and isinstance(node.value, ast.Constant) and isinstance(node.value.value, str)
