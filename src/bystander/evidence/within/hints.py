"""Guesses from the source of a function, by its syntax: what is often slow, and can be tried in another way."""

from __future__ import annotations

import ast
import warnings
from collections.abc import Iterator, Sequence
from typing import NamedTuple

__all__ = ["HINTS", "FoundHint", "hints_in"]

# What each kind says of a line, and what one would try.
HINTS = {
    "opened-again": ("opens the same file in each round of a loop", "open it once, before the loop"),
    "compiled-again": ("compiles the same pattern in each round of a loop", "compile it once, before the loop"),
    "computed-again": (
        "computes {name} of what does not change in the loop, in each of its rounds", "compute it once, before the loop"
    ),
    "sought-in-list": ("looks for a member in the list {name}, in a loop", "keep its members in a set beside it"),
    "counted-through": (
        "goes through the list {name} to find or count one member, in a loop", "keep positions or counts in a dict"
    ),
    "moved-along": (
        "takes from, or puts at, the front of the list {name} in a loop, which moves all others",
        "take a collections.deque",
    ),
    "copied-to-grow": ("copies {name} to add to it, in each round of a loop", "add to a list in place"),
    "joined-bit-by-bit": ("joins text to {name} bit by bit in a loop", "collect its parts in a list, and join once"),
    "sorted-for-one": ("sorts everything to take one end of it", "take min or max"),
    "copied-deeply": ("copies deeply in a loop", "copy only what is changed"),
}  # fmt: skip
_LISTS = {"list", "sorted"}
_LIST_METHODS = {"split", "rsplit", "splitlines", "readlines"}
_TEXT_METHODS = {"join", "format", "strip", "lower", "upper", "replace"}
_PURE = {"sorted", "sum", "min", "max"}
_READS = {"read_text", "read_bytes"}
# Methods that change nothing, of whatever they are called on.
_STILL = _READS | {
    "index", "count", "compile", "match", "search", "fullmatch", "findall", "sub", "get", "keys", "values", "items",
    "startswith", "endswith", "split", "join", "copy", "exists", "is_file", "is_dir",
}  # fmt: skip
_SCOPES = (ast.FunctionDef, ast.AsyncFunctionDef, ast.Lambda, ast.ClassDef)
_LOOPS = (ast.For, ast.AsyncFor, ast.While, ast.ListComp, ast.SetComp, ast.DictComp, ast.GeneratorExp)


class FoundHint(NamedTuple):
    """A guess at some lines of a function: its qualified name and first line, and which kind."""

    function: str
    first: int
    line: int
    last: int
    kind: str
    name: str


def hints_in(text: str) -> list[FoundHint]:
    """Return the guesses of a file, in the order of their lines; none where it is no Python that can be read."""
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # of somebody else's code
            module = ast.parse(text)
        found = [one for name, scope in _scopes(module, "") for one in _Scope(name, scope).found()]
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        return []
    return sorted(set(found), key=lambda one: (one.line, one.kind))


def _scopes(node: ast.AST, prefix: str) -> Iterator[tuple[str, ast.AST]]:
    if isinstance(node, ast.Module):
        yield "<module>", node
    for child in ast.iter_child_nodes(node):
        if isinstance(child, ast.FunctionDef | ast.AsyncFunctionDef):
            name = prefix + child.name
            yield name, child
            yield from _scopes(child, f"{name}.<locals>.")
        elif isinstance(child, ast.ClassDef):
            yield from _scopes(child, f"{prefix}{child.name}.")
        else:
            yield from _scopes(child, prefix)


def _own(node: ast.AST) -> Iterator[ast.AST]:
    """Yield what belongs to a scope, without the bodies of functions and classes in it."""
    for child in ast.iter_child_nodes(node):
        yield child
        if not isinstance(child, _SCOPES):
            yield from _own(child)


class _Scope:
    """One function: what its names hold, and what stands in its loops."""

    def __init__(self, name: str, node: ast.AST) -> None:
        self._name, self._node = name, node
        decorators = [one.lineno for one in getattr(node, "decorator_list", ())]
        self._first = min([getattr(node, "lineno", 1), *decorators])
        self._kinds = self._held()

    def _held(self) -> dict[str, str]:
        """Return which names hold a list, or a text, wherever they are assigned; parameters hold nobody knows what."""
        seen: dict[str, set[str]] = {}
        arguments = getattr(self._node, "args", None)
        for one in ast.walk(arguments) if arguments else ():
            if isinstance(one, ast.arg):
                seen.setdefault(one.arg, set()).add("")
        for one in _own(self._node):
            if isinstance(one, ast.Assign):
                for target in one.targets:
                    for name in _names(target):
                        kind = _kind(one.value) if isinstance(target, ast.Name) else ""
                        if not (kind == "" and _grows(one, name)):
                            seen.setdefault(name, set()).add(kind)
            elif isinstance(one, ast.AnnAssign) and one.value and isinstance(one.target, ast.Name):
                seen.setdefault(one.target.id, set()).add(_kind(one.value))
            elif isinstance(one, ast.For | ast.AsyncFor | ast.comprehension):
                for name in _names(one.target):
                    seen.setdefault(name, set()).add("")
            elif isinstance(one, ast.withitem) and one.optional_vars:
                for name in _names(one.optional_vars):
                    seen.setdefault(name, set()).add("")
            elif isinstance(one, ast.NamedExpr):
                seen.setdefault(one.target.id, set()).add("")
        return {name: next(iter(kinds)) for name, kinds in seen.items() if len(kinds) == 1}

    def found(self) -> Iterator[FoundHint]:
        """Yield its guesses."""
        for one in _own(self._node):
            if isinstance(one, ast.Subscript) and _calls(one.value, "sorted") and _end(one.slice):
                yield self._hint(one, "sorted-for-one")
        for loop in _own(self._node):
            if isinstance(loop, _LOOPS):
                changed = _changed(loop)
                for one in _in_rounds(loop):
                    yield from self._of(one, loop, changed)

    def _hint(self, node: ast.AST, kind: str, name: str = "") -> FoundHint:
        line = getattr(node, "lineno", 0)
        return FoundHint(self._name, self._first, line, getattr(node, "end_lineno", None) or line, kind, name)

    def _of(self, one: ast.AST, loop: ast.AST, changed: set[str]) -> Iterator[FoundHint]:
        """Yield what a node says that runs in each round of a loop."""
        if isinstance(one, ast.Call):
            yield from self._called(one, changed)
        elif isinstance(one, ast.Compare):
            for operator, right in zip(one.ops, one.comparators, strict=True):
                held = right.id if isinstance(right, ast.Name) and isinstance(operator, ast.In | ast.NotIn) else ""
                if self._kinds.get(held) == "list" and not _assigned(held, loop) and not _set_at(held, loop):
                    yield self._hint(one, "sought-in-list", held)
        elif isinstance(one, ast.AugAssign) and isinstance(one.op, ast.Add) and isinstance(one.target, ast.Name):
            name = one.target.id
            if isinstance(one.value, ast.Tuple) and not _assigned(name, loop):
                yield self._hint(one, "copied-to-grow", name)
            elif self._kinds.get(name) == "text" and not _assigned(name, loop):
                yield self._hint(one, "joined-bit-by-bit", name)
        elif isinstance(one, ast.Assign) and len(one.targets) == 1 and isinstance(one.targets[0], ast.Name):
            name = one.targets[0].id
            if _grows(one, name) and not _assigned(name, loop):
                kind = self._kinds.get(name)
                if kind in ("list", "text"):
                    yield self._hint(one, "copied-to-grow" if kind == "list" else "joined-bit-by-bit", name)

    def _called(self, call: ast.Call, changed: set[str]) -> Iterator[FoundHint]:
        function = call.func
        still = _unchanged(call, changed)
        if isinstance(function, ast.Name):
            if function.id == "open" and call.args and still and _read(call):
                yield self._hint(call, "opened-again")
            elif function.id == "deepcopy":
                yield self._hint(call, "copied-deeply")
            elif function.id in _PURE and len(call.args) == 1 and isinstance(call.args[0], ast.Name) and still:
                yield self._hint(call, "computed-again", function.id)
        elif isinstance(function, ast.Attribute):
            held = function.value.id if isinstance(function.value, ast.Name) else ""
            is_list = self._kinds.get(held) == "list"
            if function.attr in _READS and still and held:
                yield self._hint(call, "opened-again")
            elif function.attr == "compile" and held in ("re", "regex") and call.args and still:
                yield self._hint(call, "compiled-again")
            elif function.attr == "deepcopy" and held == "copy":
                yield self._hint(call, "copied-deeply")
            elif function.attr in ("index", "count") and is_list and held not in changed and call.args:
                yield self._hint(call, "counted-through", held)
            elif _front(call) and is_list:
                yield self._hint(call, "moved-along", held)


def _in_rounds(loop: ast.AST) -> Iterator[ast.AST]:
    """Yield what runs in each round of a loop: of a loop in it, that one's rounds are its own."""
    if isinstance(loop, ast.For | ast.AsyncFor | ast.While):
        parts: list[ast.AST] = [*loop.body, *([loop.test] if isinstance(loop, ast.While) else [])]
    else:
        first, *others = getattr(loop, "generators", [])
        parts = [*first.ifs, *others]
        parts += [getattr(loop, name) for name in ("elt", "key", "value") if getattr(loop, name, None) is not None]
    for part in parts:
        yield part
        if not isinstance(part, _SCOPES):
            yield from _below(part)


def _below(node: ast.AST) -> Iterator[ast.AST]:
    """Yield what lies in a node; of a loop that is in it only what is done once, before its rounds."""
    children: list[ast.AST] = list(ast.iter_child_nodes(node))
    if isinstance(node, ast.For | ast.AsyncFor):
        children = [node.iter]
    elif isinstance(node, ast.While | ast.Raise):  # what is raised ends the loop
        children = []
    elif isinstance(node, _LOOPS):
        children = [node.generators[0].iter]  # type: ignore[union-attr]
    for child in children:
        yield child
        if not isinstance(child, _SCOPES):
            yield from _below(child)


def _names(target: ast.AST) -> Iterator[str]:
    """Yield the names that an assignment binds."""
    for one in ast.walk(target):
        if isinstance(one, ast.Name) and isinstance(one.ctx, ast.Store):
            yield one.id


def _changed(loop: ast.AST) -> set[str]:
    """Return the names that may hold something else in another round: bound there, or with a method called on them."""
    found: set[str] = set()
    for one in ast.walk(loop):
        if isinstance(one, ast.Name) and isinstance(one.ctx, ast.Store | ast.Del):
            found.add(one.id)
        elif isinstance(one, ast.Call):
            if isinstance(one.func, ast.Attribute) and isinstance(one.func.value, ast.Name):
                if one.func.attr not in _STILL:
                    found.add(one.func.value.id)
            elif not (isinstance(one.func, ast.Name) and one.func.id in {*_PURE, "open", "len", "print", "enumerate"}):
                found |= {arg.id for arg in one.args if isinstance(arg, ast.Name)}
        elif isinstance(one, ast.Subscript | ast.Attribute) and isinstance(one.ctx, ast.Store | ast.Del):
            found |= {name.id for name in ast.walk(one.value) if isinstance(name, ast.Name)}
        elif isinstance(one, ast.AugAssign):
            found |= {name.id for name in ast.walk(one.target) if isinstance(name, ast.Name)}
    return found


def _unchanged(call: ast.Call, changed: set[str]) -> bool:
    """Whether what a call is given is the same in each round: names that are not changed, and constants."""
    parts: list[ast.AST] = [*call.args, *(one.value for one in call.keywords)]
    if isinstance(call.func, ast.Attribute):
        parts.append(call.func.value)
    for part in parts:
        for one in ast.walk(part):
            if isinstance(one, ast.Name) and one.id in changed:
                return False
            if not isinstance(one, ast.Name | ast.Constant | ast.Attribute | ast.Load | ast.BinOp | ast.operator
                              | ast.UnaryOp | ast.unaryop | ast.JoinedStr | ast.FormattedValue):  # fmt: skip
                return False
            if isinstance(one, ast.Attribute) and not isinstance(one.value, ast.Name):
                return False
    return True


def _read(call: ast.Call) -> bool:
    """Whether a file is opened to be read: one that is written to is another one each time, or grows."""
    modes = [*call.args[1:2], *(one.value for one in call.keywords if one.arg == "mode")]
    return all(isinstance(mode, ast.Constant) and not set("wax+") & set(str(mode.value)) for mode in modes)


def _assigned(name: str, loop: ast.AST) -> bool:
    """Whether a name begins anew in each round."""
    return any(name in bound for one in ast.walk(loop) for bound in _bound(one, name))


def _set_at(name: str, loop: ast.AST) -> bool:
    """Whether a list has members replaced in a loop, which a set beside it could not follow."""
    return any(
        isinstance(one, ast.Subscript) and isinstance(one.ctx, ast.Store) and isinstance(one.value, ast.Name)
        and one.value.id == name
        for one in ast.walk(loop)
    )  # fmt: skip


def _bound(one: ast.AST, name: str) -> Iterator[Iterator[str]]:
    """Yield the names that a statement binds; one that only adds to a name leaves it what it was."""
    if isinstance(one, ast.Assign):
        yield from (_names(target) for target in one.targets if not _grows(one, name))
    elif isinstance(one, ast.For | ast.AsyncFor | ast.comprehension | ast.AnnAssign | ast.NamedExpr):
        yield _names(one.target)


def _grows(one: ast.Assign, name: str) -> bool:
    """Whether an assignment adds to what a name holds: a = a + b."""
    value = one.value
    return (
        isinstance(value, ast.BinOp) and isinstance(value.op, ast.Add) and isinstance(value.left, ast.Name)
        and value.left.id == name and len(one.targets) == 1
    )  # fmt: skip


def _kind(value: ast.AST) -> str:
    """Return whether an expression is a list or a text, "" where nobody knows."""
    if isinstance(value, ast.List | ast.ListComp):
        return "list"
    if isinstance(value, ast.JoinedStr) or (isinstance(value, ast.Constant) and isinstance(value.value, str)):
        return "text"
    if isinstance(value, ast.BinOp) and isinstance(value.op, ast.Add | ast.Mod):
        return _kind(value.left) or (_kind(value.right) if isinstance(value.op, ast.Add) else "")
    if isinstance(value, ast.Call):
        if isinstance(value.func, ast.Name):
            return "list" if value.func.id in _LISTS else "text" if value.func.id == "str" else ""
        if isinstance(value.func, ast.Attribute):
            literal = _kind(value.func.value) == "text"
            if value.func.attr in _LIST_METHODS and not (value.keywords or len(value.args) > 2):
                return "list"
            return "text" if literal and value.func.attr in _TEXT_METHODS else ""
    return ""


def _calls(node: ast.AST, name: str) -> bool:
    return isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == name


def _end(index: ast.AST) -> bool:
    """Whether an index is that of the first or the last."""
    if isinstance(index, ast.UnaryOp) and isinstance(index.op, ast.USub):
        return isinstance(index.operand, ast.Constant) and index.operand.value == 1
    return isinstance(index, ast.Constant) and index.value == 0 and index.value is not False


def _front(call: ast.Call) -> bool:
    """Whether a call takes from the front of a list, or puts something there."""
    assert isinstance(call.func, ast.Attribute)
    first = call.args[0] if call.args else None
    zero = isinstance(first, ast.Constant) and first.value == 0 and first.value is not False
    counts: Sequence[int] = {"pop": (1,), "insert": (2,)}.get(call.func.attr, ())
    return zero and len(call.args) in counts
