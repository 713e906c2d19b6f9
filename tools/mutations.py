"""Edit comparisons, constants and signs at places drawn by chance, one at a time, and see whether the tests notice.

usage: python tools/mutations.py ROUND [--count 40] [--seed COMMIT]

The places are those of the rooms below; their order is drawn from the seed (the commit where the work began) and the
round. Edits that are shown to change nothing stand with their reason in mutations_equal.toml, and the next place is
taken instead. Each edit is made in a copy of the working tree, and the tests of its room run there, cheapest first.
"""

from __future__ import annotations

import argparse
import ast
import os
import random
import shutil
import subprocess
import sys
import tempfile
import tomllib
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

ROOT = Path(__file__).parents[1]
SEED = "d3dd1d5e6995df8f672523b06f0cb463ad46a8e7"
PACKAGE = Path("src/bystander")
PLACES = ("verdicts", "stats", "design", "evidence", "foresight", "field/trials/launcher.py", "field/machine.py")
# The tests that hold a room: those that know only rooms, not the program around them.
TESTS = {
    "verdicts": "kept rules together words verdicts display soundness distribution phases report gate looks",
    "stats": "kept stats rules words verdicts soundness distribution phases levels looks",
    "design": "kept units study plan machine_states words rules verdicts phases display printed_commands",
    "evidence": "kept phases marks",
    "foresight": "kept outlook levels words",
    "field/trials/launcher.py": "launcher",
    "field/machine.py": "field machine_states",
}
SWAPS = {
    ast.Lt: ("<", "<="), ast.LtE: ("<=", "<"), ast.Gt: (">", ">="), ast.GtE: (">=", ">"), ast.Eq: ("==", "!="),
    ast.NotEq: ("!=", "=="), ast.Is: ("is", "is not"), ast.IsNot: ("is not", "is"), ast.In: ("in", "not in"),
    ast.NotIn: ("not in", "in"),
}  # fmt: skip
SIGNS = {ast.Add: ("+", "-"), ast.Sub: ("-", "+")}


@dataclass(frozen=True)
class Edit:
    """One place, and what stands there instead."""

    file: str
    start: int
    end: int
    source: str
    old: str
    new: str

    @property
    def name(self) -> str:
        """What it is called, wherever it moves within its file: the file, the line as it reads, and both texts."""
        return f"{Path(self.file).name}: {self.source}: {self.old} -> {self.new}"


def edits(path: Path) -> Iterator[Edit]:
    """Yield every edit of a file."""
    text = (ROOT / path).read_text(encoding="utf-8")
    starts = [0]
    for line in text.encode().splitlines(keepends=True):
        starts.append(starts[-1] + len(line))
    data, lines = text.encode(), text.splitlines()

    def at(line: int, column: int) -> int:
        return starts[line - 1] + column

    def made(start: int, end: int, line: int, new: str) -> Edit:
        return Edit(str(path), start, end, lines[line - 1].strip(), data[start:end].decode(), new)

    def between(left: ast.expr, right: ast.expr, swap: tuple[str, str]) -> Edit | None:
        first, last = at(left.end_lineno or 0, left.end_col_offset or 0), at(right.lineno, right.col_offset)
        found = data.find(swap[0].encode(), first, last)
        return None if found < 0 else made(found, found + len(swap[0]), right.lineno, swap[1])

    tree = ast.parse(text)
    silent = {id(node) for node in ast.walk(tree) if _says_nothing(node) for node in ast.walk(node)}
    for node in ast.walk(tree):
        if id(node) in silent:
            continue
        if isinstance(node, ast.Compare):
            for left, operator, right in zip([node.left, *node.comparators], node.ops, node.comparators, strict=False):
                if edit := between(left, right, SWAPS[type(operator)]):
                    yield edit
        elif isinstance(node, ast.BinOp) and type(node.op) in SIGNS:
            if edit := between(node.left, node.right, SIGNS[type(node.op)]):
                yield edit
        elif isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.USub):
            start = at(node.lineno, node.col_offset)
            yield made(start, start + 1, node.lineno, "+")
        elif (
            isinstance(node, ast.Constant) and isinstance(node.value, int | float) and not isinstance(node.value, bool)
        ):
            new = node.value + 1 if isinstance(node.value, int) else node.value * 1.1 or 0.1
            ends = at(node.lineno, node.col_offset), at(node.end_lineno or 0, node.end_col_offset or 0)
            yield made(*ends, node.lineno, repr(new))


def _says_nothing(node: ast.AST) -> bool:
    """Whether a node is how much a cache holds: that changes the time it takes and nothing else."""
    return isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == "lru_cache"


def drawn(seed: str, number: str) -> list[Edit]:
    """Return all edits in the order of a round."""
    files = [path for place in PLACES for path in sorted((ROOT / PACKAGE / place).rglob("*.py"))]
    files += [ROOT / PACKAGE / place for place in PLACES if place.endswith(".py")]
    found = [edit for file in dict.fromkeys(files) for edit in edits(file.relative_to(ROOT))]
    random.Random(f"{seed}|{number}").shuffle(found)
    return found


def caught(edit: Edit, copies: list[Path]) -> bool:
    """Make an edit in a copy of the tree and return whether its room's tests fail there."""
    copy = copies.pop()
    file = copy / edit.file
    whole = file.read_bytes()
    try:
        file.write_bytes(whole[: edit.start] + edit.new.encode() + whole[edit.end :])
        inside = str(Path(edit.file).relative_to(PACKAGE))
        room = next(place for place in PLACES if inside == place or inside.startswith(f"{place}/"))
        tests = [f"tests/test_{name}.py" for name in TESTS[room].split()]
        environment = {**os.environ, "PYTHONPATH": str(copy / "src"), "PYTHONDONTWRITEBYTECODE": "1"}
        words = [sys.executable, "-m", "pytest", "-q", "-x", "-p", "no:cacheprovider", "-m", "not slow", *tests]
        done = subprocess.run(
            words, cwd=copy, env=environment, capture_output=True, text=True, check=False, timeout=900
        )
        return done.returncode != 0
    except subprocess.TimeoutExpired:
        return True  # it does not end any more
    finally:
        file.write_bytes(whole)
        copies.append(copy)


def main() -> None:
    """Draw, edit, test, and print what was not noticed."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0] if __doc__ else None)
    parser.add_argument("round")
    parser.add_argument("--count", type=int, default=40)
    parser.add_argument("--seed", default=SEED)
    asked = parser.parse_args()
    with (ROOT / "tools" / "mutations_equal.toml").open("rb") as known:
        equal = tomllib.load(known)
    order = [edit for edit in drawn(asked.seed, asked.round) if edit.name not in equal][: asked.count]
    with tempfile.TemporaryDirectory() as scratch:
        copies = [Path(scratch, str(k)) for k in range(2)]
        left_out = shutil.ignore_patterns(".git", ".venv", "__pycache__", ".bystander", "harbour-office")
        for copy in copies:
            shutil.copytree(ROOT, copy, ignore=left_out, symlinks=True)
        with ThreadPoolExecutor(len(copies)) as pool:
            results = []
            for edit, noticed in zip(order, pool.map(lambda edit: caught(edit, copies), order), strict=True):
                results.append(noticed)
                print(f"{'caught  ' if noticed else 'SURVIVED'} {edit.name}", flush=True)
    print(f"round {asked.round}, seed {asked.seed[:10]}: {sum(results)} of {len(results)} caught")


if __name__ == "__main__":
    main()
