"""From what was seen to seconds at places: nothing is lost, nothing counts twice."""

from __future__ import annotations

import csv
import io
import json
from dataclasses import replace
from pathlib import Path
from typing import Any

import jsonschema
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from bystander.design import (
    BLOCKED,
    BUILT_IN,
    ENDED,
    PYTHON,
    QUEUED,
    RUNNING,
    WAITS,
    CallEdge,
    Caller,
    Counts,
    Place,
    PlaceTable,
    Stacks,
    Task,
    Watched,
    place_label,
    short_file,
)
from bystander.evidence import (
    COUNTS_KIND,
    STACKS_KIND,
    UNWATCHED_KIND,
    content_of,
    count_sentences,
    packed,
    place_table,
    stacks_of,
    sums_of,
    watching_cost,
)
from bystander.exchange import paths_csv, places_json

MS = 1_000_000
MAIN = Place(PYTHON, "main", "/quay/plan.py", 1)
SLEEP, LOCK, CHILD, SOCKET = (WAITS.index(name) for name in ("sleep", "lock", "child", "socket"))


def numbers(values: list[int]) -> Any:
    return np.array(values, dtype=np.int64)


def made(
    paths: list[list[Place]],
    tasks: list[Task],
    switches: list[tuple[int, int, int]],
    readings: list[tuple[int, int, int, int]],
    length_ms: int = 100,
) -> Watched:
    """Return a watched trial: switches are (ms, task, state), readings (ms, task, path, wait)."""
    places: list[Place] = []
    nodes: dict[tuple[int, int], int] = {}
    leaves = []
    for path in paths:
        node = -1
        for place in path:
            if place not in places:
                places.append(place)
            node = nodes.setdefault((node, places.index(place)), len(nodes))
        leaves.append(node)
    return Watched(
        0, length_ms * MS, "clock", MS, tuple(places), tuple(tasks),
        numbers([parent for parent, _ in nodes]), numbers([place for _, place in nodes]), numbers([1] * len(nodes)),
        numbers([at * MS for at, *_ in readings]), numbers([task for _, task, *_ in readings]),
        numbers([leaves[path] for _, _, path, _ in readings]), numbers([0] * len(readings)),
        numbers([wait for *_, wait in readings]), numbers([at * MS for at, *_ in switches]),
        numbers([task for _, task, _ in switches]), numbers([state for *_, state in switches]),
    )  # fmt: skip


def task(number: int, name: str = "python", process: int = 1, began: int = 0, ended: int = 100) -> Task:
    return Task(process, number, 0, name, began * MS, ended * MS)


def table(watched: Watched, view: str = "elapsed") -> PlaceTable:
    return place_table(sums_of([stacks_of(watched)], view), [], view, "gauge", "after", "quay-1/inspected-1")


def seconds(shown: PlaceTable) -> dict[str, tuple[float, float]]:
    """Return whole and alone of each place, in ms."""
    return {row.place.name: (round(1e3 * row.whole_s, 6), round(1e3 * row.alone_s, 6)) for row in shown.rows}


def place(name: str) -> Place:
    return Place(PYTHON, name, "/quay/plan.py", 10)


def test_cpu_time_is_shared_by_readings_and_waits_belong_to_what_was_seen_in_them() -> None:
    """Each reading stands for half the way to the next; a wait that nobody saw is like the nearest that was seen."""
    watched = made(
        [[MAIN, place("fit")], [MAIN, place("sort")], [MAIN, place("nap")]], [task(1)],
        [(0, 0, RUNNING), (40, 0, BLOCKED), (60, 0, RUNNING), (90, 0, BLOCKED), (95, 0, RUNNING)],
        [(10, 0, 0, 0), (30, 0, 1, 0), (50, 0, 2, SLEEP), (80, 0, 1, 0)],
    )  # fmt: skip
    shown = table(watched)

    assert seconds(shown) == {"main": (100, 0), "fit": (20, 20), "sort": (55, 55), "nap": (25, 25)}
    assert shown.processor_s == pytest.approx(0.075)
    assert {row.place.name: dict(row.waits) for row in shown.rows if row.waits} == {"nap": {"sleep": 0.025}}
    assert shown.waits == {"sleep": pytest.approx(0.025)}
    assert seconds(table(watched, "processor")) == {"main": (75, 0), "fit": (20, 20), "sort": (55, 55), "nap": (0, 0)}
    assert seconds(table(watched, "waiting"))["nap"] == (25, 25)


def test_a_tick_that_was_answered_late_says_nothing_of_cpu_time() -> None:
    """Where the thread ran on for more than 200 µs in between, it is elsewhere by then."""
    watched = made(
        [[place("fit")], [place("sort")]], [task(1)], [(0, 0, RUNNING)],
        [(20, 0, 0, 0), (50, 0, 1, 0), (80, 0, 0, 0)],
    )  # fmt: skip
    late = replace(watched, tick_ns=numbers([20 * MS, 49 * MS, 80 * MS]))

    assert seconds(table(watched)) == {"fit": (70, 70), "sort": (30, 30)}
    assert seconds(table(late)) == {"fit": (100, 100), "sort": (0, 0)}


def test_recursion_counts_once_and_imports_are_taken_together() -> None:
    """However deep, and also by way of another place."""
    importing = Place(PYTHON, "_find_and_load", "<frozen importlib._bootstrap>", 1)
    watched = made(
        [[MAIN, place("ebb"), place("flood"), place("ebb")], [MAIN, place("ebb")], [MAIN, importing, place("top")],
         [Place("start", "interpreter start")]],
        [task(1)], [(0, 0, RUNNING)], [(10, 0, 3, 0), (30, 0, 0, 0), (50, 0, 1, 0), (90, 0, 2, 0)],
    )  # fmt: skip
    shown = table(watched)

    assert seconds(shown) == {"main": (50, 0), "ebb": (50, 50), "flood": (20, 0)}
    assert {row.place.name: round(1e3 * row.whole_s) for row in shown.groups} == {"imports": 30, "interpreter": 20}


def test_a_wait_is_followed_to_the_thread_that_ended_it() -> None:
    """Its own waits too; sleep is not followed, nor is what a thread did while nobody waited for it."""
    watched = made(
        [[MAIN, place("join")], [place("draw")], [place("plot")], [MAIN, place("nap")]],
        [task(1), task(2, "plotter", began=5, ended=70), task(3, "other")],
        [(0, 0, RUNNING), (10, 0, BLOCKED), (70, 0, RUNNING), (80, 0, BLOCKED), (95, 0, RUNNING),
         (5, 1, RUNNING), (40, 1, BLOCKED), (60, 1, RUNNING), (70, 1, ENDED), (0, 2, BLOCKED), (75, 2, RUNNING)],
        [(5, 0, 0, 0), (11, 0, 0, LOCK), (75, 0, 0, 0), (85, 0, 3, SLEEP), (97, 0, 3, 0),
         (20, 1, 1, 0), (50, 1, 2, SOCKET), (65, 1, 1, 0), (90, 2, 1, 0)],
    )  # fmt: skip
    shown = table(watched)
    found = seconds(shown)

    assert found["plotter"] == (60, 0)
    assert found["draw"] == (40, 40)  # 30 and 10 ms of those in which it was waited for
    assert found["plot"] == (20, 20)
    assert found["nap"] == (21.5, 21.5)  # the wait, and half of the 7 ms of CPU time since the reading before, and 3
    assert shown.elapsed_s == pytest.approx(0.1)
    assert shown.waits == {"socket": pytest.approx(0.02), "sleep": pytest.approx(0.015)}
    assert {row.name for row in shown.tasks} == {"python", "plotter", "other"}


def test_a_child_is_followed_from_its_beginning_to_its_end() -> None:
    """What the waiting one did before and after stays its own."""
    watched = made(
        [[MAIN, place("run")], [place("child work")]],
        [task(1), Task(2, 2, 1, "python", 20 * MS, 60 * MS)],
        [(0, 0, RUNNING), (10, 0, BLOCKED), (65, 0, RUNNING), (20, 1, RUNNING), (60, 1, ENDED)],
        [(5, 0, 0, 0), (30, 0, 0, CHILD), (80, 0, 0, 0), (40, 1, 1, 0)],
    )  # fmt: skip

    assert seconds(table(watched))["child work"] == (40, 40)
    assert seconds(table(watched))["run"] == (100, 60)


@st.composite
def trials(draw: st.DrawFn) -> Watched:
    """Watched trials of any kind: up to four threads of two processes, in any order."""
    count = draw(st.integers(1, 4))
    paths = [[MAIN], [MAIN, place("fit")], [MAIN, place("fit"), MAIN], [Place("program", "sh")]]
    tasks = [task(k + 1, f"thread {k}", draw(st.integers(1, 2)) if k else 1) for k in range(count)]
    state = st.sampled_from((RUNNING, QUEUED, BLOCKED))
    switched = st.lists(st.tuples(st.integers(0, 99), st.integers(0, count - 1), state), max_size=30)
    switches = [(0, 0, RUNNING), *draw(switched)]
    readings = draw(
        st.lists(
            st.tuples(st.integers(0, 99), st.integers(0, count - 1), st.integers(0, 3), st.integers(0, len(WAITS) - 2)),
            max_size=30,
        )
    )
    return made(paths, tasks, switches, readings)


@given(trials())
def test_no_time_is_lost_and_none_counts_twice(watched: Watched) -> None:
    """The main thread's time is there whole; CPU time of each thread is what the switches say; whole holds alone."""
    stacks = stacks_of(watched)
    for number in range(len(watched.tasks)):
        mine = watched.switch_task == number
        order = np.argsort(watched.switch_ns[mine], kind="stable")
        at, state = watched.switch_ns[mine][order], watched.switch_state[mine][order]
        lengths = np.diff(np.append(at, 100 * MS))
        begun = int(at[0]) if at.size else 0  # until then it stood in the queue
        assert stacks.processor_ns[stacks.task == number].sum() == lengths[state == RUNNING].sum()
        if (stacks.task == number).any() and (watched.task == number).any():
            assert stacks.waiting_ns[stacks.task == number].sum() == lengths[state == BLOCKED].sum()
            assert stacks.queued_ns[stacks.task == number].sum() == lengths[state == QUEUED].sum() + begun
    assert stacks.elapsed_ns.sum() == pytest.approx(100 * MS, abs=20)
    shown = table(watched)
    assert all(row.whole_s >= row.alone_s - 1e-12 for row in shown.rows)
    assert sum(row.alone_s for row in (*shown.rows, *shown.groups)) == pytest.approx(0.1, abs=1e-7)
    assert same(content_of(packed(STACKS_KIND, stacks, {})), stacks)
    assert same(STACKS_KIND.of_table(json.loads(json.dumps(STACKS_KIND.table(stacks)))), stacks)


def same(one: Stacks, other: Stacks) -> bool:
    """Whether two stacks hold the same."""
    return STACKS_KIND.table(one) == STACKS_KIND.table(other)


def test_damaged_stacks_are_refused() -> None:
    """Whatever stands for nothing: places, threads, nodes, waits, a path that lies in itself, columns cut off."""
    good = STACKS_KIND.table(stacks_of(made([[MAIN]], [task(1)], [(0, 0, RUNNING)], [(5, 0, 0, 0)])))
    for key, value in (
        ("place", [7]), ("parent", [0]), ("task", [3]), ("node", [-1]), ("wait", [99]), ("elapsed_node", [5]),
        ("processor_ns", [-1]), ("line", []), ("at_ns", [0.5]), ("places", [["python", "f"]]), ("tasks", []),
    ):  # fmt: skip
        with pytest.raises((ValueError, TypeError)):
            STACKS_KIND.of_table({**good, key: value})
    data = STACKS_KIND.pack(STACKS_KIND.of_table(good))
    for cut in range(0, len(data), 7):
        with pytest.raises(ValueError, match=r"."):
            STACKS_KIND.unpack(data[:cut], 1)
    with pytest.raises(ValueError, match="version 9 of stacks is not known"):
        STACKS_KIND.unpack(data, 9)
    for wrong in ([[1.0]], [[1.0, 0.0]], [["a", 1.0]]):
        with pytest.raises((ValueError, TypeError)):
            UNWATCHED_KIND.of_table(wrong)


FIT, OPEN = place("fit"), Place(BUILT_IN, "io.open")
ONCE = Counts((MAIN, FIT, OPEN), (CallEdge(-1, 0, 0, 1), CallEdge(0, 12, 1, 80, 60, 5), CallEdge(1, 14, 2, 400)))


def counted_table(*counts: Counts) -> PlaceTable:
    watched = made([[MAIN, FIT]], [task(1)], [(0, 0, RUNNING)], [(50, 0, 0, 0)])
    return place_table(sums_of([stacks_of(watched)], "elapsed"), counts, "elapsed", "gauge", "after", "r")


def test_calls_stand_beside_seconds() -> None:
    """Time per call is by calls from outside; built-ins have calls only; two trials that agree are evidence."""
    shown = counted_table(ONCE, ONCE)
    rows = {row.place.name: row for row in shown.rows}

    assert (rows["fit"].calls, rows["fit"].inner, rows["fit"].resumed) == (80, 60, 5)
    assert rows["fit"].per_call_s == pytest.approx(0.1 / 20)
    assert rows["io.open"].calls == 400
    assert rows["io.open"].whole_s != rows["io.open"].whole_s
    assert rows["io.open"].per_call_s is None
    assert rows["io.open"].callers == (Caller(FIT, 400, 20.0),)  # of its 20 calls from outside
    assert (shown.calls, shown.repeats) == (481, True)


def test_calls_that_do_not_repeat_are_marked() -> None:
    """Place by place; one trial alone proves nothing."""
    other = replace(ONCE, edges=(*ONCE.edges[:2], CallEdge(1, 14, 2, 401)))
    shown = counted_table(ONCE, other)

    assert {row.place.name: row.repeats for row in shown.rows} == {"main": True, "fit": True, "io.open": False}
    assert shown.repeats is False
    assert "marked ~" in count_sentences([({}, ONCE), ({}, other)], shown)[0]
    alone = counted_table(ONCE)
    assert alone.repeats is None
    assert "counted once only" in count_sentences([({}, ONCE)], alone)[0]


def test_what_is_done_again_for_each_item_is_said() -> None:
    """A file opened once for each berth, a place called twice for each; not what a library does."""
    shown = counted_table(ONCE, ONCE)
    said = count_sentences([({"items": {"berths": 400.0}}, ONCE), ({}, ONCE)], shown)
    assert said == ["plan.fit calls io.open once for each of 400 berths: 400 times."]
    other = replace(ONCE, edges=(*ONCE.edges[:2], CallEdge(1, 14, 2, 800)))
    unequal = count_sentences([({"items": {"berths": 400.0}}, ONCE), ({}, other)], counted_table(ONCE, other))
    assert not any("io.open" in sentence for sentence in unequal)  # what does not repeat is no evidence
    said = count_sentences([({"items": {"ships": 40.0}}, ONCE), ({}, ONCE)], shown)
    assert "plan.fit is called 2 times for each of 40 ships." in said
    library = replace(ONCE, places=(MAIN, FIT._replace(file="/usr/lib/python3.12/json/decoder.py"), OPEN))
    assert (
        count_sentences([({"items": {"berths": 400.0}}, library), ({}, library)], counted_table(library, library)) == []
    )


def test_the_cost_of_watching_is_a_ratio_with_an_interval() -> None:
    """The pseudo-median of pairs; without six of them there is no interval at 95 %."""
    ratio, between = watching_cost([(1.02, 1.0), (1.04, 1.0), (1.03, 1.0)])
    assert ratio == pytest.approx(1.03, abs=1e-3)
    assert between is None
    ratio, between = watching_cost([(1 + k / 100, 1.0) for k in range(1, 9)])
    assert between
    assert ratio == pytest.approx(1.045, abs=2e-3)
    assert between[0] == pytest.approx(1.02, abs=0.012)
    assert between[1] == pytest.approx(1.07, abs=0.012)


def test_counts_are_packed_and_checked() -> None:
    """And come back the same; what stands for nothing is refused."""
    assert content_of(packed(COUNTS_KIND, ONCE, {})) == ONCE
    table = COUNTS_KIND.table(ONCE)
    for key, value in (
        ("edges", [[7, 0, 0, 1, 0, 0]]), ("edges", [[0, 0, 9, 1, 0, 0]]), ("edges", [[0, 0, 0, -1, 0, 0]]),
        ("edges", [[0, 0, 0, 1.5, 0, 0]]), ("places", [["quay", "f", "f.py", 1]]),
    ):  # fmt: skip
        with pytest.raises((ValueError, TypeError)):
            COUNTS_KIND.of_table({**table, key: value})


def test_documents_hold_what_is_shown() -> None:
    """JSON by its schema; CSV with one row a path, whose seconds add up to the whole."""
    watched = made([[MAIN, FIT], [MAIN]], [task(1)], [(0, 0, RUNNING)], [(50, 0, 0, 0), (90, 0, 1, 0)])
    sums = sums_of([stacks_of(watched), stacks_of(watched)], "elapsed")
    shown = place_table(sums, [ONCE, ONCE], "elapsed", "gauge", "after", "r")
    document = json.loads(places_json(shown, "whole"))
    schema = json.loads((Path(__file__).parents[1] / "docs" / "leads.schema.json").read_text(encoding="utf-8"))
    jsonschema.Draft202012Validator(schema).validate(document)
    rows = list(csv.DictReader(io.StringIO(paths_csv(sums))))

    assert sum(float(row["seconds"]) for row in rows) == pytest.approx(0.1)
    assert [row["path"] for row in rows] == ["main:1", "main:1 > fit:1"]
    assert [int(row["readings"]) for row in rows] == [2, 2]
    assert document["places"][0] | {"readings": 0} == {
        "label": "plan.main", "kind": "python", "name": "main", "file": "/quay/plan.py", "line": 1, "readings": 0,
        "whole_s": pytest.approx(0.1), "alone_s": pytest.approx(0.03), "calls": 1, "inner_calls": 0, "resumed": 0,
        "calls_repeat": True, "per_call_s": pytest.approx(0.1), "callers": [], "waits_s": {},
        "fate": None, "settled": False,
    }  # fmt: skip


@pytest.mark.parametrize(
    ("place", "label"),
    [
        (Place(PYTHON, "Plan.fit", "/quay/plan.py"), "plan.Plan.fit"),
        (Place(PYTHON, "<module>", "/q/plan.py"), "plan"),
        (Place(PYTHON, "main", "/q/tidebook/__main__.py"), "tidebook.__main__.main"),
        (Place(PYTHON, "run", "/q/tidebook/__init__.py"), "tidebook.run"),
        (Place(PYTHON, "f.<locals>.<lambda>", "<string>"), "<string>.f.<lambda>"),
        (Place(PYTHON, "join", "<frozen posixpath>"), "posixpath.join"), (Place(BUILT_IN, "io.open"), "io.open"),
        (Place("thread", "plotter"), "thread plotter"), (Place("imports", "imports"), "imports"),
    ],
)  # fmt: skip
def test_places_have_names_for_people(place: Place, label: str) -> None:
    """The module's file, and the function in it."""
    assert place_label(place) == label


@pytest.mark.parametrize(
    ("file", "short"),
    [
        ("/home/office/arm/tidebook/plan.py", "tidebook/plan.py"),
        ("/opt/site-packages/numpy/core.py", "numpy/core.py"),
        ("/usr/lib/python3.12/json/decoder.py", "python3.12/json/decoder.py"), ("<string>", "<string>"),
        ("/opt/other/plan.py", "/opt/other/plan.py"),
    ],
)  # fmt: skip
def test_files_are_shown_from_where_they_belong(file: str, short: str) -> None:
    """The arm's folder, packages, the standard library."""
    assert short_file(file, "/home/office/arm") == short
