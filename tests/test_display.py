"""What people see on a terminal: tables that fit, marks that need no colour, progress without a verdict."""

from __future__ import annotations

import io
import re
from dataclasses import replace

import pytest
from builders import made_record, noisy
from rich.console import Console

from bystander.cli.shown import tables
from bystander.cli.shown.console import STYLES
from bystander.cli.shown.live import Display
from bystander.design import Status, TrialOutcome
from bystander.foresight import Pace, Progress, Tried
from bystander.verdicts import Decision, decide


@pytest.fixture(autouse=True)
def _unicode(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(tables, "can_draw", lambda: True)


def printed(decision: Decision, width: int) -> list[str]:
    console = Console(file=io.StringIO(), width=width, theme=STYLES, no_color=True)
    tables.print_rows(console, decision)
    tables.print_secondary(console, decision, everything=True)
    return console.file.getvalue().splitlines()  # type: ignore[attr-defined]


def example(names: tuple[str, ...] = ("slow", "still", "quick", "wild")) -> Decision:
    factors, spreads = (1.4, 1.0, 0.25, 1.0), (0.01, 0.005, 0.01, 0.5)
    readings = {
        name: {"before": noisy(20, 0.1, s, i), "after": noisy(20, 0.1 * f, s, 50 + i)}
        for i, (name, f, s) in enumerate(zip(names, factors, spreads, strict=True))
    }
    memory = {name: {arm: noisy(20, 2e7, 0.001, 3) for arm in ("before", "after")} for name in names}
    return decide(made_record(readings, more={"peak_memory": memory}))


@pytest.mark.parametrize("width", [80, 100, 120, 200])
def test_tables_fit_their_width_and_cut_no_number(width: int) -> None:
    """Every row shows verdict and change whole; nothing is wider than the terminal."""
    lines = printed(example(), width)

    assert max(map(len, lines)) <= width
    for words in ("▲ slower", "= same", "▼ faster", "○ unclear", "x as fast"):
        assert any(words in line for line in lines), words
    assert not any("…" in line for line in lines)


def test_five_hundred_workloads_stay_readable() -> None:
    """What changed is shown, the rest is counted; every row is there when it is asked for."""
    factors = {f"w{i:03d}": 1.5 if i % 100 == 7 else 1.0 for i in range(500)}
    readings = {
        name: {"before": noisy(12, 0.1, 0.004, i), "after": noisy(12, 0.1 * factor, 0.004, 1000 + i)}
        for i, (name, factor) in enumerate(factors.items())
    }
    decision = decide(made_record(readings))
    shown, counted = tables.rows_to_show(decision.primary, everything=False)
    lines = printed(decision, 80)

    assert {row.workload for row in shown if row.verdict == "slower"} == {n for n, f in factors.items() if f > 1}
    assert len(shown) + sum(counted.values()) == 500
    assert any("and" in line and "same" in line and "--all-rows" in line for line in lines)
    assert len(tables.rows_to_show(decision.primary, everything=True)[0]) == 500


def test_long_names_are_shortened_and_the_rest_stays() -> None:
    """A name of sixty letters is cut with a sign; its verdict and change are whole."""
    lines = printed(example(tuple(f"{'very-long-name-' * 4}{i}" for i in range(4))), 80)

    assert max(map(len, lines)) <= 80
    assert sum("…" in line for line in lines) >= 4
    assert any("▲ slower" in line and "+39.8 % (+39.0 to +40.8)" in line for line in lines)


def test_a_long_label_shortens_the_name_and_never_a_number() -> None:
    """At 80 columns beside the longest label the change of every other measure is whole."""
    name = "year:port=northx"
    readings = {name: {"before": noisy(20, 0.36, 0.02, 1), "after": noisy(20, 0.1, 0.02, 2)}}
    more = {
        "cpu": {name: {"before": noisy(20, 0.36, 0.02, 3), "after": noisy(20, 0.1, 0.02, 4)}},
        "voluntary_switches": {name: {"before": [1.0] * 20, "after": [1.0] * 20}},
    }
    lines = printed(decide(made_record(readings, more=more)), 80)
    (cpu,) = [line for line in lines if "CPU time" in line]

    assert max(map(len, lines)) <= 80
    assert re.search(r"3\.\d+x as fast \(3\.\d+ to 3\.\d+\)", cpu)


def test_intervals_are_drawn_where_they_lie() -> None:
    """Slower to the right of the middle, faster to the left, same around it."""
    lines = printed(example(), 80)
    head = next(line for line in lines if "< faster" in line)
    start, end = head.index("< faster"), head.index("slower >") + len("slower >")
    middle = (start + end) / 2

    def mark(word: str) -> float:
        line = next(line for line in lines if word in line)
        return re.search("[●○]", line[start:]).start() + start + 0.5  # type: ignore[union-attr]

    assert mark("▲ slower") > middle + 1
    assert mark("▼ faster") < middle - 5
    assert abs(mark("= same") - middle) <= 1.5


def test_marks_are_told_apart_without_colour_or_unicode(monkeypatch: pytest.MonkeyPatch) -> None:
    """Each group of verdicts has its own shape, also in ASCII."""
    assert len({tables.mark(v) for v in ("slower", "faster", "same", "unclear", "failed")}) == 5
    monkeypatch.setattr(tables, "can_draw", lambda: False)
    assert len({tables.mark(v) for v in ("slower", "faster", "same", "unclear", "failed")}) == 5
    assert all(ord(c) < 128 for line in printed(example(), 80) for c in line)


def test_one_arm_alone_is_laid_out_like_a_row() -> None:
    """Its median between the least and the most reading, the interval as a bar, and all readings below it."""
    values = [1.0, 1.0, 1.1, 1.1, 1.1, 1.2, 1.2, 1.2, 1.3, 1.3, 1.4, 2.0]
    decision = decide(made_record({"w": {"now": values}}))
    console = Console(file=io.StringIO(), width=80, theme=STYLES, no_color=True)
    tables.print_singles(console, decision.singles)
    head, line = console.file.getvalue().splitlines()  # type: ignore[attr-defined]
    chart = re.search("1.00 s  (.*)  2.00 s", line)[1]  # type: ignore[index]

    assert "median (interval)" in head
    assert "1.20 s (1.10 s to 1.30 s, 96.1 %)" in line
    # 12 readings, interval from the 3rd to the 10th: binomial, 1 - 2 P(X <= 2).
    assert chart[0] == chart[-1] == "░"
    assert chart.index("●") == int(0.2 * len(chart))
    assert chart.index("━") == int(0.1 * len(chart) + 1e-9)
    assert chart.rindex("━") == int(0.3 * len(chart) + 1e-9)
    assert max(map(len, (head, line))) <= 80


def told(display: Display) -> str:
    return display.console.file.getvalue()  # type: ignore[attr-defined]


def plain_display() -> Display:
    display = Display()
    display.console = Console(file=io.StringIO(), width=80, theme=STYLES)
    return display


def test_progress_in_a_pipe_is_plain_lines() -> None:
    """The first and the last are there; failures before the start are named; nothing moves."""
    study = made_record({"w": {"before": noisy(20, 1), "after": noisy(20, 1)}}).head.study
    with plain_display() as display:
        display.tried("w", "after", TrialOutcome(Status.EXIT, 3, 0, 0, {}))
        display.begun(study, "tugs-1", 12.3)
        for done in range(1, 21):
            display.progressed(Progress(done, 20, 20.0 - done, (done,), (0.05,)))
        display.remark("the tide turned")
    text = told(display)

    assert "w fails under arm after (exit 3)" in text
    assert "record tugs-1: 40 trials, about 12 s" in text
    assert "20 of 20 blocks" in text
    assert "note: the tide turned" in text
    assert "\x1b" not in text
    assert len(text.splitlines()) <= 6


def test_progress_on_a_terminal_shows_precision_and_no_estimate() -> None:
    """Blocks, time left and precision for each workload; no ratio, no verdict."""
    study = made_record({f"w{i}": {"before": [1.0] * 20, "after": [1.0] * 20} for i in range(20)}).head.study
    display = plain_display()
    display.study = study
    display.console.print(display._picture(Progress(40, 400, 65, (2,) * 20, (None,) * 5 + (0.034,) * 15)))
    text = told(display)

    assert "40 of 400 blocks, about 1 min 5 s left" in text or "40 of 400 blocks, about 65 s left" in text
    assert "± 3.4 %" in text
    assert "and 6 more" in text
    assert not re.search("slower|faster|same", text)


def test_what_is_decided_is_told_without_how_and_comes_last() -> None:
    """A line for each look that lets something go; in the table those that go on come first."""
    study = made_record({f"w{i}": {"before": [1.0] * 20, "after": [1.0] * 20} for i in range(3)}).head.study
    display = plain_display()
    display.study = replace(study, stopping="looks")
    display.looked(8, [], 3)
    display.looked(10, ["w0"], 2)
    display.looked(20, ["w1", "w2"], 0)
    display.console.print(display._picture(Progress(40, 50, 65, (10, 14, 14), (0.1,) * 3, frozenset({0}))))
    text = told(display)

    assert text.count("look after") == 1
    assert "look after 10 blocks: done with w0; 2 go on" in text
    assert "at most" in text
    assert text.index("14/20") < text.index("10, decided")
    assert not re.search("slower|faster|same", text)


def test_time_left_and_precision_are_estimated_from_blocks_so_far() -> None:
    """After a tenth of evenly long blocks the estimate is within a fifth; precision is half the interval's width."""
    study = replace(made_record({"w": {"before": [1.0] * 20, "after": [1.0] * 20}}).head.study, blocks=40)
    tried = (Tried(0, 0, outcome(1.0)), Tried(0, 1, outcome(1.0)))
    pace = Pace(study, tried)
    from bystander.design import BlockRun

    for block in range(8):
        before, after = 1.0 + 0.01 * (block % 4), 1.1 + 0.013 * ((block * 3) % 5)
        progress = pace.add(BlockRun(0, block, 0, 0, {}, {0: outcome(before), 1: outcome(after)}, 2.1))

    assert progress.left_s == pytest.approx(32 * 2.1, rel=0.2)
    assert progress.done == 8
    assert progress.precision[0] is not None
    assert 0.001 < progress.precision[0] < 0.1


def outcome(elapsed: float) -> TrialOutcome:
    return TrialOutcome(Status.OK, 0, 0.0, 0.0, {"elapsed": elapsed})
