"""The rooms keep to the table of imports."""

from __future__ import annotations

import ast
import importlib
import subprocess
import sys
from pathlib import Path

import pytest

import bystander

ROOT = Path(bystander.__file__).parent
DESIGN = {"units", "errors", "design"}
VERDICTS = DESIGN | {"stats", "verdicts"}
FLOW = VERDICTS | {"exchange", "report", "archive", "field", "demo", "flow"}
# What each room may import of ours, besides itself and the package's version.
ALLOWED = {
    "units": {"errors"},
    "errors": set(),
    "stats": {"errors"},
    "design": {"units", "errors"},
    "verdicts": {"stats", "design", "units", "errors"},
    "exchange": {"verdicts", "design", "units", "errors"},
    "report": {"verdicts", "design", "units", "errors"},
    "archive": {"design", "units", "errors"},
    "field": {"design", "units", "errors"},
    "flow": FLOW,
    "demo": set(),
    "cli": {"flow", "verdicts", "design", "units", "errors"},
    "__main__": {"cli"},
}
FILES = [
    f for f in sorted(ROOT.rglob("*.py")) if ("harbour" not in f.parts and f.name != "__init__.py") or f.parent != ROOT
]
FILES = [f for f in FILES if "harbour" not in f.parts]


def imported(file: Path) -> set[str]:
    """Return the modules that a file imports, anywhere in it."""
    found = set()
    for node in ast.walk(ast.parse(file.read_text(encoding="utf-8"))):
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom):
            assert node.level == 0, f"{file}: relative imports hide the room"
            found.add(node.module or "")
    return found


@pytest.mark.parametrize("file", FILES, ids=lambda f: str(f.relative_to(ROOT)))
def test_a_room_imports_only_what_the_table_allows(file: Path) -> None:
    """Every import of ours leads to the room itself or to one that the table names."""
    room = file.relative_to(ROOT).parts[0].removesuffix(".py")
    ours = {name.split(".")[1] for name in imported(file) if name.startswith("bystander.")}

    assert ours <= ALLOWED[room] | {room}


# A room is entered by what its `__all__` names. Rooms that start faster when little of them is loaded have more doors.
DOORS = {"flow": None, "archive": {"writer", "care"}, "report": set(), "cli": set()}


def past_a_face(text: str, room: str) -> list[str]:
    """Return the imports of other rooms that are not by their face."""
    found = []
    for node in ast.walk(ast.parse(text)):
        names = [alias.name for alias in node.names] if isinstance(node, ast.Import | ast.ImportFrom) else []
        if isinstance(node, ast.Import):
            found += [name for name in names if name.split(".")[0] == "bystander"]
        elif isinstance(node, ast.ImportFrom) and (node.module or "").split(".")[0] == "bystander":
            place = (node.module or "").split(".")[1:]
            if not place:
                found += [f"bystander.{name}" for name in names if name != "__version__"]
            elif place[0] == room or (ROOT / f"{place[0]}.py").exists():
                continue
            elif len(place) > 1:
                doors = DOORS.get(place[0], set())
                found += [".".join(place)] if doors is not None and place[1] not in doors else []
            else:
                face = importlib.import_module(f"bystander.{place[0]}").__all__
                found += [f"{place[0]}.{name}" for name in names if name not in face]
    return found


@pytest.mark.parametrize("file", FILES, ids=lambda f: str(f.relative_to(ROOT)))
def test_a_room_is_entered_by_its_face(file: Path) -> None:
    """Nothing is imported through the package's root, nor from a module inside another room."""
    assert past_a_face(file.read_text(encoding="utf-8"), file.relative_to(ROOT).parts[0].removesuffix(".py")) == []


@pytest.mark.parametrize(
    ("line", "found"),
    [
        ("from bystander import stats", ["bystander.stats"]), ("import bystander.field", ["bystander.field"]),
        ("from bystander.stats.power import POWER", ["stats.power"]),
        ("from bystander.stats import secret", ["stats.secret"]),
        ("from bystander import __version__", []), ("from bystander.stats import median", []),
        ("from bystander.archive.writer import RecordWriter", []), ("from bystander.units import counted", []),
        ("from bystander.verdicts.pairs import material", []),
        ("from bystander.archive.reader import Reader", ["archive.reader"]),
    ],
)  # fmt: skip
def test_a_way_past_a_face_is_found(line: str, found: list[str]) -> None:
    """Seen from the room of verdicts."""
    assert past_a_face(line, "verdicts") == found


def test_files_run_in_children_use_the_standard_library_only() -> None:
    """Neither the launcher nor the marks import what is not in the standard library; all parse as Python 3.8."""
    for file in (*(ROOT / "field" / "inside").glob("*.py"), ROOT.parent / "bystander_marks.py"):
        tops = {name.split(".")[0] for name in imported(file)}

        assert tops <= set(sys.stdlib_module_names)
        ast.parse(file.read_text(encoding="utf-8"), feature_version=(3, 8))


def test_only_the_command_line_prints_or_exits() -> None:
    """No other room calls print or sys.exit."""
    for file in FILES:
        room = file.relative_to(ROOT).parts[0].removesuffix(".py")
        if room in ("cli", "__main__") or "inside" in file.parts:
            continue
        for node in ast.walk(ast.parse(file.read_text(encoding="utf-8"))):
            if isinstance(node, ast.Call):
                assert ast.unparse(node.func) not in ("print", "sys.exit", "exit"), f"{file}:{node.lineno}"


def test_help_loads_no_numeric_library() -> None:
    """`--help` imports neither NumPy nor SQLAlchemy nor pandas."""
    told = (
        "import atexit, sys\n"
        "atexit.register(lambda: print(*(name for name in sys.modules if '.' not in name), file=sys.stderr))\n"
        "sys.argv = ['bystander', '--help']\nfrom bystander.__main__ import run\nrun()\n"
    )
    done = subprocess.run([sys.executable, "-c", told], capture_output=True, text=True, check=True)
    loaded = set(done.stderr.split())

    assert "typer" in loaded
    assert not loaded & {"numpy", "sqlalchemy", "pandas", "scipy", "jinja2"}
    assert "observe" in done.stdout


def test_modules_stay_small() -> None:
    """No module is longer than 420 lines: a longer one has two ideas in it."""
    for file in FILES:
        assert len(file.read_text(encoding="utf-8").splitlines()) <= 420, file
