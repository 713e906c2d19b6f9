"""Starts from disk and from memory are measured before they are called so; what remains above the floor is decided."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from builders import made_record
from conftest import Run

from bystander.archive import Archive
from bystander.design import IN_MEMORY, Measure, measure_named
from bystander.field import page_cache
from bystander.verdicts import decide

STUDY = """
blocks = 6
seed = 2
[arms.before]
[arms.after]
settings.n = 1
[workloads.w]
command = "sh work.sh"
"""


def can_evict(folder: Path) -> bool:
    """Whether the folder's file system lets go of pages: one in memory has nowhere to put them."""
    lines = [line.split() for line in Path("/proc/self/mounts").read_text(encoding="utf-8").splitlines()]
    places = {place: kind for _, place, kind, *_ in lines}
    above = next(str(one) for one in [folder, *folder.parents] if str(one) in places)
    return places[above] not in ("tmpfs", "ramfs")


@pytest.fixture
def office(tmp_path: Path) -> Path:
    """A folder with a program that reads one of two files."""
    (tmp_path / "read.bin").write_bytes(b"x" * 300_000)
    (tmp_path / "left.bin").write_bytes(b"y" * 300_000)
    (tmp_path / "work.sh").write_text("cat read.bin > /dev/null\n", encoding="utf-8")
    return tmp_path


def written(folder: Path, lines: str, more: str = "") -> None:
    """Write a study of the program."""
    (folder / "bystander.toml").write_text(STUDY + lines + "\n" + more, encoding="utf-8")


def test_files_go_out_of_memory_and_come_back(office: Path) -> None:
    """Pages are counted by the kernel; an empty or a missing file has none."""
    file = office / "read.bin"
    page_cache.load([file])
    assert page_cache.resident(file) == (74, 74)
    assert page_cache.resident_share([file]) == 1.0

    page_cache.evict([file, office / "not there"])
    if can_evict(office):
        assert page_cache.resident_share([file]) < 0.05
    (office / "empty").touch()
    assert page_cache.resident(office / "empty") == page_cache.resident(office / "not there") == (0, 0)
    assert np.isnan(page_cache.resident_share([]))


def test_candidates_are_the_folder_and_the_program(office: Path) -> None:
    """What lies in git's own folder is none."""
    (office / ".git").mkdir()
    (office / ".git" / "objects").touch()
    found = page_cache.candidates(office, Path("/bin/sh"))

    assert {path.name for path in found if path.is_relative_to(office)} == {"read.bin", "left.bin", "work.sh"}
    assert Path("/bin/sh").resolve() in found


@pytest.mark.parametrize(("start", "low", "high"), [("from-disk", 0.0, 0.05), ("from-memory", 0.95, 1.0)])
def test_each_trial_starts_from_where_the_study_says(
    run: Run, office: Path, start: str, low: float, high: float
) -> None:
    """The share in memory is kept with every trial, and a start that holds has no note."""
    if not can_evict(office):
        pytest.skip("the file system of this folder is memory")
    written(office, f'start = "{start}"\nfiles = ["*.bin"]')
    run("observe", "--quiet")
    with Archive(office / ".bystander" / "archive.sqlite") as archive:
        record = archive.load()
    names = [measure.name for measure in record.head.measures]
    shares = record.trials.readings[:, names.index(IN_MEMORY)]
    notes = json.loads(run("decide", "--json").stdout)["results"][0]["notes"]

    assert np.isfinite(shares).all()
    assert low <= np.median(shares) <= high
    assert not any(note["code"] == "start-not-met" for note in notes)


def test_the_files_that_a_start_reads_are_found(run: Run, office: Path) -> None:
    """Of two files the program reads one; check tells how much was found."""
    written(office, 'start = "from-disk"')
    told = " ".join(run("check", "--placebo-blocks", "0").stdout.split())

    assert "w starts from disk: it reads" in told
    if can_evict(office):  # the shell itself may be kept in memory by others, and counts or not
        size = told.split("files, ")[1].split(" ")[:2]
        assert size[1].rstrip(";.") == "KiB"
        assert 290 < float(size[0]) < 590


@pytest.mark.parametrize(
    ("start", "share", "expected"),
    [("from-disk", 0.2, True), ("from-disk", 0.04, False), ("from-memory", 0.2, True), ("from-memory", 0.97, False)],
)
def test_a_start_that_was_not_is_told(start: str, share: float, expected: bool) -> None:
    """More than a twentieth of the files where they should not be."""
    times = {"w": {"before": [0.1] * 8, "after": [0.1] * 8}}
    record = made_record(times, more={IN_MEMORY: {"w": {"before": [share] * 8, "after": [share] * 8}}})
    measures = (measure_named("elapsed"), Measure(IN_MEMORY, "files in memory before", "share", "", decided=False))
    study = replace(record.head.study, workloads=(replace(record.head.study.workloads[0], start=start),))
    row = decide(replace(record, head=replace(record.head, measures=measures, study=study))).primary[0]

    assert row.has("start-not-met") == expected


def test_what_remains_above_the_floor_is_decided() -> None:
    """Trial less floor, block by block and arm by arm: a third more above the floor, a tenth more in all."""
    chance = np.random.default_rng(5)
    floor = {arm: (0.07 * np.exp(chance.normal(0, 0.003, 20))).tolist() for arm in ("before", "after")}
    work = {"before": [0.03] * 20, "after": [0.04] * 20}
    whole = {arm: [f + w for f, w in zip(floor[arm], work[arm], strict=True)] for arm in floor}
    record = made_record({"w": whole, "nothing": floor})
    first, second = record.head.study.workloads
    study = replace(record.head.study, workloads=(replace(first, floor="nothing"), second))
    decision = decide(replace(record, head=replace(record.head, study=study)))
    above = [row for row in decision.rows if row.measure.name == "above_floor"]

    assert [(row.workload, row.verdict) for row in above] == [("w", "slower")]
    assert above[0].estimate == pytest.approx(4 / 3, rel=1e-9)
    assert above[0].reference.median == pytest.approx(0.03, rel=1e-9)
    assert next(row for row in decision.primary if row.workload == "w").estimate == pytest.approx(1.1, abs=0.01)


@pytest.mark.parametrize(
    ("lines", "more", "clause"),
    [
        ('start = "cold"', "", '"cold" is no start; write "from-disk" or "from-memory" or "in-process"'),
        ('start = "in-process"', "", 'write call = "module:name" to time one that is up already'),
        ('files = ["x"]', "", 'workloads.w.files: they go with start = "from-disk" or "from-memory"'),
        ('floor = "nothin"', '[workloads.nothing]\ncommand = "true"', 'did you mean "nothing"?'),
        ('floor = "w"', "", '"w" cannot be the floor: it is this workload, or has a floor'),
        ('floor = "call"', '[workloads.call]\ncall = "a:b"', "callables are timed without it"),
        ('start = "from-disk"\nfiles = ["no*"]', "", "workloads.w.files: no file under arm before matches"),
    ],
)
def test_wrong_starts_and_floors_are_told(run: Run, office: Path, lines: str, more: str, clause: str) -> None:
    """One sentence with the key and what would be right."""
    written(office, lines, more)

    assert clause in " ".join(run("check", code=2).stderr.split())


def test_a_callable_starts_in_its_process(run: Run, office: Path) -> None:
    """From disk makes no sense of it; and the whole machine is emptied for starts from disk only."""
    text = '[arms.a]\n[arms.b]\nsettings.n = 1\n[workloads.w]\ncall = "office:spin"\nstart = "from-disk"\n'
    (office / "bystander.toml").write_text(text, encoding="utf-8")
    assert 'write "in-process", or time a command' in " ".join(run("check", code=2).stderr.split())

    written(office, "")
    assert 'no workload of unnamed study has start = "from-disk"' in " ".join(
        run("observe", "--drop-caches", code=2).stderr.split()
    )


def test_a_floor_that_a_record_does_not_have_is_passed_over() -> None:
    """A damaged or foreign record is decided on what it has."""
    record = made_record({"w": {"before": [0.1] * 8, "after": [0.1] * 8}})
    study = replace(record.head.study, workloads=(replace(record.head.study.workloads[0], floor="gone"),))

    assert decide(replace(record, head=replace(record.head, study=study))).primary[0].workload == "w"
