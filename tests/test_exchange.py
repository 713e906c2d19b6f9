"""Readings go out and come back unchanged; damaged files are told in one sentence."""

from __future__ import annotations

import json
import math
from pathlib import Path

import jsonschema
import numpy as np
import pytest
from builders import made_record, noisy
from hypothesis import given, settings
from hypothesis import strategies as st

from bystander.design import Record, Status
from bystander.errors import DataError
from bystander.exchange import (
    read_readings_csv,
    read_record_json,
    readings_csv,
    record_arrays,
    record_json,
    verdicts_json,
)
from bystander.report import markdown, page
from bystander.verdicts import Options, decide

SCHEMA = json.loads((Path(__file__).parents[1] / "docs" / "verdicts.schema.json").read_text(encoding="utf-8"))
HEAD = "workload,arm,block,order,measure,value,unit\n"


def read(text: str, reference: str | None = None) -> object:
    return read_readings_csv(text.encode(), "t.csv", reference)


def example() -> Record:
    """Return a record with two workloads, a failure, another answer and a second measure."""
    return made_record(
        {"a,b": {"before": noisy(9, 0.1, seed=1), "after": noisy(9, 0.2, seed=2)},
         'say "x"': {"before": noisy(9, 0.1, seed=3), "after": noisy(9, 0.1, seed=4)}},
        failed={("a,b", "after"): [2]}, status=Status.CUT, answers={("a,b", "after"): 1}, answer_rule="output",
        more={"peak_memory": {name: {arm: noisy(9, 1e7, seed=5) for arm in ("before", "after")}
                              for name in ("a,b", 'say "x"')}},
    )  # fmt: skip


def test_exported_readings_are_decided_alike_when_they_come_back() -> None:
    """CSV keeps every bit of every reading, block, order and status."""
    record = example()
    back = read_readings_csv(readings_csv(record).encode(), "t.csv")
    for array in back.arrays:
        mine = np.flatnonzero((record.trials.workload == array.workload) & (record.trials.arm == array.arm))

        assert back.workloads[array.workload] == record.head.study.workloads[array.workload].name
        assert np.array_equal(array.readings, record.trials.readings[mine])
        assert np.array_equal(array.status, record.trials.status[mine])
        assert np.array_equal(array.order, record.trials.order[mine])


def test_a_whole_record_comes_back_the_same() -> None:
    """JSON keeps study, arms, machine, answers and trials; so the decision is the same document."""
    record = example()
    back = read_record_json(record_json(record), "r.json")

    assert back.head.study == record.head.study
    assert verdicts_json(decide(back)) == verdicts_json(decide(record))


def test_columns_come_in_any_order_and_unknown_ones_are_noted() -> None:
    """Only names count; what is not known is ignored, and said."""
    text = (
        "unit,value,colour,measure,arm,workload,block,order\nms,12,red,elapsed,old,w,0,1\nms,11,red,elapsed,new,w,0,0\n"
    )
    imported = read_readings_csv(text.encode(), "t.csv")

    assert imported.arms == ("old", "new")
    assert [array.readings.ravel().tolist() for array in imported.arrays] == [[0.012], [0.011]]
    assert any("colour" in note for note in imported.notes)


def test_rows_of_one_trial_and_measure_are_its_samples() -> None:
    """The trial's reading is their median; all values are kept."""
    rows = "".join(f"w,{arm},0,0,elapsed,{v},s\n" for arm in ("old", "new") for v in (1, 2, 9))
    arrays = read_readings_csv((HEAD + rows).encode(), "t.csv").arrays

    assert [array.readings.tolist() for array in arrays] == [[[2.0]], [[2.0]]]
    assert [values.tolist() for array in arrays for _, _, values in array.samples] == [[1, 2, 9], [1, 2, 9]]


def test_without_blocks_every_row_is_a_trial_and_with_an_order_those_that_share_it() -> None:
    """Unpaired trials become one array per workload, arm and measure."""
    free = HEAD + "".join(f"w,{arm},,,elapsed,{v},s\n" for arm in ("old", "new") for v in (1, 2, 9))
    ordered = HEAD + "".join(
        f"w,{arm},,{o},elapsed,{v},s\n" for arm in ("old", "new") for o, v in ((0, 1), (0, 3), (1, 9))
    )

    assert [a.readings.ravel().tolist() for a in read_readings_csv(free.encode(), "t.csv").arrays] == [
        [1, 2, 9],
        [1, 2, 9],
    ]
    assert [a.readings.ravel().tolist() for a in read_readings_csv(ordered.encode(), "t.csv").arrays] == [
        [2, 9],
        [2, 9],
    ]


def test_units_starts_machines_and_statuses_are_understood() -> None:
    """Any unit of time, seconds or ISO 8601, a machine per block, a failed trial without a value."""
    text = (
        "workload,arm,block,order,measure,value,unit,status,start,machine\n"
        "w,base,1,0,elapsed,5e3,us,ok,2026-05-01T10:00:00Z,gull\nw,new,1,1,elapsed,,s,exit,1777629601.5,gull\n"
        "w,base,1,1,elapsed,6,ms,,,tern\nw,new,1,0,elapsed,nan,s,,,tern\n"
    )
    imported = read_readings_csv(text.encode(), "t.csv")
    base, new = imported.arrays

    assert imported.blocks == 2
    assert imported.machines == ("gull", "tern")
    assert base.status.tolist() == [0, 0]
    assert new.status.tolist() == [int(Status.EXIT), int(Status.INVALID)]
    assert base.readings.ravel().tolist() == pytest.approx([0.005, 0.006])
    assert imported.started_wall_s == 1777629600.0


@pytest.mark.parametrize(
    ("text", "clause"),
    [
        ("", "it is empty"),
        ("\n\n", "it is empty"),
        (HEAD, "no row below its first line"),
        ("a,b\n1,2\n", "there is no column workload, arm, measure, value, unit"),
        (HEAD.replace("unit", "units") + "w,old,0,0,elapsed,1,s\n", "there is no column unit"),
        (HEAD + "w,old,0,0,elapsed,fast,s\n", 'line 2: value: "fast" is no number'),
        (HEAD + "w,old,0,0,elapsed,inf,s\n", 'line 2: value: "inf" is no number'),
        (HEAD + "w,old,0,0,elapsed,,s\n", "line 2: value: it is empty"),
        (HEAD + "w,old,0,0,elapsed,1,s\nw,,0,1,elapsed,1,s\n", "line 3: arm: it is empty"),
        (HEAD + "w,old,0,0,elapsed,1,furlong\n", 'line 2: unit: "furlong" is no unit of elapsed'),
        (HEAD + "w,old,0,0,peak_memory,1,s\n", 'line 2: unit: "s" is no unit of peak_memory'),
        (HEAD + "w,old,0,0,mine,1,s\nw,new,0,0,mine,1,B\n", 'line 3: unit: "B" is no unit of mine'),
        (HEAD + "w,old,0,first,elapsed,1,s\n", 'line 2: order: "first" is no number'),
        (HEAD + "w,old,0,0.5,elapsed,1,s\n", 'line 2: order: "0.5" is no whole number'),
        (HEAD + "w,a,0,0,elapsed,1,s\nw,b,0,1,elapsed,1,s\n", "say --reference ARM, one of a, b"),
        (HEAD + "w,old,0,0,elapsed,1,s,8,9\n", "it is no CSV table"),
        (HEAD[:-1] + ",status\nw,old,0,0,elapsed,1,s,fine\n", 'line 2: status: "fine" is not known'),
        (HEAD[:-1] + ",start\nw,old,0,0,elapsed,1,s,noon\n", 'line 2: start: "noon" is no time'),
        (HEAD[:-1] + ",unit\nw,old,0,0,elapsed,1,s,s\n", "stands twice"),
        (HEAD + 'w,"old,0,0,elapsed,1,s\n', "t.csv: "),
        ("\0\1\2", "zero bytes"),
    ],
)
def test_damaged_readings_are_told_in_one_sentence(text: str, clause: str) -> None:
    """File, line, column and value stand in the sentence."""
    with pytest.raises(DataError) as caught:
        read(text)

    assert clause in str(caught.value)
    assert "\n" not in str(caught.value)


def test_bytes_that_are_no_text_are_refused() -> None:
    """Binary files are told as such, and an unknown reference is too."""
    with pytest.raises(DataError, match="no UTF-8 text"):
        read_readings_csv(b"\x89PNG\xff\xfe", "t.csv")
    with pytest.raises(DataError, match='no arm "x" for --reference; it has old'):
        read(HEAD + "w,old,0,0,elapsed,1,s\n", "x")


@pytest.mark.parametrize("text", ["", "{", "[]", "{}", '{"format": "bystander.record", "version": 9}',
                                  '{"format": "bystander.record", "version": 1}'])  # fmt: skip
def test_damaged_records_are_told_in_one_sentence(text: str) -> None:
    """What is no record is a DataError that names the file."""
    with pytest.raises(DataError, match=r"^r\.json: .+"):
        read_record_json(text, "r.json")


def places(value: object, path: tuple[object, ...] = ()) -> list[tuple[object, ...]]:
    """Return the paths of all values in a document, long lists by their first items only."""
    items = (
        list(value.items())
        if isinstance(value, dict)
        else list(enumerate(value))[:3]
        if isinstance(value, list)
        else []
    )
    return [path] * bool(path) + [p for key, item in items for p in places(item, (*path, key))]


DOCUMENT = record_json(example())
PLACES = places(json.loads(DOCUMENT))
ODD = [None, True, -1, 3, 1e300, 10**30, "x", "\x1b[2J<b>", [], {}, [1, "a"], {"a": 1}, [None], float("nan")]


@given(st.sampled_from(PLACES), st.sampled_from(ODD))
@settings(max_examples=400)
def test_a_record_with_a_damaged_value_is_told_or_decided(path: tuple[object, ...], odd: object) -> None:
    """Whatever part is replaced by something else: one sentence, or a record that every output can show."""
    document = json.loads(DOCUMENT)
    inner = document
    for key in path[:-1]:
        inner = inner[key]
    inner[path[-1]] = odd
    try:
        record = read_record_json(json.dumps(document), "r.json")
    except DataError as error:
        assert "\n" not in str(error)
        return
    decision = decide(record)
    for write in (verdicts_json, page, markdown):
        assert write(decision)
    assert readings_csv(record)
    assert record_arrays(record)


@given(st.binary(max_size=200))
def test_no_bytes_make_the_reader_stumble(data: bytes) -> None:
    """Any bytes behind a right first line are readings or a DataError."""
    for head in (b"", HEAD.encode(), (HEAD + "w,old,0,0,elapsed,1,s\n").encode()):
        try:
            read_readings_csv(head + data, "t.csv")
        except DataError as error:
            assert str(error).startswith("t.csv: ")


def test_the_verdicts_document_keeps_to_its_schema() -> None:
    """Unbounded and undefined numbers are null; the summary counts primary rows."""
    for record in (
        example(),
        made_record({"w": {"now": noisy(5, 1)}}),
        made_record({"w": {"a": [1.0], "b": [2.0]}}),
    ):
        document = json.loads(verdicts_json(decide(record, Options())))
        jsonschema.validate(document, SCHEMA)
        primary = [result for result in document["results"] if result["primary"]]

        assert sum(document["summary"].values()) == len(primary)
    assert primary[0]["interval"] == [None, None]
    assert math.isclose(primary[0]["ratio"], 2.0)
