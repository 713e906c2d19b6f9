"""The library's face, and tables for other programs: what they say is what the program says."""

from __future__ import annotations

import inspect
import io
import json
import math
import re
import runpy
import sys
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pytest
from builders import made_record, noisy
from conftest import Run

from bystander import api
from bystander.exchange import readings_frame, readings_parquet
from bystander.flow.commands.demo import recorded, recorded_history

ROOT = Path(__file__).parents[1]


@pytest.fixture(scope="module")
def archive(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """An archive with the harbour office as it was recorded."""
    file = tmp_path_factory.mktemp("harbour") / "archive.sqlite"
    recorded(file)
    return file


@pytest.fixture(scope="module")
def record(archive: Path) -> api.Record:
    """Its record."""
    return api.read_record(archive=archive)


def test_a_decision_says_what_the_program_says(archive: Path, record: api.Record, run: Run) -> None:
    """Row by row, number by number."""
    decision = api.decide(record)
    document = json.loads(run("decide", "--json", "--archive", str(archive)).stdout)

    assert json.loads(decision.json()) == document
    for row, told in zip(decision.rows, document["results"], strict=True):
        for name in ("workload", "arm", "against", "measure", "unit", "verdict", "primary", "blocks", "confidence"):
            assert getattr(row, name) == told[name]
        number, expected = getattr(row, told["scale"]), told[told["scale"]]
        assert number == pytest.approx(math.nan if expected is None else expected, nan_ok=True)
        assert row.notes == {note["code"]: note["text"] for note in told["notes"]}
    assert run("decide", "--archive", str(archive)).stdout.count(decision.outcome.split(";")[0]) == 1


def test_records_are_found(archive: Path, record: api.Record, monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    """By name, by how the UUID begins, in the folder or above; what is not there is one sentence."""
    assert api.record_names(archive) == ["harbour-office-1"]
    assert api.read_record("5eaf00d5", archive).name == record.name == "harbour-office-1"
    assert (record.complete, record.trials, record.study.arms) == (True, 386, ("before", "after"))
    assert record.measures["peak_memory"] == "B"
    assert record.study.weights["gauge"] == 288
    (tmp_path / "inside").mkdir()
    monkeypatch.chdir(tmp_path / "inside")
    with pytest.raises(api.BystanderError, match="there is no archive"):
        api.read_record()
    recorded(tmp_path / ".bystander" / "archive.sqlite")
    assert api.read_record().uuid == record.uuid
    with pytest.raises(api.BystanderError, match='"tern"'):
        api.read_record("tern")


def test_readings_are_a_frame_with_units(archive: Path, record: api.Record, run: Run, tmp_path: Path) -> None:
    """The same numbers as in the CSV, in the same columns; types that pandas works with."""
    frame = record.readings()
    run("records", "export", "--to", "r.csv", "--archive", str(archive))
    told = pd.read_csv(tmp_path / "r.csv")

    assert list(frame.columns) == list(told.columns)
    assert len(frame) == len(told)
    assert np.array_equal(frame["value"], told["value"])
    for name in ("workload", "arm", "measure", "status", "machine"):
        assert (frame[name].astype(str) == told[name]).all()
    assert (frame["unit"].astype(str) == told["unit"].fillna("")).all()
    assert frame.attrs["units"]["elapsed"] == "s"
    assert str(frame["start"].dtype).endswith("UTC]")


def test_parquet_reads_back(archive: Path, record: api.Record, run: Run, tmp_path: Path) -> None:
    """By pandas, whole: values, types and units."""
    done = run("records", "export", "--to", "r.parquet", "--archive", str(archive))
    frame = pd.read_parquet(tmp_path / "r.parquet")

    assert "386 trials" in done.stdout
    pd.testing.assert_frame_equal(frame, record.readings())
    assert frame.attrs["units"] == record.measures
    assert "--spreadsheet is for .csv" in run(
        "records", "export", "--to", "s.parquet", "--spreadsheet", "--archive", str(archive), code=2
    ).stderr  # fmt: skip


def test_samples_and_silent_trials_have_rows() -> None:
    """Of an imported record each sample is one; a trial without a reading has one without a value."""
    made = made_record(
        {"w": {"a": noisy(3, 1.0), "b": noisy(3, 1.0)}}, failed={("w", "b"): [1]}, origin="imported"
    )  # fmt: skip
    made.trials.readings[made.trials.failed] = math.nan
    row = int(np.flatnonzero(made.trials.arm == 0)[0])
    made = made.__class__(made.head, made.trials, {(row, "elapsed"): np.array([1.0, math.nan, 3.0])})
    frame = readings_frame(made)

    assert len(frame) == 5 + 1 + 1
    assert frame[frame["sample"].notna()]["value"].tolist() == [1.0, 3.0]
    assert frame[frame["sample"].notna()]["sample"].tolist() == [0, 2]
    failed = frame[frame["status"] != "ok"]
    assert len(failed) == 1
    assert failed["value"].isna().all()
    assert pd.read_parquet(io.BytesIO(readings_parquet(made))).equals(frame)


def test_parquet_needs_an_extra(monkeypatch: pytest.MonkeyPatch) -> None:
    """Where it is not there, one sentence says how it comes."""
    monkeypatch.setitem(sys.modules, "pyarrow", None)
    with pytest.raises(api.BystanderError, match=r"bystander\[parquet\]"):
        readings_parquet(made_record({"w": {"a": noisy(3, 1.0)}}))


def test_a_gate_is_asked(record: api.Record) -> None:
    """As on the command line; of an exploration it is refused."""
    decision = api.decide(record, gate="slower")

    assert {what for _, what in decision.gate_found} >= {"gauge", "moorings"}
    assert api.decide(record, only=["start"], gate="slower").gate_found == ()
    with pytest.raises(api.BystanderError, match="nothing to look for"):
        api.decide(record, gate="soon")
    with pytest.raises(api.BystanderError, match="explor"):
        api.decide(record, margin=0.5, gate="slower")


def test_an_exported_record_is_read(
    record: api.Record, run: Run, tmp_path: Path, archive: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Without an archive; a file that is none is one sentence."""
    run("records", "export", "--to", "r.json", "--archive", str(archive))
    read = api.read_record_file(tmp_path / "r.json")

    assert [(row.workload, row.verdict) for row in api.decide(read).rows] == [
        (row.workload, row.verdict) for row in api.decide(record).rows
    ]
    assert "Of 11 comparisons" in str(api.render(api.decide(read), ".md"))
    with pytest.raises(api.BystanderError, match="import the exported one"):
        api.decide(read, gate="slower")
    (tmp_path / "no.json").write_bytes(b"\xff{")
    with pytest.raises(api.BystanderError, match=r"no\.json: it cannot be read"):
        api.read_record_file(tmp_path / "no.json")
    monkeypatch.setattr("bystander.api.records.MOST_IMPORTED", 9)
    with pytest.raises(api.BystanderError, match=r"r\.json: it is larger than 9 B, and no record"):
        api.read_record_file(tmp_path / "r.json")


def test_everything_is_rendered(record: api.Record) -> None:
    """Text as text, pictures as bytes."""
    decision = api.decide(record, only=["gauge"])
    for suffix in (".html", ".md", ".json", ".csv", ".xml", ".openmetrics", ".svg"):
        found = api.render(decision, suffix)
        assert isinstance(found, bytes if suffix == ".svg" else str)
        assert len(found) > 300


def test_what_cannot_be_rendered_is_told(record: api.Record) -> None:
    """Formats, pictures, and pictures of what is no picture."""
    decision = api.decide(record, only=["start"])
    for suffix, picture, clause in (
        (".doc", None, "is no format"),
        (".svg", "pie", "is none"),
        (".md", "blocks", "--to"),
    ):
        with pytest.raises(api.BystanderError, match=clause):
            api.render(decision, suffix, picture)


def test_a_study_is_read(tmp_path: Path) -> None:
    """Its names and its rule; mistakes are told like on the command line."""
    file = tmp_path / "s.toml"
    file.write_text('margin = "2 %"\n[arms.a]\n[arms.b]\nsettings.n = 1\n[workloads.w]\ncommand = "true"\nweight = 3\n',
                    encoding="utf-8")  # fmt: skip
    study = api.read_study(file)

    assert (study.arms, study.workloads, study.margin, study.weights) == (("a", "b"), ("w",), 0.02, {"w": 3.0})
    file.write_text('margin = "soon"\n', encoding="utf-8")
    with pytest.raises(api.BystanderError, match="margin"):
        api.read_study(file)


def test_the_example_does_what_it_says(
    archive: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    """It runs as it is written, and names what the harbour office loses most by."""
    script = str(ROOT / "examples" / "library" / "worst.py")
    monkeypatch.chdir(tmp_path)
    monkeypatch.setattr(sys, "argv", [script, str(archive)])
    runpy.run_path(script, run_name="__main__")
    lines = capsys.readouterr().out.splitlines()

    assert lines[0].startswith("Of 11 comparisons: 2 slower")
    assert lines[1].startswith("gauge: slower by ")
    assert re.search(r"; \+7\.\d+ s a day; slowest in block \d+, 0\.\d+ s$", lines[1])
    assert (tmp_path / "worst.svg").read_text(encoding="utf-8").startswith("<?xml")


def test_every_public_name_is_told() -> None:
    """In the docs with its words; and its docstring says what it returns."""
    text = (ROOT / "docs" / "library.md").read_text(encoding="utf-8")
    for name in api.__all__:
        thing: Any = getattr(api, name)
        assert f"`{name}" in text
        assert inspect.getdoc(thing)
        for attribute in getattr(thing, "__dataclass_fields__", {}):
            assert attribute.startswith("_") or f"`{attribute}`" in text, f"{name}.{attribute}"


def test_a_ladder_and_a_search_are_read(run: Run, tmp_path: Path) -> None:
    """They say what the program says; numbers of the frame are those of the CSV."""
    names = recorded_history(tmp_path / "archive.sqlite")
    archive = ("--archive", str(tmp_path / "archive.sqlite"))
    ladder, search = (read(archive=archive[1]) for read in (api.read_ladder, api.read_search))
    frame = ladder.frame()
    run("chain", "--to", "l.csv", *archive)
    told = pd.read_csv(tmp_path / "l.csv", dtype={"link": str, "since": str, "subject": str})

    assert (ladder.record, ladder.workloads, len(ladder.links)) == (names.chain, ("day", "gauge"), 20)
    assert json.loads(ladder.json()) == json.loads(run("chain", "--json", *archive).stdout)
    assert list(frame.columns) == list(told.columns)
    assert frame["link"].tolist() == told["link"].tolist()
    assert np.allclose(frame["gain"], told["gain"], equal_nan=True)
    links = frame[frame["link"] != "total"]
    slower = links[(links["workload"] == "gauge") & (links["verdict"] == "slower")]
    assert slower["subject"].tolist() == ["Check every telegram against all gauges"]
    assert api.read_ladder(names.chain, archive[1], ["day"]).workloads == ("day",)

    assert search.record == names.search
    assert search.outcomes == {"gauge": "found"}
    assert [one[:7] for one in search.commits["gauge"]] == slower["link"].tolist()
    assert "is left that is shown" in " ".join(search.lines["gauge"])
    assert json.loads(search.json()) == json.loads(run("bisect", "--json", *archive).stdout)
