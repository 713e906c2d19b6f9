"""What a folder says of itself: how it is built, what can be run in it, and how its tests are run.

Read from files that build tools share; nothing is run. Only what is committed is sure to be under both arms.
"""

from __future__ import annotations

import json
import re
import shutil
import tomllib
from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from bystander.files import read_at_most

__all__ = ["Found", "Runnable", "found_in"]

_MOST_BYTES = 2**20
_MOST_RUNNABLE = 6
_BUILDING = ("all", "build", "default")  # first targets of a Makefile that build, by their names
_NAME = re.compile(r"[^\W_][\w.+-]*")


@dataclass(frozen=True)
class Runnable:
    """Something that may be timed: a name, its command, and where that was read."""

    name: str
    command: str
    source: str


@dataclass(frozen=True)
class Found:
    """What was found.

    Attributes
    ----------
    build : tuple of str
        Steps that build it, of the first build file that is there; empty where it needs none.
    source : str
        The name of that file.
    sure : bool
        Whether the steps only build, and what they need is installed.
    programs, tests : tuple of Runnable
    """

    build: tuple[str, ...] = ()
    source: str = ""
    sure: bool = False
    programs: tuple[Runnable, ...] = ()
    tests: tuple[Runnable, ...] = ()


def found_in(folder: Path, committed: Callable[[Path], bool]) -> Found:
    """Return what a folder says of itself.

    Parameters
    ----------
    committed : callable
        Whether a file is under both arms.
    """
    parts = [
        read(folder, text)
        for name, read in _READERS.items()
        if committed(folder / name) and (text := _text(folder / name)) is not None
    ]
    first = next((part for part in parts if part.build), Found())
    programs = [one for part in parts for one in part.programs if _NAME.fullmatch(one.name)]
    tests = [one for part in parts for one in part.tests]
    if not tests and (folder / "tests").is_dir() and list(folder.glob("tests/test_*.py")):
        tests = [Runnable("tests", f"{_path(folder)}python3 -m unittest discover -s tests", "tests")]
    return Found(first.build, first.source, first.sure, tuple(programs[:_MOST_RUNNABLE]), tuple(tests[:1]))


def _text(file: Path) -> str | None:
    with suppress(OSError):
        data = read_at_most(file, _MOST_BYTES)
        return None if data is None else data.decode("utf-8", "replace")
    return None


def _there(*programs: str) -> bool:
    return all(shutil.which(program) for program in programs)


def _path(folder: Path) -> str:
    return "env PYTHONPATH=src " if (folder / "src").is_dir() else ""


def _table(value: Any, *keys: str) -> dict[str, Any]:
    for key in keys:
        value = value.get(key) if isinstance(value, dict) else None
    return value if isinstance(value, dict) else {}


def _toml(text: str) -> dict[str, Any]:
    with suppress(ValueError, RecursionError):
        return tomllib.loads(text)
    return {}


def _cmake(_folder: Path, text: str) -> Found:
    steps = ("cmake -S . -B built -DCMAKE_BUILD_TYPE=Release", "cmake --build built")
    names = re.findall(r"^\s*add_executable\s*\(\s*([\w.+-]+)", text, re.MULTILINE | re.IGNORECASE)
    tests = re.search(r"^\s*(enable_testing|include\s*\(\s*CTest)", text, re.MULTILINE | re.IGNORECASE)
    return Found(
        steps, "CMakeLists.txt", _there("cmake"),
        tuple(Runnable(name, f"built/{name}", "CMakeLists.txt") for name in dict.fromkeys(names)),
        (Runnable("tests", "ctest --test-dir built", "CMakeLists.txt"),) if tests else (),
    )  # fmt: skip


def _meson(_folder: Path, text: str) -> Found:
    steps = ("meson setup built --buildtype release", "meson compile -C built")
    names = re.findall(r"^\s*(?:\w+\s*=\s*)?executable\s*\(\s*'([^']+)'", text, re.MULTILINE)
    tested = re.search(r"^\s*test\s*\(", text, re.MULTILINE)
    tests = (Runnable("tests", "meson test -C built", "meson.build"),) if tested else ()
    programs = tuple(Runnable(name, f"built/{name}", "meson.build") for name in dict.fromkeys(names))
    return Found(steps, "meson.build", _there("meson"), programs, tests)


def _cargo(folder: Path, text: str) -> Found:
    table = _toml(text)
    listed = table.get("bin")
    binaries = [one.get("name") for one in (listed if isinstance(listed, list) else []) if isinstance(one, dict)]
    if not binaries and (folder / "src" / "main.rs").is_file():
        binaries = [_table(table, "package").get("name")]
    programs = tuple(Runnable(str(name), f"target/release/{name}", "Cargo.toml") for name in binaries if name)
    tests = (Runnable("tests", "cargo test --release", "Cargo.toml"),)
    return Found(("cargo build --release",), "Cargo.toml", _there("cargo"), programs, tests)


def _go(folder: Path, text: str) -> Found:
    module = re.search(r"^module\s+(\S+)", text, re.MULTILINE)
    tests = (Runnable("tests", "go test -count=1 ./...", "go.mod"),)
    if not module or not (folder / "main.go").is_file():
        return Found(tests=tests)
    name = module[1].rpartition("/")[2]
    return Found(
        (f"go build -o built/{name} .",), "go.mod", _there("go"), (Runnable(name, f"built/{name}", "go.mod"),), tests
    )


def _make(_folder: Path, text: str) -> Found:
    """Return what a Makefile builds first: that may be anything, so that it is sure by its name only."""
    targets = list(_targets(text))
    if not targets:
        return Found()
    sure = targets[0] in _BUILDING and _there("make")
    tests = [name for name in ("test", "tests", "check") if name in targets]
    return Found(
        ("make",), "Makefile", sure, (),
        tuple(Runnable("tests", f"make {name}", "Makefile") for name in tests[:1]),
    )  # fmt: skip


def _targets(text: str) -> Iterator[str]:
    for found in re.finditer(r"^([A-Za-z0-9_./+-]+(?:[ \t]+[A-Za-z0-9_./+-]+)*)[ \t]*::?(?![:=])", text, re.MULTILINE):
        yield from (name for name in found[1].split() if not name.startswith("."))


def _pyproject(folder: Path, text: str) -> Found:
    table = _toml(text)
    programs = []
    for name, entry in _table(table, "project", "scripts").items():
        found = re.fullmatch(r"([\w.]+)\s*:\s*([\w.]+)", str(entry))
        if found:
            top = found[2].partition(".")[0]
            run = f"from {found[1]} import {top}; {found[2]}()"
            programs.append(Runnable(name, f"{_path(folder)}python3 -c '{run}' --help", "pyproject.toml"))
    uses = "pytest" in _table(table, "tool") or "pytest" in json.dumps(table, default=str)
    where = "tests" if (folder / "tests").is_dir() else "."
    tests = (Runnable("tests", f"{_path(folder)}python3 -m pytest -q {where}", "pyproject.toml"),) if uses else ()
    return Found(programs=tuple(programs), tests=tests)


def _package_json(_folder: Path, text: str) -> Found:
    try:
        table = json.loads(text)
    except (ValueError, RecursionError):
        return Found()
    scripts, commands = _table(table, "scripts"), table.get("bin") if isinstance(table, dict) else None
    if isinstance(commands, str):
        commands = {str(table.get("name", "program")).rpartition("/")[2]: commands}
    programs = [Runnable(name, f"node {path}", "package.json") for name, path in _table(commands).items()]
    steps = ("npm ci", "npm run build") if "build" in scripts else ()
    tests = (Runnable("tests", "npm test", "package.json"),) if "test" in scripts else ()
    return Found(steps, "package.json" if steps else "", False, tuple(programs), tests)  # npm ci needs a network


_READERS: dict[str, Callable[[Path, str], Found]] = {
    "CMakeLists.txt": _cmake, "meson.build": _meson, "Cargo.toml": _cargo, "go.mod": _go, "pyproject.toml": _pyproject,
    "package.json": _package_json, "Makefile": _make,
}  # fmt: skip
