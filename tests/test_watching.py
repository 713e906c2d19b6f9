"""Looking into running programs from outside: what is seen agrees with what programs know of themselves."""

from __future__ import annotations

import json
import os
import random
import struct
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

import pytest
from interpreters import READ, interpreter

from bystander.design import Place, PlaceRow, Stacks, Status, TrialOutcome, Watched
from bystander.errors import UsageError
from bystander.evidence import place_table, stacks_of, sums_of
from bystander.field import Launcher, ReadyCommand, Watcher, found_way
from bystander.field.watching.clock_events import ClockEvents
from bystander.field.watching.line_tables import line_at
from bystander.field.watching.memory import Memory
from bystander.field.watching.paths import Paths
from bystander.field.watching.symbols import exported

PROGRAMS = Path(__file__).parent / "programs"
POINTS = 3.0  # of a hundred, between a place's share and what it is
needs_clock = pytest.mark.skipif(found_way().way != "clock", reason="the kernel's clock is not allowed here")


@dataclass(frozen=True)
class Seen:
    """What was seen of one trial."""

    outcome: TrialOutcome
    watched: Watched
    stacks: Stacks
    printed: str
    errors: str
    stolen_s: float

    @property
    def busy_s(self) -> float:
        """How long the main thread, followed, stood in the queue for a processor, or that was another machine's.

        So much less is known of it; clocks of programs do not count the latter, and the switches that are seen do.
        """
        table = place_table(sums_of([self.stacks], "elapsed"), [], "elapsed", "", "", "")
        return table.waits.get("a processor", 0.0) + self.stolen_s

    def rows(self, view: str = "elapsed") -> dict[str, PlaceRow]:
        """Return the places of a view by name, of one name the longest; marks of threads and children are left out."""
        rows = sorted(place_table(sums_of([self.stacks], view), [], view, "", "", "").rows, key=lambda row: row.whole_s)
        return {row.place.name: row for row in rows if row.place.kind not in ("thread", "child")}


@pytest.fixture(scope="module")
def launcher() -> Iterator[Launcher]:
    """One launcher for all trials."""
    with Launcher() as launched:
        yield launched


def _stolen_s() -> float:
    """Return for how long processors of this virtual machine were another one's, since it began."""
    fields = Path("/proc/stat").read_text(encoding="ascii").split("\n", 1)[0].split()
    return int(fields[8]) / os.sysconf("SC_CLK_TCK")


def watched(
    launcher: Launcher, words: Sequence[str], way: str = "clock", tick_us: int = 1000, limit_s: float = 60
) -> Seen:
    """Watch one trial."""
    watcher, stolen_s = Watcher(way, 1000 * tick_us), _stolen_s()
    environment = {"PATH": os.environ["PATH"], "PYTHONDONTWRITEBYTECODE": "1"}
    outcome = launcher.run(ReadyCommand(words[0], tuple(words), "/tmp", environment, limit_s), watcher)
    assert watcher.watched
    printed, errors = (file.read_text(encoding="utf-8") for file in (launcher.output, launcher.errors))
    stolen_s = _stolen_s() - stolen_s
    return Seen(outcome, watcher.watched, stacks_of(watcher.watched), printed, errors, stolen_s)


def python(version: str) -> str:
    """Return an interpreter, or skip the test."""
    return interpreter(version) or pytest.skip(f"there is no Python {version} here")


@pytest.mark.parametrize("version", READ)
def test_each_place_has_its_share(version: str, launcher: Launcher) -> None:
    """Parts of known lengths, built-ins, a wait, `sorted`, recursion, generators, tasks, threads, children."""
    seen = watched(launcher, [python(version), str(PROGRAMS / "accounts.py"), "30"], found_way().way)
    account, rows, busy_s = json.loads(seen.printed), seen.rows(), seen.busy_s
    assert seen.watched.interpreters[0] == version
    # What a child does before its program is kept apart: its start, and what it imports.
    own = {name: took for name, took in account.items() if name != "spawned"}
    points = {
        name: 100 * (rows[name].whole_s - took) / seen.outcome.took_s if name in rows else -100 * took
        for name, took in own.items()
    }

    assert seen.stacks.elapsed_ns.sum() == pytest.approx(seen.stacks.length_ns, rel=1e-4)  # none is lost
    most = POINTS + 100 * busy_s / seen.outcome.took_s
    assert {name: off for name, off in points.items() if abs(off) > most} == {}
    assert rows["nap"].whole_s == pytest.approx(account["nap"], abs=0.05 * account["nap"] + busy_s)
    for name in ("threaded", "forked"):
        assert rows[name].whole_s == pytest.approx(account[name], abs=0.05 * account[name] + 0.005 + busy_s)
    # Off the main thread: its waits for a processor are not in busy_s, but in what the program says that it took.
    waited_s = account["threaded"] + account["forked"] - 0.24
    assert seen.rows("processor")["crane"].whole_s == pytest.approx(0.36, abs=0.036 + waited_s + seen.stolen_s)
    assert 0.11 < rows["spawned"].whole_s < account["spawned"] + 0.002 + busy_s
    assert rows["turned"].whole_s <= rows["ordered"].whole_s + 0.002 + busy_s  # but for a reading in between
    assert rows["recursive"].whole_s < 1.5 * account["recursive"] + busy_s  # it counts once
    assert rows["releasing"].alone_s == pytest.approx(rows["releasing"].whole_s)  # a built-in stands with its caller


@pytest.mark.parametrize("way", ["user-clock", "timer"])
def test_each_way_sees_the_same(way: str, launcher: Launcher) -> None:
    """The fallbacks have fewer readings, and the same shares."""
    program = "import time\ndef most(): spin(0.45)\ndef rest(): spin(0.15)\n"
    program += "def spin(s):\n e = time.thread_time() + s\n while time.thread_time() < e: pass\n"
    program += "most(); rest(); time.sleep(0.2)\n"
    seen = watched(launcher, [python("3.12"), "-S", "-c", program], way)
    rows = seen.rows()

    assert seen.watched.way == way
    spent = seen.rows("processor")
    assert spent["most"].whole_s == pytest.approx(0.45, abs=0.03 + seen.stolen_s)
    assert spent["rest"].whole_s == pytest.approx(0.15, abs=0.03 + seen.stolen_s)
    assert rows["<module>"].alone_s == pytest.approx(0.2, abs=0.02 + seen.busy_s)
    assert rows["spin"].place.line == 4
    cpu_s = seen.outcome.readings["cpu"]
    assert seen.stacks.processor_ns.sum() / 1e9 == pytest.approx(cpu_s, abs=0.1 * cpu_s + seen.stolen_s)


def test_a_way_that_is_no_way_is_refused() -> None:
    """One sentence that names those that there are; each fallback says what is lost."""
    with pytest.raises(UsageError, match=r'--way: "sundial" is none; there are clock, user-clock, timer, counts'):
        found_way("sundial")
    for way in ("user-clock", "timer", "counts"):
        found = found_way(way)
        assert found.way == way
        assert found.sentence.endswith("(it was asked for).")
    assert found_way("timer").tick_ns(250_000) == 1_000_000


@needs_clock
@pytest.mark.parametrize("version", READ)
def test_threads_have_the_names_that_the_program_gave_them(version: str, launcher: Launcher) -> None:
    """Also where a class of its own sets attributes before and after, and letters are no ASCII."""
    program = """
import threading, time
class Mine(threading.Thread):
    def __init__(self):
        self.before = 1
        super().__init__(name="quay wörk")
        self.after = 2
    def run(self): spin()
def spin():
    end = time.thread_time() + 0.03
    while time.thread_time() < end: pass
threads = [threading.Thread(target=spin, name="harbour"), threading.Thread(target=spin), Mine()]
for thread in threads: thread.start()
for thread in threads: thread.join()
"""
    seen = watched(launcher, [python(version), "-S", "-c", program], tick_us=500)

    assert {task.name for task in seen.watched.tasks[1:]} == {"harbour", "Thread-1 (spin)", "quay wörk"}
    assert seen.rows("processor")["spin"].whole_s == pytest.approx(0.09, abs=0.03 + seen.stolen_s)


@needs_clock
def test_hostile_programs_are_watched_to_their_end(launcher: Launcher) -> None:
    """Recursion 9,000 deep, names of 10 kB with escapes, code that is freed, exec in the middle, many children."""
    program = r"""
import os, sys, time
def spin(s):
    end = time.time() + s
    while time.time() < end: pass
if len(sys.argv) > 1:
    spin(0.1)
    sys.exit()
sys.setrecursionlimit(20000)
def deep(n): return deep(n - 1) if n else spin(0.15)
deep(9000)
name = "f" + "_a" * 5000
exec(compile(f"def {name}(): spin(0.1)\n{name}()", "gone\x1b[31m\n" + "z" * 5000, "exec"), {"spin": spin})
end = time.time() + 0.1
k = 0
while time.time() < end:
    k += 1
    space = {}
    exec(f"def g{k % 9}(): return sum(range({k % 9}))", space)
    space[f"g{k % 9}"]()
for _ in range(60):
    child = os.fork()
    if not child: os._exit(0)
    os.waitpid(child, 0)
file = sys.orig_argv[sys.orig_argv.index("-c") + 1]
os.execv(sys.executable, [sys.executable, "-S", "-c", file, "again"])
"""
    seen = watched(launcher, [python("3.12"), "-S", "-c", program], tick_us=500)
    rows = seen.rows()

    assert seen.outcome.status is Status.OK, seen.errors
    assert rows["spin"].whole_s == pytest.approx(0.35, abs=0.06 + seen.busy_s)
    assert rows["deep"].whole_s == pytest.approx(0.15, abs=0.06 + seen.busy_s)
    assert rows["<module>"].whole_s > 0.4  # known to be outside of it, however deep
    long = [name for name in rows if name.startswith("f_a_a")]
    assert [len(name) for name in long] == [1001]
    assert len(seen.watched.tasks) == 61
    assert all(task.name for task in seen.watched.tasks)


@needs_clock
def test_five_hundred_threads_are_watched(launcher: Launcher) -> None:
    """Those that stand still cost nothing; they are one name."""
    program = """
import threading, time
def idle(): time.sleep(1.5)
threads = [threading.Thread(target=idle) for _ in range(500)]
for thread in threads: thread.start()
end = time.thread_time() + 0.3
while time.thread_time() < end: pass
for thread in threads: thread.join()
"""
    seen = watched(launcher, [python("3.12"), "-S", "-c", program], tick_us=1000)
    table = place_table(sums_of([seen.stacks], "elapsed"), [], "elapsed", "", "", "")

    assert [row.count for row in table.tasks if row.name == "Thread-N (idle)"] == [500]
    assert seen.rows()["<module>"].whole_s > 0.3
    assert table.waits["sleep"] > 0.2


@needs_clock
def test_what_may_not_be_read_is_said(launcher: Launcher) -> None:
    """A program of another user, an unknown version, one that is no Python: each is a program by its name."""
    seen = watched(launcher, ["/bin/sh", "-c", "i=0; while [ $i -lt 60000 ]; do i=$((i+1)); done; true"])
    assert list(seen.rows()) == ["sh"]
    assert seen.rows()["sh"].place.kind == "program"
    old = interpreter("3.10")
    if old:
        seen = watched(launcher, [old, "-S", "-c", "for i in range(2000000): pass"])
        said = "a Python older than 3.11; frames are read of 3.11 to 3.13, calls are counted all the same"
        assert list(seen.watched.problems) == [f"{Path(old).resolve().name[:15]}: {said}"]
    if os.geteuid() == 0:
        script = "import os, time\nos.setuid(65534)\nend = time.time() + 0.2\nwhile time.time() < end: pass"
        words = ["/usr/bin/setpriv", "--reuid=65533", "--clear-groups", python("3.12"), "-S", "-c", script]
        seen = watched(launcher, words) if Path(words[0]).exists() else seen
        assert seen.outcome.took_s > 0


@needs_clock
def test_a_trial_that_is_cut_keeps_its_view(launcher: Launcher) -> None:
    """What was seen until then is whole."""
    seen = watched(launcher, [python("3.12"), "-S", "-c", "while True: pass"], limit_s=0.3)

    assert seen.outcome.status is Status.CUT
    assert 0.1 < seen.rows()["<module>"].whole_s < 0.4


@needs_clock
def test_the_kernel_is_asked_for_what_is_known_only() -> None:
    """An event for a process that is not there is an error, and nothing stays open."""
    before = len(list(Path("/proc/self/fd").iterdir()))
    with pytest.raises(OSError, match="No such process"):
        ClockEvents(2**22 - 3, 1_000_000)

    assert len(list(Path("/proc/self/fd").iterdir())) == before


@needs_clock
def test_whatever_is_read_nothing_breaks(launcher: Launcher, monkeypatch: pytest.MonkeyPatch) -> None:
    """A fifth of all that is read holds other bytes: torn readings are counted, the rest is shown."""
    rng, plain = random.Random(7), Memory.read

    def spoilt(self: Memory, address: int, size: int) -> memoryview:
        view = plain(self, address, size)
        if rng.random() < 0.2:
            begin = rng.randrange(size)
            for at in range(begin, min(size, begin + rng.randint(1, 8))):
                view[at] = rng.choice((0, 255, rng.randrange(256)))
        return view

    monkeypatch.setattr(Memory, "read", spoilt)
    seen = watched(launcher, [python("3.12"), "-S", str(PROGRAMS / "accounts.py"), "10"], tick_us=500)

    assert seen.outcome.status is Status.OK
    assert seen.watched.torn > 50
    assert sum(seen.stacks.elapsed_ns) == pytest.approx(seen.stacks.length_ns, rel=0.001)
    assert seen.rows()


def test_a_line_that_no_file_has_leaves_paths_whole() -> None:
    """A table that was read while it changed may tell any number."""
    paths = Paths()
    outer = paths.node(-1, paths.place(Place("python", "f")), 1)
    with pytest.raises(OverflowError):
        paths.node(outer, 0, 1 << 70)

    assert [column.tolist() for column in paths.columns()] == [[-1], [0], [1]]
    assert paths.node(outer, 0, 2) == 1


def test_exported_names_are_found_where_the_file_has_them(tmp_path: Path) -> None:
    """As the interpreter itself tells by its loader; a file that is no ELF has none."""
    import ctypes

    program = Path(os.path.realpath(python("3.12")))
    files = [program, *program.parents[1].glob("lib/libpython3.12.so*")]  # it may be in a library
    asked = [exported(file, ("_PyRuntime", "Py_Version", "there_is_no_such")) for file in files]
    found = next(one for one in asked if one and one.addresses)
    assert set(found.addresses) == {"_PyRuntime", "Py_Version"}
    assert struct.unpack_from("<I", found.contents["Py_Version"])[0] >> 16 == 0x30C
    own = Path("/proc/self/exe").resolve()
    here = exported(own, ("Py_Version",))
    if here and here.movable and here.addresses:
        begin = min(
            int(line.split("-")[0], 16) for line in Path("/proc/self/maps").read_text().splitlines() if str(own) in line
        )
        address = ctypes.addressof(ctypes.c_uint32.in_dll(ctypes.pythonapi, "Py_Version"))
        assert begin + here.addresses["Py_Version"] == address
    file = tmp_path / "no.elf"
    for data in (b"", b"\x7fELF\x02\x01" + b"\xff" * 200, b"#!/bin/sh\n"):
        file.write_bytes(data)
        assert exported(file, ("_PyRuntime",)) is None
        file.unlink()
    assert exported(tmp_path / "gone", ("_PyRuntime",)) is None


def test_lines_of_instructions_are_what_the_interpreter_says() -> None:
    """For every instruction of some large modules of the standard library."""
    import argparse
    import inspect
    from types import CodeType

    def codes(code: CodeType) -> Iterator[CodeType]:
        yield code
        for one in code.co_consts:
            if isinstance(one, CodeType):
                yield from codes(one)

    checked = 0
    for module in (argparse,):
        for code in codes(compile(inspect.getsource(module), "file", "exec")):
            for begin, end, line in code.co_lines():
                if line is not None:
                    assert line_at(code.co_linetable, code.co_firstlineno, begin) == line
                    assert line_at(code.co_linetable, code.co_firstlineno, end - 2) == line
                    checked += 1
    assert checked > 2000
    assert line_at(b"", 7, 0) == 7
    assert line_at(b"\xf8\xf0", 7, 900) == 7
