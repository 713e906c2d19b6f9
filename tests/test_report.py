"""Pages and texts: everything that was decided is there, in its place, and nothing that could run."""

from __future__ import annotations

import re
from html.parser import HTMLParser

import pytest
from builders import made_record, noisy

from bystander.flow.commands.report import FORMATS
from bystander.report import markdown, page
from bystander.report.forest import forest
from bystander.report.strips import strip
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
        if tag not in ("meta", "br"):
            self.open.append(tag)

    def handle_endtag(self, tag: str) -> None:
        """Hold an end against the last beginning."""
        assert self.open.pop() == tag


def test_the_page_is_whole_and_stands_alone() -> None:
    """All tags are closed; there is no script, no link, no image from elsewhere; a row per workload."""
    text = page(example())
    tags = Tags()
    tags.feed(text)

    assert tags.open == []
    assert not {"script", "link", "img", "iframe"} & set(tags.seen)
    assert tags.seen.count("section") == 4
    assert tags.seen.count("svg") == 1 + 4
    assert "url(" not in text


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
    """Marks lie within their bars, bars within the plot; the margin band holds no change."""
    drawn = forest(example())
    assert drawn is not None

    assert [line.name for line in drawn.lines] == ["broken", "slow", "still", "quick"]
    for line in drawn.lines:
        assert drawn.plot_left <= line.left <= line.right <= drawn.plot_right
        assert line.at is None or line.left <= line.at <= line.right
    assert drawn.margin_left < drawn.one < drawn.margin_left + drawn.margin_width
    assert any(label == "no change" for _, label in drawn.ticks)
    assert forest(decide(made_record({"w": {"now": noisy(5, 1)}}))) is None


def test_strips_show_every_trial() -> None:
    """One dot per trial up to four hundred, within the picture; a far outlier asks for a log scale."""
    decision = example()
    plain = strip(decision, decision.primary[1])
    assert plain is not None

    assert (len(plain.reference), len(plain.candidate), plain.log) == (20, 20, False)
    assert all(0 <= x <= plain.width and 0 <= y <= plain.height for x, y in plain.reference + plain.candidate)
    far = decide(made_record({"w": {"a": [*noisy(19, 1), 50.0], "b": noisy(20, 1)}}))
    outlier = strip(far, far.primary[0])
    assert outlier is not None
    assert outlier.log
    many = decide(made_record({"w": {"a": noisy(1000, 1), "b": noisy(1000, 1)}}))
    thinned = strip(many, many.primary[0])
    assert thinned is not None
    assert len(thinned.reference) == 400


def test_every_format_takes_every_decision() -> None:
    """Several candidates, unbounded intervals and rows of differences are written without a slip."""
    decisions = [
        example(),
        decide(made_record({"w": {"a": [1.0], "b": [2.0], "c": [3.0]}})),
        decide(made_record({"w": {"a": [0.0, 1.0], "b": [2.0, 1.0]}})),
        decide(made_record({"w": {"a": [1.0, 2.0], "b": [1.0, 2.0]}}, failed={("w", "a"): [0, 1]})),
        decide(made_record({"w": {"a": noisy(9, 1), "b": noisy(9, 1)}}, paired=False, origin="imported")),
    ]
    for write in FORMATS.values():
        for decision in decisions:
            text = write(decision, None)

            assert "nan" not in re.sub(r"[A-Za-z]nan|nan[a-z]", "", text)
            assert "inf" not in re.findall(r"\binf\b", text)
