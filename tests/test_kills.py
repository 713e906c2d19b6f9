"""Killed at random moments: the archive opens, no ended trial is missing or doubled, nothing runs on.

BYSTANDER_KILLS says how often (30 in the long form, `make campaign`).
"""

from __future__ import annotations

import os
import random
import signal
import sqlite3
import subprocess
import time
from collections import Counter
from pathlib import Path

import pytest
from conftest import PROGRAM, Running
from test_launcher import gone

KILLS = int(os.environ.get("BYSTANDER_KILLS", "3"))
STUDY = """
name = "kills"
blocks = 500
[arms.before]
folder = "."
settings.mark = "before"
[arms.after]
folder = "."
settings.mark = "after"
[workloads.w]
command = "sh -c 'sleep 0.00{{one}}; echo {{mark}} >> {log}; sleep 0.0071'"
settings.one = 1
"""


@pytest.mark.parametrize("seed", range(KILLS))
def test_a_kill_loses_no_trial_that_ended(tmp_path: Path, running: Running, seed: int) -> None:
    """Each trial notes itself in a file; the archive has all of them but the one or two that were on their way."""
    log = tmp_path / "log"
    (tmp_path / "bystander.toml").write_text(STUDY.format(log=log), encoding="utf-8")
    process = running()
    time.sleep(random.Random(seed).uniform(0.02, 1.2))
    process.send_signal(signal.SIGKILL)
    process.communicate(timeout=10)

    assert gone(str(log))
    noted = Counter(log.read_text(encoding="utf-8").split())
    rehearsed = 1  # each arm was tried once before the record was begun
    with sqlite3.connect(tmp_path / ".bystander" / "archive.sqlite") as connection:
        assert connection.execute("PRAGMA integrity_check").fetchone() == ("ok",)
        rows = connection.execute(
            "SELECT b.number, a.number, t.arm FROM trial t "
            "JOIN attempt a ON t.attempt_id = a.id JOIN block b ON a.block_id = b.id"
        ).fetchall()

    assert len(set(rows)) == len(rows)
    kept = Counter("before" if arm == 0 else "after" for *_, arm in rows)
    ended = sum(noted.values()) - 2 * rehearsed
    # The last one noted itself, but may have been killed, or have ended, before it was written down.
    assert ended - 1 <= sum(kept.values()) <= ended
    done = subprocess.run([str(PROGRAM), "decide", "--json"], cwd=tmp_path, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    assert '"complete": false' in done.stdout
