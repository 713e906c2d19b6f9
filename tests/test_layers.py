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
DESIGN = {"units", "errors", "files", "design"}
VERDICTS = DESIGN | {"stats", "verdicts"}
EVIDENCE = DESIGN | {"stats", "evidence"}
FORESIGHT = VERDICTS | {"foresight"}
FLOW = FORESIGHT | {"evidence", "exchange", "report", "archive", "field", "demo", "flow"}
# What each room may import of ours, besides itself and the package's version.
ALLOWED = {
    "units": {"errors"},
    "errors": set(),
    "files": set(),
    "stats": {"errors"},
    "design": {"units", "errors"},
    "verdicts": {"stats", "design", "units", "errors"},
    "evidence": EVIDENCE,
    "foresight": FORESIGHT,
    "exchange": {"verdicts", "foresight", "evidence", "design", "units", "errors"},
    "report": {"verdicts", "design", "units", "errors"},
    "archive": {"design", "units", "errors", "files"},
    "field": {"design", "units", "errors", "files"},
    "flow": FLOW,
    "demo": set(),
    "cli": {"flow", "foresight", "verdicts", "design", "units", "errors", "files"},
    "__main__": {"cli"},
    "api": FLOW - {"field", "demo", "foresight", "evidence"},
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


# Inside a room its folders stand in this order: each imports those before it, and what lies in the room itself.
FOLDERS = {
    "design": ("studies", "readers", "records", "inside"),
    "verdicts": ("compared", "described", "tested", "noted", "decided", "worded"),
    "archive": ("tables", "file"),
    "field": ("launching", "trials", "arms", "watching"),
    "evidence": ("compared", "within"),
    "exchange": ("written",),
    "report": ("pieces", "pictures"),
    "flow": ("trials", "sessions", "chains", "leads", "inside", "commands", "onward"),
}
# Rooms of more than twelve files side by side, and why they have no folders.
MANY = {"stats": "one method a file, each with its source; none knows more than one other"}


def graph() -> dict[Path, set[Path]]:
    """Return the files that each file imports, however: also for types, and inside functions."""
    names = {".".join(f.relative_to(ROOT.parent).with_suffix("").parts).removesuffix(".__init__"): f for f in FILES}
    found: dict[Path, set[Path]] = {file: set() for file in FILES}
    for file in FILES:
        for node in ast.walk(ast.parse(file.read_text(encoding="utf-8"))):
            if isinstance(node, ast.ImportFrom) and (node.module or "") in names:
                inner = {names.get(f"{node.module}.{alias.name}") for alias in node.names}
                found[file] |= {one for one in inner if one} or {names[node.module or ""]}
    return found


def circles(imports: dict[Path, set[Path]]) -> set[Path]:
    """Return the files from which imports lead back to them; a room's face imports its files and is left out."""
    left = {file: {one for one in seen if one.name != "__init__.py"} for file, seen in imports.items()}
    while free := [file for file, seen in left.items() if not seen & left.keys()]:
        for file in free:
            del left[file]
    return set(left)


def test_no_file_imports_itself_by_way_of_others() -> None:
    """There is no circle among the files, in a room or between rooms, for types neither."""
    assert circles(graph()) == set()


def test_a_circle_would_be_found() -> None:
    """Whatever it is made of."""
    a, b, c = Path("a.py"), Path("b.py"), Path("c.py")

    assert circles({a: {b}, b: {c}, c: set()}) == set()
    assert circles({a: {b}, b: {c}, c: {b}}) == {a, b, c}


@pytest.mark.parametrize("room", FOLDERS)
def test_folders_of_a_room_stand_in_order(room: str) -> None:
    """A folder imports itself, those before it, and the room's own modules; these may import from anywhere in it."""
    order = FOLDERS[room]
    for file, seen in graph().items():
        parts = file.relative_to(ROOT).parts
        if parts[0] == room and parts[1] in order:
            for other in seen:
                inside = other.relative_to(ROOT).parts
                if inside[0] == room and inside[1] in order:
                    assert order.index(inside[1]) <= order.index(parts[1]), f"{file} imports {other}"


def test_no_room_has_more_than_twelve_files_side_by_side() -> None:
    """Beyond, it has folders, or a reason."""
    for folder in {file.parent for file in FILES} - {ROOT}:
        count = sum(1 for file in folder.glob("*.py") if file.name != "__init__.py")
        assert count <= 12 or folder.name in MANY, f"{folder}: {count} files"


# A room is entered by what its `__all__` names. Rooms that start faster when little of them is loaded have more doors.
DOORS = {"flow": None, "archive": {"writer", "care", "mend"}, "report": set(), "cli": set()}


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
        ("from bystander.verdicts.compared.row_trials import row_trials", []),
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

        assert tops <= {*sys.stdlib_module_names, "processes", "readiness", "stubbed"}  # the launcher's own, beside it
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


def test_only_one_module_echoes() -> None:
    """Whatever is printed passes a console or `said`, which take its control characters away."""
    found = [file.name for file in FILES if "typer.echo" in file.read_text(encoding="utf-8")]

    assert found == ["said.py"]


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
    """No module is longer than 400 lines: a longer one has two ideas in it. Half have 120 at most."""
    lines = sorted(len(file.read_text(encoding="utf-8").splitlines()) for file in FILES if file.name != "__init__.py")

    assert lines[-1] < 400
    assert lines[len(lines) // 2] <= 120
