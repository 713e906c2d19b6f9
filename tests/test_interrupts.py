"""However an observation is stopped: what ended is kept, nothing runs on, and the next command clears up."""

from __future__ import annotations

import fcntl
import os
import pty
import signal
import sqlite3
import struct
import subprocess
import tempfile
import termios
import time
from pathlib import Path

import pytest
from conftest import PROGRAM, Run, Running
from test_launcher import gone

from bystander.archive import Archive
from bystander.field.launching.scratch import remove_leftovers, scratch_folder

MARK = "sleep 0.0314"
STUDY = f"""
blocks = 4000
[arms.before]
settings.n = 1
[arms.after]
settings.n = 2
[workloads.w]
command = "{MARK}"
"""


@pytest.fixture
def long_study(tmp_path: Path) -> Path:
    """A study that would run for minutes."""
    (tmp_path / "bystander.toml").write_text(STUDY, encoding="utf-8")
    return tmp_path


def on_a_terminal(folder: Path) -> tuple[int, int]:
    """Start an observation as a terminal's foreground job; return its process and the terminal's other side."""
    process, terminal = pty.fork()
    if process == 0:
        os.chdir(folder)
        os.execv(PROGRAM, [str(PROGRAM), "observe"])
    fcntl.ioctl(terminal, termios.TIOCSWINSZ, struct.pack("HHHH", 40, 100, 0, 0))
    seen = b""
    while b"blocks" not in seen or b"precision" not in seen:
        seen += os.read(terminal, 4096)
    return process, terminal


def ended(process: int, seconds: float = 15) -> int:
    """Return the exit status of a process that ends soon."""
    stop = time.monotonic() + seconds
    while time.monotonic() < stop:
        pid, status = os.waitpid(process, os.WNOHANG)
        if pid:
            return status
        time.sleep(0.01)
    os.kill(process, signal.SIGKILL)
    raise AssertionError("it did not end")


def state(folder: Path) -> str:
    with Archive(folder / ".bystander" / "archive.sqlite") as archive:
        return archive.head().state


def test_ctrl_c_pressed_again_and_again_ends_it_once(long_study: Path) -> None:
    """The terminal sends SIGINT to the whole job; more of them while it ends change nothing."""
    process, terminal = on_a_terminal(long_study)
    for _ in range(3):
        os.write(terminal, b"\x03")
        time.sleep(0.002)
    said = b""
    try:
        while part := os.read(terminal, 4096):
            said += part
    except OSError:  # the other side is closed
        pass
    status = ended(process)
    os.close(terminal)

    assert os.waitstatus_to_exitcode(status) == 130
    assert b"is unfinished" in said
    assert b"Traceback" not in said
    assert state(long_study) == "interrupted"
    assert gone(MARK)


def test_a_closed_terminal_ends_it_tidily(long_study: Path) -> None:
    """Nobody can be told any more: the record is closed all the same, and nothing runs on."""
    process, terminal = on_a_terminal(long_study)
    os.close(terminal)
    ended(process)

    assert state(long_study) == "interrupted"
    assert gone(MARK)


@pytest.mark.parametrize("number", [signal.SIGTERM, signal.SIGHUP, signal.SIGINT])
def test_signals_that_ask_to_stop_end_it_tidily(long_study: Path, running: Running, number: int) -> None:
    """Each is exit 130 and a record that can be resumed."""
    process = running()
    process.send_signal(number)
    _, said = process.communicate(timeout=20)

    assert process.returncode == 130
    assert "is unfinished" in said
    assert state(long_study) == "interrupted"
    assert gone(MARK)


def test_what_a_killed_command_left_behind_is_cleared_by_the_next(
    long_study: Path, tmp_path: Path, run: Run, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Scratch folders of the dead go, those of the living stay; a half-made arm goes too."""
    scratch = tmp_path / "scratch"
    scratch.mkdir()
    monkeypatch.setenv("TMPDIR", str(scratch))
    killed = subprocess.Popen(
        [str(PROGRAM), "observe"], cwd=long_study, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
    )
    assert killed.stderr
    while not killed.stderr.readline().startswith("record "):
        pass
    killed.kill()
    killed.communicate()
    assert gone(MARK)
    left = list(scratch.iterdir())
    half = long_study / ".bystander" / "arms" / ("0" * 24)
    half.mkdir(parents=True)
    half.with_name(half.name + ".lock").touch()
    (scratch / "bystander-of-a-user").mkdir()
    monkeypatch.setattr(tempfile, "tempdir", str(scratch))
    with scratch_folder() as alive:
        run("check", "--study", str(long_study / "bystander.toml"))

        assert alive.is_dir()
    assert len(left) == 1
    assert [p.name for p in scratch.iterdir()] == ["bystander-of-a-user"]
    assert not half.exists()
    assert remove_leftovers() == 0


def test_power_may_fail_at_any_write(long_study: Path, tmp_path: Path, running: Running, run: Run) -> None:
    """Whatever part of the last writes reached the disk, the archive opens with whole trials, none twice.

    Commits are appended to the write-ahead log, so a power cut leaves some beginning of it, and perhaps a
    torn last page.
    """
    process = running()
    time.sleep(0.4)
    process.kill()
    process.communicate()
    archive = long_study / ".bystander" / "archive.sqlite"
    main, log = archive.read_bytes(), archive.with_name(archive.name + "-wal").read_bytes()
    page = 4096 + 24
    cuts = sorted({0, 10, 32, *range(32, len(log), max(1, len(log) // 60)), *range(32, len(log), 7 * page), len(log)})
    counts = []
    for cut in cuts:
        for torn in (b"", os.urandom(700)):
            there = tmp_path / "after.sqlite"
            for old in tmp_path.glob("after.sqlite*"):
                old.unlink()
            there.write_bytes(main)
            there.with_name(there.name + "-wal").write_bytes(log[:cut] + torn)
            with sqlite3.connect(there) as connection:
                assert connection.execute("PRAGMA integrity_check").fetchone() == ("ok",)
                if not connection.execute("SELECT COUNT(*) FROM sqlite_master").fetchone()[0]:
                    continue
                rows = connection.execute("SELECT attempt_id, arm FROM trial").fetchall()
            connection.close()
            assert len(rows) == len(set(rows))
            counts.append(len(rows))
    assert counts == sorted(counts)
    assert counts[-1] > 5

    run("records", "list", "--archive", str(tmp_path / "after.sqlite"))
