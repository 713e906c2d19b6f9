"""Conditions of trials are alike in all arms of a block, come from the seed, and are kept."""

from __future__ import annotations

import json
import os
import shutil
import sqlite3
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import pytest
from conftest import Run

from bystander.archive import Archive
from bystander.archive.file.versions import SCHEMA
from bystander.archive.mend import mend
from bystander.design import DEPTHS, TIMELINE, Condition, block_conditions, workload_key
from bystander.verdicts import decide

OLD = Path(__file__).parent / "data" / "archives" / "schema-1.sqlite"
STUDY = """
blocks = 8
stopping = "fixed"
seed = 4
vary = ["hash seed", "environment size", "folder depth"]
affinity = [{cpu}]
niceness = 3
address_space = "fixed"
[arms.before]
revision = "HEAD"
[arms.after]
settings.n = 2
[workloads.w]
command = "sh {see} {log}"
"""

SEE = "cd /proc/self; set -- $1 $OLDPWD $(nice) $(grep Cpus_allowed_list status) $(cat personality)\n" + (
    'log=$1; shift; echo "$PYTHONHASHSEED ${#BYSTANDER_PADDING} $*" >> "$log"\n'
)


def test_conditions_are_drawn_by_the_seed_within_their_ranges() -> None:
    """All values come up, another seed draws others, and what is not varied is not drawn."""
    drawn = [block_conditions(1, "w", block, tuple(Condition)) for block in range(400)]
    other = [block_conditions(2, "w", block, tuple(Condition)) for block in range(400)]

    assert drawn == [block_conditions(1, "w", block, tuple(Condition)) for block in range(400)]
    assert drawn != other
    assert {one["folder depth"] for one in drawn} == set(range(DEPTHS))
    assert len({one["hash seed"] for one in drawn}) == 400
    assert all(0 <= one["environment size"] < 4096 for one in drawn)
    assert block_conditions(1, "w", 0, ()) == {}


def test_every_trial_runs_under_the_conditions_of_its_block(run: Run, git: Callable[..., str], tmp_path: Path) -> None:
    """What programs see is what was drawn, the same for both arms, and it is in the archive."""
    log = tmp_path.with_suffix(".log")
    log.unlink(missing_ok=True)
    cpu = min(os.sched_getaffinity(0))
    (tmp_path / "bystander.toml").write_text(
        STUDY.format(log=log, cpu=cpu, see=log.with_suffix(".sh")), encoding="utf-8"
    )
    log.with_suffix(".sh").write_text(SEE, encoding="utf-8")
    for words in (("init", "-q"), ("add", "-A"), ("commit", "-q", "-m", "x")):
        git(*words)
    run("observe", "--quiet")
    seen = [line.split() for line in log.read_text(encoding="utf-8").splitlines()][2:]  # after the rehearsal
    with Archive(tmp_path / ".bystander" / "archive.sqlite") as archive:
        head = archive.head()
    with closing(sqlite3.connect(tmp_path / ".bystander" / "archive.sqlite")) as connection:
        kept = [json.loads(row[0]) for row in connection.execute("SELECT conditions FROM attempt ORDER BY id")]
    key = workload_key(head.study.workloads[0])

    assert kept == [block_conditions(4, key, block, tuple(Condition)) for block in range(8)]
    assert len(seen) == 16
    for conditions, pair in zip(kept, zip(seen[::2], seen[1::2], strict=True), strict=True):
        for one in pair:
            assert int(one[0]) == conditions["hash seed"]
            assert int(one[1]) == conditions["environment size"]
            assert one[2].count("/deeper") == conditions["folder depth"]
            assert one[3:] == ["3", "Cpus_allowed_list:", str(cpu), "00040000"]
        assert len(pair[0][2]) == len(pair[1][2])
    assert "hash seed, environment size, folder depth" in " ".join(run("records", "show").stdout.split())


@pytest.mark.parametrize(
    ("lines", "clause"),
    [
        ('vary = ["hash sed"]', 'vary: "hash sed" cannot be varied; did you mean "hash seed"?'),
        ("affinity = [4095]", "affinity: there is no processor 4095 for trials here"),
        ("affinity = []", "affinity: [] is no list of processors"),
        ("niceness = 40", "niceness: 40 is no whole number from -20 to 19"),
        ('address_space = "flat"', 'address_space: "flat" is no layout; write "fixed"'),
        ('vary = ["hash seed"]\narms.c.environment.PYTHONHASHSEED = 1', "arm c fixes PYTHONHASHSEED"),
        ('vary = ["folder depth"]', "needs a git repository"),
    ],
)
def test_conditions_that_cannot_be_are_told(run: Run, tmp_path: Path, lines: str, clause: str) -> None:
    """One sentence with the key and what would be right."""
    (tmp_path / "bystander.toml").write_text(
        f'{lines}\n[arms.a]\n[arms.b]\nsettings.n = 1\n[workloads.w]\ncommand = "true"\n', encoding="utf-8"
    )
    said = run("observe", code=1 if "git" in clause else 2).stderr

    assert clause in said


def test_what_the_stub_uses_is_no_part_of_the_trial(run: Run, tmp_path: Path) -> None:
    """The same program with and without the stub takes the same time, but for the millisecond of one more exec."""
    plain = '[arms.a]\n[arms.b]\nsettings.n = 1\n[workloads.w]\ncommand = "sleep 0.03"\n'
    medians = []
    for line in ("", "niceness = 1\n"):
        (tmp_path / "bystander.toml").write_text(f"blocks = 15\n{line}{plain}", encoding="utf-8")
        run("observe", "--quiet")
        alone = json.loads(run("decide", "--json").stdout)["arms_alone"]
        medians.append({one["measure"]: one["median"] for one in alone if one["arm"] == "a"})

    assert 0.03 < medians[0]["elapsed"] < medians[1]["elapsed"] + 0.005
    assert medians[1]["elapsed"] - medians[0]["elapsed"] < 0.012  # a bare interpreter takes 15 ms or more
    assert medians[1]["minor_faults"] < medians[0]["minor_faults"] + 150  # and a thousand faults


def test_an_archive_of_the_first_schema_is_brought_up_to_date(tmp_path: Path) -> None:
    """Records written by an earlier Bystander are decided as they were then, and their file can be written again."""
    path = tmp_path / "archive.sqlite"
    shutil.copy(OLD, path)
    with Archive(path) as archive:
        decided = {
            head.name: {row.workload: row for row in decide(archive.load(head.name)).primary}
            for head in archive.heads()
        }
        states = {head.name: (head.state, head.notes) for head in archive.heads()}
    with closing(sqlite3.connect(path)) as connection:
        assert connection.execute("SELECT MAX(number) FROM migration").fetchone() == (SCHEMA,)
        assert connection.execute("SELECT COUNT(*) FROM attempt WHERE conditions IS NOT NULL").fetchone() == (0,)

    assert states == {
        "ebb-and-flood-1": ("complete", ()),
        "half-tide-1": ("running", ("the crane was running",)),
        "readings-1": ("complete", ()),
    }
    say = decided["half-tide-1"]["say"]
    assert (say.verdict, say.blocks) == ("same", 93)
    assert (say.estimate, say.p) == pytest.approx((1.0023042724462612, 0.8219857300160198), rel=1e-12)
    assert decided["ebb-and-flood-1"]["fall"].verdict == "failed"
    assert decided["readings-1"]["w"].estimate == pytest.approx(1.125462867742275, rel=1e-12)


def test_an_archive_of_the_second_schema_is_brought_up_to_date(tmp_path: Path) -> None:
    """Its conditions stay, and a program's marks can be kept in it."""
    path = tmp_path / "archive.sqlite"
    shutil.copy(OLD.with_name("schema-2.sqlite"), path)
    with Archive(path) as archive:
        row = decide(archive.load()).primary[0]
        assert archive.evidence(None, TIMELINE, 0, 0) == {}
    with closing(sqlite3.connect(path)) as connection:
        assert connection.execute("SELECT MAX(number) FROM migration").fetchone() == (SCHEMA,)
        assert connection.execute("SELECT COUNT(*) FROM attempt WHERE conditions IS NOT NULL").fetchone() == (3,)
        assert connection.execute("SELECT COUNT(*) FROM evidence").fetchone() == (0,)

    assert (row.workload, row.blocks, row.estimate) == ("say", 3, pytest.approx(1.0969942690238113, rel=1e-12))


def test_an_archive_of_an_earlier_schema_can_be_mended(tmp_path: Path) -> None:
    """Tables and columns that it does not have are no damage."""
    for name, trials in (("schema-1.sqlite", 399), ("schema-2.sqlite", 6)):
        mended = mend(OLD.with_name(name), tmp_path / name)

        assert (mended.rows["trial"], mended.gaps) == (trials, 0)
        assert mended.rows["attempt"] > 0
