"""Runs and blocks: a record holds stretches of several purposes; a block can be run elsewhere and taken in, once."""

from __future__ import annotations

import json
import shutil
import sqlite3
from contextlib import closing
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from builders import made_record, noisy
from conftest import Run

from bystander.archive import Archive
from bystander.archive.mend import mend
from bystander.design import (
    TIMELINE,
    BlockHead,
    Evidence,
    MachineFacts,
    Payload,
    PlannedBlock,
    PlannedTrial,
    RecordHead,
    State,
    Status,
    TrialColumns,
    TrialOutcome,
    Whose,
    block_order,
    plan_rounds,
    workload_key,
)
from bystander.design import Run as RecordRun
from bystander.errors import ArchiveError, UsageError
from bystander.exchange import block_json, read_record_json, record_json
from bystander.flow.trials.blocks import BlockSetting, Clocks, StopAskedError, run_block
from bystander.verdicts import decide

OLD = Path(__file__).parent / "data" / "archives" / "schema-5.sqlite"
GULL, TERN = MachineFacts(host="gull", cores=2), MachineFacts(host="tern", cores=4)


def ended(seconds: float, packets: tuple[Evidence, ...] = ()) -> TrialOutcome:
    return TrialOutcome(Status.OK, 0, 1e9, 5.0, {"elapsed": seconds, "cpu": float("nan")}, "told", evidence=packets)


def head_of(blocks: int = 6) -> RecordHead:
    """Return the head of a record of two arms that is about to be observed."""
    made = made_record({"w": {"before": noisy(blocks, 1), "after": noisy(blocks, 1.2)}}, state="running").head
    study = replace(made.study, seed=11, vary=("hash seed",))
    return replace(made, study=study, machines=(GULL,), runs=(RecordRun(seed=11, began_wall_s=1e9),))


def begun(path: Path, blocks: int = 6) -> RecordHead:
    """Begin that record in an archive and return it as it is read."""
    with Archive(path, create=True) as kept:
        kept.begin(head_of(blocks))
        return kept.head()


def sent(head: RecordHead, number: int, machine: MachineFacts = TERN, factor: float = 1.2) -> str:
    """Run a block somewhere else, and return its document."""
    key, names = workload_key(head.study.workloads[0]), [arm.name for arm in head.study.arms]
    block = PlannedBlock(0, number, block_order(11, key, number, names))
    packet = Evidence("soundings", 3, {"depth": 7}, Payload(bytes(range(200)), ""))
    setting = BlockSetting(head.study, head.timed_run, [key])
    ran = run_block(lambda _w, arm, _: ended(1.0 + 0.001 * number + (factor - 1) * arm, (packet,)), block, setting)
    return block_json(replace(head, machines=(machine,)), head.timed_run, ran)


def test_a_block_that_ran_elsewhere_is_taken_in_once(tmp_path: Path, run: Run) -> None:
    """With its machine, conditions, trials and evidence; the same one again changes nothing."""
    head = begun(tmp_path / "a.sqlite", 12)
    where = ("--archive", "a.sqlite")
    for number in (*range(12), 3):
        (tmp_path / "block.json").write_text(sent(head, number), encoding="utf-8")
        done = run("records", "import", "block.json", *where)
    said = done.stderr + run("records", "show", *where).stdout
    with Archive(tmp_path / "a.sqlite") as kept:
        record = kept.load(payloads=True)
    row = decide(record).primary[0]

    assert "block 3 of w is in record made-up-1 already; it was not taken in again." in said
    assert "merged here since" in said
    assert len(record.trials) == 24
    assert row.estimate == pytest.approx(1.2, rel=0.01)
    assert record.head.machines == (GULL, TERN)
    assert {block.machine for block in record.blocks} == {1}
    assert len({block.conditions["hash seed"] for block in record.blocks}) == 12
    assert record.evidence[5][0].summary == {"depth": 7}
    assert record.evidence[5][0].payload == Payload(bytes(range(200)), "")
    assert not record.head.resumable  # what it holds was partly run by somebody else


@pytest.mark.parametrize(
    ("change", "clause"),
    [
        ({"version": 7}, "version 7 is not known"),
        ({"record": "0" * 36}, "there is no record"),
        ({"trials": []}, "damaged: trials are none"),
        ({"conditions": 3}, "damaged"),
        ({"workload": {"position": 0, "name": "w", "key": "other"}}, "is none of record made-up-1"),
        ({"run": {"number": 4}}, "run 4 is not the one that is timed"),
        ({"number": 6}, "record made-up-1 plans blocks 0 to 5, and no block 6"),
        ({"number": -1}, "and no block -1"),
        ({"number": 2}, "did not run in the order that the record's seed decides"),
        ({"number": 10**30}, "a whole number needs more than 64 bits"),
        ({"conditions": {"hash seed": 1}}, "its conditions are not those that the record's seed decides"),
        ({"conditions": {}}, "its conditions are not those that the record's seed decides"),
    ],
)
def test_a_block_of_something_else_is_refused(tmp_path: Path, run: Run, change: dict[str, object], clause: str) -> None:
    """One sentence, and nothing is written."""
    head = begun(tmp_path / "a.sqlite")
    document = {**json.loads(sent(head, 0)), **change}
    (tmp_path / "block.json").write_text(json.dumps(document), encoding="utf-8")
    said = run("records", "import", "block.json", "--archive", "a.sqlite", code=2).stderr
    with Archive(tmp_path / "a.sqlite") as kept:
        assert len(kept.load().trials) == 0

    assert clause in said


@pytest.mark.parametrize(
    ("key", "value", "clause"),
    [
        ("readings", {"elapsed": 1.0, "knots": 3.0}, 'readings of "knots", and does not describe that measure'),
        ("readings", {"elapsed": None}, ""),
        ("detail", 10**400, "a whole number needs more than 64 bits"),
        ("detail", 1e308, "1e+308 is no whole number"),
        ("answer", "\ud800", "half a character"),
        ("answer", "\U0001f6a2", ""),
    ],
)
def test_a_trial_of_a_block_is_looked_at(tmp_path: Path, run: Run, key: str, value: object, clause: str) -> None:
    """What could not be kept as it is told is refused, in one sentence; all else is taken in."""
    head = begun(tmp_path / "a.sqlite")
    document = json.loads(sent(head, 0))
    document["trials"][1][key] = value
    (tmp_path / "block.json").write_text(json.dumps(document), encoding="utf-8")
    done = run("records", "import", "block.json", "--archive", "a.sqlite", code=2 if clause else 0)

    assert clause in done.stderr
    assert ("block 0 of w is taken into record made-up-1." in done.stdout) == (not clause)


def test_evidence_of_one_kind_is_told_once(tmp_path: Path, run: Run) -> None:
    """A trial that has it twice is damaged, in a block and in a record."""
    head = begun(tmp_path / "a.sqlite")
    block = json.loads(sent(head, 0))
    (tmp_path / "block.json").write_text(json.dumps(block), encoding="utf-8")
    run("records", "import", "block.json", "--archive", "a.sqlite")
    run("records", "export", "--to", "record.json", "--archive", "a.sqlite")
    record = json.loads((tmp_path / "record.json").read_text(encoding="utf-8"))
    block["trials"][0]["evidence"] *= 2
    record["evidence"] += record["evidence"][:1]
    for document in (block, record):
        (tmp_path / "twice.json").write_text(json.dumps(document), encoding="utf-8")
        said = run("records", "import", "twice.json", "--archive", "b.sqlite", code=2).stderr
        assert 'evidence of kind "soundings" stands twice' in said


@pytest.mark.parametrize(
    ("change", "clause"),
    [
        ({"purpose": "inspected"}, "not one of its runs is the timed one"),
        ({"order": "as it comes"}, "runs.order is none of digest, permutation"),
        ({"machine": 3}, "name a machine that is not there"),
        ({"seed": 2**63}, "a whole number needs more than 64 bits"),
    ],
)
def test_a_record_with_a_wrong_run_is_refused(tmp_path: Path, run: Run, change: dict[str, object], clause: str) -> None:
    """One sentence, and no record."""
    begun(tmp_path / "a.sqlite")
    run("records", "export", "--to", "record.json", "--archive", "a.sqlite")
    document = json.loads((tmp_path / "record.json").read_text(encoding="utf-8"))
    document["runs"][0] |= change
    (tmp_path / "record.json").write_text(json.dumps(document), encoding="utf-8")

    assert clause in run("records", "import", "record.json", "--archive", "b.sqlite", code=2).stderr


def test_a_block_that_comes_in_while_it_runs_here_counts_once(tmp_path: Path, run: Run) -> None:
    """The one that was whole first counts; the other attempt is kept beside it, and the observation goes on."""
    path = tmp_path / "a.sqlite"
    (tmp_path / "block.json").write_text("{}", encoding="utf-8")
    with Archive(path, create=True) as kept:
        writer, _ = kept.begin(head_of())
        head = kept.head()
        block = PlannedBlock(0, 0, (0, 1))
        writer.trial(PlannedTrial(block, 0, 0), ended(9.0), 20.0)
        (tmp_path / "block.json").write_text(sent(head, 0), encoding="utf-8")
        run("records", "import", "block.json", "--archive", "a.sqlite")
        writer.trial(PlannedTrial(block, 1, 1), ended(9.0), 20.0)
        writer.trial(PlannedTrial(PlannedBlock(0, 1, (0, 1)), 0, 0), ended(9.0), 20.0)
        readings = kept.load().trials.readings[:, 0].tolist()
    with closing(sqlite3.connect(path)) as connection:
        states = [state for (state,) in connection.execute("SELECT state FROM attempt ORDER BY id")]
        (trials,) = connection.execute("SELECT COUNT(*) FROM trial").fetchone()

    assert sorted(readings) == [1.0, 1.2]
    assert (states, trials) == (["void", "whole", "open"], 5)


def test_an_arm_in_another_state_is_refused(tmp_path: Path, run: Run) -> None:
    """Its key is not that of the record's arm."""
    head = begun(tmp_path / "a.sqlite")
    document = json.loads(sent(head, 0))
    document["trials"][0]["key"] = "other"
    (tmp_path / "block.json").write_text(json.dumps(document), encoding="utf-8")

    said = run("records", "import", "block.json", "--archive", "a.sqlite", code=2).stderr
    assert "was not in the state that record made-up-1 compares" in said


def test_one_function_runs_a_block() -> None:
    """Arms in its order, under its conditions; a clock that jumps is told; a stop between two trials ends it."""
    head = head_of()
    key = workload_key(head.study.workloads[0])
    (block, *_) = plan_rounds(11, [key], ["before", "after"], 1)
    offsets = iter([0.0, 0.0, 0.0, 5.0])
    setting = BlockSetting(head.study, head.timed_run, [key], 2, Clocks(lambda: 1.0, lambda: next(offsets)))
    seen: list[PlannedTrial] = []
    ran = [
        run_block(lambda *_: ended(1.0), block, setting, attempt, lambda place, *_: seen.append(place))
        for attempt in (0, 1)
    ]

    assert [one.disturbed for one in ran] == ["", "the machine slept or its clock was set"]
    assert tuple(ran[0].outcomes) == block.order
    assert (ran[1].attempt, ran[1].machine, list(ran[1].conditions)) == (1, 2, ["hash seed"])
    assert [(place.arm, place.last) for place in seen[:2]] == [(block.order[0], False), (block.order[1], True)]
    with pytest.raises(StopAskedError):
        run_block(lambda *_: ended(1.0), block, replace(setting, clocks=Clocks(), stopped=lambda: True))


def inspected(path: Path) -> RecordHead:
    """Add an inspected run to a record: slow trials, with evidence of a trial and of the run."""
    with Archive(path) as kept:
        head = kept.head()
        run_of = RecordRun(number=1, purpose="inspected", seed=5, options={"tick": 0.001})
        writer = kept.begin_run(head, run_of, TERN)
        packet = Evidence("places", 1, {"samples": 40}, Payload(b"told"))
        for number in range(3):
            for order, arm in enumerate((0, 1)):
                place = PlannedTrial(PlannedBlock(0, number, (0, 1)), arm, order)
                writer.trial(place, ended(50.0 + arm, (packet,)), 60.0)
        writer.evidence(Whose(1, 0, 1), (Evidence("echoes", 1, {"calls": 9}, Payload(b"exact")),))
        writer.finish(State.COMPLETE, ["It was inspected."])
        return kept.head()


def test_only_timed_runs_reach_a_verdict(tmp_path: Path, run: Run) -> None:
    """Trials of an inspected run have numbers of their own, another type, and change nothing that is decided."""
    path = tmp_path / "a.sqlite"
    record = made_record({"w": {"before": noisy(9, 1, seed=1), "after": noisy(9, 1.2, seed=2)}})
    with Archive(path, create=True) as kept:
        writer, _ = kept.begin(replace(record.head, origin=record.head.origin))
        for block in range(9):
            for order, arm in enumerate((0, 1)):
                at = int(np.flatnonzero((record.trials.block == block) & (record.trials.arm == arm))[0])
                place = PlannedTrial(PlannedBlock(0, block, (0, 1)), arm, order)
                writer.trial(place, ended(record.trials.readings[at, 0]), 9.0)
        writer.finish(State.COMPLETE)
    before = json.loads(run("decide", "--json", "--archive", "a.sqlite").stdout)
    head = inspected(path)
    after = json.loads(run("decide", "--json", "--archive", "a.sqlite").stdout)
    with Archive(path) as kept:
        whole, other = kept.load(payloads=True), kept.load_run(None, 1, payloads=True)
        with pytest.raises(UsageError, match="has no run 0 beside its timed one"):
            kept.load_run(None, 0)
    back = read_record_json(record_json(whole), "again.json")

    assert [(one.number, one.purpose, one.state) for one in head.runs] == [
        (0, "timed", "complete"), (1, "inspected", "complete"),
    ]  # fmt: skip
    assert head.state == "complete"
    assert before["results"] == after["results"]
    assert len(whole.trials) == 18
    assert (type(other.trials), other.run.options) == (TrialColumns, {"tick": 0.001})
    assert other.trials.readings[:, 0].tolist() == [50.0, 51.0] * 3
    assert [block.run for block in other.blocks] == [1, 1, 1]
    assert other.evidence[2][0].payload == Payload(b"told")
    assert whole.of_runs == back.of_runs == {Whose(1, 0, 1): (Evidence("echoes", 1, {"calls": 9}, Payload(b"exact")),)}
    assert back.head.runs == whole.head.runs


LARGE = bytes(np.random.default_rng(3).integers(0, 256, 3 * 2**20, dtype=np.uint8))


def with_large(path: Path, name: str = "w") -> None:
    """Write a record whose trials tell three mebibytes each, the same."""
    head = replace(head_of(), uuid=f"{name}-4000")
    with Archive(path, create=True) as kept:
        writer, _ = kept.begin(head)
        for order, arm in enumerate((0, 1)):
            packet = Evidence("soundings", 1, {"arm": arm}, Payload(LARGE))
            writer.trial(PlannedTrial(PlannedBlock(0, 0, (0, 1)), arm, order), ended(1.0, (packet,)), 9.0)
        writer.finish(State.COMPLETE)


def test_large_evidence_lies_beside_the_archive(tmp_path: Path, run: Run) -> None:
    """Size, export, mend, remove and compact know its files; it is read on request, and damage is told."""
    path, where = tmp_path / "a.sqlite", ("--archive", "a.sqlite")
    with_large(path)
    folder = tmp_path / "a.sqlite.evidence"
    (file,) = folder.iterdir()
    size = json.loads(run("records", "size", "--json", *where).stdout)
    said = run("records", "size", *where).stdout
    mended = mend(path, tmp_path / "b.sqlite")
    run("records", "export", "--to", "r.json", *where)
    run("records", "import", "r.json", "--archive", "c.sqlite")
    held = []
    for name in ("a", "b", "c"):
        with Archive(tmp_path / f"{name}.sqlite") as kept:
            held.append(kept.load(payloads=True).evidence[1][0].payload)
            assert kept.load().evidence[1][0].payload is None

    assert path.stat().st_size < 2**20
    assert size["evidence_files_bytes"] == len(LARGE)
    assert size["evidence_bytes"] == {"made-up-1": 2 * len(LARGE)}
    assert "evidence in files beside it: 3.00 MiB" in said
    assert (mended.gaps, mended.evidence_lost) == (0, 0)
    assert [one and one.data == LARGE for one in held] == [True] * 3
    file.write_bytes(LARGE[:-1])
    with Archive(path) as kept, pytest.raises(ArchiveError, match="is not what was written"):
        kept.load(payloads=True)
    assert mend(path, tmp_path / "d.sqlite").evidence_lost == 2
    file.write_bytes(LARGE)
    with_large(path, "v")
    run("records", "remove", "made-up-1", "--yes", *where)
    run("records", "compact", *where)
    assert file.exists()  # the other record names it still
    run("records", "remove", "made-up-2", "--yes", *where)
    run("records", "compact", *where)
    assert not folder.exists()


def test_a_record_resumed_elsewhere_keeps_its_machines_and_conditions(tmp_path: Path, run: Run) -> None:
    """Through the archive of then, a JSON document, and another archive."""
    shutil.copy(OLD, tmp_path / "a.sqlite")
    name, records = "signals-three-ways-1", []
    run("records", "export", name, "--to", "r.json", "--archive", "a.sqlite")
    run("records", "import", "r.json", "--archive", "b.sqlite")
    for archive in ("a", "b"):
        with Archive(tmp_path / f"{archive}.sqlite") as kept:
            records.append(kept.load(name))
    first, second = records
    document = json.loads((tmp_path / "r.json").read_text(encoding="utf-8"))

    assert document["version"] == 2
    assert [machine.host for machine in first.head.machines] == ["gull", "tern"]
    assert first.head.machines == second.head.machines
    assert sorted(first.blocks, key=str) == sorted(second.blocks, key=str)
    assert {block.machine for block in first.blocks} == {0, 1}
    assert all(set(block.conditions) == {"hash seed", "environment size"} for block in first.blocks)
    assert len(first.blocks) == 60
    assert first.head.runs[0] == replace(second.head.runs[0], ended_wall_s=first.head.runs[0].ended_wall_s)
    assert first.head.timed_run.order == "permutation"
    shown = json.loads(run("records", "show", name, "--json", "--archive", "b.sqlite").stdout)
    assert [machine["host"] for machine in shown["machines"]] == ["gull", "tern"]


def test_the_archive_of_before_becomes_one_of_runs(tmp_path: Path) -> None:
    """Every record is one timed run, timelines are evidence, and void attempts stay void."""
    path = tmp_path / "a.sqlite"
    shutil.copy(OLD, path)
    with closing(sqlite3.connect(path)) as connection:
        before = connection.execute("SELECT trial_id, phases FROM timeline ORDER BY id").fetchall()
        voids = connection.execute("SELECT COUNT(*) FROM attempt WHERE state = 'void'").fetchone()
    with Archive(path) as kept:
        record = kept.load("harbour-office-1", payloads=True)
    with closing(sqlite3.connect(path)) as connection:
        after = connection.execute("SELECT trial_id, payload FROM evidence ORDER BY id").fetchall()
        broken = connection.execute("PRAGMA foreign_key_check").fetchall()
        assert connection.execute("SELECT COUNT(*) FROM attempt WHERE state = 'void'").fetchone() == voids
        with pytest.raises(sqlite3.IntegrityError, match="its run is missing"):
            connection.execute("INSERT INTO block (record_id, run_id, workload, number) VALUES (2, 99, 0, 0)")

    assert before == after
    assert broken == []
    assert {packet.kind for packets in record.evidence.values() for packet in packets} == {TIMELINE}
    assert record.blocks[0] == BlockHead(0, record.trials.workload[0], 0, 0, 0, {})
