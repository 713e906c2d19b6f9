"""What watching costs the program, in slices within one process; how well shares hold; leads of a million readings."""

from __future__ import annotations

import fcntl
import random
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from common import BYSTANDER, CALM, tell

from bystander.archive import Archive
from bystander.design import INSPECTED, PYTHON, ArmState, MachineFacts, Place, Run, Stacks, State, Task, Whose
from bystander.evidence import STACKS_KIND, packed
from bystander.field import Launcher, ReadyCommand, Watcher
from bystander.flow.places import load_study
from bystander.flow.quick.studies import one_command_study
from bystander.flow.sessions.heads import begun_head

ENABLE, DISABLE = 0x2400, 0x2401  # of an event and those of its children, see perf_event_open(2)
SLICES = """
import sys, time
def slice():
    x = 0
    for k in range(60000):
        x += k * k
    return x
for _ in range(int(sys.argv[1])):
    begun = time.thread_time_ns()
    slice()
    print(time.monotonic_ns(), time.thread_time_ns() - begun)
"""


class Switching(Watcher):
    """Watches, and has neither ticks nor readings by turns; keeps when it did what."""

    def __init__(self, tick_ns: int) -> None:
        super().__init__("clock", tick_ns)
        self.stretches: list[tuple[int, bool]] = []
        self._rng = random.Random(1)
        self._until = 0

    def step(self) -> None:
        """Look, or not, as the turn is."""
        now = time.monotonic_ns()
        if now >= self._until:
            looking = not self.stretches or not self.stretches[-1][1]
            self.stretches.append((now, looking))
            self._until = now + int(2e8 * self._rng.uniform(0.7, 1.3))
            for fd in self.fds:
                fcntl.ioctl(fd, ENABLE if looking else DISABLE)
        if self.stretches[-1][1]:
            super().step()
        else:
            time.sleep(0.005)


def cost(tick_us: int) -> float:
    """Return CPU time of slices while the recorder reads, over that of slices of the same process while it does not."""
    watcher = Switching(1000 * tick_us)
    with Launcher() as launcher:
        words = (sys.executable, "-c", SLICES, "3000")
        launcher.run(ReadyCommand(sys.executable, words, "/tmp", dict(CALM), 300.0), watcher)
        lines = [tuple(map(int, line.split())) for line in launcher.output.read_text().splitlines()]
    bounds = [at for at, _ in watcher.stretches]
    turns: dict[int, list[int]] = {}
    for at, took in lines:
        turn = int(np.searchsorted(bounds, at, "right")) - 1
        if turn >= 0 and at - bounds[turn] > 2e7:  # not across a change
            turns.setdefault(turn, []).append(took)
    middles = {turn: statistics.median(values) for turn, values in turns.items() if len(values) > 3}
    ratios = [
        middles[turn] / statistics.mean([middles[turn - 1], middles[turn + 1]])
        for turn in middles
        if watcher.stretches[turn][1] and turn - 1 in middles and turn + 1 in middles
    ]
    return statistics.median(ratios)


def stacks_of_places(count: int, seed: int, root: str) -> tuple[Stacks, dict[str, Any]]:
    """Return a trial of so many readings of 5,000 places on 20,000 paths, and its summary."""
    rng = np.random.default_rng(seed)
    nodes, places = 20_000, 5_000
    parent = np.concatenate([[-1], np.random.default_rng(1).integers(0, np.arange(1, nodes))]).astype(np.int64)
    node = rng.integers(0, nodes, count)
    each = np.full(count, 1_000_000)
    zeros = np.zeros(count, dtype=np.int64)
    at = np.arange(count) * 1_000_000
    stacks = Stacks(
        tuple(Place(PYTHON, f"place_{k}", f"{root}/part_{k % 50}.py", k) for k in range(places)),
        (Task(1, 1, 0, "python", 0, count * 1_000_000),),
        parent, np.arange(nodes) % places, np.ones(nodes, dtype=np.int64),
        at, zeros, node, each, zeros, zeros, zeros, np.arange(nodes), np.zeros(nodes, dtype=np.int64),
        np.full(nodes, -1), np.bincount(node, each, nodes).astype(np.int64), count * 1_000_000, 1_000_000,
    )  # fmt: skip
    summary = {
        "block": 0, "way": "clock", "tick_s": 1e-3, "status": "ok", "elapsed_s": 1000.0, "readings": count,
        "ticks": count, "missed": 0, "torn": 0, "lost": 0, "problems": {}, "unwatched_s": None, "interpreters": [],
        "items": {}, "said": "", "answer": "",
    }  # fmt: skip
    return stacks, summary


def million(folder: Path) -> Path:
    """Return an archive with an inspection of 1,000,000 readings of 5,000 places."""
    stacks, summary = stacks_of_places(1_000_000, 1, "/office")
    study, home = one_command_study(["true"], folder)
    head = begun_head(study, home, (ArmState("now", str(folder), "", "made up"),), MachineFacts(), time.time())
    path = folder / "archive.sqlite"
    with Archive(path, create=True) as kept:
        writer, name = kept.begin(head)
        writer.finish(State.COMPLETE)
        options = {"workload": 0, "arm": 0}
        run = kept.begin_run(kept.head(name), Run(1, INSPECTED, options=options, machine=1), MachineFacts())
        run.evidence(Whose(1, 0, 0), [packed(STACKS_KIND, stacks, summary)])
        run.finish(State.COMPLETE)
    return path


def million_side_by_side(folder: Path) -> Path:
    """Return an archive with an inspection of two states: 12 blocks, 1,000,000 readings in all."""
    (folder / "bystander.toml").write_text(
        'name = "two"\n[arms.before]\nfolder = "."\n[arms.after]\nfolder = "."\n[workloads.day]\ncommand = "true"\n',
        encoding="utf-8",
    )
    study, home = load_study(folder / "bystander.toml", folder)
    arms = tuple(ArmState(name, name, f"/arms/{name}", "made up") for name in ("before", "after"))
    head = begun_head(replace(study, seed=1), home, arms, MachineFacts(), time.time(), only_inspected=True)
    path = folder / "both.sqlite"
    with Archive(path, create=True) as kept:
        writer, name = kept.begin(head)
        writer.finish(State.COMPLETE)
        options = {"workload": 0, "arm": 1, "against": 0}
        run = kept.begin_run(kept.head(name), Run(1, INSPECTED, options=options, machine=1), MachineFacts())
        for block in range(12):
            for arm in (0, 1):
                stacks, summary = stacks_of_places(1_000_000 // 24, 2 * block + arm, arms[arm].folder)
                run.evidence(Whose(1, 0, arm), [packed(STACKS_KIND, stacks, {**summary, "block": block})])
        run.finish(State.COMPLETE)
    return path


def used(words: Sequence[str], folder: Path) -> tuple[float, float]:
    """Return CPU seconds and the most memory, in MiB, of a command, in a process that has no other child."""
    code = (
        "import resource, subprocess, sys\nsubprocess.run(sys.argv[1:], check=True, stdout=subprocess.DEVNULL)\n"
        "used = resource.getrusage(resource.RUSAGE_CHILDREN)\nprint(used.ru_utime + used.ru_stime, used.ru_maxrss)"
    )
    done = subprocess.run(
        [sys.executable, "-c", code, *words], env=CALM, cwd=folder, capture_output=True, text=True, check=True
    )
    seconds, kib = done.stdout.split()
    return float(seconds), float(kib) / 1024


def main() -> None:
    """Print the figures."""
    for tick_us in (1000, 250):
        wanted = "at most 1.03" if tick_us == 1000 else "-"
        tell(f"CPU time of slices while they are watched, tick {tick_us} us", cost(tick_us), "times", wanted)
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch)
        path = million(folder)
        modules = "bystander.flow.commands.leads, bystander.cli.shown.inside.places, bystander.cli.inside"
        imports = min(used([sys.executable, "-c", f"import {modules}"], folder)[0] for _ in range(3))
        runs = [used([BYSTANDER, "leads", "--archive", str(path)], folder) for _ in range(3)]
        tell("leads of 1,000,000 readings, 20,000 paths, 5,000 places: CPU", min(cpu for cpu, _ in runs), "s", "-")
        tell("of which beyond imports", min(cpu for cpu, _ in runs) - imports, "s", "under 2")
        tell("its most memory", max(memory for _, memory in runs), "MiB", "under 300")
        path = million_side_by_side(folder)
        runs = [used([BYSTANDER, "leads", "--archive", str(path)], folder) for _ in range(3)]
        what = "leads of two states, 12 blocks, 1,000,000 readings, 5,000 places: CPU beyond imports"
        tell(what, min(cpu for cpu, _ in runs) - imports, "s", "under 3")
        tell("its most memory", max(memory for _, memory in runs), "MiB", "under 500")


if __name__ == "__main__":
    main()
