"""Everything an inspection saw at once: outline, mirror, flow and places, as a page and as pictures."""

from __future__ import annotations

import re
from dataclasses import replace
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
from conftest import Run
from hypothesis import given
from hypothesis import strategies as st
from test_pictures import texts
from test_within import COUNTS, FIT, MAIN, PLACES, PLAN, SORT, TRIAL, stacks

from bystander.design import (
    PYTHON,
    Branch,
    Change,
    Edits,
    Flow,
    FlowPlace,
    Outline,
    Place,
    PlaceRow,
    PlaceTable,
    Ribbon,
    place_label,
)
from bystander.evidence import Asked, Both, Seen, flow_of_both, flow_of_one, outline_of_both, outline_of_one, sums_of
from bystander.flow.commands.demo import recorded
from bystander.report import InspectedView, flow_picture, inspected_page, mirror_picture
from bystander.report.pieces.flowing import drawn_flow
from bystander.report.pieces.outline import drawn_outline, smaller_text

NOTHING = Change(0.08, 0.08, 0.0, -np.inf, np.inf)


def test_branches_hold_what_lies_below_them() -> None:
    """Lines are taken together, recursion counts with the outermost, small places are told together."""
    found = outline_of_one(sums_of([TRIAL], "elapsed"))
    told = [(one.depth, place_label(one.place), round(1000 * one.whole.after_s)) for one in found.branches]

    assert told == [
        (0, "main.main", 80), (1, "berths.plan", 70), (2, "berths.fit", 60), (3, "heapq.sort", 40),
        (1, "berths.fit", 5),
    ]  # fmt: skip
    assert found.branches[4].alone_after_s == pytest.approx(0.005)  # also what it did below itself
    assert (found.smaller, found.whole.after_s) == (0, pytest.approx(0.08))
    tiny = stacks([([(MAIN, 1)], 10_000), ([(MAIN, 1), (PLAN, 2)], 20), ([(MAIN, 1), (PLAN, 2), (FIT, 3)], 10)])
    (only,) = outline_of_one(sums_of([tiny], "elapsed")).branches
    assert (only.smaller, only.smaller_s) == (2, (pytest.approx(0.03), pytest.approx(0.03)))
    assert smaller_text(2, (0.03, 0.03)) == "2 smaller places, 30.0 ms together"
    assert smaller_text(2, (0.0, 0.03)) == "2 smaller places, 0, then 30.0 ms together"
    assert smaller_text(0, (0.0, 0.0)) == smaller_text(1, (0.001, 0.001), 0.01) == ""


def both(times: list[tuple[float, float]]) -> Both:
    """Return two arms in as many blocks, in which `plan` takes so many milliseconds, and `main` always 50."""
    arms = [
        [stacks([([(MAIN, 1)], 50), ([(MAIN, 1), (PLAN, 2)], round(pair[side]))]) for pair in times] for side in (0, 1)
    ]
    return Both(Seen((arms[0], arms[1]), ([], []), Edits(), ("/arm", "/arm")), Asked("elapsed", 0.05, 0.03))


def test_changes_of_branches_have_intervals_that_hold_together() -> None:
    """The larger change comes first; what changed nowhere is not shown."""
    draw = np.random.default_rng(3)
    seen = both([(100 + draw.normal(0, 2), 140 + draw.normal(0, 2)) for _ in range(10)])
    found = outline_of_both(seen)
    root, plan = found.branches

    assert [place_label(one.place) for one in found.branches] == ["main.main", "berths.plan"]
    assert plan.whole.low_s < 0.04 < plan.whole.high_s
    assert plan.whole.low_s > 0.03
    assert (root.whole.change_s, root.alone_before_s) == (pytest.approx(plan.whole.change_s), pytest.approx(0.05))
    flow = flow_of_both(seen, 40)
    (ribbon,) = flow.ribbons
    assert (ribbon.before_s, ribbon.after_s) == (plan.whole.before_s, plan.whole.after_s)
    assert ribbon.calls_after is None  # nobody counted


def test_each_place_flows_once() -> None:
    """What comes in is its whole; calls are exact; a place that is reached twice has two ribbons."""
    flow = flow_of_one(sums_of([TRIAL], "elapsed"), [COUNTS], 40)
    at = {one.place: k for k, one in enumerate(flow.places)}
    found = {(one.caller, one.callee): (round(1000 * one.after_s), one.calls_after) for one in flow.ribbons}

    assert [round(1000 * one.after_s) for one in flow.places] == [80, 70, 65, 40]
    assert found == {
        (at[MAIN], at[PLAN]): (70, 1), (at[MAIN], at[FIT]): (5, 1), (at[PLAN], at[FIT]): (60, 400),
        (at[FIT], at[SORT]): (40, 400),
    }  # fmt: skip
    assert flow_of_one(sums_of([TRIAL], "elapsed"), [], 2).left_out == 2


def made(count: int, name: str = "place") -> InspectedView:
    """Return a view of two states with as many places in a chain of tens."""
    places = [Place(PYTHON, f"{name}{k}", f"/arm/{name}.py", k + 1) for k in range(count)]
    shown = Change(0.1, 0.2, 0.1, 0.05, 0.15)
    branches = tuple(
        Branch(one, k - 1 if k % 10 else -1, k % 10, shown if k == 1 else NOTHING, 0.01, 0.02, 3, (0.01, 0.02))
        for k, one in enumerate(places[:300])
    )
    ribbons = tuple(Ribbon(k, k + 1, 0.1, 0.05 * (k % 3), 3, 4) for k in range(39))
    flow = Flow("r/inspected-1", "w", "elapsed", ("a", "b"), tuple(FlowPlace(p, 0.1, 0.1, 0.0) for p in places[:40]),
                ribbons, 7)  # fmt: skip
    outline = Outline("r/inspected-1", "w", "elapsed", ("a", "b"), shown, branches, 2, (0.01, 0.02), ("/arm", "/arm"))
    rows = tuple(PlaceRow(one, 0.1, 0.05, 20, 7) for one in places)
    table = PlaceTable("w", "b", "r/inspected-1", "elapsed", 3, 900, 0.2, 0.1, 0.1, 0.1, {}, rows, (), calls=9)
    return InspectedView(outline, flow, table=table)


@given(st.integers(2, 12).flatmap(lambda n: st.tuples(st.just(n), st.sets(st.tuples(*[st.integers(0, n - 1)] * 2)))))
def test_any_flow_is_laid_out(drawn: tuple[int, set[tuple[int, int]]]) -> None:
    """Circles too: bars of one column do not overlap, and ribbons lead from left to right."""
    count, edges = drawn
    places = tuple(FlowPlace(PLACES[0]._replace(name=f"p{k}"), 0.1, 0.1 + k / 100, 0.0) for k in range(count))
    ribbons = tuple(Ribbon(a, b, 0.01, 0.02) for a, b in sorted(edges) if a != b)
    found = drawn_flow(Flow("r", "w", "elapsed", ("a",), places, ribbons, 0))
    columns: dict[float, list[tuple[float, float]]] = {}
    for one in found.places:
        columns.setdefault(one.x, []).append((one.y, one.y + one.height))

    assert all(one.x1 < one.x2 for one in found.ribbons)
    for bars in columns.values():
        bars.sort()
        assert all(a[1] < b[0] for a, b in pairwise(bars))
    assert max(one.y + one.height for one in found.places) <= found.height


def test_marks_stay_inside_the_picture() -> None:
    """Before lies left of the spine, after right of it; one scale for all."""
    drawn = drawn_outline(made(300).outline)
    assert len(drawn.branches) == 300
    for one in drawn.branches:
        assert 0 <= one.left[1] <= one.left[0] < 50 < one.right[0] <= one.right[1] <= 100
        assert all(0 <= x <= 100 for x in (one.before, one.after))
    changed = drawn.branches[1]
    assert changed.shown
    assert changed.right[1] - changed.right[0] == pytest.approx(2 * (changed.left[0] - changed.left[1]), abs=0.02)


def test_a_page_of_many_places_is_whole() -> None:
    """Those beyond the first are there without a script too, each on one line; names are texts."""
    evil = "</noscript><script>x\n\"'&"
    text = inspected_page([made(200, evil)])
    rows = re.findall(r"^<tr data-s=.*</tr>$", text, re.MULTILINE)
    assert len(rows) == 200
    assert "<noscript><table>" in text
    assert "<script>x" not in text
    assert "The mirror" in text
    assert "7 smaller places are not drawn" in text


def test_leads_are_written_as_a_page_and_as_pictures(run: Run, tmp_path: Path) -> None:
    """Of two states and of one; what is not there is told."""
    recorded(tmp_path / ".bystander" / "archive.sqlite")
    run("leads", "--to", "all.html")
    page = (tmp_path / "all.html").read_text(encoding="utf-8")
    assert "Where 2 workloads changed" in page
    assert page.count("<article data-inspected=") == 2
    assert "+37 ms (+18 to +55)" in page
    run("leads", "--only", "gauge", "--to", "m.svg", "--picture", "mirror")
    found = texts((tmp_path / "m.svg").read_bytes())
    assert "gauge: before to the left, after to the right" in found
    assert "+37 ms (+18 to +55)" in found
    run("leads", "--only", "gauge", "--arm", "after", "--to", "f.svg", "--to", "one.html")
    assert "telegrams.parse" in texts((tmp_path / "f.svg").read_bytes())
    one = (tmp_path / "one.html").read_text(encoding="utf-8")
    assert "<h1>gauge under after</h1>" in one
    assert "The mirror" not in one
    one_state = ("--only", "gauge", "--arm", "after")
    for words, said in (
        (("--to", "x.svg", "--picture", "flow"), "--picture flow shows one workload; name it: --only, of gauge, chart"),
        ((*one_state, "--picture", "mirror", "--to", "x.pdf"), "one state alone has --picture flow"),
        ((*one_state, "--picture", "account", "--to", "x.pdf"), "one state alone has --picture flow"),
        (("--picture", "pie", "--to", "x.svg"), "it is account, mirror or flow"),
        (("--picture", "flow"), "name one: --to flow.svg, .png or .pdf"),
        (("--to", "x.doc"), 'not as ".doc"'),
    ):  # fmt: skip
        assert said in run("leads", *words, code=2).stderr
    assert not (tmp_path / "x.svg").exists()


def test_pictures_of_nothing_are_refused() -> None:
    """The same view gives the same bytes."""
    view = made(20)
    drawn = mirror_picture(view.outline, ".svg")
    assert drawn == mirror_picture(view.outline, ".svg")
    assert "whiskers where a change is shown" in " ".join(texts(drawn))
    evil = made(40, "</text><script>x\x1b[31m\n&$\\frac")
    assert any("<script>x" in text for text in texts(mirror_picture(evil.outline, ".svg")))
    assert texts(flow_picture(evil.flow, ".svg"))
    empty = replace(view.outline, branches=())
    with pytest.raises(Exception, match="nothing to draw"):
        mirror_picture(empty, ".svg")
    with pytest.raises(Exception, match="nothing to draw"):
        flow_picture(replace(view.flow, places=(), ribbons=()), ".svg")
