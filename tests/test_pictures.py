"""Pictures by themselves: what is drawn is what was decided, in every format, whatever names say."""

from __future__ import annotations

import math
import re
import warnings
from pathlib import Path
from xml.etree import ElementTree

import pytest
from builders import made_record, noisy
from conftest import Run

from bystander.errors import UsageError
from bystander.flow.commands.demo import recorded
from bystander.report import PICTURE_SUFFIXES, PICTURES, picture
from bystander.verdicts import Decision, decide

SVG = "{http://www.w3.org/2000/svg}"


def example(name: str = "w", count: int = 3) -> Decision:
    """Return a decision with a slower, a same and a faster workload, and so on."""
    factors = [1.5, 1.0, 0.25]
    readings = {
        f"{name}{i}": {"before": noisy(20, 0.1, 0.01, i), "after": noisy(20, 0.1 * factors[i % 3], 0.01, 500 + i)}
        for i in range(count)
    }
    return decide(made_record(readings, margin=0.1))


def texts(data: bytes) -> list[str]:
    """Return the texts of an SVG, in the order in which they are drawn."""
    return ["".join(one.itertext()) for one in ElementTree.fromstring(data).iter(f"{SVG}text")]


def test_a_forest_shows_every_row_in_words() -> None:
    """Its name, its verdict and its change; the axis is even about no change."""
    found = texts(picture(example(), "forest", ".svg"))

    for words in ("w0", "▲ slower  +", "w1", "= same  ", "w2", "▼ faster  ", "no change", "◀ faster"):
        assert any(text.startswith(words) for text in found), words
    assert any("margin of 10 %" in text for text in found)
    assert found.index("w0") < found.index("w1") < found.index("w2")


def test_marks_stand_where_the_estimates_are() -> None:
    """On a log axis: the mark of the faster row is as far left of no change as log 4 is of the axis' reach."""
    decision = example()
    drawn = ElementTree.fromstring(picture(decision, "forest", ".svg"))
    used = [(float(one.get("x", "nan")), float(one.get("y", "nan"))) for one in drawn.iter(f"{SVG}use")]
    by_height: dict[float, list[float]] = {}
    for x, y in used:
        by_height.setdefault(round(y), []).append(x)
    marks = [xs[0] for _, xs in sorted(by_height.items()) if len(xs) == 1][:3]
    logs = [math.log(row.estimate) for row in decision.primary]
    scale = (marks[0] - marks[2]) / (logs[0] - logs[2])

    assert len(marks) == 3
    assert marks[1] - marks[2] == pytest.approx(scale * (logs[1] - logs[2]), abs=0.1)


def test_the_same_decision_gives_the_same_bytes() -> None:
    """Of its kind, and without a date."""
    begins = {".svg": b"<?xml", ".png": b"\x89PNG", ".pdf": b"%PDF"}
    for suffix in PICTURE_SUFFIXES:
        data = picture(example(), "forest", suffix)
        assert data.startswith(begins[suffix])
        assert data == picture(example(), "forest", suffix)


def test_every_trial_and_every_block_is_drawn() -> None:
    """A dot each; a block that lies far out has a ring and its number, one whose trial failed a cross."""
    before, after = noisy(20, 0.1, 0.01, 1), noisy(20, 0.15, 0.01, 2)
    after[7] = 0.9
    decision = decide(made_record({"w": {"before": before, "after": after}}))
    trials = ElementTree.fromstring(picture(decision, "distribution", ".svg"))
    blocks = picture(decision, "blocks", ".svg")

    assert sum(1 for _ in trials.iter(f"{SVG}use")) >= 40
    assert any(text.startswith("7: × ") for text in texts(blocks))
    assert any(text.startswith("▲ w: slower") for text in texts(blocks))
    assert {"before", "after"} <= set(texts(picture(decision, "distribution", ".svg")))


def test_unbounded_rows_of_differences_and_large_suites_are_drawn() -> None:
    """Without a slip; what is left out is said."""
    failing = decide(made_record({"w": {"a": noisy(9, 1), "b": noisy(9, 1)}}, failed={("w", "b"): range(9)}))
    amounts = decide(made_record({"w": {"a": [0.0, 1.0, 2.0] * 4, "b": [2.0, 1.0, 4.0] * 4}}))
    assert any(text.startswith("✕ failed") for text in texts(picture(failing, "forest", ".svg")))
    assert len(picture(amounts, "blocks", ".svg")) > 1000
    with pytest.raises(UsageError, match="no row of ratios"):
        picture(amounts, "forest", ".svg")
    with pytest.raises(UsageError, match="no row of record"):
        picture(failing, "blocks", ".svg")
    many = example(count=81)
    assert any("The first 80 of 81 rows" in text for text in texts(picture(many, "forest", ".svg")))
    assert any("The first 12 of 81 rows; --only" in text for text in texts(picture(many, "blocks", ".svg")))
    alone = decide(made_record({"w": {"now": noisy(5, 1)}}))
    with pytest.raises(UsageError, match="no row of record"):
        picture(alone, "distribution", ".png")


def test_hostile_names_are_texts() -> None:
    """Formulas, markup, control characters, letters that no font has, and names without an end."""
    names = ("$\\frac{1}{0}$ ", "<script>alert(1)</script>", "a\x1b[31m\nb", "潮汐\U0001f30a", "long" * 60)
    readings = {name: {"a$^": noisy(9, 0.1), "b<i>": noisy(9, 0.2)} for name in names}
    decision = decide(made_record(readings))
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        drawn = [picture(decision, kind, ".svg") for kind in PICTURES]
    for data in drawn:
        assert b"<script" not in data
        assert b"\x1b" not in data
        assert max(map(len, texts(data))) <= 150
    assert "$\\frac{1}{0}$ " in texts(drawn[0])


def test_report_writes_pictures(run: Run, tmp_path: Path) -> None:
    """Of the rows that are asked for; wrong words are one sentence."""
    recorded(tmp_path / ".bystander" / "archive.sqlite")
    done = run("report", "--to", "a.svg", "--picture", "blocks", "--only", "gauge")
    assert "a.svg is written" in done.stdout
    found = texts((tmp_path / "a.svg").read_bytes())
    assert any(re.match("▲ gauge: slower by", text) for text in found)
    assert not any("chart" in text for text in found)
    assert "is none; it is forest, distribution or blocks" in run(
        "report", "--to", "a.svg", "--picture", "pie", code=2
    ).stderr  # fmt: skip
    assert "name one: --to blocks.svg" in run("report", "--picture", "blocks", code=2).stderr


def test_accounts_are_drawn(run: Run, tmp_path: Path) -> None:
    """The whole, each lead and the rest, in words as in the terminal; one state alone has none."""
    recorded(tmp_path / ".bystander" / "archive.sqlite")
    assert "a.svg is written" in run("leads", "--to", "a.svg").stdout
    found = texts((tmp_path / "a.svg").read_bytes())

    for words in ("gauge: before, then after", "chart: before, then after", "the whole", "the rest", "telegrams.parse"):
        assert words in found
    assert any(text.startswith("+37 ms (+22 to +51)") and text.endswith("19,200 calls") for text in found)
    assert any(text.startswith("gauge takes 38 ms (16 to 66) longer under after") for text in found)
    assert "one state alone has none" in run("leads", "--arm", "after", "--to", "b.sarif", code=2).stderr
