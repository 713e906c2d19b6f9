"""Going into inspections that are kept: parts of paths, neighbours, the way down, lines; nothing runs again."""

from __future__ import annotations

import io
import json
import shutil
from dataclasses import replace
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import jsonschema
import numpy as np
import pytest
from conftest import Run
from hypothesis import given
from hypothesis import strategies as st
from rich.console import Console

from bystander.archive import Archive
from bystander.cli.shown.console import STYLES
from bystander.cli.shown.inside.within import print_beside
from bystander.design import (
    BUILT_IN,
    PYTHON,
    Account,
    CallEdge,
    Change,
    Counts,
    Lead,
    Place,
    Stacks,
    Standing,
    Task,
    place_label,
)
from bystander.errors import UsageError
from bystander.evidence import (
    Narrowing,
    matching_places,
    narrowed_counts,
    narrowed_stacks,
    neighbours_of_one,
    seconds_by_line,
    sums_of,
    way_down,
)
from bystander.exchange import leads_sarif, within_json
from bystander.flow.commands.demo import recorded
from bystander.flow.leads.edits import moved_on
from bystander.flow.leads.kept import Choice, kept_inspections
from bystander.flow.leads.within import beside_of

ROOT = Path(__file__).parents[1]
SCHEMA = json.loads((ROOT / "docs" / "within.schema.json").read_text(encoding="utf-8"))
MAIN, PLAN, FIT, SORT = (
    Place(PYTHON, "main", "/arm/quay/main.py", 3), Place(PYTHON, "plan", "/arm/quay/berths.py", 10),
    Place(PYTHON, "fit", "/arm/quay/berths.py", 30), Place(PYTHON, "sort", "/usr/lib/python3.11/heapq.py", 5),
)  # fmt: skip
LEN = Place(BUILT_IN, "len")
PLACES = (MAIN, PLAN, FIT, SORT)


def stacks(paths: list[tuple[list[tuple[Place, int]], int]]) -> Stacks:
    """Return a trial from paths, each of places and lines, and the milliseconds that were spent at its end."""
    nodes: dict[tuple[int, int, int], int] = {}
    ends = []
    for path, _ in paths:
        at = -1
        for place, line in path:
            at = nodes.setdefault((at, PLACES.index(place), line), len(nodes))
        ends.append(at)
    columns = np.array(list(nodes), dtype=np.int64).reshape(-1, 3)
    ns = np.array([ms * 1_000_000 for _, ms in paths], dtype=np.int64)
    zero, end = np.zeros(len(paths), dtype=np.int64), np.array(ends, dtype=np.int64)
    return Stacks(
        PLACES, (Task(1, 1, 0, "MainThread", 0, 10**9),), columns[:, 0], columns[:, 1], columns[:, 2], zero, zero, end,
        ns, zero, zero, zero, end, zero, zero - 1, ns, int(ns.sum()), 10**6,
    )  # fmt: skip


TRIAL = stacks([
    ([(MAIN, 4)], 5),
    ([(MAIN, 4), (PLAN, 12)], 10),
    ([(MAIN, 4), (PLAN, 13), (FIT, 31)], 20),
    ([(MAIN, 4), (PLAN, 13), (FIT, 32), (SORT, 7)], 40),
    ([(MAIN, 5), (FIT, 31)], 3),
    ([(MAIN, 5), (FIT, 33), (FIT, 31)], 2),  # recursion
])  # fmt: skip
COUNTS = Counts(
    (MAIN, PLAN, FIT, SORT, LEN),
    (CallEdge(-1, 0, 0, 1), CallEdge(0, 4, 1, 1), CallEdge(1, 13, 2, 400), CallEdge(0, 5, 2, 1),
     CallEdge(2, 33, 2, 1, 1), CallEdge(2, 32, 3, 400), CallEdge(1, 12, 4, 800)),
)  # fmt: skip


def seconds(one: Stacks) -> dict[str, int]:
    """Return the milliseconds of each path by its places."""
    found: dict[str, int] = {}
    for node, ns in zip(one.node.tolist(), one.processor_ns.tolist(), strict=True):
        names = []
        while node >= 0:
            names.append(one.places[one.place[node]].name)
            node = int(one.parent[node])
        key = " ".join(reversed(names))
        found[key] = found.get(key, 0) + ns // 1_000_000
    return found


def test_a_word_means_places() -> None:
    """By label, name, file, file and line, or pattern; the very label counts alone."""
    named = {
        "berths.fit": {FIT}, "fit": {FIT}, "quay/berths.py": {PLAN, FIT}, "quay/berths.py:10": {PLAN},
        "berths.*": {PLAN, FIT}, "*.py:3*": {MAIN, FIT}, "nothing": set(), "len": {LEN},
    }  # fmt: skip
    for pattern, expected in named.items():
        assert matching_places((*PLACES, LEN), pattern, "/arm") == expected, pattern
    other = Place(PYTHON, "berths.fit", "/arm/other.py", 1)
    assert matching_places((FIT, other), "berths.fit", "/arm") == {FIT}


def test_only_what_lies_under_a_place() -> None:
    """From the outermost on: recursion stays inside; times outside are left out, and the trial's length stays."""
    part = narrowed_stacks(TRIAL, Narrowing(under={FIT}.__contains__))

    assert seconds(part) == {"fit": 23, "fit sort": 40, "fit fit": 2}
    assert part.elapsed_ns.sum() == 65_000_000
    assert part.length_ns == TRIAL.length_ns


def test_what_lies_under_a_place_is_left_out() -> None:
    """With the place itself; what remains sums to the rest."""
    part = narrowed_stacks(TRIAL, Narrowing(without={FIT}.__contains__))

    assert seconds(part) == {"main": 5, "main plan": 10}


def test_libraries_count_with_who_calls_them() -> None:
    """At the line that calls them; nothing is lost."""
    part = narrowed_stacks(TRIAL, Narrowing(folded={SORT}.__contains__))

    assert seconds(part) == {"main": 5, "main plan": 10, "main plan fit": 60, "main fit": 3, "main fit fit": 2}
    assert part.processor_ns.sum() == TRIAL.processor_ns.sum()


@given(st.sets(st.sampled_from(PLACES)), st.sets(st.sampled_from(PLACES)))
def test_under_and_without_part_the_whole(under: set[Place], without: set[Place]) -> None:
    """What lies under some places and what lies without them sum to the whole; an order is not needed."""
    inside = narrowed_stacks(TRIAL, Narrowing(under=under.__contains__))
    outside = narrowed_stacks(TRIAL, Narrowing(without=under.__contains__))
    both = narrowed_stacks(TRIAL, Narrowing(under=under.__contains__, without=without.__contains__))

    assert inside.processor_ns.sum() + outside.processor_ns.sum() == TRIAL.processor_ns.sum()
    assert both.processor_ns.sum() <= inside.processor_ns.sum()
    assert (both.parent < np.arange(both.parent.size)).all()


def test_calls_under_a_place_are_those_of_what_it_may_call() -> None:
    """Who calls it stays; what only others call goes."""
    part = narrowed_counts(COUNTS, {FIT}, set())
    assert {(COUNTS.places[e.caller].name, COUNTS.places[e.callee].name, e.calls) for e in part.edges} == {
        ("plan", "fit", 400), ("main", "fit", 1), ("fit", "fit", 1), ("fit", "sort", 400),
    }  # fmt: skip
    left = narrowed_counts(COUNTS, None, {FIT})
    assert {COUNTS.places[e.callee].name for e in left.edges} == {"main", "plan", "len"}


def test_callers_share_the_whole_of_a_place() -> None:
    """Disjoint parts, recursion once; exact calls, and calls for one call of the caller."""
    whole, rows = neighbours_of_one(sums_of([TRIAL], "elapsed"), [COUNTS], {FIT}, above=True)
    told = {one.place.name if one.place else "": (one.seconds.after_s, one.calls_after, one.each_after) for one in rows}

    assert whole.after_s == pytest.approx(0.065)
    assert told == {"plan": (pytest.approx(0.060), 400, 400.0), "main": (pytest.approx(0.005), 1, 1.0)}


def test_what_a_place_calls_and_itself_share_its_whole() -> None:
    """A built-in has calls only; recursion is time of the place itself."""
    whole, rows = neighbours_of_one(sums_of([TRIAL], "elapsed"), [COUNTS], {FIT}, above=False)
    told = {one.place.name if one.place else "itself": (one.seconds.after_s, one.calls_after) for one in rows}
    assert told == {"sort": (pytest.approx(0.040), 400), "itself": (pytest.approx(0.025), None)}
    assert whole.after_s == pytest.approx(sum(seconds for seconds, _ in told.values()))

    _, rows = neighbours_of_one(sums_of([TRIAL], "elapsed"), [COUNTS], {PLAN}, above=False)
    told = {one.place.name if one.place else "itself": (one.seconds.after_s, one.each_after) for one in rows}
    assert told == {"fit": (pytest.approx(0.060), 400.0), "itself": (pytest.approx(0.010), None), "len": (0.0, 800.0)}


def test_the_way_down_ends_where_most_is_spent() -> None:
    """Lines are taken together; each step is the longest part of the one before."""
    steps, alone, total = way_down(sums_of([TRIAL], "elapsed"))

    assert [(step.place.name, round(1000 * step.whole_s)) for step in steps] == [
        ("main", 80), ("plan", 70), ("fit", 60), ("sort", 40),
    ]  # fmt: skip
    assert (alone, total) == (pytest.approx(0.040), pytest.approx(0.080))


def test_lines_share_the_whole_of_a_place() -> None:
    """With what is called there and without; a line of a recursion counts where it stands."""
    whole, lines = seconds_by_line(sums_of([TRIAL], "elapsed"), {FIT})

    assert whole == pytest.approx(0.065)
    assert {line: tuple(round(1000 * s) for s in pair) for line, pair in lines.items()} == {31: (25, 25), 32: (40, 0)}


@pytest.fixture(scope="module")
def laid(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The harbour office as it was recorded, with its inspections; read once."""
    folder = tmp_path_factory.mktemp("harbour") / ".bystander"
    recorded(folder / "archive.sqlite")
    return folder


@pytest.fixture
def harbour(laid: Path, tmp_path: Path) -> Path:
    """A copy of it, in which entries can be written."""
    shutil.copytree(laid, tmp_path / ".bystander")
    return tmp_path


def test_leads_go_into_places(harbour: Path, run: Run) -> None:
    """Of two states and of one: parts say how much they are, tables sum, and one document tells the same."""
    under = run("leads", "--only", "gauge", "--under", "telegrams.parse").stdout
    assert "Only what lies under telegrams.parse: 38.4 ms of 129 ms a trial under before," in " ".join(under.split())
    assert "That part of gauge takes 37 ms" in under
    assert "Timed, unwatched: slower by" in under
    left = run("leads", "--only", "gauge", "--without", "telegrams.*").stdout
    assert "No place is shown to have changed." in left
    above = run("leads", "--only", "gauge", "--above", "telegrams.parse").stdout
    assert "19,200 times in one call of telegrams.summary" in above
    down = " ".join(run("leads", "--only", "gauge", "--down").stdout.split())
    assert "after: tidebook.__main__ > tidebook.__main__.main > telegrams.summary > telegrams.parse, alone" in down
    alone = run("leads", "--only", "gauge", "--arm", "after", "--libraries", "with-callers").stdout
    assert "enum" not in alone.partition("Built-ins")[0]
    plain = json.loads(run("leads", "--only", "gauge", "--arm", "after", "--json").stdout)
    with_imports = json.loads(
        run("leads", "--only", "gauge", "--arm", "after", "--imports", "with-callers", "--json").stdout
    )
    at_start, everywhere = (one["groups"][0] for one in (with_imports, plain))
    assert (at_start["label"], everywhere["label"]) == ("imports", "imports")
    assert at_start["alone_s"] < 0.7 * everywhere["alone_s"]  # what the interpreter imports for itself has no caller
    assert sum(one["alone_s"] for one in with_imports["places"] if one["alone_s"]) > sum(
        one["alone_s"] for one in plain["places"] if one["alone_s"]
    )
    lines = run("leads", "--only", "gauge", "--lines", "telegrams.parse").stdout
    assert "Its source is not here" in lines  # it was recorded elsewhere: no file that it names is read

    place = "telegrams.parse"
    words = ("--only", "gauge", "--above", place, "--below", place, "--down", "--lines", place)
    document = json.loads(run("leads", *words, "--json").stdout)
    jsonschema.validate(document, SCHEMA)
    callers, called = document["neighbours"]
    for table in (callers, called):
        for end in ("before_s", "after_s", "change_s"):
            assert sum(row["seconds"][end] for row in table["rows"]) == pytest.approx(table["whole"][end], abs=1e-9)
    assert callers["rows"][0]["calls"] == [19200, 19200]
    assert {row["place"]["label"]: row["calls"] for row in called["rows"] if row["place"]}["len"] == [19200, 0]
    account = json.loads(run("leads", "--only", "gauge", "--json").stdout)["accounts"][0]
    parse = next(one for one in account["places"] if one["label"] == "telegrams.parse")
    assert callers["whole"]["change_s"] == pytest.approx(parse["whole"]["change_s"], rel=1e-6)
    for arm, one in zip(("before", "after"), document["lines"], strict=True):
        assert one["arm"] == arm
        assert sum(line["whole_s"] for line in one["lines"]) == pytest.approx(one["whole_s"], rel=1e-6)


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("--only", "gauge", "--under", "telegrams.prase"), "did you mean telegrams.parse or "),
        (("--only", "gauge", "--lines", "telegrams.*"), "means 2 places; name one: telegrams.parse, telegrams.summary"),
        (("--only", "gauge", "--lines", "len"), "tells a line"),
        (("--down",), "one workload is gone into at a time"),
        (("--only", "gauge", "--libraries", "away"), "it is apart or with-callers"),
        (("--only", "gauge", "--imports", "away"), "it is apart or with-callers"),
        (("--only", "gauge", "--down", "--to", "x.csv"), "--to is for all places"),
        (("--only", "gauge", "--down", "--first", "3"), "--first is for all places"),
    ],
)
def test_what_cannot_be_gone_into_is_told(harbour: Path, run: Run, words: tuple[str, ...], said: str) -> None:
    """In one sentence, with what would be right."""
    assert said in run("leads", *words, code=2).stderr


def test_what_was_judged_once_does_not_top_the_list_again(harbour: Path, run: Run) -> None:
    """It stands behind all others with the reason, in every output; one to be tried stays on top, marked."""
    said = run("settle", "telegrams.parse", "as-expected", "--because", "each telegram is checked").stdout
    assert "telegrams.parse in gauge is as-expected: it is telegrams.parse, edited, +37 ms" in said
    run("settle", "plotter.Plotter._plot", "leave-alone", "--because", "hardware")

    gauge = " ".join(run("leads", "--only", "gauge").stdout.split())
    assert "most of it at line 18; as-expected since" in gauge
    assert "each telegram is checked (harbour-office-1/inspected-1)" in gauge
    chart = " ".join(run("leads", "--only", "chart").stdout.split())
    assert "Left alone: plotter.Plotter._plot," in chart
    assert "what is left to win is" in chart
    document = json.loads(run("leads", "--json").stdout)
    jsonschema.validate(document, json.loads((ROOT / "docs" / "accounts.schema.json").read_text(encoding="utf-8")))
    leads = {one["workload"]: one["leads"] for one in document["accounts"]}
    assert [lead["settled"] for lead in leads["gauge"]] == [True]
    alone = run("leads", "--only", "gauge", "--arm", "after").stdout
    assert "Settled: telegrams.parse, 74.9 ms, as-expected since" in " ".join(alone.split())
    assert "as-expected since" in run("decide").stdout
    run("report", "--to", "page.html")
    assert "each telegram is checked" in (harbour / "page.html").read_text(encoding="utf-8")

    run("settle", "telegrams.parse", "try", "--because", "a table may do")
    again = json.loads(run("leads", "--only", "gauge", "--json").stdout)["accounts"][0]["leads"][0]
    assert (again["settled"], again["fate"].startswith("try since")) == (False, True)


def test_a_place_that_costs_more_is_on_top_again(harbour: Path, run: Run) -> None:
    """By its interval and the margin, of two states; by its cost and the margin, of one; and that is said."""
    run("settle", "telegrams.parse", "as-expected", "--because", "checked")
    file = harbour / "bystander.settled.toml"
    text = file.read_text(encoding="utf-8")
    assert 'up_to = "50.8' in text
    file.write_text(text.replace('up_to = "50.8', 'up_to = "0.8').replace('cost = "74', 'cost = "14'), encoding="utf-8")
    two = " ".join(run("leads", "--only", "gauge").stdout.split())
    assert "as-expected since" in two
    assert "but it costs more than the 840 µs of then: checked" in two
    one = json.loads(run("leads", "--only", "gauge", "--arm", "after", "--json").stdout)
    parse = next(row for row in one["places"] if row["label"] == "telegrams.parse")
    assert (parse["settled"], "costs more than the 14" in parse["fate"]) == (False, True)


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("telegrams.prase", "try"), 'met a place "telegrams.prase"'),
        (("telegrams.parse", "soon"), "of a place as-expected, leave-alone, not-worth-it or try"),
        (("telegrams.*", "try"), "means 2 places; name one"),
        (("telegrams.parse", "try", "--until", "2027-03-01"), "are for a workload that is accepted"),
        (("tides.level", "try", "--only", "gauge"), 'met a place "tides.level"'),
    ],
)
def test_what_cannot_be_judged_is_told(harbour: Path, run: Run, words: tuple[str, ...], said: str) -> None:
    """In one sentence; nothing is written."""
    assert said in run("settle", *words, "--because", "x", code=2).stderr
    assert not (harbour / "bystander.settled.toml").exists()


@pytest.mark.parametrize(
    ("lines", "said"),
    [
        ('fate = "soon"', 'place 1: fate: "soon" is no fate of a place'),
        ('cost = "much"', "place 1:"),
        ("colour = 1", "place 1: colour: there is no such key"),
        ('place = ""', "place 1: place:"),
    ],
)
def test_wrong_entries_on_places_are_told(harbour: Path, run: Run, lines: str, said: str) -> None:
    """With the entry, the key and what would be right."""
    run("settle", "telegrams.parse", "try", "--because", "x")
    file = harbour / "bystander.settled.toml"
    key = lines.partition(" ")[0]
    kept = [line for line in file.read_text(encoding="utf-8").splitlines() if not line.startswith(f"{key} =")]
    file.write_text("\n".join([*kept, lines, ""]), encoding="utf-8")
    assert said in run("leads", code=2).stderr


SARIF = json.loads((ROOT / "tests" / "data" / "sarif-2.1.0-rtm.4.json").read_text(encoding="utf-8"))


def test_leads_are_shown_at_their_lines_by_a_review(harbour: Path, run: Run) -> None:
    """One result a lead, at file and line of the candidate; by the format's own schema. Settled ones are suppressed."""
    run("settle", "telegrams.parse", "as-expected", "--because", "each telegram is checked")
    assert "leads.sarif is written" in run("leads", "--to", "leads.sarif").stdout
    document = json.loads((harbour / "leads.sarif").read_text(encoding="utf-8"))
    jsonschema.Draft4Validator(SARIF).validate(document)
    (found,) = document["runs"]
    parse = next(one for one in found["results"] if one["properties"]["place"] == "telegrams.parse")

    assert (parse["ruleId"], parse["level"]) == ("slower-place", "warning")
    assert parse["message"]["text"].startswith("gauge: telegrams.parse, edited, +37 ms (+22 to +51).")
    assert parse["locations"][0]["physicalLocation"] == {
        "artifactLocation": {"uri": "tidebook/telegrams.py", "uriBaseId": "SRCROOT"}, "region": {"startLine": 18},
    }  # fmt: skip
    assert "each telegram is checked" in parse["suppressions"][0]["justification"]
    leads = [lead for one in json.loads(run("leads", "--json").stdout)["accounts"] for lead in one["leads"]]
    assert len(found["results"]) == len(leads)
    assert sum("suppressions" in one for one in found["results"]) == 1
    assert "one state alone has none" in run("leads", "--arm", "after", "--to", "x.sarif", code=2).stderr


def test_hostile_places_are_valid_sarif() -> None:
    """Names, files and reasons of any letters; what lies outside the arm has no location."""
    seconds = Change(0.01, 0.05, 0.04, 0.03, 0.05)
    evil = 'a\x1b[31m</script>\ud800\n"%00'
    leads = tuple(
        Lead(Place(PYTHON, evil, file, 3), Standing.EDITED, seconds, fate=evil, settled=True)
        for file in (f"/arm/{evil}.py", "/usr/lib/python3.11/x.py", "<string>", "", "/arm/../etc/passwd")
    )
    account = Account(
        evil, evil, evil, evil, "elapsed", 12, 0.95, seconds, seconds, seconds, 0.0, leads, roots=("", "/arm")
    )
    document = json.loads(leads_sarif([account]))
    jsonschema.Draft4Validator(SARIF).validate(document)

    assert ["locations" in one for one in document["runs"][0]["results"]] == [True, False, False, False, False]


def test_more_is_a_warning_and_less_a_note() -> None:
    """In a review: of seconds, and of calls that take no time that is shown."""
    more, less = Change(0.01, 0.05, 0.04, 0.03, 0.05), Change(0.05, 0.01, -0.04, -0.05, -0.03)
    place, same = Place(PYTHON, "f", "/arm/f.py", 3), Change(0.0, 0.0, 0.0, -0.01, 0.01)
    leads = (
        Lead(place, Standing.EDITED, more), Lead(place, Standing.EDITED, less),
        Lead(place, Standing.UNTOUCHED, same, calls_before=1, calls_after=9, by_count=True),
        Lead(place, Standing.UNTOUCHED, same, calls_before=9, calls_after=1, by_count=True),
    )  # fmt: skip
    account = Account("w", "a", "b", "r", "elapsed", 12, 0.95, more, more, same, 0.0, leads, roots=("", "/arm"))
    (run,) = json.loads(leads_sarif([account]))["runs"]

    assert [(one["ruleId"], one["level"]) for one in run["results"]] == [
        ("slower-place", "warning"), ("faster-place", "note"), ("calls-changed", "warning"), ("calls-changed", "note"),
    ]  # fmt: skip


def test_two_hours_stand_side_by_side(harbour: Path, run: Run) -> None:
    """Exact calls that differ come first; seconds are shown as of different hours; what is not alike is refused."""
    with Archive(harbour / ".bystander" / "archive.sqlite") as archive:
        (kept,) = kept_inspections(archive, None, Choice(("gauge",)))
    assert kept.against is not None
    found = beside_of((kept, kept.arm), (kept, kept.against), "elapsed")
    differing = {place_label(row.place): (row.calls_then, row.calls_now) for row in found.rows if row.differs}

    assert differing["Pattern.fullmatch"] == (0, 19200)
    assert [row.differs for row in found.rows[: len(differing)]] == [True] * len(differing)
    parse = next(row for row in found.rows if place_label(row.place) == "telegrams.parse")
    assert (round(1000 * parse.then_s), round(1000 * parse.now_s), parse.calls_now) == (38, 75, 19200)
    document = json.loads(within_json((), (), (), found))
    jsonschema.validate(document, SCHEMA)
    assert document["beside"]["counted"]
    console = Console(file=io.StringIO(), width=80, theme=STYLES, no_color=True)
    print_beside(console, found, 15)
    text = console.file.getvalue()  # type: ignore[attr-defined]
    assert "of different hours, so that seconds are shown and not compared" in " ".join(text.split())
    assert max(map(len, text.splitlines())) <= 80
    bare = replace(kept, counts={kept.arm: kept.counts[kept.arm]})
    with pytest.raises(UsageError, match=r"calls were counted in .* under after and not in .* under before"):
        beside_of((kept, kept.arm), (bare, kept.against), "elapsed")
    words = ("leads", "--only", "gauge", "--arm", "after", "--beside", "harbour-office-1")
    assert "is the same on both sides" in run(*words, code=2).stderr
    assert "goes with --only" in run(*words, "--down", code=2).stderr


def test_leads_of_code_that_has_moved_on_say_so(tmp_path: Path) -> None:
    """Held against the study's folder as it is now: comments and other functions do not matter."""
    arm, study = tmp_path / "arm", tmp_path / "study"
    then = "def fit(ships):\n    return sorted(ships)\n\n\ndef plan(ships):\n    return fit(ships)\n"
    now = (
        "# a new head\ndef fit(ships):\n    return ships\n\n\ndef plan(ships):\n    # the same\n    return fit(ships)\n"
    )
    for folder, text in ((arm, then), (study, now)):
        folder.mkdir()
        (folder / "berths.py").write_text(text, encoding="utf-8")
    fit, plan = (Place(PYTHON, name, str(arm / "berths.py"), line) for name, line in (("fit", 1), ("plan", 5)))
    library = Place(PYTHON, "x", "/usr/lib/python3.11/heapq.py", 1)

    def kept(digest: str = "", observed: bool = True) -> Any:
        state = SimpleNamespace(folder=str(arm), facts=SimpleNamespace(digest=digest))
        return SimpleNamespace(
            head=SimpleNamespace(observed_here=observed, study_folder=str(study), arms=[state]), arm=0
        )

    assert moved_on(kept(), (fit, plan, library)) == {fit}
    assert moved_on(kept(digest="used where it lies"), (fit, plan)) == set()
    assert moved_on(kept(observed=False), (fit, plan)) == set()
    (study / "berths.py").unlink()
    assert moved_on(kept(), (fit, plan)) == {fit, plan}
