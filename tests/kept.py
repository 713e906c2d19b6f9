"""Results of the pure rooms on made-up input, to be held against what was kept of them.

A record of every kind is decided and told, every function of the statistics is given numbers, and studies right and
wrong are read. `tests/data/kept.json` holds what came out when the figures had been checked by the other tests against
published and independently computed values; `python tests/kept.py` keeps it anew, which must be meant.
"""

from __future__ import annotations

import json
import math
import re
from collections.abc import Callable
from dataclasses import asdict, is_dataclass, replace
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
from builders import made_record, noisy

from bystander import stats
from bystander.design import (
    IN_MEMORY,
    MARKS_COST,
    TIMELINE,
    UNMARKED,
    Evidence,
    Gate,
    Given,
    MachineFacts,
    MachineState,
    Provenance,
    Record,
    Status,
    Stretch,
    TrialOutcome,
    arm_key,
    block_conditions,
    block_order,
    machine_sentences,
    machine_title,
    measure_named,
    plain,
    plan_rounds,
    read_study,
    state_changes,
    stretches,
    told_measure,
    workload_key,
)
from bystander.errors import StudyError
from bystander.exchange import read_record_json, verdicts_json
from bystander.report.markdown import markdown
from bystander.verdicts import (
    ArmSide,
    GateAsk,
    Options,
    Row,
    change_text,
    decide,
    failure_sentence,
    gate,
    gate_sentences,
    interval_text,
    medians_text,
    noises,
    over_time_lines,
    row_sentence,
    saved_text,
    see_sentence,
    shared_axis,
    spreads,
)

FILE = Path(__file__).parent / "data" / "kept.json"
MEASURES = ("elapsed", "cpu", "peak_memory", "minor_faults", "waiting", "interval:answer:missed")


# ---- records -----------------------------------------------------------------------------------------------------


def with_study(record: Record, **changes: Any) -> Record:
    return replace(record, head=replace(record.head, study=replace(record.head.study, **changes)))


def suite(seed: int, blocks: int = 25, **more: Any) -> Record:
    """Return a record of workloads of many kinds of change and noise, with all measures."""
    rng = np.random.default_rng(seed)
    factors = (1.0, 1.02, 1.07, 1.5, 0.97, 0.4, 1.0, 30.0, 0.93, 1.004)
    spreads_of = (0.001, 0.02, 0.03, 0.2, 0.05, 0.1, 0.5, 0.3, 0.02, 0.0005)
    readings: dict[str, dict[str, list[float]]] = {}
    others: dict[str, dict[str, dict[str, list[float]]]] = {name: {} for name in MEASURES[1:]}
    for i, (factor, spread) in enumerate(zip(factors, spreads_of, strict=True)):
        base = 10.0 ** (i % 5 - 3)
        drift = np.linspace(0, 0.3 * (i % 3), blocks)
        tail = np.where(rng.random(blocks) < 0.15 * (i % 2), 0.7, 0.0)
        sides = {
            "before": base * np.exp(drift + rng.normal(0, spread, blocks)),
            "after": base * factor * np.exp(drift + tail + rng.normal(0, spread, blocks)),
        }
        readings[f"w{i}"] = {arm: values.tolist() for arm, values in sides.items()}
        for arm, values in sides.items():
            grown = 1.1 if arm == "after" and i % 4 == 1 else 1.0
            for name, column in (
                ("cpu", values * 0.9 * np.exp(rng.normal(0, 0.01, blocks))), ("waiting", values * 0.1),
                ("peak_memory", 2e7 * grown * np.exp(rng.normal(0, 0.002, blocks))),
                ("minor_faults", rng.poisson(40 * grown, blocks).astype(float)),
                ("interval:answer:missed", rng.random(blocks) * 0.02 * grown),
            ):  # fmt: skip
                others[name].setdefault(f"w{i}", {})[arm] = column.tolist()
    made = made_record(readings, more=others, **more)
    units = {name: told_measure(name) if ":" in name else measure_named(name) for name in MEASURES}
    return replace(made, head=replace(made.head, measures=tuple(units[name] for name in MEASURES)))


@cache
def records() -> dict[str, Record]:
    """Return one record of every kind."""
    fixed = suite(1)
    failed = {
        ("w0", "after"): range(9),
        ("w1", "after"): range(25),
        ("w2", "before"): range(12),
        ("w3", "after"): (2, 5),
    }
    cut = suite(3, failed=failed, status=Status.CUT, limit_s=40.0)
    many = {
        w: {"before": noisy(40, 1, s, k), "after": noisy(40, f, s, k + 50), "third": noisy(40, f * f, s, k + 90),
            "placebo": noisy(40, 1, s, k + 130)}
        for k, (w, f, s) in enumerate((("a", 1.2, 0.02), ("b", 1.0, 0.01), ("c", 1.02, 0.2), ("d", 0.3, 0.5)))
    }  # fmt: skip
    tainted = {"w": {"before": noisy(20, 1), "after": noisy(20, 1.1, seed=2), "placebo": noisy(20, 1.4, seed=3)}}
    two_speeds = {"w": {"before": noisy(60, 1, 0.01, 4), "after": [v * (1 + 0.5 * (k % 3 == 0)) for k, v in
                                                                 enumerate(noisy(60, 1, 0.01, 5))]}}  # fmt: skip
    demo = read_record_json((Path(__file__).parent / "data" / "unchanged" / "recorded-demo.json").read_text(encoding="utf-8"), "recorded.json")
    looks = with_study(made_record(many), stopping="looks", blocks=40)
    weights = tuple(replace(w, weight=float(k)) for k, w in enumerate(fixed.head.study.workloads))
    return {
        "demo": replace(demo, head=replace(demo.head, provenance=Provenance.IMPORTED)),
        "fixed": fixed,
        "weighted": with_study(fixed, workloads=weights, gate=Gate(("slower", "more"), ("elapsed", "peak_memory"))),
        "failed": suite(2, failed=failed),
        "cut": cut,
        "unpaired": suite(4, paired=False, origin="imported"),
        "few": suite(5, blocks=5),
        "answers": suite(6, answers={("w1", "after"): 1, ("w4", "after"): 2}, answer_rule="output"),
        "looks": looks,
        "strict": with_study(looks, stopping="strict"),
        "early": with_study(made_record(many, state="interrupted"), stopping="looks", blocks=100),
        "tainted": made_record(tainted),
        "two speeds": made_record(two_speeds),
        "slow quarter": made_record(
            {
                "w": {
                    "before": noisy(40, 1, 0.01, 4),
                    "after": [v * (1.4 if k % 3 == 0 else 1.0) for k, v in enumerate(noisy(40, 1, 0.01, 5))],
                }
            }
        ),
        "alone at looks": with_study(
            made_record({"w": {"a": noisy(40, 1, 0.02, 6), "b": noisy(40, 1.1, 0.02, 7)}}), stopping="looks", blocks=40
        ),
        "one arm": made_record({"w": {"now": noisy(12, 1, 0.1, 7)}, "v": {"now": noisy(12, 9, 0.3, 8)}}),
        "telling": telling(0.0101, 0.053, 0.06, "from-disk"),
        "telling less": telling(0.01, 0.021, 0.94, "from-memory", 0.01),
        "telling nothing": telling(0.0, 0.0201, 0.05, "from-disk"),
        "constant": made_record({"w": {"a": [1.0] * 12, "b": [1.0] * 12}, "v": {"a": [1.0] * 12, "b": [2.0] * 12}}),
    }


TOLD = (
    "elapsed", "phase:read", "phase:write", "phase-alone:read", UNMARKED, MARKS_COST, "items:rows", "interval:answer:p95",
    "interval:answer:missed", "interval:answer:count", "interval:answer:deadline", "reading:size", IN_MEMORY,
)  # fmt: skip


def telling(dear: float, labels: float, memory: float, start: str, apart: float = 1.0) -> Record:
    """Return a record of programs that tell something of themselves: phases that some trials lack, work, starts."""
    rng = np.random.default_rng(21)
    blocks = 12
    elapsed = {w: {arm: (base * np.exp(rng.normal(0, 0.02, blocks))).tolist() for arm, base in (("before", 1.0), ("after", f))}
               for w, f in (("start", 1.0), ("work", 1.4), ("odd", 0.8))}  # fmt: skip
    more: dict[str, dict[str, dict[str, list[float]]]] = {}
    for k, name in enumerate(TOLD[1:], 1):
        more[name] = {}
        for w in elapsed:
            more[name][w] = {}
            for a, arm in enumerate(("before", "after")):
                column = 0.1 * k * np.exp(rng.normal(0, 0.05, blocks)) * (1 + 0.5 * a * (k % 2))
                if name == MARKS_COST:
                    column = np.full(blocks, dear)
                if name == IN_MEMORY:
                    column = np.full(blocks, memory)
                if name in ("items:rows", "interval:answer:count", "interval:answer:deadline"):
                    column = np.full(blocks, 40.0 + a * (w == "odd"))
                if name == "phase:write":  # one trial of `odd` under the candidate alone has it
                    column[(w == "odd" and a == 0 and slice(None)) or slice(1, 3)] = np.nan
                    column = np.where((w == "odd") & (np.arange(blocks) > 0), np.nan, column)
                more[name][w][arm] = column.tolist()
    made = made_record(elapsed, more=more)
    measures = tuple(measure_named(n) if n == "elapsed" else told_measure(n) for n in TOLD)
    workloads = tuple(
        replace(w, floor="start" if w.name == "work" else "", start=start) for w in made.head.study.workloads
    )
    told = {
        int(row): {"problems": {"unended": 2} if row % 5 == 0 else {"broken line": 1} if row % 7 == 0 else {}, "instances": 3,
                   "labels": {"read": {f"sheet {n}": 0.01 * (1 + apart * (n % 2)) for n in range(4)} | {"sheet 9": labels}}}
        for row in range(len(made.trials)) if row % 3
    }  # fmt: skip
    head = replace(made.head, measures=measures, study=replace(made.head.study, workloads=workloads))
    evidence = {row: (Evidence(TIMELINE, 1, summary),) for row, summary in told.items()}
    return replace(made, head=head, evidence=evidence)


def decided(record: Record) -> dict[str, Any]:
    """Return all that is said of a record."""
    ask = GateAsk(
        ("slower", "faster", "failed", "any-failure", "not-ruled-out", "unclear"), record.head.study.gate.measures
    )
    decision = replace(decide(record, Options(gate=ask)), given=Given("s.toml", "a b.sqlite", (), "/made/up"))
    finding = gate(decision, ask)
    axis = shared_axis(decision.primary) if decision.primary else None
    return {
        "json": json.loads(verdicts_json(decision, finding)),
        "text": markdown(decision).splitlines(),
        "rows": [[row.workload, row_sentence(row), change_text(row), saved_text(row)] for row in decision.rows],
        "gate": gate_sentences(finding),
        "axis": [axis.reach, [axis.place(ratio) for ratio in (0.2, 0.9, 1.0, 1.02, 3.0)]] if axis else None,
        "failures": [failure_sentence(one) for one in decision.failures],
        "levels": [asdict(one) for one in spreads(record)],
        "noise": [[one.workload, one.computing, one.block_s, {k: v.tolist() for k, v in one.differences.items()}]
                  for one in (noises(record, ("elapsed", "cpu")) if len(record.head.arms) > 1 else ())],
        "over time": [see_sentence(decision), *over_time_lines(record)],
    }  # fmt: skip


# ---- statistics --------------------------------------------------------------------------------------------------


def statistics() -> dict[str, Any]:
    """Return what every function of the room gives on a few inputs, edges among them."""
    rng = np.random.default_rng(11)
    d = rng.standard_t(3, (6, 14)) * 0.05 + np.array([[0.0], [0.02], [0.05], [0.1], [-0.03], [1.0]])
    d[1, :5] = 0.0
    low, high = d.copy(), d.copy()
    low[2, 3], high[3, 1], low[4, :], high[4, :] = -np.inf, np.inf, -np.inf, np.inf
    limits = np.array([0.01, 0.03, 0.05, 0.1, 0.02, 0.5])
    long = rng.normal(0.01, 0.1, (1, 700))
    left, right = rng.lognormal(0, 0.2, 23), rng.lognormal(0.1, 0.2, 17)
    pairs = stats.pairwise_contrasts((np.log(left), np.log(left)), (np.log(right), np.log(right)))
    found: dict[str, Any] = {}
    for name, contrasts, limit in (
        ("paired", stats.walsh_contrasts(d, d), limits), ("bounds", stats.walsh_contrasts(low, high), limits),
        ("long", stats.walsh_contrasts(long, long), np.array([0.02])), ("unpaired", pairs, np.array([0.1])),
    ):  # fmt: skip
        seen = stats.examine(contrasts, limit)
        n = limit.size
        found[name] = {
            "examined": [getattr(seen, key) for key in ("estimate", "leans", "p", "e")],
            "p and e": stats.p_and_e(contrasts, limit), "estimates": stats.estimates(contrasts),
            "intervals": [stats.interval(contrasts, np.full(n, level)) for level in (0.5, 0.1, 0.05, 0.01, 1e-4, 1.0)],
        }  # fmt: skip
        if name != "unpaired":
            found[name]["needed"] = stats.blocks_to_show(contrasts, seen.estimate, limit, 0.05)
    steady, slow = rng.normal(1, 0.02, (5, 40)), np.concatenate([np.linspace(3, 1.1, 9), rng.normal(1, 0.02, 31)])
    ordered = np.sort(rng.lognormal(0, 0.3, (4, 60)), axis=1)
    mixed = np.sort(np.concatenate([rng.normal(1, 0.01, 40), rng.normal(1.4, 0.02, 20)]))
    drift = np.cumsum(rng.normal(0, 1, (30, 24)), axis=1)
    first = rng.random((30, 24)) < 0.5
    p = rng.random(12) ** 4
    spans = [np.array(v, dtype=np.int64) for v in ([0, 2, 3, 10, 12, 5], [9, 8, 4, 20, 15, 7], [0, 0, 0, 0, 0, 1])]
    around = stats.enclosing(*spans)
    found |= {
        "looks": [[stats.planned_looks(most, risk, strict).blocks for most in (1, 6, 12, 25, 40, 100)]
                  for risk in (0.05, 0.005, 0.05 / 200) for strict in (False, True)],
        "levels of looks": [
            [looks.levels(0.05), looks.nominal(len(looks.blocks) - 1, np.array([0.9, 0.1, 0.001, 1e-6])),
             looks.overall(0, np.array([1e-6, 0.001, 0.02, 0.7, np.nan])),
             looks.overall_one_sided(0, np.array([1e-4, 0.3])),
             [looks.last_within(n) for n in (0, 5, 10, 39, 40, 99)], looks.most, looks.times]
            for looks in (stats.planned_looks(40, 0.05), stats.planned_looks(40, 0.01, True), stats.fixed_look(20))],
        "adjusted": [stats.holm(p), stats.holm(p, 40), stats.benjamini_hochberg(p), stats.benjamini_hochberg(p, 40),
                     stats.rejections(stats.holm(p), 0.05), stats.rejections(p, 0.5)],
        "nulls": [[[null.at_most(np.arange(-1, 9)), [null.largest(t) for t in (0.999, 0.5, 0.05, 2.0**-n, 2.0**-n * 0.999, 0.001, 0.0)]]
                   for null in (stats.signed_rank_null(n), stats.rank_sum_null(n, 4))] for n in (1, 2, 3, 4, 7, 12, 70)],
        "large nulls": [[null.at_most(np.array([-1, 0, null.total // 3, null.total // 2, null.total])), null.total, null.mean, null.spread,
                         [null.largest(t) for t in (0.5, 0.01, 1e-9, 0.0)]] for null in (stats.signed_rank_null(3000), stats.rank_sum_null(900, 800))],
        "fails": [[stats.fails_more_p(a, b) for a in range(5) for b in range(4)],
                  [stats.fails_more_unpaired_p(a, 9, b, 11) for a in (0, 3, 9) for b in (0, 2, 11)]],
        "needed": [[stats.blocks_needed(m, risk) for m in (1, 2, 10, 200)] for risk in (0.05, 0.01, 0.5)],
        "power": [[stats.smallest_shown(d[k], looks, level, margin, seed=5) for k in (0, 2)] for looks in
                  (stats.planned_looks(20, 0.05), stats.fixed_look(15))
                  for level, margin in ((0.05, 0.0), (0.01, 0.03))],
        "sample": [[stats.summarise(ordered[0][:n])._asdict()] for n in (*range(1, 26), 60)],
        "rows": [one._asdict() for one in stats.summarise_rows(ordered, 0.9)],
        "middles": [stats.median(slow), stats.robust_spread(slow), stats.quantile(slow, 0.95),
                    stats.quantiles(ordered, 0.2), stats.median_interval(ordered[1], 0.99), stats.median(np.array([]))],
        "tails": [[stats.needed_trials(share, error) for share in stats.SHARES] for error in (0.2, 0.05, 0.01, 1e-4)],
        "cuts": [stats.order_cut(n, share, tail) for n in (20, 60, 100) for share in (0.1, 0.5, 0.95)
                 for tail in (0.025, 0.2)],
        "ratios": [stats.quantile_ratios(ordered[:2], ordered[2:], share, 0.05) for share in (0.1, 0.5, 0.9)],
        "speeds": [[stats.two_speeds(np.sort(rng.permutation(mixed)[:n])[None])[0] for n in range(2, 60, 3)], stats.two_speeds(ordered[:1])[0]],
        "warm": [*map(stats.warm_from, steady), *(stats.warm_from(slow[:n]) for n in range(3, 41)), *(stats.warm_from(steady[0][:n]) for n in range(3, 9))],
        "repetition": [asdict(stats.levels(steady[:2], steady[2:4])), stats.block_and_trial_spread(drift[0], drift[1]),
                       stats.between_groups(drift[2][:6], np.abs(drift[3][:6])),
                       [stats.samples_that_pay(stats.Levels(w, b), 0.05, 0.01, now) for w in (0.01, 0.1, 0.5)
                        for b in (0.0, 0.01, 0.3) for now in (6, 27)]],
        "few for soundness": [asdict(stats.soundness(drift[:, :n], 0.5 * drift[:, :n] + drift[::-1, :n], first[:, :n])) for n in (6, 8, 10, 12, 20)],
        "soundness": asdict(stats.soundness(drift, drift * 0.5 + rng.normal(0, 1, drift.shape), first)),
        "phases": [around, stats.alone(spans[0], spans[1], around), stats.covered(spans[0], spans[1]),
                   stats.covered(*spans), stats.outermost_of_name(np.array([1, 2, 1, 1, 2, 1]), around)],
    }  # fmt: skip
    return found


# ---- studies -----------------------------------------------------------------------------------------------------

RIGHT = """
name = "all keys"
margin = "2 %"
risk = 0.1
blocks = 30
stopping = "strict"
measure = "cpu"
seed = 5
placebo = true
keep_environment = ["A", "B"]
vary = ["hash seed", "environment size"]
affinity = [1, 0, 1]
niceness = 3
address_space = "fixed"
shared_files = ["data/*"]
written_files = ["*.log"]
[gate]
stop = ["slower", "failed"]
measures = ["elapsed", "peak_memory"]
[arms.a]
revision = "v1"
build = ["make {n}"]
settings.n = 1
[arms.b]
folder = "x"
environment.E = "2"
settings.n = 2
command.year = "other {n} {port}"
weigh = "the log"
[workloads.year]
command = "run {n} {port}"
inputs.port = ["n/1", "s:2"]
limit = "1.5 min"
output = "3 KiB"
memory = "2 GiB"
before_all = "x {n}"
before_each = "y"
after_each = "z"
answer = { mask = ["[0-9]+"], order = "any", tolerance = "2 %" }
weight = 0
start = "from-disk"
files = ["*.py"]
floor = "nothing"
spans = "s.json"
[workloads.nothing]
command = "true {n}"
shell = true
[workloads.call]
call = "m:f"
given = [1, 2]
sample = "20 ms"
samples = 5
garbage = "as it is"
answer = "result"
"""
WRONG = (
    "", "margin = 5", "margin = 0", 'margin = "101 %"', 'risk = "51 %"', "blocks = 0", "blocks = 100001", "seed = -1",
    "niceness = 20", "niceness = -21", "affinity = [4096]", "affinity = []", 'measure = "elapsd"', 'vary = ["hash sed"]',
    'stopping = "never"', 'address_space = "odd"', "[gate]\nstop = ['slowr']", "[gate]\nmeasures = ['cp']\nx = 1",
    "[workloads.w]\ncommand = 'x {y}'", "[workloads.w]\ncommand = '\"'", "[workloads.w]\ncommand = 'x'\nlimit = '0 s'",
    "[workloads.w]\ncommand = 'x'\nlimit = '1001 h'", "[workloads.w]\ncommand = 'x'\nweight = -1",
    "[workloads.w]\ncommand = 'x'\nmemory = '0 B'", "[workloads.w]\ncall = 'm:f'\nsamples = 4",
    "[workloads.w]\ncall = 'm:f'\nsample = '61 s'", "[workloads.w]\ncommand = 'x'\nfloor = 'w'", "[arms.'a/b']",
    "[workloads.w]\ncommand = 'x'\ninputs.n = [1, 1]", "[workloads.w]\ncommand = 'x {n}'\ninputs.n = []",
    "[workloads.w]\ncommand = 'x'\nanswer = { tolerance = '100 %' }", "shared_files = ['/x']", "[arms.placebo]",
)  # fmt: skip
AT_THE_EDGE = (
    "", "niceness = 19", "niceness = -20", "niceness = 0", "blocks = 1", "blocks = 100000", "seed = 0", f"seed = {2**63 - 1}",
    "affinity = [0, 4095]", 'margin = "100 %"', "risk = 0.5", 'risk = "0.001 %"', 'vary = ["folder depth"]', "placebo = true",
    'measure = "interval:answer:p95"', 'address_space = "as it is"', 'stopping = "looks"', "gate.stop = ['tainted']",
)  # fmt: skip
WORKLOADS_AT_THE_EDGE = (
    "limit = '1000 h'", "limit = '1 ns'", "weight = 0", "weight = 1e99", "output = '1 B'", "memory = '1023 GiB'", "shell = true",
    "answer = 'exit code'", "answer = { file = 'x', tolerance = '99 %' }", "answer = { order = 'any', accept = 'so be it' }",
    "start = 'from-memory'", "inputs.n = [1]", "inputs.n = ['a', 'b']\ninputs.m = [1.5, 2]",
)  # fmt: skip
CALLS_AT_THE_EDGE = ("samples = 5", "samples = 1000000", "sample = '60 s'", "sample = '1 us'", "fresh = true\ngiven = 'm:g'",
                     "given.a = 1", "start = 'in-process'", "python = 'p'")  # fmt: skip
STATES = (
    {"monotonic_s": 0.0, "stalled_s": 1.0, "disk_stalled_s": 0.0, "stolen_s": 0.0, "processors_s": 0.0, "frequency_hz": 3e9},
    *(
        {"monotonic_s": 10.0 * k, "stalled_s": 1.0 + k + (3 if k > 3 else 0), "disk_stalled_s": 0.1 * k, "stolen_s": 0.2 * k,
         "processors_s": 20.0 * k, "frequency_hz": 3e9 - 4e8 * (k == 5), "heat_slowdowns": int(k > 4), "on_mains": k < 6,
         "first_block": 2 * k - 2, "last_block": 2 * k - 1, "memory_free_bytes": 1e9}
        for k in range(1, 8)
    ),
)  # fmt: skip


class Anywhere:
    """Every folder and revision is there."""

    def has_folder(self, path: str) -> bool:
        """Say yes."""
        return True

    def revision_problem(self, revision: str) -> str | None:
        """Find nothing wrong."""
        return None


def words() -> dict[str, Any]:
    """Return what is said of rows at and about every threshold of the language."""
    side = ArmSide(20, 0, 1.0)
    values = (0.0, 0.004, 0.0099, 0.5, 0.501, 0.951, 0.99, 0.99996, 1.0, 1.00004, 1.001, 1.05, 1.999, 2.0, 9.94, 10.0, 99.0,
              100.0, 100.6, 1234.0, math.inf, math.nan)  # fmt: skip
    widths = (0.0, 1e-5, 0.0004, 0.0019, 0.002, 0.03, 0.2, 3.0, math.inf)
    told = []
    for measure in (measure_named("elapsed"), measure_named("peak_memory"), told_measure("reading:r", "", "more")):
        for verdict in (measure.words[0], measure.words[1], "same", "unclear", "failed"):
            for estimate in values:
                for width in widths:
                    row = Row(
                        "w", "b", measure, True, "blocks", 9, side, ArmSide(20, 1, 1.0 if math.isnan(estimate) else estimate),
                        "ratio", estimate, estimate / (1 + width), estimate * (1 + width), 0.95, 0.03, 0.01, 0.02, 0.5, 0.6,
                        0.04, verdict, "beyond",
                    )  # fmt: skip
                    told.append([row_sentence(row), change_text(row), saved_text(row), medians_text(row)])
    for low, high in (
        (2.0, math.inf),
        (1.99, math.inf),
        (10.0, math.inf),
        (9.99, math.inf),
        (0.0, math.inf),
        (0.5, 2.0),
    ):
        row = Row("w", "b", measure_named("elapsed"), True, "blocks", 9, side, side, "ratio", math.nan, low, high, 0.95, 0.03,
                  0.01, 0.02, 0.5, 0.6, 0.04, "slower", "beyond")  # fmt: skip
        told.append([row_sentence(row), change_text(row)])
    differences = []
    for unit in ("s", "B", "share", "", "knots"):
        for estimate in (0.0, -0.02, 3e-13, 2e-9, 1e-7, 4e-5, 1e-4, 0.3, 7.0, 9.99, 10.0, 2e6, math.nan):
            for width in (0.0, 0.1, 12.0, math.inf):
                row = Row(
                    "w", "b", measure_named("minor_faults" if unit == "" else "odd", unit), True, "none", 0, side, side,
                    "difference", estimate, estimate - width * abs(estimate), estimate + width, 0.99, 0.1, 0.01, 0.02, 0.5, 0.6,
                    math.nan, "more" if estimate > 0 else "unclear", "undetermined",
                )  # fmt: skip
                differences.append([row_sentence(row), change_text(row), interval_text(row)])
    return {"ratios": told, "differences": differences}


def drawn() -> dict[str, Any]:
    """Return axes with their ticks, and a page with everything that is drawn in it."""
    from bystander.report.page import page
    from bystander.verdicts import Axis

    reaches = (1.02, 1.1, 1.5, 2.5, 7, 40, 900.0)
    pages = {name: page(decide(records()[name])) for name in ("fixed", "looks", "one arm")}
    return {
        "ticks": [[Axis(reach).ticks(most) for most in (1, 3, 7, 9)] for reach in reaches],
        "places": [
            [Axis(reach).place(r) for r in (0.0, -1.0, math.nan, math.inf, 1e-9, 0.8, 1.0, 1.3)] for reach in reaches
        ],
        "pages": {
            name: re.findall(r'(?:d|x1|x2|x|y|cx|cy|width|height)="[^"]*"|>[^<\n]+<', text)
            for name, text in pages.items()
        },
    }


def studies() -> dict[str, Any]:
    """Return what is read of right and wrong studies, and what is planned from them."""
    study = read_study(RIGHT, "s.toml", Anywhere())
    problems = []
    for text in WRONG:
        try:
            problems.append([text, plain(read_study(text, "s.toml", Anywhere()))])
        except StudyError as error:
            problems.append([text, list(error.problems)])
    edges = []
    for head, body in (
        *((line, "command = 'x'") for line in AT_THE_EDGE),
        *(("", f"command = 'x {{n}} {{m}}'\nsettings.n = 0\nsettings.m = 0\n{line}") for line in WORKLOADS_AT_THE_EDGE),
        *(("", f"call = 'm:f'\n{line}") for line in CALLS_AT_THE_EDGE),
    ):  # fmt: skip
        made = read_study(f"{head}\n[arms.a]\n[arms.b]\nsettings.k = 2\n[workloads.w]\n{body}", "s.toml", Anywhere())
        one = plain(made)
        edges.append(
            [
                one,
                made.planned_rows,
                made.tests,
                made.stops_early,
                [workload_key(w) for w in made.workloads],
                made.conditions_text,
                made.accepted(0, 1),
            ]
        )
    keys = [workload_key(workload) for workload in study.workloads]
    facts = {"host": "gull", "processor": "Tern", "cores": 4, "memory_bytes": 2**33, "memory_free_bytes": 2**27, "load": 3.3,
             "virtual": True, "governor": "powersave", "system": "Lantern", "cores_allowed": 2, "disk_bytes": 2**40,
             "disk_free_bytes": 2**30, "on_mains": False, "pressure": "some avg10=30.00 avg60=1"}  # fmt: skip
    states = [MachineState.of(state) for state in STATES]
    return {
        "study": plain(study), "keys": keys, "arm keys": [arm_key(arm, "tree", "3.11") for arm in study.arms],
        "outcomes": [[one.took_s, one.timer_share] for one in (
            TrialOutcome(Status.OK, 0, 0.0, 0.0, {}), TrialOutcome(Status.OK, 0, 0.0, 0.0, {"elapsed": 2.0}),
            TrialOutcome(Status.OK, 0, 0.0, 0.0, {"elapsed": 2e-6}, process_s=1.5, samples={"elapsed": (3e-6, 1e-6, 2e-6, 4e-6)},
                         harness={"iterations": 10.0, "loop_ns": 300.0, "clock_ns": 40.0}),
            TrialOutcome(Status.OK, 0, 0.0, 0.0, {}, samples={"elapsed": (1e-3,)}),
        )],
        "statuses": [[status.text, int(status)] for status in Status],
        "edges": edges, "problems": problems, "told": study.conditions_text,
        "orders": [block_order(7, key, block, ("a", "b", "c")) for key in keys for block in range(6)],
        "conditions": [block_conditions(7, keys[0], block, ("hash seed", "environment size", "folder depth"))
                       for block in range(6)],
        "rounds": [[one.workload, one.number, one.order] for one in plan_rounds(3, keys, ("a", "b", "c"), 3)],
        "machine": [[machine_title(one), *machine_sentences(one)] for one in map(MachineFacts.of, (
            facts, {}, {"host": "gull", "cores": 1, "load": 0.5}, {"cores": 8, "load": 4.0, "on_mains": True},
            {"cores": 2, "load": 1.0, "memory_bytes": 2**34, "memory_free_bytes": 2**33, "governor": "performance"},
            {"cores": 2, "load": 2.0, "disk_bytes": 100, "disk_free_bytes": 4}, {"cores": 2, "load": 9.0, "frequency_hz": 2e9},
        ))],
        "states": [[asdict(one) for one in stretches(states)], state_changes(stretches(states)),
                   [state_changes([Stretch(2 * i, 2 * i + 1, 0.9 if i % 2 and i < 2 * k else 0.01, 0.0, 0.0, 3e9, 0.0, True)
                                   for i in range(16)]) for k in range(7)],
                   [state_changes([Stretch(i, i, 0.0, 0.5 if i == k else 0.0, 0.0, 3e9, float(i == k), i != k) for i in range(8)])
                    for k in (0, 3, 7)],
                   [asdict(one) for one in stretches([states[0], replace(states[0], first_block=0, last_block=0)])]],
    }  # fmt: skip


def simple(value: Any) -> Any:
    """Return a value as JSON has it; numbers that JSON does not know become words."""
    if is_dataclass(value) and not isinstance(value, type):
        return simple(asdict(value))
    if isinstance(value, np.ndarray):
        return simple(value.tolist())
    if isinstance(value, dict):
        return {str(key): simple(one) for key, one in value.items()}
    if isinstance(value, list | tuple):
        return [simple(one) for one in value]
    if isinstance(value, np.generic):
        return simple(value.item())
    if isinstance(value, float):
        return float(f"{value:.10g}") if math.isfinite(value) else str(value)
    return value


PARTS: dict[str, Callable[[], Any]] = {
    "studies": studies,
    "statistics": statistics,
    "words": words,
    "drawn": drawn,
    **{f"record: {name}": (lambda name=name: decided(records()[name])) for name in records()},
}


def kept() -> dict[str, Any]:
    """Return all results, as they are kept."""
    return {name: simple(make()) for name, make in PARTS.items()}


if __name__ == "__main__":
    lines = [f"{json.dumps(name)}: {json.dumps(part, ensure_ascii=False)}" for name, part in kept().items()]
    FILE.write_text("{\n" + ",\n".join(lines) + "\n}\n", encoding="utf-8")
