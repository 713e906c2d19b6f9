"""The gate of a pipeline: every exit code by what was looked for, found, or could not be told."""

from __future__ import annotations

import json
import math
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from builders import made_record, noisy
from conftest import Run
from scipy.stats import binom

from bystander.design import Gate, Record, Status, measure_named
from bystander.errors import GateError, UsageError
from bystander.verdicts import GateAsk, GateFinding, Options, decide, gate, gate_ask, gate_sentences, refuse_gate


def asked(record: Record, *words: str, measures: Sequence[str] = (), **more: object) -> GateFinding:
    ask = GateAsk(words, tuple(measures))
    return gate(decide(record, Options(gate=ask, **more)), ask)


def two(factor: float = 1.0, blocks: int = 20, spread: float = 0.02, **more: object) -> Record:
    times = {"year": {"before": noisy(blocks, 1, spread, 1), "after": noisy(blocks, factor, spread, 2)}}
    return made_record(times, **more)


def measured(slower: float, memory: float, weigh: float = 1.0) -> Record:
    """Two workloads with peak memory: how much slower they are, and how much more memory the second takes."""
    times = {w: {"before": noisy(20, 1, 0.02, s), "after": noisy(20, slower, 0.02, s + 9)} for s, w in enumerate("ab")}
    more = {
        w: {
            "before": noisy(20, 5e6, 0.01, s + 20),
            "after": noisy(20, 5e6 * (memory if w == "b" else weigh), 0.01, s + 30),
        }
        for s, w in enumerate("ab")
    }
    return made_record(times, more={"peak_memory": more})


# ---- words ------------------------------------------------------------------------------------------------------


def test_words_are_found_for_what_they_say() -> None:
    """Each word finds its own, and nothing is found of what is not asked for."""
    slow, wrong = two(1.3), two(answers={("year", "after"): 1}, answer_rule="output")
    crashed = two(failed={("year", "after"): range(3)})
    before = two(failed={("year", "before"): range(20)}, status=Status.SIGNAL)

    assert asked(slow, "slower", "failed").found == (("slower", "year"),)
    assert asked(slow, "faster", "failed", "unclear").found == ()
    assert asked(wrong, "other-answer").found == (("other-answer", "year"),)
    assert asked(crashed, "any-failure").found == (("any-failure", "year, arm after"),)
    assert asked(crashed, "failed").found == ()
    assert asked(before, "failed").found == (("failed", "year"),)
    assert asked(two(1.02, spread=0.3), "unclear").found == (("unclear", "year"),)


def test_a_reference_that_fails_more_often_counts_as_failed() -> None:
    """Fifteen of twenty against none is no luck; the row says so, and its verdict stays what the readings say."""
    record = two(failed={("year", "before"): range(15)})
    (row,) = decide(record).primary
    p = binom.sf(14, 15, 0.5)

    assert row.has("reference-fails-more")
    assert f"(p {p:.2g} after adjustment)" in next(n.text for n in row.notes if n.code == "reference-fails-more")
    assert row.verdict != "failed"
    assert asked(record, "failed").found == (("failed", "year"),)


def test_one_arm_alone_can_fail_and_nothing_else() -> None:
    """All its trials failed, or one; a word that compares cannot be told."""
    alone = made_record({"w": {"now": noisy(10, 1)}}, failed={("w", "now"): range(10)})

    assert asked(alone, "failed").found == (("failed", "w"),)
    assert asked(alone, "any-failure").found == (("any-failure", "w, arm now"),)
    assert asked(alone, "slower").untold == ("slower compares two arms, and there is one",)


# ---- the family, and bounds ---------------------------------------------------------------------------------------


def test_gated_measures_are_one_family() -> None:
    """Memory that rose stops the gate as it would by itself; the risk is held over both measures of both workloads."""
    grown = measured(1.0, 1.15)
    both = asked(grown, "slower", "more", measures=("elapsed", "peak_memory"))
    (bound, *_) = [one for one in both.bounds if one.row.measure.name == "elapsed"]

    assert both.found == (("more", "b, peak memory"),)
    assert asked(grown, "more", measures=("elapsed",)).untold == (
        'elapsed cannot be more; add "peak_memory" to [gate] measures in the study',
    )
    assert len(both.bounds) == 4
    # The bound is the end of the two-sided interval at twice risk / m, m = 2 workloads x 2 measures.
    assert bound.row.worse_bound == pytest.approx(_upper_end(grown, bound.row.workload, 0.05 / 4), rel=1e-12)


def _upper_end(record: Record, workload: str, level: float) -> float:
    """Return the one-sided upper bound of the pseudo-median by all pairwise averages, independent of the product."""
    names = [one.name for one in record.head.study.workloads]
    mine = record.trials.workload == names.index(workload)
    sides = [np.log(record.trials.readings[mine & (record.trials.arm == a), 0]) for a in (0, 1)]
    d = sides[1] - sides[0]
    walsh = np.sort([(d[i] + d[j]) / 2 for i in range(d.size) for j in range(i, d.size)])
    counts = np.zeros(1)
    counts[0] = 1
    for rank in range(1, d.size + 1):  # how many of the 2^n sign patterns have each rank sum
        counts = np.concatenate([counts, np.zeros(rank)]) + np.concatenate([np.zeros(rank), counts])
    below = np.cumsum(counts) / 2.0**d.size
    c = int(np.searchsorted(below, level, "right")) - 1
    return math.exp(walsh[walsh.size - c - 1])


def test_not_ruled_out_finds_what_may_still_be_worse() -> None:
    """A change of the margin's size among noise is not ruled out; sharp readings rule it out; failures do not."""
    noise, sharp = two(1.01, spread=0.3), two(1.0, spread=0.001)
    failing = two(1.0, spread=0.001, failed={("year", "after"): range(12)})

    assert asked(noise, "not-ruled-out").found == (("not-ruled-out", "year"),)
    assert asked(sharp, "not-ruled-out").found == ()
    assert asked(sharp, "not-ruled-out").bounds[0].worse < 0.01
    assert asked(failing, "not-ruled-out").found == (("not-ruled-out", "year"),)
    assert asked(two(0.5), "not-ruled-out").bounds[0].worse == 0.0


def test_every_pass_names_what_it_does_not_rule_out() -> None:
    """By the largest bound; where nothing is ruled out it says so."""
    passed = asked(two(1.0, spread=0.05), "slower")
    (said,) = gate_sentences(passed)
    few = asked(two(1.0, blocks=3), "slower")

    assert f"nothing found; a worsening of up to {passed.bounds[0].text} (year) is not ruled out" in said
    assert 0.005 < passed.bounds[0].worse < 0.02
    assert "of any size (year) is not ruled out" in gate_sentences(few)[0]


def test_holm_holds_the_family_and_the_margin_still_counts() -> None:
    """A change that one row alone would show is none among forty; one within the margin stops nothing."""
    many = {f"w{i}": {"a": noisy(9, 1, 0.05, i), "b": noisy(9, 1, 0.05, i + 99)} for i in range(40)}
    many["w0"] = {"a": [1.0] * 9, "b": [1.5 + i / 100 for i in range(9)]}  # p = 2 / 512

    assert asked(made_record(many), "slower").found == ()
    assert asked(made_record({"w0": many["w0"]}), "slower").found == (("slower", "w0"),)
    assert asked(two(1.02, spread=0.001), "slower").found == ()


# ---- what could not be told ---------------------------------------------------------------------------------------


def test_what_cannot_be_told_is_said() -> None:
    """Unfinished, tainted, left out, not read: each a sentence, and two of them words of their own."""
    short = two(1.0, state="interrupted")
    placebo = {"w": {"before": noisy(20, 1), "after": noisy(20, 1, seed=2), "placebo": noisy(20, 2, seed=3)}}
    imported = two(1.3, origin="imported", paired=False)

    assert asked(short, "slower").untold == ("the record is unfinished",)
    assert asked(short, "unfinished").found == (("unfinished", "made-up-1"),)
    assert asked(made_record(placebo), "slower").untold[0].startswith("TAINTED: the placebo")
    assert asked(made_record(placebo), "tainted").found == (("tainted", "made-up-1"),)
    assert "--gate-also unrandomised counts them" in asked(imported, "slower").untold[0]
    assert asked(two(), "other-answer").untold == (
        'no workload compares answers, so that none can be another; answer = "output" does',
    )
    assert asked(two(), "slower", measures=("elapsed", "phase:parse")).untold == ("phase:parse was told by no program",)


def test_only_and_arm_narrow_what_is_asked() -> None:
    """A row that is left out of the question neither stops nor fails the gate; the family stays that of the plan."""
    record = measured(1.0, 1.15)
    a = asked(record, "more", measures=("peak_memory",), only=("a",))
    b = asked(record, "more", measures=("peak_memory",), only=("b",))

    assert (a.found, b.found) == ((), (("more", "b, peak memory"),))
    assert [one.row.workload for one in a.bounds] == ["a"]
    whole = asked(record, "more", measures=("peak_memory",))
    same = next(one.row.worse_bound for one in whole.bounds if one.row.workload == "a")
    assert a.bounds[0].row.worse_bound == same


def test_a_gate_over_an_exploration_is_refused() -> None:
    """What was chosen after the readings were seen gates nothing."""
    for options in (Options(measure="peak_memory"), Options(margin=0.5), Options(risk=0.2)):
        with pytest.raises(UsageError, match="this is exploration"):
            gate(decide(measured(1.0, 1.1), options), GateAsk(("slower",)))


def test_what_a_study_cannot_answer_is_refused_before_the_start() -> None:
    """One arm, and a measure that cannot be what is looked for."""
    study, alone = two().head.study, made_record({"w": {"now": [1.0]}}).head.study
    gated = replace(study, gate=Gate(("more",), ("elapsed", "peak_memory")))

    with pytest.raises(UsageError, match="compares two arms, and there is one"):
        refuse_gate(GateAsk(("slower",)), alone)
    with pytest.raises(GateError, match='elapsed cannot be more; add "peak_memory"'):
        refuse_gate(GateAsk(("more",)), study)
    with pytest.raises(UsageError, match="the study does not say what stops"):
        gate_ask(("study",), study)
    refuse_gate(gate_ask(("study",), gated), gated)
    refuse_gate(GateAsk(("any-failure", "failed")), alone)


# ---- the program ----------------------------------------------------------------------------------------------------

STUDY = """
blocks = 8
seed = 3
{top}
[arms.before]
settings.n = "{before}"
[arms.after]
settings.n = "{after}"
[workloads.w]
command = "{command}"
limit = "1 s"
"""


def written(folder: Path, command: str = "sleep {n}", before: str = "0.01", after: str = "0.2", top: str = "") -> None:
    text = STUDY.format(command=command, before=before, after=after, top=top)
    (folder / "bystander.toml").write_text(text, encoding="utf-8")


def test_observe_gates_the_very_record_that_it_made(run: Run, tmp_path: Path) -> None:
    """Slower by twenty times: 3, whatever an earlier record says; the same command in both passes with its bound."""
    written(tmp_path)
    assert "found w (slower)" in run("observe", "--quiet", "--gate", "slower,failed", code=3).stdout
    written(tmp_path, after="0.01")
    done = run("observe", "--quiet", "--gate", "slower,failed", "--blocks", "6", "--margin", "90 %")
    assert "gate slower,failed: nothing found; a worsening of up to" in done.stdout
    assert run("decide", "w-1", "--gate", "slower", code=2).stderr  # there is no such record
    assert "found w (slower)" in run("decide", "unnamed-study-1", "--gate", "slower", code=3).stderr


def test_every_exit_code_in_its_order(run: Run, tmp_path: Path) -> None:
    """2 on wrong use, 3 where a word is found, 1 where something could not be told, 0 else, in this order."""
    gated = '[gate]\nstop = ["slower", "more"]\nmeasures = ["elapsed", "peak_memory"]'
    written(tmp_path, top=gated)
    assert "nothing to look for" in run("observe", "--gate", "slow", code=2).stderr
    assert "found w (slower)" in run("observe", "--quiet", "--gate", "study", code=3).stdout
    document = json.loads(run("decide", "--gate", "study", "--json", code=3).stdout)["gate"]
    assert (document["words"], document["measures"]) == (["slower", "more"], ["elapsed", "peak_memory"])
    assert document["found"] == [{"word": "slower", "what": "w"}]
    assert run("decide", "--gate", "faster,failed").stdout
    assert "exploration" in run("decide", "--gate", "slower", "--margin", "80 %", code=2).stderr
    assert "no workload compares answers" in run("decide", "--gate", "other-answer", code=1).stderr
    assert run("decide", "--gate", "other-answer,slower", code=3)
    assert run("observe", "--gate", "slower", "--", "true", code=2)
    written(tmp_path)
    assert 'add "peak_memory" to [gate] measures' in run("observe", "--gate", "more", code=1).stderr
    assert len(json.loads(run("records", "list", "--json").stdout)) == 1  # nothing more was observed


def test_an_observation_that_ends_early_leaves_a_line(run: Run, tmp_path: Path) -> None:
    """A build that fails after a good record: decide says which record it took, of when, and what came later."""
    written(tmp_path, after="0.02")
    run("observe", "--quiet", "--blocks", "6")
    text = (tmp_path / "bystander.toml").read_text(encoding="utf-8")
    (tmp_path / "bystander.toml").write_text(text.replace("[arms.after]", '[arms.after]\nbuild = ["false"]'), "utf-8")
    run("observe", "--quiet", code=1)
    said = " ".join(run("decide").stdout.split())
    started = json.loads(run("decide", "--json").stdout)

    assert "observed 20" in said
    assert "This is not the last observation: one of 20" in said
    assert 'build step "false" ended with exit code 1' in said
    assert [note["code"] for note in started["notes"]] == ["later-ended-early"]
    assert "ended before its first trial: arm after" in " ".join(run("records", "list").stdout.split())
    (tmp_path / "bystander.toml").write_text(text.replace("settings", "setings"), "utf-8")
    run("observe", code=2)
    assert "there is no such key" in " ".join(run("decide").stdout.split())
    (tmp_path / "bystander.toml").write_text(text, "utf-8")
    run("observe", "--quiet", "--blocks", "6")
    assert "not the last" not in run("decide").stdout


def test_a_budget_that_can_show_nothing_stops_before_the_first_trial(run: Run, tmp_path: Path) -> None:
    """Exit 1, with what it would take; nothing is recorded."""
    written(tmp_path, before="0.2", after="0.2")
    said = run("observe", "--quiet", "--budget", "2.5 s", code=1).stderr

    assert "can show nothing: it takes 6 at least" in said
    assert json.loads(run("records", "list", "--json").stdout) == []


def test_the_load_leaves_out_what_is_wrong_or_fails(run: Run, tmp_path: Path) -> None:
    """And says so, with what has no weight; an accepted answer counts."""
    (tmp_path / "bystander.toml").write_text(
        'blocks = 7\nseed = 1\n[arms.a]\nsettings.n = "1"\n[arms.b]\nsettings.n = "2"\n'
        '[workloads.wrong]\ncommand = "echo {n}"\nanswer = "output"\nweight = 1000\n'
        '[workloads.meant]\ncommand = "echo {n}"\nanswer = { accept = "n is new" }\nweight = 2\n'
        '[workloads.fails]\ncommand = "test {n} = 1"\nweight = 5000\n'
        '[workloads.right]\ncommand = "sleep 0.0{n}"\nweight = 3\n[workloads.bare]\ncommand = "true"\n',
        encoding="utf-8",
    )  # fmt: skip
    run("observe", "--quiet")
    said = " ".join(run("decide").stdout.split())
    document = json.loads(run("decide", "--json").stdout)
    (load,) = document["load"]
    medians = {r["workload"]: (r["reference"]["median"], r["candidate"]["median"])
               for r in document["results"] if r["primary"]}  # fmt: skip
    before, after = (2 * medians["meant"][k] + 3 * medians["right"][k] for k in (0, 1))

    assert "Left out: wrong (another answer); fails (failed)." in said
    assert "Without a weight: bare." in said
    assert load["candidate_over_reference"] == pytest.approx(after / before, rel=0.1)  # of typical changes
    assert load["workloads"] == ["meant", "right"]
    assert (set(load["workloads"]), load["other_answer"], load["failed"], load["without_weight"]) == (
        {"meant", "right"}, ["wrong"], ["fails"], ["bare"],
    )  # fmt: skip


def test_of_a_rate_less_is_worse() -> None:
    """Its bound is the lower one, and the margin is as far below one as it is above for times."""

    def rate(factor: float) -> GateFinding:
        made = two(factor, spread=1e-6)
        more = replace(made.head.measures[0], better="more")
        return asked(replace(made, head=replace(made.head, measures=(more,))), "lower", "higher", "not-ruled-out")

    assert rate(0.9).found == (("lower", "year"), ("not-ruled-out", "year"))
    assert rate(1.2).found == (("higher", "year"),)
    assert rate(1.2).bounds[0].worse == 0.0
    assert rate(0.972).bounds[0].worse == pytest.approx(0.028, abs=1e-5)
    assert ("not-ruled-out", "year") not in rate(0.972).found  # 1 - 1 / 1.03 is 2.91 %
    assert ("not-ruled-out", "year") in rate(0.9705).found


def test_what_is_asked_is_read_from_words_study_and_options() -> None:
    """Words stay as they are; "study" stands for those of the study; unrandomised rows count when that is said."""
    study = replace(two().head.study, gate=Gate(("more", "failed"), ("peak_memory",)))

    assert gate_ask(("slower",), study) == GateAsk(("slower",), ("peak_memory",), also_unrandomised=False)
    assert gate_ask(("study",), study, "unrandomised") == GateAsk(("more", "failed"), ("peak_memory",), True)
    with pytest.raises(UsageError, match='"odd" is nothing that a gate leaves out'):
        gate_ask(("slower",), study, "odd")


def test_a_change_without_an_estimate_has_a_direction() -> None:
    """Readings at their floor say that memory is at least four times as much, and the gate finds that it is more."""
    made = made_record(
        {"year": {"before": [1e6] * 9, "after": [9e6] * 9}}, "peak_memory",
        more={"peak_memory_floor": {"year": {"before": [2e6] * 9, "after": [2e6] * 9}}},
    )  # fmt: skip
    measures = tuple(measure_named(name) for name in ("peak_memory", "peak_memory_floor"))
    found = asked(replace(made, head=replace(made.head, measures=measures)), "more", "less")
    assert math.isnan(found.bounds[0].row.estimate)
    assert found.found == (("more", "year"),)
