"""Where records are from: what is somebody else's is never run, nothing counts twice, nothing is hidden."""

from __future__ import annotations

import json
import os
import re
import shlex
import shutil
import signal
import sqlite3
import subprocess
import time
from contextlib import closing
from pathlib import Path

import pytest
from conftest import PROGRAM, Run, Running

from bystander.archive import Archive
from bystander.design import Arm, Command, Study, Workload, workload_name
from bystander.design.studies.names import renamed
from bystander.errors import ArchiveError

SLOW = """
name = "kept apart"
blocks = 30
stopping = "fixed"
[arms.a]
[arms.b]
settings.n = 2
[workloads.w]
command = "sleep 0.1"
"""


def interrupted(running: Running, tmp_path: Path, text: str = SLOW, seconds: float = 0.8) -> None:
    """Leave a record that was interrupted after some blocks."""
    (tmp_path / "bystander.toml").write_text(text, encoding="utf-8")
    process = running()
    time.sleep(seconds)
    process.send_signal(signal.SIGINT)
    process.communicate(timeout=30)
    assert process.returncode == 130


def attempts(archive: Path) -> list[tuple[int, int]]:
    """Return block and number of every whole attempt."""
    with closing(sqlite3.connect(archive)) as connection:
        query = (
            "SELECT block.number, attempt.number FROM attempt JOIN block ON block_id = block.id WHERE state = 'whole'"
        )
        return connection.execute(query).fetchall()


def test_a_record_that_somebody_finishes_is_not_run_twice(run: Run, running: Running, tmp_path: Path) -> None:
    """Resumed in one shell and, waiting, in another: the second finds it complete, and every block ran once."""
    interrupted(running, tmp_path)
    environment = {**os.environ, "NO_COLOR": "1"}
    lock = Path(os.environ["BYSTANDER_LOCK"])
    resuming = []
    for words in ((), ("--wait",)):
        resuming.append(
            subprocess.Popen(
                [str(PROGRAM), "observe", "--resume", *words], cwd=tmp_path, env=environment, text=True,
                stdout=subprocess.PIPE, stderr=subprocess.PIPE,
            )
        )  # fmt: skip
        stop = time.monotonic() + 20
        while not words and f'"process": {resuming[0].pid},' not in lock.read_text() and time.monotonic() < stop:
            time.sleep(0.02)  # the first holds the machine before the second begins, however slowly it starts
    said = [process.communicate(timeout=60)[1] for process in resuming]
    blocks = [block for block, _ in attempts(tmp_path / ".bystander" / "archive.sqlite")]

    assert [process.returncode for process in resuming] == [0, 2]
    assert "waiting for its end" in said[1]
    assert "is complete; there is nothing to resume" in said[1]
    assert sorted(blocks) == list(range(30))
    assert "30" in run("records", "show").stdout


AS_OF_4 = """
DROP INDEX whole_attempt; DROP INDEX trial_of_arm;
DROP TRIGGER run_has_record; DROP TRIGGER block_has_run; DROP TRIGGER attempt_has_block; DROP TRIGGER trial_has_attempt;
CREATE TABLE b (id INTEGER PRIMARY KEY, record_id INTEGER NOT NULL, workload INTEGER NOT NULL, number INTEGER NOT NULL,
                UNIQUE (record_id, workload, number));
INSERT INTO b SELECT id, record_id, workload, number FROM block; DROP TABLE block; ALTER TABLE b RENAME TO block;
CREATE TABLE l (id INTEGER PRIMARY KEY, record_id INTEGER NOT NULL, workload INTEGER NOT NULL, arm INTEGER NOT NULL,
                blocks INTEGER NOT NULL, level FLOAT NOT NULL, outcome VARCHAR NOT NULL);
INSERT INTO l SELECT id, record_id, workload, arm, blocks, level, outcome FROM look; DROP TABLE look;
ALTER TABLE l RENAME TO look;
DROP TABLE run; DROP TABLE evidence; DROP TABLE ended_early;
CREATE TABLE timeline (id INTEGER PRIMARY KEY, record_id INTEGER NOT NULL, trial_id INTEGER UNIQUE, array_id INTEGER,
                       array_row INTEGER, summary TEXT NOT NULL, phases BLOB NOT NULL);
UPDATE migration SET number = 4;
"""


def doubled(path: Path) -> None:
    """Make a file as two observations of one record left it: as of schema 4, blocks whole twice, a trial of nothing."""
    with closing(sqlite3.connect(path)) as connection:
        connection.executescript(AS_OF_4)
        connection.execute(
            "INSERT INTO attempt (block_id, number, machine_id, state) "
            "SELECT block_id, 1, machine_id, 'whole' FROM attempt WHERE block_id <= 3"
        )
        columns = 'arm, "order", status, detail, left_behind, readings'
        connection.execute(
            f"INSERT INTO trial (attempt_id, {columns}) SELECT again.id, {columns} FROM trial JOIN attempt ON "
            "attempt.id = trial.attempt_id JOIN attempt AS again "
            "ON again.block_id = attempt.block_id AND again.number = 1"
        )
        connection.execute(
            f"INSERT INTO trial (attempt_id, {columns}) SELECT attempt_id, {columns} FROM trial WHERE id = 9"
        )
        connection.execute(f"INSERT INTO trial (attempt_id, {columns}) SELECT 999, {columns} FROM trial WHERE id = 9")
        connection.commit()


def test_the_file_itself_refuses_doubles_and_mend_cures_them(run: Run, study: Path, tmp_path: Path) -> None:
    """Two whole attempts of a block, two trials of an arm, a trial of nothing: refused when written, told, cured."""
    run("observe", "--quiet", "--fixed", "7")
    archive = tmp_path / ".bystander" / "archive.sqlite"
    before = json.loads(run("decide", "--json").stdout)
    refused = [
        "INSERT INTO attempt (block_id, number, machine_id, state) VALUES (1, 1, 1, 'whole')",
        "INSERT INTO attempt (block_id, number, machine_id, state) VALUES (999, 0, 1, 'open')",
        *(
            'INSERT INTO trial (attempt_id, arm, "order", status, detail, left_behind, readings) '
            f"VALUES ({attempt}, 0, 0, 0, 0, 0, x'')"
            for attempt in (1, 999)
        ),
    ]
    with closing(sqlite3.connect(archive)) as connection:
        for statement in refused:
            with pytest.raises(sqlite3.IntegrityError):
                connection.execute(statement)
    doubled(archive)
    for words in (("decide",), ("records", "list"), ("observe", "--quiet")):
        told = re.search(r"bystander (records mend .*) saves each of them once", run(*words, code=1).stderr)
        assert told
    said = run(*shlex.split(told[1])).stdout
    after = json.loads(run("decide", "--json", "--archive", "mended.sqlite").stdout)

    assert "7 trials of blocks that ran twice are kept and do not count." in said
    assert "1 row belonged to nothing any more" in said
    assert after["results"] == before["results"]
    run("records", "export", "--to", "r.json", "--archive", "mended.sqlite")
    run("records", "import", "r.json", "--archive", "other.sqlite")
    assert json.loads(run("decide", "--json", "--archive", "other.sqlite").stdout)["results"] == before["results"]


@pytest.mark.parametrize("way", ["imported", "mended"])
def test_what_is_somebody_elses_is_never_run(run: Run, running: Running, tmp_path: Path, way: str) -> None:
    """An interrupted record that was imported or mended is decided and shown, and never taken up: exit 2."""
    trace = tmp_path.with_suffix(".trace")
    interrupted(running, tmp_path, SLOW.replace("sleep 0.1", f"sh -c 'echo ran >> {trace}; sleep 0.1'"))
    if way == "imported":
        run("records", "export", "--to", "r.json")
        run("records", "import", "r.json", "--archive", "other.sqlite")
    else:
        run("records", "mend", "--to", "other.sqlite")
    ran = trace.read_text(encoding="utf-8")
    for words in (("observe", "--resume"), ("observe", "--resume", "kept-apart-1")):
        said = run(*words, "--archive", "other.sqlite", code=2).stderr
        assert f"record kept-apart-1 was {way}, and what was {way} is never run" in said
        assert len(said.strip().splitlines()) == 1
    told = run("decide", "--archive", "other.sqlite").stdout
    shown = run("records", "show", "--archive", "other.sqlite").stdout

    assert f", {way} here since" in shown
    assert trace.read_text(encoding="utf-8") == ran
    assert "--resume" not in told
    assert "not finished" in told
    assert "--resume" in run("decide").stdout  # its own archive may


@pytest.mark.skipif(os.geteuid() != 0, reason="mounting needs root")
def test_a_killed_observation_is_read_where_nothing_can_be_written(run: Run, running: Running, tmp_path: Path) -> None:
    """Its trials are still in the log beside the archive: a private copy is read, and not one of them is missing."""
    (tmp_path / "bystander.toml").write_text(SLOW, encoding="utf-8")
    process = running()
    time.sleep(2.0)
    process.kill()
    process.wait()
    locked = tmp_path / "locked"
    shutil.copytree(tmp_path / ".bystander", locked / ".bystander", ignore=shutil.ignore_patterns("arms"))
    log = locked / ".bystander" / "archive.sqlite-wal"
    assert log.stat().st_size > 0
    if subprocess.run(["mount", "--bind", str(locked), str(locked)], check=False).returncode:
        pytest.skip("nothing can be mounted here")
    try:
        subprocess.run(["mount", "-o", "remount,bind,ro", str(locked)], check=True)
        there = json.loads(run("records", "show", "--json", cwd=locked).stdout)
        listed = run("records", "list", cwd=locked).stdout
    finally:
        subprocess.run(["umount", str(locked)], check=True)

    assert there["trials"] == json.loads(run("records", "show", "--json").stdout)["trials"] >= 4
    assert "kept-apart-1" in listed
    assert not [folder for folder in Path("/tmp").glob("bystander-*") if (folder / "archive.sqlite").exists()]


def test_a_path_too_long_for_the_database_is_told(run: Run, tmp_path: Path) -> None:
    """One sentence with its length, before anything runs; a path just short enough works."""
    deep = tmp_path / ("d" * 200) / ("e" * 200)
    deep.mkdir(parents=True)
    far = deep / ("f" * 80)
    said = run("observe", "--archive", str(far / "a.sqlite"), "--quiet", "--", "true", code=1).stderr
    room = 500 - len(str(deep)) - 1

    assert "too long for its database" in said
    assert "--archive names a shorter one" in said
    if room > 10:
        with Archive(deep / ("g" * (room - 7) + ".sqlite"), create=True) as archive:
            assert archive.heads() == []
        with pytest.raises(ArchiveError, match="too long"):
            Archive(deep / ("g" * (room - 6) + ".sqlite"), create=True)


def test_names_hold_their_inputs_unambiguously() -> None:
    """What would be taken for a part of the name is percent-written in values, and in values only."""
    assert workload_name("year", {"port": "north"}) == "year:port=north"
    assert workload_name("year", {"port": "north", "days": "80"}) == "year:port=north:days=80"
    assert workload_name("w", {"f": "a/b:c=d%"}) == "w:f=a%2Fb%3Ac%3Dd%25"
    assert workload_name("w", {"a": "1:b=2"}) != workload_name("w", {"a": "1", "b": "2"})


def test_records_of_before_are_shown_under_the_names_of_today() -> None:
    """Brackets become parts, floors follow, and a name that was somebody's own stays."""
    inputs = {"port": "north", "days": "80"}
    old = (
        Workload("year[port=north,days=80]", "year", Command(""), inputs=inputs, floor="start[n=1]"),
        Workload("start[n=1]", "start", Command(""), inputs={"n": "1"}), Workload("x[1]", "x[1]", Command("")),
    )  # fmt: skip
    new = renamed(Study("s", (Arm("a"),), old)).workloads

    assert [(one.name, one.floor) for one in new] == [
        ("year:port=north:days=80", "start:n=1"), ("start:n=1", ""), ("x[1]", ""),
    ]  # fmt: skip
