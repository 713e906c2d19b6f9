"""The rooms keep to the table of imports."""

from __future__ import annotations

import ast
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
