"""Changes that somebody accepted: with a reason, up to a size, until a day, in a file beside the study."""

from __future__ import annotations

import json
import os
from dataclasses import replace
from datetime import date
from pathlib import Path

import jsonschema
import pytest
from builders import made_record, noisy
from conftest import Run
from hypothesis import given
from hypothesis import strategies as st

from bystander.design import ACCEPTED, Record, Settled
from bystander.errors import DataError, UnitError
from bystander.exchange import allowed_text, read_allowed, read_settled, settled_text
from bystander.flow.records import settled as beside
from bystander.verdicts import (
    Decision,
    decide,
    gate,
    gate_ask,
    gate_sentences,
    outcome_sentence,
    with_settled,
    worse_end,
)

ROOT = Path(__file__).parents[1]
TODAY = date(2026, 11, 27)
ENTRY = Settled(
    "made up", "gauge", "after", "elapsed", ACCEPTED, "telegrams are checked", date(2026, 11, 1), "made-up-1",
    "slower by 10 %", 0.12,
)  # fmt: skip


def harbour(change: float = 1.1, **more: object) -> Record:
    return made_record(
        {"gauge": {"before": noisy(20, 1, 0.01), "after": noisy(20, change, 0.01, 1)},
         "year": {"before": noisy(20, 2, 0.01, 2), "after": noisy(20, 2.4, 0.01, 3)}}, **more,
    )  # type: ignore[arg-type]  # fmt: skip


def settled(entry: Settled, record: Record | None = None, words: str = "slower,unclear") -> Decision:
    record = record or harbour()
    ask = gate_ask(tuple(words.split(",")), record.head.study)
    from bystander.verdicts import Options

    return with_settled(decide(record, Options(gate=ask)), [entry], TODAY)


def found(decision: Decision, words: str = "slower,unclear") -> tuple[list[str], list[str]]:
    """Return what a gate finds, and what it passes as accepted."""
    finding = gate(decision, gate_ask(tuple(words.split(",")), decision.head.study))
    return [what for _, what in finding.found], [what for _, what in finding.accepted]


def test_a_gate_passes_what_is_accepted() -> None:
    """And says so; the row says why."""
    decision = settled(ENTRY)
    row = next(row for row in decision.primary if row.workload == "gauge")
    assert found(decision) == (["year"], ["gauge"])
    assert row.accepted
    assert any(
        "Accepted, up to 12 % worse: telegrams are checked (settled 2026-11-01" in note.text for note in row.notes
    )
    assert "; 1 accepted." in outcome_sentence(decision)
    assert "gate: accepted, and passed: gauge (slower)" in gate_sentences(
        gate(decision, gate_ask(("slower",), decision.head.study))
    )
    assert not any(note.code == "no-longer-accepted" for note in decision.notes)


@pytest.mark.parametrize(
    ("entry", "said"),
    [
        (replace(ENTRY, until=date(2026, 11, 26)), "it was accepted until 2026-11-26, and this is 2026-11-27"),
        (replace(ENTRY, up_to=0.05), "it was accepted up to 5 % worse, and is shown to be worse than that"),
        (replace(ENTRY, up_to=0.5, relative=False), "is shown to be worse than that"),
    ],
)
def test_what_is_over_is_loud_and_stops_again(entry: Settled, said: str) -> None:
    """On top of every output."""
    decision = settled(entry)
    assert found(decision) == (["year", "gauge"], [])
    assert decision.notes[0].code == "no-longer-accepted"
    assert decision.notes[0].text.startswith("NO LONGER ACCEPTED: gauge under after, elapsed time: ")
    assert said in decision.notes[0].text


def test_the_last_day_still_counts_and_others_rows_do_not() -> None:
    """Of another study, arm or measure; where nothing is worse any more, nothing is said; the later entry counts."""
    assert found(settled(replace(ENTRY, until=TODAY)))[1] == ["gauge"]
    for other in (replace(ENTRY, study="x"), replace(ENTRY, arm="x"), replace(ENTRY, measure="cpu")):
        assert settled(other).settled == ()
    same = settled(ENTRY, harbour(1.0))
    assert [one.standing for one in same.settled] == ["idle"]
    assert not any(row.accepted for row in same.rows)
    both = with_settled(decide(harbour()), [replace(ENTRY, up_to=0.01), ENTRY], TODAY)
    assert [one.standing for one in both.settled] == ["accepted"]


def test_a_wrong_answer_is_no_change_that_can_be_accepted() -> None:
    """It stops the gate whatever is accepted of the time."""
    wrong = harbour(answers={("gauge", "after"): 1}, answer_rule="output")
    words = "slower,other-answer"
    finding = gate(settled(ENTRY, wrong, words), gate_ask(tuple(words.split(",")), wrong.head.study))
    assert ("other-answer", "gauge") in finding.found
    assert ("slower", "gauge") in finding.accepted


def test_of_more_that_is_better_less_is_worse() -> None:
    """The worse end is the lower one."""
    record = harbour(0.9)
    more = replace(record.head.measures[0], better="more")
    rate = replace(record, head=replace(record.head, measures=(more,)))
    row = next(row for row in decide(rate).primary if row.workload == "gauge")
    assert worse_end(row) == pytest.approx(1 - row.low)
    assert [one.standing for one in with_settled(decide(rate), [ENTRY], TODAY).settled] == ["accepted"]
    assert [one.standing for one in with_settled(decide(rate), [replace(ENTRY, up_to=0.05)], TODAY).settled] == [
        "beyond"
    ]


@given(
    st.text(st.characters(codec="utf-8", exclude_characters="\0"), min_size=1).filter(str.strip),
    st.floats(0, 1e6), st.sampled_from(["s", "B", ""]), st.booleans(), st.none() | st.dates(),
)  # fmt: skip
def test_what_is_written_is_read_again(
    because: str, up_to: float, unit: str, relative: bool, until: date | None
) -> None:
    """Any reason; the size is never less than it was, and hardly more; entries follow each other."""
    entry = replace(ENTRY, because=because, up_to=up_to, relative=relative, until=until)
    text = settled_text(settled_text("", ENTRY, "s"), entry, unit)
    first, second = read_settled(text, "f")
    assert (first.row, first.because) == (ENTRY.row, ENTRY.because)
    assert (second.because, second.relative, second.until) == (because, relative, until)
    assert up_to <= second.up_to <= max(up_to * 1.002, up_to + (unit == "B" and not relative))


ROW = """
[[row]]
study = "s"
workload = "w"
arm = "a"
measure = "elapsed"
fate = "accepted"
because = "x"
day = 2026-11-01
up_to = "5 %"
"""


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("[[rows]]", "f: rows: there is no such table"), ("row = 3", "f: row: it is no list of tables"),
        ("=", "f: it cannot be read as TOML"), (ROW.replace("5 %", "much"), 'row 1: up_to: "much" is no size'),
        (ROW.replace("accepted", "fine"), 'row 1: fate: "fine" is no fate of a row'),
        (ROW.replace('"x"', '" "'), "row 1: because:"), (ROW.replace("elapsed", "speed"), "there is no measure"),
        (ROW + "who = 'me'", "row 1: who: there is no such key"), (ROW.replace('arm = "a"\n', ""), "arm is missing"),
        (ROW + ROW.replace("2026-11-01", '"soon"'), 'row 2: day: "soon" is no day'),
        (ROW.replace('"w"', "3"), "row 1: workload: 3 is no text"),
    ],
)  # fmt: skip
def test_a_damaged_file_is_told(text: str, said: str) -> None:
    """With the entry and the key."""
    with pytest.raises(DataError) as error:
        read_settled(text, "f")
    assert said in str(error.value)


def test_sizes_are_read_as_they_are_written() -> None:
    """Shares, times, sizes and counts."""
    assert [read_allowed(text) for text in ("5 %", "12 ms", "64 MiB", "3", 3)] == [
        (0.05, True), (0.012, False), (2.0**26, False), (3.0, False), (3.0, False),
    ]  # fmt: skip
    assert [allowed_text(*size) for size in ((0.3095, True, "s"), (0.0125, False, "s"), (3.0, False, ""))] == [
        "30.95 %", "12.5 ms", "3",
    ]  # fmt: skip
    for wrong in ("", "nan", "-3", True, None, [1]):
        with pytest.raises(UnitError):
            read_allowed(wrong)


def test_a_file_that_may_not_be_read_is_not_written_over(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    """To decide, nothing is settled there; to settle, the entries that it holds must not be lost."""

    def refused(*_: object) -> bytes:
        raise PermissionError(13, "Permission denied")

    monkeypatch.setattr(beside, "read_at_most", refused)
    head = replace(harbour().head, study_folder=str(tmp_path))
    with pytest.raises(PermissionError):
        beside.read_file(tmp_path / "bystander.settled.toml")
    assert beside.settled_beside(head, tmp_path) == ()


def _umask() -> int:
    """Return what is cut from the mode of new files."""
    os.umask(mask := os.umask(0o077))
    return mask


def test_somebody_accepts_a_row_and_the_gate_passes(run: Run, tmp_path: Path) -> None:
    """Through the program: what is written, what every output says, and what is refused."""
    (tmp_path / "bystander.toml").write_text(
        "name = 'the office'\nblocks = 8\nstopping = 'fixed'\n[arms.a]\nsettings.t = '0.01'\n[arms.b]\n"
        "settings.t = '0.2'\n"
        "[workloads.gauge]\ncommand = 'sleep {t}'\n[workloads.same]\ncommand = 'sleep 0.01'\n", encoding="utf-8",
    )  # fmt: skip
    run("observe", "--gate", "slower", "--quiet", code=3)
    for words, said in (
        (("gaug",), 'did you mean "gauge"?'), (("gauge", "fine"), "of a row it is accepted, of a place as-expected"),
        (("gauge", "accepted", "--because", " "), "--because: say why"),
        (("gauge", "accepted", "--until", "soon"), '--until: "soon" is no day'),
        (("gauge", "accepted", "--until", "2020-01-01"), "--until: 2020-01-01 is over"),
        (("gauge", "accepted", "--arm", "c"), 'has no candidate "c"; it has b'),
        (("gauge", "accepted", "--measure", "speed"), '--measure: gauge has no row of "speed"'),
        (("gauge", "accepted", "--up-to", "5 %"), "--up-to: gauge is shown to be worse than that: slower"),
        (("gauge", "accepted", "--up-to", "5 ms"), 'is no size of this change; write for example "5 %"'),
    ):  # fmt: skip
        full = [
            *words,
            *(["accepted"] if len(words) == 1 else []),
            *([] if "--because" in words else ["--because", "x"]),
        ]
        assert said in run("settle", *full, code=2).stderr
    said = " ".join(
        run("settle", "gauge", "accepted", "--because", "it is meant", "--until", "2999-01-01").stdout.split()
    )
    assert "gauge under b is accepted, up to" in said
    assert "bystander.settled.toml holds it; commit it." in said
    assert (tmp_path / "bystander.settled.toml").stat().st_mode & 0o777 == 0o666 & ~_umask()
    passed = run("decide", "--gate", "slower")
    document = json.loads(run("decide", "--json", "--gate", "slower").stdout)
    jsonschema.validate(document, json.loads((ROOT / "docs" / "verdicts.schema.json").read_text(encoding="utf-8")))
    run("report", "--to", "r.md")
    run("report", "--to", "r.html")
    assert "accepted, and passed: gauge (slower)" in passed.stderr
    assert (document["settled"][0]["standing"], document["gate"]["accepted"][0]["what"]) == ("accepted", "gauge")
    for text in (passed.stdout, *((tmp_path / name).read_text(encoding="utf-8") for name in ("r.md", "r.html"))):
        assert "it is meant" in " ".join(text.split())
        assert "What was settled is held against" in " ".join(text.split())
    assert "it is meant" not in run("decide", "--redacted").stdout
    file = tmp_path / "bystander.settled.toml"
    file.write_text(file.read_text(encoding="utf-8").replace("2999-01-01", "2020-01-01"), encoding="utf-8")
    over = run("decide", "--gate", "slower", code=3)
    run("report", "--to", "r.md")
    run("report", "--to", "r.html")
    for text in (over.stdout, *((tmp_path / name).read_text(encoding="utf-8") for name in ("r.md", "r.html"))):
        assert "NO LONGER ACCEPTED" in text
    file.write_text("oops", encoding="utf-8")
    assert "bystander.settled.toml: it cannot be read as TOML" in run("decide", code=2).stderr
    file.unlink()
    os.mkfifo(file)
    assert "bystander.settled.toml: it is no file" in run("decide", code=2).stderr
    file.unlink()
