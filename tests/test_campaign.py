"""What befalls an observation from outside: its launcher is killed or stopped, its disk fills, its archive goes away.

BYSTANDER_ROUNDS says how often (30 in the long form, `make campaign`).
"""

from __future__ import annotations

import os
import random
import re
import shlex
import shutil
import signal
import subprocess
import time
from collections import Counter
from pathlib import Path

import pytest
from conftest import PROGRAM, Run, Running
from test_launcher import gone

from bystander.archive import Archive
from bystander.design import Record

ROUNDS = int(os.environ.get("BYSTANDER_ROUNDS", "1"))
STUDY = """
name = "campaign"
blocks = {blocks}
stopping = "fixed"
seed = 5
[arms.before]
folder = "."
[arms.after]
folder = "."
environment.TZ = "UTC"
[workloads.w]
command = "sleep {sleep}"
limit = "5 s"
"""


def begin(folder: Path, running: Running, blocks: int = 25, sleep: float = 0.031) -> subprocess.Popen[str]:
    (folder / "bystander.toml").write_text(STUDY.format(blocks=blocks, sleep=sleep), encoding="utf-8")
    return running()


def launcher_of(process: subprocess.Popen[str]) -> int:
    """Return the launcher's process: the child of an observation that runs our file."""
    stop = time.monotonic() + 5
    while time.monotonic() < stop:
        for entry in Path("/proc").glob("[0-9]*"):
            try:
                parent = int((entry / "stat").read_text(errors="replace").rsplit(")", 1)[1].split()[1])
                if parent == process.pid and b"inside/launcher.py" in (entry / "cmdline").read_bytes():
                    return int(entry.name)
            except (OSError, IndexError):
                continue
    raise AssertionError("there is no launcher")


def kept(folder: Path, name: str = "archive.sqlite") -> Record:
    with Archive(folder / ".bystander" / name) as archive:
        return archive.load()


def whole(record: Record, blocks: int) -> bool:
    """Whether each block has each arm exactly once."""
    trials = record.trials
    places = Counter(zip(trials.block.tolist(), trials.arm.tolist(), strict=True))
    return places == Counter({(block, arm): 1 for block in range(blocks) for arm in (0, 1)})


@pytest.mark.parametrize("seed", range(ROUNDS))
def test_launchers_that_are_killed_and_stopped_are_replaced(tmp_path: Path, running: Running, seed: int) -> None:
    """At random moments, several times: the plan is completed, no trial failed, and what happened is told."""
    draw = random.Random(seed)
    process = begin(tmp_path, running)
    killed = 0
    for _ in range(2):  # a block that is disturbed three times is taken as it is
        time.sleep(draw.uniform(0.02, 0.3))
        how = draw.choice((signal.SIGKILL, signal.SIGSTOP, signal.SIGTERM))
        try:
            os.kill(launcher_of(process), how)
            killed += 1
        except (AssertionError, ProcessLookupError):
            break
    said = process.communicate(timeout=60)
    record = kept(tmp_path)

    assert process.returncode == 0, said
    assert killed
    assert whole(record, 25)
    assert not record.trials.failed.any()
    # One that was stopped between two blocks, or killed after the last trial, disturbed none.
    assert all("was run again: the launcher" in note for note in record.head.notes if "run again" in note)
    assert gone(f"{tmp_path}")


@pytest.mark.parametrize("seed", range(ROUNDS))
def test_two_that_resume_one_record_at_once_run_it_once(tmp_path: Path, running: Running, run: Run, seed: int) -> None:
    """One goes on, the other is told that the machine is busy or that there is nothing left."""
    process = begin(tmp_path, running, blocks=12)
    time.sleep(random.Random(seed).uniform(0.05, 0.4))
    process.send_signal(signal.SIGKILL)
    process.communicate(timeout=10)
    words = [str(PROGRAM), "observe", "--resume", "--quiet"]
    both = [
        subprocess.Popen(words, cwd=tmp_path, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
        for _ in range(2)
    ]
    said = [one.communicate(timeout=60)[1] for one in both]
    codes = sorted(one.returncode for one in both)

    assert codes[0] == 0
    assert codes[1] in (0, 1, 2), said
    assert "Traceback" not in "".join(said)
    assert whole(kept(tmp_path), 12)


@pytest.mark.parametrize("replaced", [False, True])
def test_an_archive_that_is_removed_is_noticed_and_saved(
    tmp_path: Path, running: Running, run: Run, replaced: bool
) -> None:
    """Within a block: the observation ends, and what it held is saved beside it, to be gone on with."""
    process = begin(tmp_path, running)
    time.sleep(0.5)
    if replaced:
        (tmp_path / ".bystander" / "archive.sqlite").rename(tmp_path.with_suffix(".moved"))  # not within the arm
        (tmp_path / ".bystander" / "archive.sqlite").touch()
    else:
        shutil.rmtree(tmp_path / ".bystander")
    begun = time.monotonic()
    _, said = process.communicate(timeout=30)
    record = kept(tmp_path, "archive.sqlite.saved")

    told = " ".join(said.split())
    goes_on = re.search(r"and bystander (observe --resume .*) goes on with it", told)

    assert process.returncode == 1
    assert time.monotonic() - begun < 5
    assert "was removed or replaced while trials were written into it; what it held is saved in" in told
    assert len(record.trials) > 3
    assert goes_on
    run(*shlex.split(goes_on[1]), "--quiet")
    assert whole(kept(tmp_path, "archive.sqlite.saved"), 25)


@pytest.mark.skipif(os.geteuid() != 0, reason="mounting needs root")
def test_a_disk_that_becomes_read_only_ends_it_with_one_sentence(
    tmp_path: Path, running: Running, run: Run, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What ended is kept, and with the disk as it was, --resume finishes."""
    disk = tmp_path / "disk"
    disk.mkdir()
    if subprocess.run(["mount", "-t", "tmpfs", "-o", "size=64m", "none", str(disk)], check=False).returncode:
        pytest.skip("nothing can be mounted here")
    try:
        monkeypatch.setenv("BYSTANDER_ARCHIVE", str(disk / "archive.sqlite"))
        process = begin(tmp_path, running)
        time.sleep(0.4)
        # A file that is open for writing keeps a disk from becoming read-only; so it is full for everybody instead.
        with (disk / "full").open("wb") as full:
            try:
                while True:
                    full.write(b"x" * 2**20)
            except OSError:
                pass
        _, said = process.communicate(timeout=30)
        code = process.returncode
        (disk / "full").unlink()
        run("observe", "--resume", "--quiet")
        with Archive(disk / "archive.sqlite") as archive:
            record = archive.load()
        subprocess.run(["mount", "-o", "remount,ro", str(disk)], check=True)
        refused = run("observe", "--quiet", code=1).stderr
        shown = run("decide").stdout
    finally:
        subprocess.run(["umount", "-l", str(disk)], check=True)

    assert code == 1
    assert "Traceback" not in said
    assert "bystander: " in said
    assert whole(record, 25)
    assert "read-only" in refused.lower()
    assert "campaign" in shown
