"""Programs of the harbour office with a change of their own each, unlike each other, and one without any.

Each is a folder for the reference and one for the candidate; a trial takes about 0.3 s.
"""

from __future__ import annotations

import sys
from dataclasses import dataclass
from pathlib import Path

__all__ = ["PROGRAMS", "UNCHANGED", "Program", "lay_out"]


@dataclass(frozen=True)
class Program:
    """Files before and after, by name, and the place that the first lead must name."""

    name: str
    before: dict[str, str]
    after: dict[str, str]
    right: str
    packages: bool = False


_WORK = """
def weigh(cargo, times=60):
    total = 0
    for k in range(times):
        total += (cargo * 31 + k * 7) % 1009
    return total

def stow(cargoes):
    return sorted(cargoes, key=weigh)

def tide(hours):
    level = 0.0
    for hour in range(hours):
        level += ((hour * 37) % 101) / 101
    return level

def greet(ships):
    return [f"ship {ship}: {ship * 3 % 17} berths" for ship in range(ships)]

def survey(metres):
    depths = {}
    for metre in range(metres):
        depths[metre % 97] = depths.get(metre % 97, 0) + metre % 13
    return depths

def tow(tugs):
    return sum(pull(tug) for tug in range(tugs))

def pull(tug):
    return sum(tug * k % 11 for k in range(40))
"""
_DAY = """
import work
def day():
    for _ in range(3):
        work.stow(range(2600)); work.tide(110000); work.greet(30000); work.survey(80000); work.tow(4000)
if __name__ == "__main__":
    day()
"""
UNCHANGED = Program("unchanged", {"work.py": _WORK, "main.py": _DAY}, {"work.py": _WORK, "main.py": _DAY}, "")

_SHIPS = """
import work
def depth(quay):
    total = 0
    for k in range(1000):
        total += k * quay % 17
    return total
def berth(ship, quays):
    return max(quays, key=lambda quay: quay * ship % 7)
def plan(ships):
    work.tide(400000)
    work.survey(500000)
    found = []
    {plan}
    return found
if __name__ == "__main__":
    plan(1200)
"""
_ONCE = """known = {quay: depth(quay) for quay in range(8)}
    for ship in range(ships):
        found.append(known[berth(ship, range(8))])"""
_AGAIN = """for ship in range(ships):
        found.append(depth(berth(ship, range(8))))"""
MORE_CALLS = Program(
    "calls more often",
    {"work.py": _WORK, "main.py": _SHIPS.replace("{plan}", _ONCE)},
    {"work.py": _WORK, "main.py": _SHIPS.replace("{plan}", _AGAIN)},
    "main.plan",
)

_TELEGRAMS = """
import re, work
SHAPE = re.compile(r"(\\w+);(\\d+);(\\d+)")
def read(line):
    {read}
def day():
    work.stow(range(9000))
    lines = [f"QUAY{k % 7};{k};{k * 3}" for k in range(40000)]
    return [read(line) for line in lines]
if __name__ == "__main__":
    day(); work.tow(12000)
"""
SLOWER_CALL = Program(
    "slower per call",
    {"work.py": _WORK, "main.py": _TELEGRAMS.replace("{read}", 'return line.split(";")')},
    {"work.py": _WORK, "main.py": _TELEGRAMS.replace("{read}", "return list(SHAPE.fullmatch(line).groups())")},
    "main.read",
)

_REGISTER = """
import work
class Register:
    def __init__(self, lines):
        self.lines = lines
        self.rows = {load}
    def row(self, k):
        {row}
def parsed(line):
    total = 0
    for letter in line:
        total = total * 31 % 1009 + ord(letter)
    return total
def total(register, count):
    return sum(register.row(k) for k in range(count))
def day():
    work.tide(600000); work.greet(80000)
    register = Register([f"ship {k} at quay {k % 9}" for k in range(20000)])
    return total(register, 20000)
if __name__ == "__main__":
    day()
"""
MOVED = Program(
    "moved work",
    {
        "work.py": _WORK,
        "main.py": _REGISTER.replace("{load}", "[parsed(line) for line in lines]").replace(
            "{row}", "return self.rows[k]"
        ),
    },
    {
        "work.py": _WORK,
        "main.py": _REGISTER.replace("{load}", "None").replace(
            "{row}", "line = self.lines[k]; return max(parsed(line), parsed(line.lower()))"
        ),
    },
    "main.Register.row",
)

_WAVES = """
def height(hour):
    level = 0.0
    for wave in range({waves}):
        level += (hour * wave % 29) / 29
    return level
def name(hour):
    return f"hour {hour}"
"""
_USES = """
import waves, work
def table(hours):
    return [(waves.name(hour), waves.height(hour)) for hour in range(hours)]
if __name__ == "__main__":
    table(12000); work.stow(range(8000)); work.survey(400000)
"""
UPGRADE = Program(
    "a dependency upgraded",
    {"work.py": _WORK, "main.py": _USES, "packages/waves/__init__.py": _WAVES.replace("{waves}", "60")},
    {"work.py": _WORK, "main.py": _USES, "packages/waves/__init__.py": _WAVES.replace("{waves}", "160")},
    "waves.height",
    packages=True,
)
PROGRAMS = (MORE_CALLS, SLOWER_CALL, MOVED, UPGRADE)


def lay_out(program: Program, folder: Path) -> Path:
    """Write both states of a program and a study of them; return the study."""
    for arm, files in (("before", program.before), ("after", program.after)):
        for name, text in files.items():
            where = (
                folder / "packages" / f"{arm:_<6}" / "site-packages" if name.startswith("packages/") else folder / arm
            )
            file = where / name.removeprefix("packages/")
            file.parent.mkdir(parents=True, exist_ok=True)
            file.write_text(text, encoding="utf-8")
        if program.packages:
            release = {"before": "1.0", "after": "1.1"}[arm]
            (folder / "packages" / f"{arm:_<6}" / "site-packages" / f"waves-{release}.dist-info").mkdir()
    study = [f'name = "{program.name}"', "blocks = 6", 'stopping = "fixed"', "margin = '1 %'"]
    for arm in ("before", "after"):
        study += [f"[arms.{arm}]", f'folder = "{arm}"']
        if program.packages:
            where = folder / "packages" / f"{arm:_<6}" / "site-packages"
            study.append(f'environment.PYTHONPATH = "{where}"')
    study += ["[workloads.day]", f'command = "{sys.executable} main.py"', ""]
    file = folder / "bystander.toml"
    file.write_text("\n".join(study), encoding="utf-8")
    return file
