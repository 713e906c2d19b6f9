"""Intervals on a time axis, held against counting every single moment."""

from __future__ import annotations

import base64
import json
from collections import Counter
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from bystander.design import Evidence, Lane, Payload, Timeline
from bystander.evidence import TIMELINE_KIND, content_of, packed
from bystander.evidence.kinds import _KINDS
from bystander.exchange import Spans, read_marks, read_spans, spans_json
from bystander.exchange.evidence_json import evidence_of, evidence_table
from bystander.stats import alone, covered, enclosing, outermost_of_name

SPANS = st.lists(st.tuples(st.integers(0, 30), st.integers(0, 12), st.integers(0, 2), st.integers(0, 2)), max_size=14)


def columns(spans: list[tuple[int, int, int, int]]) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Return begin, end, lane and name of drawn intervals (begin, length, lane, name)."""
    table = np.array(spans, dtype=np.int64).reshape(-1, 4)
    return table[:, 0], table[:, 0] + table[:, 1], table[:, 2], table[:, 3]


def moments(begin: int, end: int) -> set[int]:
    return set(range(begin, end))


@given(SPANS)
def test_the_union_is_every_moment_once(spans: list[tuple[int, int, int, int]]) -> None:
    """The length of a union, of all and of each group, is the number of moments in it."""
    begin, end, lane, _ = columns(spans)
    of_all = set().union(*(moments(b, e) for b, e in zip(begin, end, strict=True)))
    by_lane = [
        set().union(*(moments(b, e) for b, e, at in zip(begin, end, lane, strict=True) if at == one))
        for one in range(3)
    ]
    found = covered(begin, end, lane).tolist()

    assert covered(begin, end).tolist() == [len(of_all)]
    assert found + [0] * (3 - len(found)) == [len(one) for one in by_lane]


@given(SPANS)
def test_each_is_inside_the_innermost_around_it(spans: list[tuple[int, int, int, int]]) -> None:
    """The one around contains it, on its lane; and of what would do, none is shorter."""
    begin, end, lane, _ = columns(spans)
    around = enclosing(begin, end, lane).tolist()
    for i, outer in enumerate(around):
        fits = [
            j for j in range(len(spans))
            if j != i and lane[j] == lane[i] and begin[j] <= begin[i] and end[j] >= end[i]
            and ((begin[j], end[j]) != (begin[i], end[i]) or j < i)
        ]  # fmt: skip
        if outer < 0:
            # What would do was cut off by one that begins later and reaches beyond it.
            assert all(any(begin[j] < begin[k] <= begin[i] and end[k] > end[j] for k in range(len(spans))
                           if lane[k] == lane[i]) for j in fits)  # fmt: skip
        else:
            assert outer in fits


@given(SPANS)
def test_alone_is_what_nothing_directly_inside_covers(spans: list[tuple[int, int, int, int]]) -> None:
    """Held against moments; recursion is counted once."""
    begin, end, lane, name = columns(spans)
    around = enclosing(begin, end, lane)
    left = alone(begin, end, around).tolist()
    once = outermost_of_name(name, around).tolist()
    for i in range(len(spans)):
        inside = [j for j in range(len(spans)) if around[j] == i]
        own = moments(begin[i], end[i]) - set().union(*(moments(begin[j], end[j]) for j in inside))
        above, j = [], i
        while around[j] >= 0:
            j = around[j]
            above.append(name[j])

        assert left[i] == len(own)
        assert once[i] == (name[i] not in above)


def test_long_times_and_many_groups_do_not_overflow() -> None:
    """Hours in nanoseconds, in a hundred thousand groups."""
    n = 100_000
    begin = np.arange(n, dtype=np.int64) * 10**8
    found = covered(begin, begin + 5 * 10**12, np.arange(n))

    assert found.tolist() == [5 * 10**12] * n


LINES = b"""\
begin\t1000000\tload\t\t7\t1
begin\t1100000\tparse\tfile a\t7\t1
end\t1400000\tparse\tfile a\t7\t1
phase\t1500000\t200000\tparse\tfile b\t7\t1\t150000
end\t2000000\tload\t\t7\t1
begin\t2500000\tprint
end\t9\tnever begun
thread\t7\t1\tMain
items\trows\t40
items\trows\t2
reading\tpages\t12.5\tpages/s\tmore
reading\trest\t3\tms
interval\tanswer\t0.01
interval\tanswer\t0.03
deadline\tanswer\t0.02
cost\t7\t1000
what is this
phase\tsoon\t1\tx
reading\tbad\tnan
phase\t99999999999999999999\t1\tx
"""


def test_lines_are_read_and_what_says_nothing_is_counted() -> None:
    """Begin and end pair up, what never ended runs to the end, torn and wrong lines are counted."""
    told = read_marks(LINES + b"phase\t1700000\t10", 1_000_000, 3_000_000, 0)
    line = told.timeline
    rows = [
        (line.names[name], line.labels[label], begin, end)
        for name, label, begin, end in zip(line.name, line.label, line.begin_ns, line.end_ns, strict=True)
    ]

    assert rows == [
        ("parse", "file a", 100_000, 400_000), ("parse", "file b", 500_000, 700_000), ("load", "", 0, 1_000_000),
        ("print", "", 1_500_000, 3_000_000),
    ]  # fmt: skip
    assert line.unended.tolist() == [False, False, False, True]
    assert line.lanes == (Lane(7, 1, "Main"), Lane())
    assert line.cpu_ns.tolist() == [-1, 150_000, -1, -1]
    assert told.items == {"rows": 42.0}
    assert told.readings == {"pages": (12.5, "pages/s", "more"), "rest": (0.003, "s", "less")}
    assert told.intervals["answer"].tolist() == [0.01, 0.03]
    assert told.deadlines == {"answer": 0.02}
    assert told.cost_ns == 3000
    assert told.problems == {"broken lines": 5, "ends of nothing": 1, "phases without an end": 1}


def test_wall_clock_times_are_brought_to_the_trial() -> None:
    """A time from 10^18 up is on the wall clock."""
    offset = 1_700_000_000 * 10**9
    told = read_marks(f"phase\t{offset + 5_000}\t10\tx\n".encode(), 4_000, 2_000, offset)

    assert (told.timeline.begin_ns.tolist(), told.timeline.end_ns.tolist()) == ([1_000], [1_010])


@given(st.binary(max_size=300))
def test_any_bytes_are_read_or_counted(data: bytes) -> None:
    """Nothing that a program writes makes an error."""
    told = read_marks(LINES + data, 0, 10**9, 0)

    assert len(told.timeline) >= 4


@given(SPANS)
def test_a_timeline_comes_back_as_it_was_kept(spans: list[tuple[int, int, int, int]]) -> None:
    """Bytes and back."""
    line = made(spans)
    packet = packed(TIMELINE_KIND, line, {})
    back = content_of(packet)

    for name in line.__dataclass_fields__:
        assert np.array_equal(getattr(back, name), getattr(line, name)), name
    with pytest.raises(ValueError, match="damaged"):
        content_of(replace(packet, payload=Payload(packet.payload.data[:-3], "zlib")))


def made(spans: list[tuple[int, int, int, int]]) -> Timeline:
    """Return a timeline of drawn intervals."""
    begin, end, lane, name = columns(spans)
    return Timeline(
        ("a", "b", "c"), ("", "l"), (Lane(1, 1), Lane(1, 2, "second"), Lane(2, 1)), begin, end, end - begin - 1, name,
        np.zeros_like(name), lane, enclosing(begin, end, lane), np.zeros(len(spans), dtype=bool), 50,
    )  # fmt: skip


def test_bytes_of_a_known_kind_are_looked_at_like_its_content(monkeypatch: pytest.MonkeyPatch) -> None:
    """A program that did not know the kind wrote bytes; what is none of it, or would fill the memory, is refused."""
    packet = packed(TIMELINE_KIND, made([(0, 9, 0, 0), (2, 3, 0, 1)]), {"problems": {}, "labels": {}, "instances": 2})
    assert packet.payload
    told = evidence_table(packet)
    summary = {"summary": told["summary"], "kind": "timeline", "version": 1, "codec": "zlib"}

    def carried(data: bytes, codec: str = "zlib") -> Evidence:
        return evidence_of({**summary, "codec": codec, "payload": base64.b64encode(data).decode()})

    assert carried(packet.payload.data) == evidence_of(told) == packet
    for data, codec, clause in (
        (packet.payload.data[:-3], "zlib", "damaged"), (b"no timeline", "zlib", "damaged"), (b"none", "", "damaged"),
    ):  # fmt: skip
        with pytest.raises(ValueError, match=clause):
            carried(data, codec)
    monkeypatch.setitem(_KINDS, "timeline", replace(TIMELINE_KIND, most=100))
    with pytest.raises(ValueError, match="larger than"):
        carried(packet.payload.data)


@given(SPANS)
def test_spans_written_are_read_back(spans: list[tuple[int, int, int, int]]) -> None:
    """Names, times, threads and nesting survive OTLP's JSON form; the root span is the trial."""
    line, start = made(spans), 1_700_000_000 * 10**9
    text = spans_json(line, "ab" * 16, start, "year/0/after")
    gathered = Spans()
    read_spans(text, gathered, start)
    back = gathered.timeline(0, 50, Counter())

    def told(one: Timeline) -> list[tuple[object, ...]]:
        return sorted(
            (one.names[n], b, e, one.lanes[at].process, one.lanes[at].thread)
            for n, b, e, at in zip(one.name, one.begin_ns, one.end_ns, one.lane, strict=True)
        )

    trial = [("year/0/after", 0, 50, gathered.lanes and next(iter(gathered.lanes))[0], 0)]
    assert told(back) == sorted(told(line) + trial)
    root = back.name.tolist().index(back.names.index("year/0/after"))
    assert sum(around == root for around in back.around.tolist()) == sum(a < 0 for a in line.around.tolist())
    assert json.loads(text)["resourceSpans"]


SPAN = '{"resourceSpans": [{"scopeSpans": [{"spans": [%s]}]}]}'
BEYOND = SPAN % ('{"name": "x", "startTimeUnixNano": "1", "endTimeUnixNano": "1' + "0" * 40 + '"}')


@pytest.mark.parametrize("text", ["[]", "{}", "no json", SPAN % "{}", BEYOND, "[" * 100_000])
def test_what_holds_no_spans_is_told(text: str) -> None:
    """A file of another kind is an error of its own."""
    from bystander.errors import DataError

    with pytest.raises(DataError, match="it "):
        read_spans(text, Spans(), 0)


def test_odd_names_of_spans_are_taken_as_they_are() -> None:
    """What stands for a span need be no text."""
    gathered = Spans()
    read_spans(SPAN % '{"name": "x", "startTimeUnixNano": "5", "spanId": [1], "parentSpanId": {}}', gathered, 0)

    assert len(gathered.timeline(0, 9, Counter())) == 1
