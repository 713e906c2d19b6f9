"""An observation that was interrupted is finished by the same plan; nothing that ended is lost or run twice."""

from __future__ import annotations

import os
import random
import shutil
import signal
import sqlite3
import subprocess
import time
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path

import pytest
from conftest import PROGRAM, Run, Running
from hypothesis import given, settings
from hypothesis import strategies as st
from test_launcher import gone

from bystander.archive import Archive
from bystander.design import (
    Arm,
    Command,
    MachineFacts,
    Status,
    Study,
    TrialOutcome,
    Workload,
    plan_rounds,
    workload_key,
)
from bystander.errors import UsageError
from bystander.field import ReadyCommand, StudyFolder
from bystander.flow.commands.observe import World, observe, resume
from bystander.flow.observer import Silent
from bystander.flow.trials.blocks import Clocks
from bystander.stats import planned_looks

KILLS = int(os.environ.get("BYSTANDER_KILLS", "3"))
MACHINE = MachineFacts(host="gull", processor="Tern", cores=2, boot_id="first")
STUDY = Study(
    "plan", (Arm("before", in_place=True), Arm("after", in_place=True), Arm("third", in_place=True)),
    (Workload("a", "a", Command("/bin/true"), weight=1.0), Workload("b", "b", Command("/bin/true x"))),
    blocks=4, seed=9,
)  # fmt: skip
KEYS, NAMES = [workload_key(w) for w in STUDY.workloads], [arm.name for arm in STUDY.arms]
PLAN = [(block.workload, block.number, block.order) for block in plan_rounds(9, KEYS, NAMES, STUDY.blocks)]
TRIALS = 3 * len(PLAN)
REHEARSED = 3 * len(STUDY.workloads)


class StandIn:
    """Runs nothing: every trial ends well at once, until the session's share of trials is used up."""

    def __init__(self, output: Path, trials: int) -> None:
        self.output = output
        self.marks = output.with_name("marks")
        output.touch()
        self.left = trials + REHEARSED

    def kill_at_once(self) -> None:
        """Nothing runs."""

    def run(self, command: ReadyCommand) -> TrialOutcome:
        """Return a trial, or interrupt."""
        if self.left == 0:
            raise KeyboardInterrupt
        self.left -= 1
        return TrialOutcome(Status.OK, 0, 1e9, 1.0, {"elapsed": 1.0, "cpu": 0.5})


def world(
    folder: Path, trials: int, machine: MachineFacts = MACHINE, offsets: Callable[[], float] = lambda: 0.0
) -> World:
    """Return a world in which a session ends after so many trials."""

    @contextmanager
    def launch(_lock: int, _interrupts: int) -> Iterator[StandIn]:
        yield StandIn(folder / "output", trials)

    return World(launch, Clocks(offset=offsets), lambda: machine)


def attempts(archive: Path) -> list[tuple[int, int, int, str, tuple[int, ...]]]:
    """Return (workload, block, attempt, state, arms in the order in which they ran), as they were begun."""
    with sqlite3.connect(archive) as connection:
        rows = connection.execute(
            "SELECT b.workload, b.number, a.number, a.state, group_concat(t.arm) FROM attempt a "
            "JOIN block b ON a.block_id = b.id JOIN (SELECT * FROM trial ORDER BY id) t ON t.attempt_id = a.id "
            "GROUP BY a.id ORDER BY a.id"
        ).fetchall()
    return [(*row[:4], tuple(int(arm) for arm in row[4].split(","))) for row in rows]


@given(st.lists(st.integers(0, TRIALS + 2), max_size=6))
@settings(max_examples=40)
def test_any_interruptions_give_the_plan_of_an_uninterrupted_run(
    tmp_path_factory: pytest.TempPathFactory, sessions: list[int]
) -> None:
    """Whole attempts are the plan, in its order and with its orders; void ones began as their successors did."""
    folder = tmp_path_factory.mktemp("resume")
    os.environ["BYSTANDER_LOCK"] = str(folder / "lock")
    archive, place = folder / "archive.sqlite", StudyFolder(folder)
    done = observe(STUDY, place, archive, os.environ, Silent(), world=world(folder, (sessions or [TRIALS])[0]))
    for trials in [*sessions[1:], TRIALS]:
        if not done.complete:
            done = resume(archive, None, os.environ, Silent(), world=world(folder, trials))
    found = attempts(archive)
    whole = [(w, b, order) for w, b, _, state, order in found if state == "whole"]
    orders = {(w, b): order for w, b, order in PLAN}

    assert done.complete
    assert whole == PLAN
    for w, b, number, state, order in found:
        assert orders[w, b][: len(order)] == order
        assert state == "whole" or (state == "void" and len(order) < 3)
        assert number == sum((w, b) == (x, y) for x, y, n, *_ in found if n < number)


def test_what_is_complete_or_imported_is_not_resumed(tmp_path: Path) -> None:
    """There is nothing to finish, and that is said."""
    archive = tmp_path / "a.sqlite"
    observe(STUDY, StudyFolder(tmp_path), archive, os.environ, Silent(), world=world(tmp_path, TRIALS))

    with pytest.raises(UsageError, match="nothing to resume"):
        resume(archive, None, os.environ, Silent(), world=world(tmp_path, TRIALS))


@pytest.mark.parametrize(
    ("change", "clause"),
    [
        ({"boot_id": "second"}, "started again since"),
        ({"host": "tern"}, "gull then, tern now"),
        ({"cores": 8}, "number of cores"),
    ],
)
def test_another_boot_or_machine_is_refused_unless_allowed(tmp_path: Path, change: dict, clause: str) -> None:
    """The reason is told; allowed by option, the record notes it and its blocks name their machines."""
    archive = tmp_path / "a.sqlite"
    observe(STUDY, StudyFolder(tmp_path), archive, os.environ, Silent(), world=world(tmp_path, 7))
    moved = world(tmp_path, TRIALS, replace(MACHINE, **change))
    with pytest.raises(UsageError, match=clause):
        resume(archive, None, os.environ, Silent(), world=moved)
    resume(archive, None, os.environ, Silent(), elsewhere=True, world=moved)
    with Archive(archive) as kept, sqlite3.connect(archive) as connection:
        assert any(clause in note for note in kept.head().notes)
        assert kept.head().complete
        assert connection.execute("SELECT COUNT(DISTINCT machine_id) FROM attempt").fetchone() == (2,)


def test_a_block_in_which_the_machine_slept_is_void_and_run_again(tmp_path: Path) -> None:
    """A gap between the clocks voids the block; it is kept, noted, and run again in the same order."""
    offsets = iter([0.0, 0.0, 0.0, 3600.0, *[3600.0] * 100])
    archive = tmp_path / "a.sqlite"
    done = observe(
        STUDY,
        StudyFolder(tmp_path),
        archive,
        os.environ,
        Silent(),
        world=world(tmp_path, 100, offsets=lambda: next(offsets)),
    )
    found = attempts(archive)
    void = [(w, b, order) for w, b, _, state, order in found if state == "void"]
    with Archive(archive) as kept:
        head, record = kept.head(), kept.load()

    assert done.complete
    assert void == PLAN[1:2]
    assert [(w, b, order) for w, b, _, state, order in found if state == "whole"] == PLAN
    assert any("the machine slept" in note for note in head.notes)
    assert len(record.trials) == TRIALS


def test_what_is_said_of_disturbed_blocks_is_so(tmp_path: Path) -> None:
    """Run again, taken as it was after three times; later ones are taken at once, and never said to have run again."""
    jumps = iter(range(0, 10**9, 3600))  # the clocks part at every look
    archive = tmp_path / "a.sqlite"
    observe(
        STUDY, StudyFolder(tmp_path), archive, os.environ, Silent(),
        world=world(tmp_path, 100, offsets=lambda: next(jumps)),
    )  # fmt: skip
    with Archive(archive) as kept:
        notes = [note for note in kept.head().notes if "block" in note.lower()]
    names = [workload.name for workload in STUDY.workloads]
    why = "the machine slept or its clock was set."

    for name in names:
        mine = [note for note in notes if f" of {name} " in note]
        first = mine[0].split()[1]
        assert mine == [
            f"Block {first} of {name} was run again: {why}",
            f"Block {first} of {name} was disturbed 3 times and is taken as it was: {why}",
            f"In all, {STUDY.blocks} blocks of {name} were disturbed so: {why}",
        ]
    found = [state for *_, state, _ in attempts(archive)]
    assert found.count("void") == 2 * len(names)


def test_an_arm_that_is_gone_or_changed_is_refused(tmp_path: Path, run: Run, running: Running) -> None:
    """A folder used where it lies must be as it was; a laid-out arm is used as it was laid out."""
    (tmp_path / "old").mkdir()
    (tmp_path / "old" / "f").write_text("1", encoding="utf-8")
    (tmp_path / "bystander.toml").write_text(
        'blocks = 3000\n[arms.before]\nfolder = "old"\n[arms.after]\nfolder = "old"\nsettings.x = 1\n'
        '[workloads.w]\ncommand = "sleep 0.005"\n',
        encoding="utf-8",
    )
    running().send_signal(signal.SIGKILL)
    time.sleep(0.3)
    (tmp_path / "old" / "f").write_text("2", encoding="utf-8")
    said = run("observe", "--resume", code=1).stderr
    assert "arm before is not what it was" in said
    shutil.rmtree(tmp_path / "old")
    assert run("observe", "--resume", code=1).stderr
    assert "does not apply" in run("observe", "--resume", "--blocks", "3", code=2).stderr
    assert "goes with --resume" in run("observe", "--elsewhere", code=2).stderr


def test_an_edited_working_tree_does_not_stand_in_the_way(
    tmp_path: Path, run: Run, git: Callable[..., str], running: Running
) -> None:
    """The snapshot is still there: the record is finished on the state that it began with."""
    (tmp_path / "word").write_text("ebb", encoding="utf-8")
    (tmp_path / "bystander.toml").write_text(
        'blocks = 400\n[arms.before]\nrevision = "HEAD"\n[arms.after]\n'
        '[workloads.w]\ncommand = "cat word"\nanswer = "output"\n',
        encoding="utf-8",
    )
    for words in (("init", "-q"), ("add", "-A"), ("commit", "-q", "-m", "x")):
        git(*words)
    process = running()
    time.sleep(0.15)
    process.send_signal(signal.SIGKILL)
    process.communicate()
    (tmp_path / "word").write_text("flood", encoding="utf-8")
    git("commit", "-q", "-a", "-m", "y")
    run("observe", "--resume", "--quiet")
    document = run("decide", "--json").stdout

    assert '"complete": true' in document
    assert "answer-differs" not in document


@pytest.mark.parametrize("seed", range(KILLS))
def test_killed_and_resumed_the_plan_is_completed(tmp_path: Path, run: Run, running: Running, seed: int) -> None:
    """SIGKILL at random moments, then --resume: every block whole once, up to a look, no trial doubled, none left."""
    rule = ("fixed", "looks")[seed % 2]
    chance = random.Random(1000 + seed)
    log = tmp_path.with_suffix(".log")  # outside: an arm whose folder changed is refused
    (tmp_path / "bystander.toml").write_text(
        f'blocks = 12\nstopping = "{rule}"\n[arms.before]\nsettings.n = 1\n[arms.after]\nsettings.n = 2\n'
        "[workloads.w]\n"
        f'command = "sh -c \'echo {{n}} >> {log}; sleep 0.01\'"\n',
        encoding="utf-8",
    )  # fmt: skip
    process = running()
    time.sleep(chance.uniform(0.0, 0.4))
    process.send_signal(signal.SIGKILL)
    process.communicate()
    assert gone(str(log))
    for _ in range(2):
        process = subprocess.Popen(
            [str(PROGRAM), "observe", "--resume"], cwd=tmp_path, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
        )
        time.sleep(chance.uniform(0.2, 1.5))
        process.send_signal(signal.SIGKILL)
        process.wait()
        assert gone(str(log))
    done = subprocess.run(
        [str(PROGRAM), "observe", "--resume"], cwd=tmp_path, capture_output=True, text=True, check=False
    )
    found = attempts(tmp_path / ".bystander" / "archive.sqlite")
    whole = Counter((w, b) for w, b, _, state, _ in found if state == "whole")

    assert done.returncode in (0, 2), done.stderr  # 2: an earlier session had finished it
    planned = (12,) if rule == "fixed" else planned_looks(12, 0.05).blocks
    assert len(whole) in planned
    assert whole == Counter({(0, b): 1 for b in range(len(whole))})
    assert all(len(order) == 2 for *_, state, order in found if state == "whole")
    assert '"complete": true' in run("decide", "--json").stdout
