"""Arms do the same work: their answers are compared by the study's rule, and a difference is told or accepted."""

from __future__ import annotations

import json
import math
from pathlib import Path

import pytest
from conftest import Run
from hypothesis import given
from hypothesis import strategies as st

from bystander.design import AnswerRule
from bystander.flow.trials.answers import Comparison, canonical, within_tolerance

STUDY = """
blocks = 6
seed = 3
[arms.before]
settings.text = '{before}'
[arms.after]
settings.text = '{after}'
[workloads.w]
command = "sh -c {command} sh {{text}}"
"""
PRINT = "'printf \\\"$1\\\"'"


def written(folder: Path, before: str, after: str, lines: str, command: str = PRINT) -> None:
    """Write a study of one command that makes another text under each arm."""
    text = STUDY.format(before=before, after=after, command=command) + lines
    (folder / "bystander.toml").write_text(text, encoding="utf-8")


def codes(run: Run) -> list[str]:
    """Observe, and return the codes of the answer's notes on the row that matters."""
    run("observe", "--quiet")
    rows = json.loads(run("decide", "--json").stdout)["results"]
    return [note["code"] for note in rows[0]["notes"] if note["code"].startswith("answer")]


@pytest.mark.parametrize(
    ("before", "after", "lines", "expected"),
    [
        ("high 3.4", "high 3.5", 'answer = "output"', ["answer-differs"]),
        ("at 09:10", "at 09:11", "answer.mask = ['\\d\\d:\\d\\d']", []),
        ("at 09:10", "by 09:11", "answer.mask = ['\\d\\d:\\d\\d']", ["answer-differs"]),
        ("a\\nb\\n", "b\\na\\n", 'answer.order = "any"', []),
        ("a\\nb\\n", "b\\na\\n", 'answer.of = "output"', ["answer-differs"]),
        ("3.4000 m", "3.4003 m", 'answer.tolerance = "0.1 %"', []),
        ("3.40 m", "3.41 m", 'answer.tolerance = "0.1 %"', ["answer-differs"]),
        ("3", "4", 'answer.accept = "rounding is intended"', ["answer-accepted"]),
    ],
    ids=["plain", "masked", "masked but other", "any order", "in order", "near", "too far", "accepted"],
)
def test_answers_are_compared_by_rule(
    run: Run, tmp_path: Path, before: str, after: str, lines: str, expected: list[str]
) -> None:
    """Masks, orders and tolerances say which answers are the same."""
    written(tmp_path, before, after, lines)

    assert codes(run) == expected


def test_where_answers_part_is_kept_and_shown(run: Run, tmp_path: Path) -> None:
    """In the record, as JSON and on the page, from another archive too; a redacted page has none of it."""
    written(tmp_path, "low 0.2\\nhigh 3.4", "low 0.2\\nhigh 3.5", 'answer = "output"')
    assert codes(run) == ["answer-differs"]
    lines = ["from line 2 on:", "before: high 3.4", "after: high 3.5"]
    run("records", "export", "--to", "r.json")
    run("records", "import", "r.json", "--archive", "other.sqlite")
    for archive in ((), ("--archive", "other.sqlite")):
        (apart,) = json.loads(run("decide", "--json", *archive).stdout)["answers_apart"]
        assert (apart["reference"], apart["candidate"], apart["lines"]) == ("before", "after", lines)
        run("report", "--to", "r.html", *archive)
        assert "\n".join(lines) in (tmp_path / "r.html").read_text(encoding="utf-8")
    run("report", "--to", "r.html", "--redacted")
    assert "high 3.4" not in (tmp_path / "r.html").read_text(encoding="utf-8")


def test_the_answer_may_be_a_file(run: Run, tmp_path: Path) -> None:
    """The file is read after each trial; one that a trial does not write is no answer, however old it is."""
    (tmp_path / "plan.txt").write_text("an old plan", encoding="utf-8")
    keep = "'test $1 = none || echo $1 > plan.txt'"
    written(tmp_path, "3", "4", 'answer.file = "plan.txt"', keep)
    assert codes(run) == ["answer-differs"]

    written(tmp_path, "3", "none", 'answer.file = "plan.txt"', keep)
    run("observe", "--quiet")
    document = json.loads(run("decide", "--json").stdout)
    assert document["results"][0]["verdict"] == "failed"
    assert document["failures"][0]["said"] == "it did not write the file of its answer, plan.txt"


def test_an_accepted_answer_is_told_everywhere_and_stops_no_gate(run: Run, tmp_path: Path) -> None:
    """The reason stands in check, decide, JSON and report; a gate on other answers passes."""
    reason = "rounding of the last digit is intended"
    written(tmp_path, "3", "4", f'answer.accept = "{reason}"')
    checked = run("check", "--placebo-blocks", "0").stdout
    run("observe", "--quiet")
    told = [checked, *(run("decide", *words).stdout for words in ((), ("--json",), ("--gate", "other-answer")))]
    for name in ("r.html", "r.md"):
        run("report", "--to", name)
        told.append((tmp_path / name).read_text(encoding="utf-8"))

    for text in told:
        assert reason in " ".join(text.split())
    assert "accepted" in checked
    assert "DIFFERS" not in checked


def test_a_part_left_out_is_weighed(run: Run, tmp_path: Path) -> None:
    """An arm that only weighs a part has its answers accepted, for that reason."""
    written(tmp_path, "3", "4", 'answer = "output"')
    study = (tmp_path / "bystander.toml").read_text(encoding="utf-8")
    (tmp_path / "bystander.toml").write_text(
        study.replace("[arms.after]", '[arms.after]\nweigh = "the checksum"'), encoding="utf-8"
    )

    assert codes(run) == ["answer-accepted"]
    assert "which is accepted: the checksum is left out." in " ".join(run("decide").stdout.split())


def test_a_resumed_record_compares_with_the_answers_it_had(run: Run, tmp_path: Path) -> None:
    """Within a tolerance, an answer has the digest of the first one like it, in later commands too."""
    written(tmp_path, "3.4000", "3.4001", 'answer.tolerance = "0.1 %"')
    run("observe", "--quiet")
    run("observe", "--quiet")
    kept = list((tmp_path / ".bystander" / "answers").glob("*/*"))

    assert [file.read_text(encoding="utf-8") for file in kept] in (["3.4000"], ["3.4001"])


@pytest.mark.parametrize(
    ("lines", "clause"),
    [
        ('answer = "file"', 'workloads.w.answer: "file" is no answer rule here; write "output" or "exit code"'),
        ('answer.of = "file"', 'workloads.w.answer: of = "file" and file = "..." go together'),
        ('answer.of = "output"\nanswer.file = "x"', 'of = "file" and file = "..." go together'),
        ("answer.mask = ['(']", 'workloads.w.answer.mask: "(" is no regular expression'),
        ('answer.order = "sorted"', 'answer.order: "sorted" is no order of lines; write "any" or "as printed"'),
        ('answer.tolerance = "much"', "workloads.w.answer.tolerance"),
        ('answer.tolerance = "100 %"', "it must be above 0, below 1"),
        ('answer.of = "exit code"\nanswer.tolerance = "1 %"', "answer.tolerance: an exit code is compared as it is"),
        ('answer.accepted = "so"', 'did you mean "accept"'),
    ],
)
def test_wrong_rules_are_told(run: Run, tmp_path: Path, lines: str, clause: str) -> None:
    """One sentence with the key and what would be right."""
    written(tmp_path, "3", "4", lines)

    assert clause in run("check", code=2).stderr


def test_the_reference_leaves_nothing_out(run: Run, tmp_path: Path) -> None:
    """To weigh a part is a candidate's business."""
    written(tmp_path, "3", "4", "")
    study = (tmp_path / "bystander.toml").read_text(encoding="utf-8")
    (tmp_path / "bystander.toml").write_text(
        study.replace("[arms.before]", '[arms.before]\nweigh = "all"'), encoding="utf-8"
    )

    assert "arms.before.weigh: the first arm is the reference" in run("check", code=2).stderr


@given(st.lists(st.floats(-1e9, 1e9, allow_nan=False), min_size=1, max_size=8), st.floats(1e-6, 0.5))
def test_tolerance_is_a_share_of_the_number(values: list[float], tolerance: float) -> None:
    """A text equals itself; numbers moved by less than the tolerance are the same, by well more they are not."""
    text, near, far = (
        " ".join(f"{value * factor!r} m" for value in values)
        for factor in (1.0, 1 + 0.4 * tolerance, (1 + 2 * tolerance) / (1 - tolerance))
    )

    assert within_tolerance(text, text, tolerance)
    assert within_tolerance(text, near, tolerance)
    if all(abs(value) > 1e-3 for value in values):
        assert not within_tolerance(text, far, tolerance)
    assert not within_tolerance(text, text.replace("m", "ft", 1), tolerance)


@given(st.permutations(["ebb", "flood", "slack", ""]))
def test_lines_in_any_order_are_one_answer(lines: list[str]) -> None:
    """Every permutation of lines has one canonical form."""
    rule = AnswerRule(any_order=True)

    assert canonical("\n".join([*lines, "x"]), rule) == canonical("ebb\nflood\nslack\n\nx", rule)


COMPARED = """
blocks = 6
stopping = "fixed"
[arms.before]
folder = "."
settings.height = "4.20"
[arms.after]
folder = "."
settings.height = "4.21"
[arms.wrong]
folder = "."
settings.height = "5.00"
[workloads.tide]
command = "sh tide.sh {height}"
answer = { file = "tide.picture", compare = "python3 -S compare.py {reference} {candidate}" }
"""
COMPARING = """
import sys
one, other = (float(open(file, "rb").read().split(b"\\0")[1]) for file in sys.argv[1:])
print("apart by", round(abs(one - other), 6))
sys.exit(abs(one - other) > 0.1)
"""


def test_a_program_says_which_answers_are_the_same(tmp_path: Path, run: Run) -> None:
    """By its exit code; the number that it prints is how far they are apart; bytes reach it as they are."""
    (tmp_path / "bystander.toml").write_text(COMPARED, encoding="utf-8")
    (tmp_path / "tide.sh").write_text("printf '\\377\\r\\n\\0%s' $1 > tide.picture\n", encoding="utf-8")
    (tmp_path / "compare.py").write_text(COMPARING, encoding="utf-8")
    checked = run("check", "--placebo-blocks", "0").stdout
    run("observe", "--quiet")
    rows = {row["arm"]: row for row in json.loads(run("decide", "--json").stdout)["results"] if row["primary"]}
    apart = json.loads(run("decide", "--json", "--measure", "answers_apart").stdout)["results"]
    medians = {row["arm"]: row["candidate"]["median"] for row in apart if row["measure"] == "answers_apart"}

    assert "tide: wrong gives another answer than before,\n    as answer.compare says" in checked
    assert "after gives another answer" not in checked
    codes = {arm: [note["code"] for note in row["notes"]] for arm, row in rows.items()}
    assert [arm for arm in codes if "answer-differs" in codes[arm]] == ["wrong"]
    assert medians == {"after": pytest.approx(0.01), "wrong": pytest.approx(0.8)}


@pytest.mark.parametrize(
    ("program", "said"),
    [
        ("import sys; sys.exit(1)", "says that an answer differs from itself"),
        ("import sys; sys.exit(3)", "answer.compare failed (exit 3)"),
    ],
)  # fmt: skip
def test_a_program_that_cannot_compare_fails_the_trial(tmp_path: Path, run: Run, program: str, said: str) -> None:
    """Trouble is no other answer."""
    (tmp_path / "bystander.toml").write_text(COMPARED, encoding="utf-8")
    (tmp_path / "tide.sh").write_text("printf '\\377\\r\\n\\0%s' $1 > tide.picture\n", encoding="utf-8")
    (tmp_path / "compare.py").write_text(program, encoding="utf-8")
    assert said in " ".join(run("check", "--placebo-blocks", "0", code=1).stdout.split())


@pytest.mark.parametrize(
    ("answer", "said"),
    [
        ('{ compare = "cmp {reference}" }', "is not given both answers; write {reference} and {candidate}"),
        ('{ compare = "cmp {reference} {candidate}", order = "any" }', "order does not apply"),
        ('{ compare = "cmp {reference} {candidate}", of = "exit code" }', "the answer is the exit code"),
        ('{ compare = "cmp {reference} {candidate} {more}" }', "{more} is no setting or input"),
    ],
)  # fmt: skip
def test_what_cannot_compare_answers_is_refused(tmp_path: Path, run: Run, answer: str, said: str) -> None:
    """One sentence each, with the key."""
    text = f'[arms.a]\nfolder = "."\n[workloads.tide]\ncommand = "true"\nanswer = {answer}\n'
    (tmp_path / "bystander.toml").write_text(text, encoding="utf-8")
    refused = run("check", code=2).stderr
    assert said in refused
    assert "workloads.tide.answer" in refused


def test_a_number_that_is_none_is_not_known() -> None:
    """What a comparing program prints last may be too large for a number."""
    assert Comparison.of(True, "apart by 0.25 m").apart == 0.25
    assert math.isnan(Comparison.of(True, "9" * 400).apart)
    assert math.isnan(Comparison.of(False, "far").apart)
