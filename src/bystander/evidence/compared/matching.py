"""Which place of the candidate is which place of the reference, and whether its code was edited."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from functools import cached_property

from bystander.design import LIBRARY, PYTHON, Edits, LineMap, Match, Place, Standing
from bystander.evidence.compared.functions import Function, functions_of
from bystander.evidence.compared.lines import line_blocks

__all__ = ["Matching", "canonical_file", "edits_of", "in_place", "installed_in", "package_of"]

_PACKAGES = re.compile(r"^(.*/(?:site|dist)-packages)/(.*)$")
_LIBRARY = re.compile(r"^(.*/lib/python\d+\.\d+)/(.*)$")
_IN_PLACE = re.compile(r"(?:\.<locals>)?\.?<(?:list|set|dict)comp>$")
_LEAST_MOVED = 120  # letters of written-out syntax: shorter bodies are alike by chance
Sides = tuple[set[Place], set[Place]]
Read = Callable[[str], str | None]


def canonical_file(file: str, root: str) -> str:
    """Return a file as both arms have it: "packages/...", "library/...", "./..." inside the arm, else as it is."""
    for front, pattern in (("packages", _PACKAGES), ("library", _LIBRARY)):
        if found := pattern.match(file):
            return f"{front}/{found[2]}"
    root = root.rstrip("/")
    if root and file.startswith(root + "/"):
        return "./" + file[len(root) + 1 :]
    return file if file.startswith(("/", "./", "<")) or not file else "./" + file


def package_of(canonical: str) -> str:
    """Return the package that such a file belongs to, "" inside an arm."""
    front, _, rest = canonical.partition("/")
    return f"{front}/{rest.partition('/')[0].removesuffix('.py')}" if front in ("packages", "library") else ""


def installed_in(file: str) -> tuple[str, str] | None:
    """Return the folder of packages that a file is installed in, and its package; None for any other file."""
    found = _PACKAGES.match(file)
    return (found[1], found[2].partition("/")[0].removesuffix(".py")) if found else None


def in_place(place: Place) -> bool:
    """Whether a place is a list, set or dict in the making: a frame to older interpreters, a part of one to newer."""
    return bool(_IN_PLACE.search(place.name))


def _plain_name(name: str) -> str:
    while (shorter := _IN_PLACE.sub("", name)) != name:
        name = shorter
    return name or "<module>"


@dataclass
class _Side:
    """One arm's files: as both have them, and where they lie."""

    root: str
    files: dict[str, str] = field(default_factory=dict)
    prefixes: dict[str, str] = field(default_factory=dict)

    def add(self, places: Iterable[Place]) -> None:
        for file in {place.file for place in places if place.kind == PYTHON}:
            self.files.setdefault(canonical_file(file, self.root), file)
            for front, pattern in (("packages", _PACKAGES), ("library", _LIBRARY)):
                if found := pattern.match(file):
                    self.prefixes.setdefault(front, found[1])

    def lies(self, canonical: str) -> str | None:
        """Return where a file lies here, or would; None where nobody knows."""
        if canonical in self.files:
            return self.files[canonical]
        front, _, rest = canonical.partition("/")
        where = self.root.rstrip("/") if front == "." else self.prefixes.get(front)
        return f"{where}/{rest}" if where else None


def edits_of(hit: Sides, roots: tuple[str, str], read: Read) -> Edits:
    """Return how the functions that were met in either arm stand between them.

    Parameters
    ----------
    hit : pair of set of Place
        In the reference, in the candidate.
    roots : pair of str
        Folders of the arms.
    read : callable
        From a file to its text; None where it is not there, or no text.
    """
    sides = tuple(_Side(root) for root in roots)
    for side, places in zip(sides, hit, strict=True):
        side.add(places)
    wanted = tuple(
        {(canonical_file(one.file, side.root), one.name, one.line): one for one in places if one.kind == PYTHON}
        for side, places in zip(sides, hit, strict=True)
    )
    pairs: list[tuple[str, _Text, _Text]] = []
    alike: dict[str, tuple[str, str]] = {}
    for canonical in sorted(sides[0].files.keys() | sides[1].files.keys()):
        if canonical.startswith("<"):
            continue
        before, after = (_text(side.lies(canonical), read) for side in sides)
        if before.file == after.file or (before.text is not None and before.text == after.text):
            alike[canonical] = before.file or "", after.file or ""
        else:
            pairs.append((canonical, before, after))
    lines = tuple(
        LineMap(before.file or "", after.file or "", line_blocks(before.text, after.text))
        for _, before, after in pairs
        if before.text is not None and after.text is not None
    )
    return Edits((*_alike(alike, wanted), *_met(_Matched(pairs), wanted)), lines)


def _alike(alike: dict[str, tuple[str, str]], wanted: tuple[dict[tuple[str, str, int], Place], ...]) -> Iterable[Match]:
    """Yield what was met in files that are the same in both arms."""
    for key in sorted(wanted[0].keys() | wanted[1].keys()):
        canonical, name, line = key
        if canonical in alike and _plain_name(name) == name:
            before, after = (
                places.get(key) or Place(PYTHON, name, file, line)
                for places, file in zip(wanted, alike[canonical], strict=True)
            )
            yield Match(before, after, Standing.UNTOUCHED)


@dataclass
class _Text:
    """A file of one arm: where it is, and its text, None where it is not there."""

    file: str | None
    text: str | None

    @cached_property
    def functions(self) -> list[Function] | None:
        """Its functions; None where it is not there, or no Python that can be read."""
        return None if self.text is None else functions_of(self.text)


def _text(file: str | None, read: Read) -> _Text:
    return _Text(file, read(file) if file else None)


class _Matched:
    """Functions of both arms by file, name and which of that name, and how each stands."""

    def __init__(self, pairs: Sequence[tuple[str, _Text, _Text]]) -> None:
        self.standing: dict[tuple[str, str, int], tuple[Place | None, Place | None, Standing]] = {}
        self.at: tuple[dict[tuple[str, str], list[Function]], ...] = ({}, {})
        loose: tuple[list[tuple[str, str, int, Function, str]], ...] = ([], [])
        for canonical, before, after in pairs:
            if before.functions is None or after.functions is None:
                self._unread(canonical, before, after, loose)
                continue
            named = tuple(_by_name(one.functions or []) for one in (before, after))
            for side, functions in enumerate(named):
                self.at[side].update({(canonical, name): found for name, found in functions.items()})
            for name in named[0].keys() | named[1].keys():
                a, b = named[0].get(name, []), named[1].get(name, [])
                for k in range(max(len(a), len(b))):
                    if k < len(a) and k < len(b):
                        standing = Standing.UNTOUCHED if a[k].digest == b[k].digest else Standing.EDITED
                        self.standing[canonical, name, k] = (
                            _place(a[k], before.file), _place(b[k], after.file), standing
                        )  # fmt: skip
                    elif k < len(a):
                        loose[0].append((canonical, name, k, a[k], before.file or ""))
                    else:
                        loose[1].append((canonical, name, k, b[k], after.file or ""))
        self._moved(*loose)

    def _unread(self, canonical: str, before: _Text, after: _Text, loose: tuple[list, ...]) -> None:  # type: ignore[type-arg]
        """Take in a file that is in one arm only, or is no Python that can be read."""
        for side, (one, other) in enumerate(((before, after), (after, before))):
            if one.functions is None:
                continue
            named = _by_name(one.functions)
            self.at[side].update({(canonical, name): found for name, found in named.items()})
            if other.text is None and other.file is not None:
                loose[side].extend(
                    (canonical, name, k, f, one.file or "") for name, fs in named.items() for k, f in enumerate(fs)
                )
            else:
                for name, functions in named.items():
                    for k, function in enumerate(functions):
                        place = _place(function, one.file)
                        self.standing[canonical, name, k] = (
                            (place, None, Standing.UNKNOWN) if side == 0 else (None, place, Standing.UNKNOWN)
                        )

    def _moved(
        self, before: list[tuple[str, str, int, Function, str]], after: list[tuple[str, str, int, Function, str]]
    ) -> None:
        """Find what has the same body under another name or in another file; the rest is gone, or new."""
        digests: dict[str, tuple[list[int], list[int]]] = defaultdict(lambda: ([], []))
        for side, functions in enumerate((before, after)):
            for number, (_, _, _, function, _) in enumerate(functions):
                if function.size >= _LEAST_MOVED and function.name != "<module>":
                    digests[function.digest][side].append(number)
        moved = {b[0]: a[0] for a, b in digests.values() if len(a) == len(b) == 1}
        taken = set(moved.values())
        for number, (canonical, name, k, function, file) in enumerate(after):
            if number in moved:
                c0, n0, k0, f0, file0 = before[moved[number]]
                pair = _place(f0, file0), _place(function, file), Standing.MOVED
                self.standing[canonical, name, k] = pair
                self.standing.setdefault((c0, n0, k0), pair)
            else:
                self.standing[canonical, name, k] = (None, _place(function, file), Standing.NEW)
        for number, (canonical, name, k, function, file) in enumerate(before):
            if number not in taken:
                self.standing.setdefault((canonical, name, k), (_place(function, file), None, Standing.GONE))

    def find(self, side: int, canonical: str, name: str, line: int) -> tuple[str, str, int] | None:
        """Return the key of a function of one arm; where its file has several of that name, the one at that line."""
        functions = self.at[side].get((canonical, name))
        if functions is None:  # interpreters before 3.11 know no qualified names
            last = [
                (key, number)
                for key, found in self.at[side].items()
                for number, one in enumerate(found)
                if key[0] == canonical and one.first == line and key[1].rpartition(".")[2] == name
            ]
            return (*last[0][0], last[0][1]) if len(last) == 1 else None
        exact = [number for number, one in enumerate(functions) if one.first == line]
        if exact or len(functions) == 1:
            return canonical, name, exact[0] if exact else 0
        return None


def _by_name(functions: Sequence[Function]) -> dict[str, list[Function]]:
    found: dict[str, list[Function]] = defaultdict(list)
    for one in functions:
        found[one.name].append(one)
    return dict(found)


def _place(function: Function, file: str | None) -> Place:
    return Place(PYTHON, function.name, file or "", function.first)


def _met(matched: _Matched, wanted: tuple[dict[tuple[str, str, int], Place], ...]) -> list[Match]:
    """Return the matches of what trials came by; places as they were met, where they were."""
    met: dict[tuple[str, str, int], dict[int, Place]] = defaultdict(dict)
    for side, places in enumerate(wanted):
        for (canonical, name, line), place in places.items():
            if _plain_name(name) == name and (key := matched.find(side, canonical, name, line)) in matched.standing:
                met[key][side] = place
    found: dict[tuple[Place | None, Place | None], Match] = {}
    for key, places_met in met.items():
        before, after, standing = matched.standing[key]
        pair = places_met.get(0, before), places_met.get(1, after)
        known = (before, after)
        old = found.get(known)
        if old:  # moved: met under both of its names
            pair = (places_met.get(0, old.before), places_met.get(1, old.after))
        found[known] = Match(*pair, standing)
    return [*found.values()]


class Matching:
    """Numbers for places, the same for one place of both arms."""

    def __init__(self, edits: Edits, roots: tuple[str, str]) -> None:
        self._roots = roots
        self.places: list[list[Place | None]] = []
        self.standing: list[Standing] = []
        self._known: tuple[dict[Place, int], dict[Place, int]] = ({}, {})
        self._by_name: tuple[dict[tuple[str, str], list[tuple[int, int]]], ...] = (defaultdict(list), defaultdict(list))
        self._others: dict[tuple[str, str, str, int], int] = {}
        for before, after, standing in edits.matches:
            number = self._new(standing)
            for side, place in enumerate((before, after)):
                if place is not None:
                    self._known[side][place] = number
                    self.places[number][side] = place
                    self._by_name[side][place.file, place.name].append((place.line, number))
        self.edited_packages = {
            package_of(canonical_file(place.file, roots[side]))
            for match in edits.matches if match.standing.is_edit
            for side, place in enumerate((match.before, match.after)) if place
        } - {""}  # fmt: skip

    def __len__(self) -> int:
        return len(self.places)

    def _new(self, standing: Standing) -> int:
        self.places.append([None, None])
        self.standing.append(standing)
        return len(self.places) - 1

    def number(self, side: int, place: Place) -> int:
        """Return the number of a place of one arm, 0 for the reference and 1 for the candidate."""
        known = self._known[side]
        found = known.get(place)
        if found is None:
            found = known[place] = self._found(side, place)
            if self.places[found][side] is None:
                self.places[found][side] = place
        return found

    def _found(self, side: int, place: Place) -> int:
        if place.kind == PYTHON and (name := _plain_name(place.name)) != place.name:
            around = [one for one in self._by_name[side].get((place.file, name), ()) if one[0] <= place.line]
            if around:
                return max(around)[1]
            place = place._replace(name=name, line=0)
        line = place.line if "<lambda>" in place.name or "<genexpr>" in place.name else 0
        key = place.kind, place.name, canonical_file(place.file, self._roots[side]), line
        if key not in self._others:
            self._others[key] = self._new(Standing.UNKNOWN)
        return self._others[key]

    def place(self, number: int) -> Place:
        """Return a place as the candidate has it, or as the reference had it where it is gone."""
        before, after = self.places[number]
        return after or before or Place("unseen", "")

    def is_home(self, number: int) -> bool:
        """Whether a place is of the arm's own files, or of a package that was edited; or a program without frames."""
        both = zip(self.places[number], self._roots, strict=True)
        return any(self._home(place, root) for place, root in both if place)

    def _home(self, place: Place, root: str) -> bool:
        if place.kind in ("program", "native"):
            return True
        if place.kind != PYTHON:
            return False
        canonical = canonical_file(place.file, root)
        if package := package_of(canonical):
            return package in self.edited_packages
        return not LIBRARY.search(place.file) and canonical.startswith(("./", "/"))
