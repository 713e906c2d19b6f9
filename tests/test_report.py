"""Pages and texts: everything that was decided is there, in its place, and nothing that could run."""

from __future__ import annotations

import json
import math
import re
from dataclasses import replace
from html.parser import HTMLParser

import numpy as np
import pytest
from builders import made_record, noisy

from bystander.design import Lane, Timeline
from bystander.flow.commands.report import FORMATS, Asked
from bystander.report import PICTURE_SUFFIXES, TrialSide, lanes, markdown, page
from bystander.report.pieces.blocks import BlockPicture, block_picture
from bystander.report.pieces.forest import bar, forest
from bystander.report.pieces.lanes import Cell
from bystander.report.pieces.rows import row_id, rows_view
from bystander.report.pieces.shifts import shifts
from bystander.report.pieces.strip import Strip, strip
from bystander.report.theme import DARK, LIGHT
from bystander.verdicts import Decision, Options, decide


def example(**more: object) -> Decision:
    """Return a decision with a slower, a same, a faster and a failing workload."""
    readings = {
        name: {"before": noisy(20, 0.1, 0.01, i), "after": noisy(20, 0.1 * factor, 0.01, 50 + i)}
        for i, (name, factor) in enumerate({"slow": 1.4, "still": 1.0, "quick": 0.25, "broken": 1.0}.items())
    }
    return decide(made_record(readings, failed={("broken", "after"): range(20)}, **more))  # type: ignore[arg-type]


class Tags(HTMLParser):
    """Collects tags, and finds those that are never closed."""

    def __init__(self) -> None:
        super().__init__()
        self.open: list[str] = []
        self.seen: list[str] = []

    def handle_startendtag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        """Note a tag that closes itself."""
        self.seen.append(tag)

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        """Note a tag that must be closed, but for the two that never are."""
        self.seen.append(tag)
        if tag not in ("meta", "br", "input"):
            self.open.append(tag)

    def handle_endtag(self, tag: str) -> None:
        """Hold an end against the last beginning."""
        assert self.open.pop() == tag


def test_the_page_is_whole_and_stands_alone() -> None:
    """All tags are closed; there is one script, no image from elsewhere, no address; a row per workload."""
    text = page(example())
    tags = Tags()
    tags.feed(text)

    assert tags.open == []
    assert not {"link", "img", "iframe"} & set(tags.seen)
    assert tags.seen.count("script") == 1
    assert text.count('<details class="row"') == 4
    assert text.count('<figure class="strip">') == 4
    assert not re.search(r"url\((?!#)", text)


@pytest.mark.parametrize(
    "words",
    [
        "Of 4 comparisons: 1 failed, 1 slower, 1 same, 1 faster.", "as fast", "All 20 trials of the candidate failed",
        "gull", "drawn by seed 1", "bystander observe --seed 1", "Hodges and Lehmann 1963", "risk 5 %",
    ],
)  # fmt: skip
def test_a_reviewer_finds_outcome_evidence_machine_and_methods(words: str) -> None:
    """In the page as in the text."""
    unescaped = markdown(example()).replace("\\", "")

    assert words in page(example())
    assert words in unescaped


def test_the_text_is_a_table_worst_first() -> None:
    """Four rows of five cells, in the order of the decision."""
    first = markdown(example()).partition("<details>")[0]
    rows = [line for line in first.splitlines() if line.startswith("| ")][2:]

    assert [row.split(" | ")[0].strip("| ") for row in rows] == ["broken", "slow", "still", "quick"]
    assert {len(re.split(r"(?<!\\)\|", row)) for row in rows} == {7}


def test_one_arm_alone_has_a_report_too() -> None:
    """Medians and intervals instead of verdicts."""
    decision = decide(made_record({"tide": {"now": noisy(10, 0.1)}}))

    for text in (page(decision), markdown(decision)):
        assert "median" in text
        assert "tide" in text
        assert "nothing to compare it with yet" in text


def test_exploration_and_unfinished_records_are_marked_on_top() -> None:
    """Whoever reads only the beginning sees it."""
    decision = decide(made_record({"w": {"a": noisy(9, 1), "b": noisy(9, 2)}}, state="running"), Options(margin=0.5))

    for text in (page(decision), markdown(decision)):
        head = text[: text.index("comparison") + 2500]
        assert "not finished" in head
        assert "Exploration: margin 50 % instead of 3 %" in head


def test_the_forest_draws_every_row_on_the_axis() -> None:
    """Marks lie within their bars, bars within the axis; the margin band holds no change."""
    decision = example()
    drawn = forest(decision)
    assert drawn is not None
    bars = {row.workload: bar(drawn.axis, row) for row in decision.primary}

    assert {name: one.shape for name, one in bars.items() if one} == {
        "broken": "cross", "slow": "up", "still": "square", "quick": "down",
    }  # fmt: skip
    for one in bars.values():
        assert one is not None
        assert 0 <= one.left <= one.right <= 100
        assert one.at is None or one.left <= one.at <= one.right
    broken, quick = bars["broken"], bars["quick"]
    assert broken is not None
    assert (broken.cut_right, broken.at) == (True, None)  # nobody knows how much longer it would take
    assert quick is not None
    assert not quick.cut_left
    assert quick.at == pytest.approx(1.5 + 97 * (0.5 + 0.5 * math.log(0.25) / math.log(drawn.axis.reach)), abs=0.5)
    assert drawn.margin_left < drawn.one < drawn.margin_left + drawn.margin_width
    assert any(label == "no change" for _, label, _ in drawn.ticks)
    assert forest(decide(made_record({"w": {"now": noisy(5, 1)}}))) is None


def drawn_strip(decision: Decision, workload: str) -> Strip:
    """Return the strip of a workload's row."""
    row = next(row for row in decision.primary if row.workload == workload)
    found = strip(row, {one.arm: one for one in decision.singles if one.workload == workload})
    assert found is not None
    return found


def test_strips_show_every_trial() -> None:
    """One dot per trial up to four hundred, within the picture; a far outlier asks for a log scale."""
    plain = drawn_strip(example(), "slow")
    dots = [
        tuple(map(float, dot.split())) for dot in re.findall(r"M([\d.]+ [\d.]+)h0", plain.reference + plain.candidate)
    ]

    assert len(dots) == 40
    assert not plain.log
    assert all(0 <= x <= plain.width and 0 <= y <= 2 * plain.lane for x, y in dots)
    assert max(x for x, _ in dots[:20]) < min(x for x, _ in dots[20:])  # 40 % slower at 1 % noise: they do not overlap
    assert re.fullmatch("before: 20 trials from .* ms to .* ms, median .* ms; after: 20 trials from .*", plain.text)
    far = decide(made_record({"w": {"a": [*noisy(19, 1), 50.0], "b": noisy(20, 1)}}))
    assert drawn_strip(far, "w").log
    many = decide(made_record({"w": {"a": noisy(1000, 1), "b": noisy(1000, 1)}}))
    assert drawn_strip(many, "w").reference.count("h0") == 400


def _with(before: list[float], after: list[float], seventh: float) -> BlockPicture:
    """Return the picture of blocks whose seventh candidate took so long."""
    decision = decide(made_record({"w": {"a": before, "b": [*after[:7], seventh, *after[8:]]}}))
    found = block_picture(decision.series[decision.primary[0].key], decision.primary[0])
    assert found is not None
    return found


def test_blocks_are_drawn_in_their_order() -> None:
    """A block that lies far out has its ring and number; one whose trial failed is a bound, not a point."""
    before, after = noisy(20, 0.1, 0.01, 1), noisy(20, 0.15, 0.01, 2)
    after[7] = 0.9
    decision = decide(made_record({"w": {"a": before, "b": after}}))
    drawn = block_picture(decision.series[decision.primary[0].key], decision.primary[0])
    assert drawn is not None

    assert [label for _, _, label in drawn.named] == [f"7: × {after[7] / before[7]:.2g}"]  # far beyond the others
    assert drawn.named[0][1] == pytest.approx(10)  # at the edge
    assert [label for _, _, label in _with(before, after, 0.18).named] == ["7"]  # where it is
    assert (drawn.dots.count("h0"), drawn.far.count("h0"), drawn.bounds) == (19, 1, "")
    assert [number for number, _ in drawn.numbers] == list(range(20))
    assert drawn.numbers[7][1] == f"× {after[7] / before[7]:.2g}"
    assert drawn.numbers[0][1] == f"{100 * (after[0] / before[0] - 1):+.1f} %"
    assert "1 far from the others" in drawn.text
    assert "Block 7 lies far from the others" in page(decision)
    failing = decide(made_record({"w": {"a": before, "b": after}}, failed={("w", "b"): [3]}))
    bounded = block_picture(failing.series[failing.primary[0].key], failing.primary[0])
    assert bounded is not None
    assert (bounded.dots.count("h0"), bounded.bounds.count("h0")) == (19, 1)


def test_shifts_show_the_quantiles_that_there_are_trials_for() -> None:
    """Each at its ratio; the others are named with what they take."""
    decision = decide(made_record({"w": {"a": noisy(100, 1.0, 0.02, 1), "b": noisy(100, 1.5, 0.02, 2)}}))
    drawn = shifts(decision.distributions[0], 0.03)
    assert drawn is not None

    assert [line.name for line in drawn.lines] == [
        "10th percentile", "25th percentile", "median", "75th percentile", "90th percentile", "95th percentile",
    ]  # fmt: skip
    assert all(line.text.startswith("1.5") or line.text.startswith("1.4") for line in drawn.lines)
    assert drawn.heading == "b / a (95 %)"
    assert drawn.lacking == "Trials that it takes of each arm for the others: 99th percentile: 437."
    assert shifts(None, 0.03) is None


def test_lanes_measure_what_was_marked() -> None:
    """Bars stand where instances began, in percent of the longer trial; the table sums them."""
    lane, zero = (Lane(1, 1, "MainThread"),), np.zeros(2, dtype=np.int64)
    begin, end = np.array([0, 40_000_000]), np.array([30_000_000, 50_000_000])
    line = Timeline(
        ("read", "plan"), ("",), lane, begin, end, np.array([15_000_000, 10_000_000]), np.array([0, 1]), zero, zero,
        zero - 1, zero.astype(bool), 100_000_000,
    )  # fmt: skip
    drawn = lanes([TrialSide("before", "100 ms", line), TrialSide("after", "no marks")])
    bars = drawn.sides[0].bands[0].bars

    assert [(bar.left, bar.width, bar.phase, bar.filled) for bar in bars] == [
        (0.0, 30.0, "read", 8.5), (40.0, 10.0, "plan", 17.0)
    ]  # fmt: skip
    assert [bar.wall_ns for bar in bars] == [30_000_000, 10_000_000]
    assert drawn.table[0] == ("read", (Cell(1, "30.0 ms", "50 %"), None))
    assert drawn.ticks[0] == (0.0, "0 s")
    assert drawn.sides[1].bands == ()


def test_rows_that_move_the_load_most_stand_on_top() -> None:
    """Among those of one kind: first what answers otherwise or fails, then what is shown to be worse, and so on."""
    readings = {
        name: {"a": noisy(20, 0.1, 0.01, i), "b": noisy(20, 0.1 * factor, 0.01, 50 + i)}
        for i, (name, factor) in enumerate({"often": 1.2, "seldom": 2.0, "wrong": 0.5}.items())
    }
    record = made_record(readings, answers={("wrong", "b"): 1}, answer_rule="output")
    weights = {"often": 100.0, "seldom": 1.0, "wrong": 10.0}
    study = record.head.study
    weighted = tuple(replace(workload, weight=weights[workload.name]) for workload in study.workloads)
    decision = decide(replace(record, head=replace(record.head, study=replace(study, workloads=weighted))))
    view = rows_view(decision, {})

    assert [one.name for one in view.rows] == ["wrong", "often", "seldom"]
    assert view.rows[0].flags == ("another answer",)
    assert [choice.value for choice in view.orders][:3] == ["", "load", "worst"]
    assert [json.loads(one.keys)[:2] for one in view.rows] == [[2, 2], [1, 0], [0, 1]]
    assert all(choice.count == 1 for choice in view.words if choice.value == "answer-differs")
    assert view.rows[1].comment.startswith("often: slower by ")
    assert row_id("often") == view.rows[1].id == rows_view(decision, {}).rows[1].id


def test_only_so_many_rows_are_held_ready() -> None:
    """The others are text where there is a script, and whole where there is none."""
    readings = {f"w{i}": {"a": noisy(6, 0.1, 0.01, i), "b": noisy(6, 0.1, 0.01, 900 + i)} for i in range(205)}
    text = page(decide(made_record(readings)))

    assert text.count('<details class="row"') == 205
    assert text.count("<noscript") == text.count("</noscript>") == 5


def luminance(colour: str) -> float:
    """Return relative luminance as WCAG 2.1 defines it."""
    parts = [int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5)]
    red, green, blue = (p / 12.92 if p <= 0.04045 else ((p + 0.055) / 1.055) ** 2.4 for p in parts)
    return 0.2126 * red + 0.7152 * green + 0.0722 * blue


@pytest.mark.parametrize("theme", [LIGHT, DARK])
@pytest.mark.parametrize("ground", ["paper", "card"])
@pytest.mark.parametrize("ink", ["ink", "soft", "worse", "better", "plain", "failed"])
def test_every_text_stands_out(theme: dict[str, str], ground: str, ink: str) -> None:
    """By 4.5 to 1 at least (WCAG 2.1, AA), light and dark."""
    light, dark = sorted((luminance(theme[ink]), luminance(theme[ground])), reverse=True)

    assert (light + 0.05) / (dark + 0.05) >= 4.5


def test_every_format_takes_every_decision() -> None:
    """Several candidates, unbounded intervals and rows of differences are written without a slip."""
    decisions = [
        example(),
        decide(made_record({"w": {"a": [1.0], "b": [2.0], "c": [3.0]}})),
        decide(made_record({"w": {"a": [0.0, 1.0], "b": [2.0, 1.0]}})),
        decide(made_record({"w": {"a": [1.0, 2.0], "b": [1.0, 2.0]}}, failed={("w", "a"): [0, 1]})),
        decide(made_record({"w": {"a": noisy(9, 1), "b": noisy(9, 1)}}, paired=False, origin="imported")),
    ]
    for suffix, write in FORMATS.items():
        for decision in decisions if suffix not in PICTURE_SUFFIXES else ():  # see test_pictures
            text = str(write(Asked(decision)))

            assert "nan" not in re.sub(r"[A-Za-z]nan|nan[a-z]", "", text)
            assert "inf" not in re.findall(r"\binf\b", text)
