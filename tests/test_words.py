"""Results are said exactly, with the digits that the interval supports, and never more."""

from __future__ import annotations

import math
import re
from dataclasses import replace

import pytest
from builders import made_record, noisy
from hypothesis import given
from hypothesis import strategies as st

from bystander.design import MEASURES, MachineFacts, Start
from bystander.design.records.machine import machine_sentences, machine_title
from bystander.report.markdown import markdown
from bystander.verdicts import (
    ArmSide,
    Axis,
    Decision,
    Options,
    Row,
    answer_sentence,
    blocks_text,
    change_text,
    decide,
    interval_text,
    medians_text,
    memory_sentence,
    next_sentence,
    outcome_sentence,
    row_sentence,
    saved_text,
    shared_axis,
    suite_sentence,
    whole_lines,
)


def row(
    estimate: float,
    low: float,
    high: float,
    verdict: str = "slower",
    measure: str = "elapsed",
    scale: str = "ratio",
    medians: tuple[float, float] = (0.1, 0.2),
    **more: object,
) -> Row:
    """Return a row with these numbers."""
    made = Row(
        workload="year", arm="after", measure=MEASURES[measure], primary=True, pairing="blocks", blocks=18,
        reference=ArmSide(18, 0, medians[0]), candidate=ArmSide(18, 0, medians[1]), scale=scale, estimate=estimate,
        low=low, high=high, confidence=0.95, margin=0.03, p=0.01, p_adjusted=0.02, e=0.5, e_adjusted=0.5,
        smallest_shown=0.04, verdict=verdict, relevance="beyond",
    )  # fmt: skip
    return made._replace(**more)


@pytest.mark.parametrize(
    ("numbers", "text"),
    [
        ((1.034, 1.021, 1.048), "+3.4 % (+2.1 to +4.8)"),
        ((1.3412, 1.30, 1.39), "+34 % (+30 to +39)"),
        ((0.6, 0.59, 0.61), "-40.0 % (-41.0 to -39.0)"),
        ((1.00002, 0.999, 1.0012), "0.00 % (-0.10 to +0.12)"),
        ((5.0, 4.7, 5.3), "5.0x as long (4.7 to 5.3)"),
        ((0.2, 1 / 5.3, 1 / 4.7), "5.0x as fast (4.7 to 5.3)"),
        ((3.0, 1.9, 5.2), "3.0x as long (1.9 to 5.2)"),
        ((154.2, 121.4, 175.0), "154x as long (121 to 175)"),
        ((27.8, 22.9, 31.0), "27.8x as long (22.9 to 31.0)"),
        ((1.2, 0.0, math.inf), "+20 % (no bounds)"),
        ((1.2, 1.1, math.inf), "+20 % (at least +10)"),
        ((0.99, 0.80, 0.9995), "-1 % (-20 to -0.05)"),
        ((0.99, 0.80, 1.0005), "-1 % (-20 to 0)"),
        ((math.nan, 103.77, math.inf), "at least 104x as long"),
        ((math.nan, 2.44, math.inf), "at least 2.4x as long"),
        ((math.nan, 1.1, math.inf), "at least +10 %"),
        ((math.nan, 0.0, math.inf), "not bounded"),
    ],
)  # fmt: skip
def test_changes_are_written_with_the_digits_of_their_interval(numbers: tuple[float, float, float], text: str) -> None:
    """Percent up to a factor of two, factors beyond; a faster arm counts how many times as fast."""
    assert change_text(row(*numbers)) == text


def test_amounts_are_never_so_many_times_less() -> None:
    """Less memory is told in percent, more than twice as much in factors, counts as whole numbers."""
    assert change_text(row(0.25, 0.2, 0.3, "less", "peak_memory")) == "-75 % (-80 to -70)"
    assert change_text(row(3.0, 2.8, 3.2, "more", "peak_memory")) == "3.0x as much (2.8 to 3.2)"
    assert change_text(row(635.5, 634.0, 636.5, "more", "minor_faults", "difference")) == "+636 (+634 to +636)"
    assert change_text(row(0.0031, 0.001, 0.005, "more", "waiting", "difference")) == "+3.10 ms (+1.00 to +5.00)"


@pytest.mark.parametrize(
    ("made", "text"),
    [
        (row(1.034, 1.021, 1.048), "slower by 3.4 % (2.1 to 4.8 %), 18 blocks"),
        (row(0.9, 0.88, 0.92, "faster"), "faster by 10 % (8 to 12 %), 18 blocks"),
        (row(0.2, 1 / 5.3, 1 / 4.7, "faster"), "faster: 5.0 times as fast (4.7 to 5.3), 18 blocks"),
        (row(1.0, 0.99, 1.02, "same"), "same within the margin (from 1 % faster to 2 % slower), 18 blocks"),
        (row(1.01, 0.98, 1.06, "unclear"),
         "unclear: no change shown; not more than 6 % slower, nor more than 2 % faster, 18 blocks"),
        (row(1.0, 0.0, math.inf, "unclear"), "unclear: no change shown; nothing is ruled out, 18 blocks"),
        (row(1.5, 0.8, 2.5, "unclear"),
         "unclear: no change shown; not more than 2.5 times slower, nor more than 20 % faster, 18 blocks"),
        (row(math.nan, 1.1, math.inf), "slower: at least +10 %, 18 blocks"),
        (row(1.2, 1.1, 1.3, "failed"), "failed, 18 blocks"),
        (row(1.2, 1.1, 1.3, pairing="none"), "slower by 20 % (10 to 30 %), 18 trials, unpaired"),
    ],
)  # fmt: skip
def test_rows_are_said_in_a_sentence(made: Row, text: str) -> None:
    """Each verdict has its own sentence; an unclear one says what is ruled out."""
    assert row_sentence(made) == text


@given(st.floats(0.2, 5), st.floats(1e-4, 0.5), st.floats(1e-4, 0.5))
def test_numbers_shown_round_to_the_numbers_kept(estimate: float, below: float, above: float) -> None:
    """What is written is the estimate to within half of its last digit."""
    text = change_text(row(estimate, estimate * (1 - below / 2), estimate * (1 + above)))
    number = re.match(r"[-+]?[0-9.]+", text)
    assert number
    places = len(number[0].partition(".")[2])
    kept = (estimate - 1) * 100 if "%" in text else estimate if "long" in text else 1 / estimate

    assert abs(float(number[0]) - kept) <= 0.5001 * 10.0**-places


def test_levels_are_never_rounded_up() -> None:
    """A level of 97.86 % is a 97.8 % interval."""
    assert interval_text(row(1.1, 1.0, 1.2, confidence=0.9786)) == "97.8 % interval"
    assert interval_text(row(1.1, 1.0, 1.2, confidence=0.95)) == "95 % interval"


def test_medians_and_savings_come_with_units() -> None:
    """Seconds saved are told only where a change is shown."""
    shown = row(0.2, 0.19, 0.21, "faster", medians=(0.0852, 0.0171))

    assert medians_text(shown) == "85.2 ms to 17.1 ms"
    assert saved_text(shown) == "saves 68 ms"
    assert saved_text(row(1.2, 1.1, 1.3, medians=(1.0, 1.25))) == "costs 250 ms"
    assert saved_text(row(1.0, 0.9, 1.1, "unclear")) == ""
    assert medians_text(row(1.2, 1.1, 1.3, medians=(math.nan, 0.1))) == "none to 100 ms"


def suite(**factors: float) -> dict[str, dict[str, list[float]]]:
    return {
        name: {"before": noisy(20, 0.1, 0.01, i), "after": noisy(20, 0.1 * factor, 0.01, 50 + i)}
        for i, (name, factor) in enumerate(factors.items())
    }


def test_the_suite_is_said_worst_first() -> None:
    """Outcome, promise, and what to do next; the worst row is named."""
    decision = decide(made_record(suite(fine=1.0, better=0.5, worse=1.5)))

    assert [r.workload for r in decision.primary] == ["worse", "fine", "better"]
    assert outcome_sentence(decision) == "Of 3 comparisons: 1 slower, 1 same, 1 faster."
    assert "if nothing had changed, something would be shown in at most 5 %" in suite_sentence(decision)
    assert "see where worse changed, by watching both arms" in next_sentence(decision)


def test_what_to_do_next_follows_the_verdicts() -> None:
    """Failed before worse before unclear before nothing; an unfinished record is run again."""
    failed = decide(made_record(suite(a=1.5, b=1.0), failed={("b", "after"): range(20)}))
    unclear = decide(made_record({"a": {"before": noisy(20, 1, 0.3, 1), "after": noisy(20, 1.02, 0.3, 2)}}))

    assert "try b once, and see how it fails:\n  bystander check --only b" in next_sentence(failed)
    assert f"bystander observe --blocks {unclear.primary[0].blocks_for_margin:.0f}" in next_sentence(unclear)
    assert "the page for a reviewer" in next_sentence(decide(made_record(suite(a=1.0))))
    assert "observe --resume made-up-1" in next_sentence(decide(made_record(suite(a=1.0), state="interrupted")))
    assert "give the study a second arm" in next_sentence(decide(made_record({"a": {"now": noisy(10, 1)}})))


def test_the_whole_load_is_a_plain_weighted_sum() -> None:
    """Weights times medians, candidate over reference; nothing is said without weights."""
    record = made_record(
        {"a": {"before": [1.0] * 9, "after": [2.0] * 9}, "b": {"before": [4.0] * 9, "after": [1.0] * 9}}
    )
    workloads = tuple(
        replace(w, weight=weight) for w, weight in zip(record.head.study.workloads, (3.0, 1.0), strict=True)
    )
    weighted = replace(record, head=replace(record.head, study=replace(record.head.study, workloads=workloads)))

    assert not any(line.startswith("The whole load") for line in whole_lines(decide(record)))
    first = whole_lines(decide(weighted))[0]  # (6 + 1) / (3 + 4)
    assert first.startswith("The whole load, 2 workloads by how often each runs: after takes as much time as before (")


def test_other_answers_are_warned_of_by_name() -> None:
    """One or several, in the singular and plural."""
    both = decide(
        made_record(suite(a=0.5, b=1.0), answers={("a", "after"): 1, ("b", "after"): 1}, answer_rule="output")
    )
    one = decide(made_record(suite(a=0.5, b=1.0), answers={("a", "after"): 1}, answer_rule="output"))

    assert answer_sentence(one).startswith("a gives another answer")
    assert "give another answer" in answer_sentence(both)
    assert "1 with another answer" in outcome_sentence(one)
    assert answer_sentence(decide(made_record(suite(a=1.0)))) == ""


@given(st.floats(1.02, 1000), st.floats(1e-6, 1e6))
def test_the_axis_is_symmetric_and_clips(reach: float, ratio: float) -> None:
    """A ratio and its inverse lie as far from the middle; nothing leaves the axis."""
    axis = Axis(reach)

    assert axis.place(1.0) == 0.5
    assert axis.place(ratio) + axis.place(1 / ratio) == pytest.approx(1.0)
    assert 0 <= axis.place(ratio) <= 1
    assert (axis.place(0.0), axis.place(math.inf), axis.place(reach)) == (0.0, 1.0, pytest.approx(1.0))


@given(st.floats(1.02, 1000), st.integers(3, 9))
def test_ticks_are_few_symmetric_and_on_the_axis(reach: float, most: int) -> None:
    """The middle is always labelled, and every label has its mirror."""
    ticks = Axis(reach).ticks(most)

    assert len(ticks) <= most
    assert ticks == sorted(ticks)
    assert 1.0 in ticks
    assert [pytest.approx(1 / t) for t in reversed(ticks)] == ticks
    assert all(1 / reach * 0.999 <= t <= reach * 1.001 for t in ticks)


def test_the_shared_axis_holds_every_row_and_the_margin() -> None:
    """All bounded ends lie on it; unbounded ones do not stretch it."""
    axis = shared_axis([row(1.1, 1.0, 1.3), row(0.5, 0.4, 0.6), row(1.0, 0.0, math.inf)])

    assert 2.5 <= axis.reach < 3
    assert shared_axis([]).reach >= 1.02


def test_the_machine_is_told_in_plain_words() -> None:
    """Only what is known is said."""
    facts = MachineFacts.of({"host": "gull", "cores": 1, "load": 1.2, "virtual": True, "governor": "powersave",
             "memory_bytes": 8 * 2**30, "memory_free_bytes": 2**28, "processor": "Tern"})  # fmt: skip
    said = " ".join(machine_sentences(facts))

    assert machine_title(facts) == "gull (Tern, 1 core, 8.0 GiB)"
    for words in ("busy: 1.2", "1 core.", "virtual machine", '"powersave"', "Only 260 MiB"):
        assert words in said
    assert (machine_title(MachineFacts()), machine_sentences(MachineFacts())) == ("not known", [])


def test_options_do_not_change_the_record() -> None:
    """Deciding again with other options and then without gives the first decision again."""
    record = made_record(suite(a=1.05, b=1.0))
    first = decide(record)
    decide(record, Options(margin=0.5, risk=0.01))

    assert decide(record).rows == first.rows


def timed_twice(elapsed: float, cpu: float, computing: float = 1.0) -> Decision:
    """Decide one workload whose elapsed and CPU time scatter by so much, with a change of a percent."""
    times = {"w": {"before": noisy(20, 1, elapsed, 1), "after": noisy(20, 1.01, elapsed, 2)}}
    more = {"w": {"before": noisy(20, computing, cpu, 3), "after": noisy(20, computing * 1.01, cpu, 4)}}
    return decide(made_record(times, more={"cpu": more}))


def test_an_unclear_row_says_where_cpu_time_would_do() -> None:
    """With the blocks that it would take; not where it would hardly take fewer, nor of a program that waits."""
    (row,) = timed_twice(0.3, 0.02).primary
    cpu = next(one for one in timed_twice(0.3, 0.02).secondary if one.measure.name == "cpu")
    (told,) = [note.text for note in row.notes if note.code == "needs-blocks"]

    assert row.verdict == "unclear"
    assert f'(or measure = "cpu": about {cpu.blocks_for_margin:.0f} blocks).' in told
    assert cpu.blocks_for_margin < 0.7 * row.blocks_for_margin
    for other in (timed_twice(0.3, 0.3), timed_twice(0.3, 0.02, computing=0.3), timed_twice(0.001, 0.02)):
        assert not any('"cpu"' in note.text for note in other.primary[0].notes)


def test_a_row_that_its_workload_outlived_says_so() -> None:
    """Of two candidates one is decided at the first look, and the other keeps the workload running."""
    record = made_record({"w": {"a": noisy(40, 1, 0.2, 1), "b": noisy(40, 3, 0.02, 2), "c": noisy(40, 1.02, 0.3, 3)}})
    study = replace(record.head.study, stopping="looks", blocks=40)
    decision = decide(replace(record, head=replace(record.head, study=study)))
    rows = {row.arm: row for row in decision.primary}
    early, late = rows["b"], rows["c"]

    assert (late.blocks, late.blocks_run, late.has("decided-earlier")) == (40, 40, False)
    assert early.blocks < early.blocks_run == 40
    assert blocks_text(early) == f"{early.blocks} of 40"
    assert f"{early.blocks} of 40 blocks" in row_sentence(early)
    assert next(n.text for n in early.notes if n.code == "decided-earlier") == (
        f"Decided after {early.blocks} of 40 blocks; its workload went on for another row."
    )
    assert f"| {early.blocks} of 40 |" in markdown(decision)


def test_a_row_of_which_nothing_is_known_is_settled_by_twice_the_blocks() -> None:
    """Twenty of them at least."""
    for blocks, more in ((3, 40), (30, 60)):
        values = [1.0] * blocks
        record = made_record({"w": {"a": values, "b": values}}, failed={("w", "a"): range(1), ("w", "b"): range(1, 2)})
        wide = made_record({"w": {"a": noisy(blocks, 1, 3.0, 1), "b": noisy(blocks, 1, 3.0, 2)}}, margin=1e-4)
        said = [next_sentence(decide(one)) for one in (record, wide) if decide(one).primary[0].verdict == "unclear"]
        assert any(f"--blocks {more}" in text for text in said), said


def test_more_memory_beyond_the_margin_is_always_said() -> None:
    """Also in so few blocks that no other measure could be shown; less of it, or as much, is not."""
    times = {"w": {"before": noisy(8, 0.1, 0.01, 1), "after": noisy(8, 0.3, 0.01, 2)}}
    others = {f"m{i}": {"w": {arm: noisy(8, 1.0, 0.1, 9 * i) for arm in times["w"]}} for i in range(9)}
    for after, said in ((7.5e7, "More memory: w 14.3 MiB to 71.5 MiB."), (1.5e7, ""), (1.3e7, "")):
        memory = {"w": {"before": noisy(8, 1.5e7, 0.001, 3), "after": noisy(8, after, 0.001, 4)}}
        decision = decide(made_record(times, more={"peak_memory": memory} | others))
        assert memory_sentence(decision) == said


def test_one_state_that_waited_for_a_processor_says_what_its_code_took() -> None:
    """By the run queue of whole trials; of samples by their own CPU time; a quiet machine says nothing."""
    times = {"w": {"now": noisy(9, 0.2, 0.01, 1)}}

    def told(cpu_s: float, queued_s: float, start: Start = Start.WHEREVER) -> tuple[str, ...]:
        amounts = {"cpu": cpu_s, "run_queue_delay": queued_s}
        more = {name: {"w": {"now": noisy(9, value, 0.001, 5)}} for name, value in amounts.items()}
        record = made_record(times, more=more)
        (workload,) = record.head.study.workloads
        study = replace(record.head.study, workloads=(replace(workload, start=start),))
        return decide(replace(record, head=replace(record.head, study=study))).queued

    took = "for 50 % of its time: CPU time, 100 ms, is what the code took."
    assert told(0.1, 0.1) == (f"w waited for a processor {took}",)
    assert told(0.1, 0.03) == ()
    assert told(0.1, 5.0, Start.IN_PROCESS) == (f"w had no processor {took}",)
    assert told(0.19, 5.0, Start.IN_PROCESS) == ()
