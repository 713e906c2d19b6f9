"""How often links of chains, pieces of edits and commits that a search names are wrong: simulated, and for real.

usage: python benchmarks/validate_chains.py [--quick] [--only PART ...] [--to FOLDER]

Values go through the functions that `bystander chain` and `bystander bisect` decide with; the real parts run the
installed program on repositories made for it. Parts: chains, pieces, searches, steps, hours, real.
"""

from __future__ import annotations

import argparse
import json
import math
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator, Sequence
from itertools import pairwise
from pathlib import Path

import numpy as np
from common import BYSTANDER
from noises import MODELS, ROOT, Floats, real_trials
from validation_text import share

from bystander.design import (
    Arm,
    ArmState,
    Chain,
    ChainKind,
    Command,
    Comparison,
    Link,
    Origin,
    Record,
    RecordHead,
    State,
    StoppingRule,
    Study,
    Trials,
    Workload,
    measure_named,
)
from bystander.stats import by_pairs, by_reference
from bystander.verdicts import Answer, Bisected, Outcome, Rules, bisecting, ladder

SEED = 20261127
CV = 0.03
NOISES = ("normal", "heavy tails", "skewed", "drift", "sticky (0.8 from one to the next)")
TEXT = """\
# Validation of chains and searches

How often is a link of a chain, a piece of an edit, or a commit that a search names wrong, and how much is seen?
Measured by `python benchmarks/validate_chains.py` through the functions that `bystander chain` and `bystander bisect`
decide with; seed {seed}; {took}. Behind a share stands its standard error.

## Chains
Twelve links, six of which gain 2 %; trials vary by 3 %, all thirteen states in each block in random order. Wanted are
88 % found with 60 blocks of normal noise, a mean false share of a chain of at most 5 %, and intervals that hold
in 94 %.

| noise | blocks | chains | gains found | mean false share of a chain | links' intervals hold | totals' intervals hold |
| --- | ---: | ---: | --- | --- | --- | --- |
{chains}

## Pieces of an edit
Five pieces, each alone and last, of which one gains 5 %, one costs 3 % and three do nothing. In the second form one
saves 40 % and one costs 15 % of the whole time before, whatever else is done: their shares depend on each other, their
times do not. In the third two do the same, and the second of them gains nothing. Trials vary by 3 %. Wanted: any piece
called changed wrongly in at most 5 % of edits, and any called dependent in at most 5 % of the first two.

| form | blocks | edits | any wrong | gain found | cost found | intervals hold | called dependent |
| --- | ---: | ---: | --- | --- | --- | --- | --- |
{pieces}

## Searches
One step, drawn evenly among the commits; its size in standard deviations of a block difference. Blocks are of all
stages but the look for a second step, builds include both ends. Wanted: wrong in at most 1 % of searches, and blocks
within 1.2 times those of the last column, which another hand found for normal noise.

| noise | commits | effect | searches | right | wrong | no answer | blocks | builds | known blocks |
| --- | ---: | ---: | ---: | --- | --- | --- | ---: | ---: | ---: |
{searches}

Where there is no step, a commit may be named in at most 2 of 300 searches.

| noise | searches | a commit named |
| --- | ---: | --- |
{none}

## Two steps
256 commits, two steps of the same size at places drawn by chance: how often is one named rightly, how often both, and
how often a commit that is none.

| effect | searches | at least one | both | wrong |
| ---: | ---: | --- | --- | --- |
{steps}

## Two records of different hours
The same code in both. With the same reference in both records: block differences of 20 and 20 blocks, by the rank-sum
test at 5 %. Without: levels of records vary by 5 %, and the change of medians is bounded by K pairs of records of one
code. Wanted: at most 5 % false, intervals that hold in 95 %.

| by | records vary | times | changed wrongly |
| --- | --- | ---: | --- |
{hours}
{more}"""


def made(names: Sequence[str], logs: Floats, chain: Chain, compared: Sequence[Comparison]) -> Record:
    """Return a record of log times, shape (arms, blocks), of one workload."""
    arms, blocks = logs.shape
    a, b = (axis.ravel() for axis in np.indices((arms, blocks)))
    n = a.size
    zeros = np.zeros(n, np.int64)
    trials = Trials(
        zeros, a, b, a.copy(), zeros, np.full(n, np.nan), np.exp(logs).reshape(-1, 1), np.full(n, -1), np.zeros(n),
        zeros, zeros,
    )  # fmt: skip
    study = Study(
        "validation", tuple(map(Arm, names)), (Workload("w", "w", Command("")),), blocks=blocks, seed=SEED,
        stopping=StoppingRule.FIXED, chain=chain, compared=tuple(dict.fromkeys(compared)),
    )  # fmt: skip
    states = tuple(ArmState(name, name, "", "") for name in names)
    told = (measure_named("elapsed", "s"),)
    return Record(
        RecordHead("0", "validation", Origin.OBSERVED, State.COMPLETE, 0.0, study, "", states, (), told, (), ""), trials
    )  # fmt: skip


def in_blocks(kind: str, rng: np.random.Generator, arms: int, blocks: int, cv: float = CV) -> Floats:
    """Return noise of trials that ran in random order within blocks, shape (arms, blocks)."""
    stream = MODELS[kind](rng, 1, arms * blocks, cv)[0].reshape(blocks, arms)
    places = np.argsort(rng.random((blocks, arms)), axis=1)
    return np.take_along_axis(stream, places, axis=1).T


def chains(times: int) -> Iterator[str]:
    """Yield the table of chains."""
    names = [f"s{i}" for i in range(13)]
    links = tuple(Link(after, before) for before, after in pairwise(names))
    compared = [*(Comparison(i - 1, i) for i in range(1, 13)), Comparison(0, 12)]
    chain = Chain(ChainKind.LINKS, links)
    for kind, blocks in (*((kind, 60) for kind in NOISES), ("normal", 40), ("normal", 20)):
        rng = np.random.default_rng([SEED, 1, blocks, *map(ord, kind)])
        found = held = totals = 0
        false = 0.0  # of each chain the false share of what is shown, 0 where nothing is: they are not pooled
        for _ in range(times):
            gains = np.zeros(12)
            gains[rng.choice(12, 6, replace=False)] = math.log(0.98)
            true = np.concatenate([[0.0], np.cumsum(gains)])
            told = ladder(made(names, true[:, None] + in_blocks(kind, rng, 13, blocks), chain, compared))
            shown = wrong = 0
            for gain, rung in zip(gains, told.rungs, strict=True):
                (row,) = rung.rows
                shown += row.changed
                wrong += bool(row.changed and not (gain < 0 and row.verdict == "faster"))
                found += bool(row.verdict == "faster" and gain < 0)
                held += row.low <= math.exp(gain) <= row.high
            false += wrong / max(1, shown)
            totals += bool(told.total[0].low <= math.exp(true[-1]) <= told.total[0].high)
        cells = (share(found, 6 * times), share(false, times), share(held, 12 * times), share(totals, times))
        yield f"| {kind} | {blocks} | {times} | {' | '.join(cells)} |"


_SHARES, _TIMES, _SAME = "shares add up", "times add up", "two do the same"


def pieces(times: int) -> Iterator[str]:
    """Yield the table of pieces of an edit."""
    for form, blocks in ((_SHARES, 40), (_TIMES, 40), (_SAME, 40)):
        rng = np.random.default_rng([SEED, 2, *map(ord, form)])
        wrong = gains = costs = held = dependent = intervals = 0
        for _ in range(times):
            effects = np.array([math.log(0.95), math.log(1.03), 0.0, 0.0, 0.0])
            added = np.array([-0.4, 0.15, 0.0, 0.0, 0.0])
            names, arms, links, true = ["before", "after"], [0.0, 0.0], [], {}

            def level(
                taken: frozenset[int], effects: Floats = effects, added: Floats = added, form: str = form
            ) -> float:
                if form == _TIMES:
                    return math.log1p(sum(added[i] for i in taken))
                whole = sum(effects[i] for i in taken)
                if form == _SAME:  # the third piece gains what the first does, where that is missing
                    whole = sum(effects[i] for i in taken - {0, 2}) + (effects[0] if taken & {0, 2} else 0.0)
                return float(whole)

            every = frozenset(range(5))
            arms[1] = level(every)
            for i in range(5):
                for how, taken in (("alone", frozenset({i})), ("last", every - {i})):
                    names.append(f"{how} {i}")
                    arms.append(level(taken))
                    arm, since = (names[-1], "before") if how == "alone" else ("after", names[-1])
                    links.append(Link(arm, since, label=f"{i + 1} {how}"))
                    true[f"{i + 1} {how}"] = arms[-1] if how == "alone" else arms[1] - arms[-1]
            places = {name: place for place, name in enumerate(names)}
            compared = [Comparison(places[one.since], places[one.arm]) for one in links]
            noise = in_blocks("normal", rng, len(names), blocks)
            chain = Chain(ChainKind.PIECES, tuple(links))
            told = ladder(made(names, np.array(arms)[:, None] + noise, chain, [*compared, Comparison(0, 1)]))
            bad = False
            for rung in told.rungs:
                (row,), effect = rung.rows, true[rung.link.name]
                right = {True: "faster", False: "slower"}[effect < 0] if abs(effect) > 1e-12 else ""
                bad |= row.changed and row.verdict != right
                held += row.low <= math.exp(effect) <= row.high
                intervals += 1
            wrong += bad
            by_name = {rung.link.name: rung.rows[0] for rung in told.rungs}
            gains += by_name["1 alone"].verdict == "faster"
            costs += by_name["2 alone"].verdict == "slower"
            dependent += bool(told.disagree)
        cells = [share(hits, times) for hits in (wrong, gains, costs)]
        cells += [share(held, intervals), share(dependent, times)]
        yield f"| {form} | {blocks} | {times} | {' | '.join(cells)} |"


Stream = Callable[[int], Floats]


def stream_of(kind: str, rng: np.random.Generator) -> tuple[Stream, float]:
    """Return what gives the noise of so many trials that follow each other, and the spread of a block's difference."""
    if kind == "real":
        whole = np.log(real_trials()[int(rng.integers(4))])
        at = int(rng.integers(whole.size))
        values = np.concatenate([whole[at:], whole, whole, whole, whole])
    else:
        values = MODELS[kind](rng, 1, 4096, 1.0)[0]
    pairs = values[: values.size // 2 * 2].reshape(-1, 2)
    differences = pairs[:, 1] - pairs[:, 0]
    spread = 1.4826 * float(np.median(np.abs(differences - np.median(differences)))) if kind == "real" else 0.0
    place = [0]

    def give(count: int) -> Floats:
        if place[0] + count > values.size:
            place[0] = 0
        place[0] += count
        return np.asarray(values[place[0] - count : place[0]])

    return give, spread or float(differences.std())


def searched(count: int, steps: dict[int, float], kind: str, rng: np.random.Generator, second: bool) -> Bisected:
    """Hold the conversation of a search on made-up trials."""
    give, spread = stream_of(kind, rng)
    talk, kept = bisecting(count, Rules(second=second)), dict[tuple[str, int, int], Floats]()
    ask = next(talk)
    while True:
        rows = []
        for block in range(ask.first, ask.first + ask.blocks):
            key = str(ask.stage), ask.part, block
            if key not in kept:
                order = rng.permutation(len(ask.commits))
                noise = np.empty(order.size)
                noise[order] = give(order.size)
                kept[key] = noise + [spread * sum(e for at, e in steps.items() if at <= c) for c in ask.commits]
            rows.append(kept[key])
        values = np.array(rows)
        try:
            ask = talk.send(Answer(values, np.zeros(values.shape, dtype=bool)))
        except StopIteration as ended:
            found: Bisected = ended.value
            return found


KNOWN = {(64, 1): 104, (64, 2): 48, (64, 3): 41, (1024, 1): 145, (1024, 2): 65, (1024, 3): 57}


def searches(times: int) -> Iterator[str]:
    """Yield the table of searches for one step."""
    cells = [("normal", n, e) for n in (64, 1024) for e in (1, 2, 3)]
    cells += [(kind, 256, e) for kind in (*NOISES[1:], "real") for e in (1, 2)]
    for kind, count, effect in cells:
        rng = np.random.default_rng([SEED, 3, count, effect, *map(ord, kind)])
        right = wrong = 0
        blocks, builds = [], []
        for _ in range(times):
            at = int(rng.integers(1, count + 1))
            sign = 1 if rng.random() < 0.5 else -1
            found = searched(count, {at: sign * float(effect)}, kind, rng, second=False)
            named = found.outcome is Outcome.FOUND
            right += named and at in found.steps[0].commits
            wrong += named and at not in found.steps[0].commits
            blocks.append(found.blocks)
            builds.append(len(found.tried))
        told = [share(hits, times) for hits in (right, wrong, times - right - wrong)]
        known = KNOWN.get((count, effect), "") if kind == "normal" else ""
        yield (
            f"| {kind} | {count} | {effect} | {times} | {' | '.join(told)} | {np.mean(blocks):.0f} | "
            f"{np.mean(builds):.1f} | {known} |"
        )


def none(times: int) -> Iterator[str]:
    """Yield the table of searches where there is no step."""
    for kind in (*NOISES, "real"):
        rng = np.random.default_rng([SEED, 4, *map(ord, kind)])
        named = sum(searched(256, {}, kind, rng, second=True).outcome is Outcome.FOUND for _ in range(times))
        yield f"| {kind} | {times} | {named} |"


def two(times: int) -> Iterator[str]:
    """Yield the table of searches for two steps."""
    for effect in (2, 3):
        rng = np.random.default_rng([SEED, 5, effect])
        one = both = wrong = 0
        for _ in range(times):
            first, last = sorted((1 + rng.choice(256, 2, replace=False)).tolist())
            found = searched(256, {first: float(effect), last: float(effect)}, "normal", rng, second=True)
            named = [step.commits for step in found.steps]
            hits = [any(at in group for group in named) for at in (first, last)]
            one, both = one + any(hits), both + all(hits)
            wrong += any(not {first, last} & set(group) for group in named)
        yield f"| {effect} | {times} | {share(one, times)} | {share(both, times)} | {share(wrong, times)} |"


def hours(times: int) -> Iterator[str]:
    """Yield the table of two records of different hours."""
    rng = np.random.default_rng([SEED, 7])
    wrong = 0
    for _ in range(times):
        kind = str(rng.choice(NOISES))
        both = [in_blocks(kind, rng, 2, 20) for _ in range(2)]
        wrong += by_reference(*(one[1] - one[0] for one in both)).p <= 0.05
    yield f"| the same reference | - | {times} | {share(wrong, times)} |"
    for name, draw in (("normally", rng.normal), ("with heavy tails", _heavy_levels(rng))):
        for count in (5, 10, 18, 19, 40):
            wrong = 0
            for _ in range(times):
                levels = draw(0, 0.05, 2 * count + 2)
                pairs = levels[2::2] - levels[3::2]
                wrong += by_pairs(float(levels[1] - levels[0]), pairs).shown
            yield f"| {count} pairs | {name} | {times} | {share(wrong, times)} |"


def _heavy_levels(rng: np.random.Generator) -> Callable[[float, float, int], Floats]:
    return lambda middle, spread, size: middle + spread * rng.standard_t(3, size) / math.sqrt(3)


WALK = """import time
begun = time.process_time()
for _ in range({loops}):
    pass
print("walked", time.process_time() - begun, "s")
"""
STUDY = """name = "walk"
measure = "reading:walk"
margin = "3 %"
[arms.state]
[workloads.walk]
command = "{python} -S walk.py"
[workloads.walk.numbers.walk]
pattern = "walked (\\\\S+) s"
unit = "s"
"""
ENVIRONMENT = {
    **os.environ, "GIT_CONFIG_GLOBAL": os.devnull, "GIT_AUTHOR_NAME": "A", "GIT_AUTHOR_EMAIL": "a@b.example",
    "GIT_COMMITTER_NAME": "A", "GIT_COMMITTER_EMAIL": "a@b.example",
}  # fmt: skip


def history(folder: Path, loops: Sequence[int]) -> list[str]:
    """Make a repository of a program that loops so often; return its commits, tagged c0, c1, ..."""

    def git(*words: str) -> str:
        done = subprocess.run(["git", *words], cwd=folder, env=ENVIRONMENT, check=True, capture_output=True, text=True)
        return done.stdout.strip()

    folder.mkdir()
    git("init", "-q", "-b", "main")
    ids = []
    for number, count in enumerate(loops):
        (folder / "walk.py").write_text(f"# {number}\n{WALK.format(loops=count)}", encoding="utf-8")
        git("add", "walk.py")
        git("commit", "-q", "-m", f"Step {number}")
        git("tag", f"c{number}")
        ids.append(git("rev-parse", "HEAD"))
    (folder / "bystander.toml").write_text(STUDY.format(python=sys.executable), encoding="utf-8")
    return ids


def told(folder: Path, *words: str) -> dict[str, object]:
    """Run the program there and return its document."""
    line = [BYSTANDER, *words, "--json", "--quiet"]
    done = subprocess.run(line, cwd=folder, check=True, capture_output=True, text=True)
    found: dict[str, object] = json.loads(done.stdout)
    return found


def real(times: int) -> str:
    """Return what the program itself says of histories whose truths are known."""
    loops = 1_000_000
    ratios = [1.0, 1.02, 1.0, 1.05, 1.0, 1 / 1.2, 1.0, 1 / 1.05]
    held = intervals = right = 0
    with tempfile.TemporaryDirectory() as scratch:
        for number in range(times):
            folder = Path(scratch, f"chain{number}")
            steps = np.cumprod(ratios)
            history(folder, [round(loops * step) for step in steps])
            document = told(folder, "chain", "c0..c7", "--blocks", "20", "--change", "100 %")
            truths = [after / before for before, after in pairwise(steps)]
            rows = [*(one["gains"][0] for one in document["links"]), document["total"][0]]  # type: ignore[attr-defined, index]
            for row, truth in zip(rows, [*truths, steps[-1]], strict=True):
                held += row["interval"][0] <= truth <= row["interval"][1]
                intervals += 1
        rng = np.random.default_rng([SEED, 6])
        searches = 2 * times if times < 10 else 20
        for number in range(searches):
            folder = Path(scratch, f"search{number}")
            at = int(rng.integers(1, 64))
            ids = history(folder, [round(loops * (1.25 if commit >= at else 1.0)) for commit in range(64)])
            document = told(folder, "bisect", "c0..c63", "--seed", str(number))
            found = document["searches"][0]["steps"]  # type: ignore[index]
            right += bool(found) and found[0]["commit"] == ids[at]
    return f"""
## Real programs
A program that loops a known number of times and reads the CPU time of its loop, run by the installed `bystander` on a
shared machine of {os.cpu_count()} cores. Chains of eight states with steps of 2, 5 and 20 %, 20 blocks: of {intervals}
intervals of links and totals {held} hold. Histories of 64 commits with one step of 25 %: {right} of {searches} searches
named the commit.
"""


PARTS = ("chains", "pieces", "searches", "steps", "hours", "real")


def main(words: Sequence[str] | None = None) -> None:
    """Measure, and write the page."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--quick", action="store_true")
    parser.add_argument("--only", action="append", choices=PARTS)
    parser.add_argument("--to", type=Path, default=ROOT / "docs")
    asked = parser.parse_args(words)
    begun, wanted = time.monotonic(), asked.only or (PARTS[:-1] if asked.quick else PARTS)

    def table(part: str, rows: Callable[[int], Iterator[str]], full: int, quick: int) -> str:
        return "\n".join(rows(quick if asked.quick else full)) if part in wanted else "| not measured |"

    found = {
        "chains": table("chains", chains, 2000, 3), "pieces": table("pieces", pieces, 4000, 4),
        "searches": table("searches", searches, 300, 2), "none": table("searches", none, 300, 2),
        "steps": table("steps", two, 300, 2), "hours": table("hours", hours, 4000, 20),
    }  # fmt: skip
    more = real(13) if "real" in wanted else ""
    took = f"{'quick' if asked.quick else 'full'} form, {(time.monotonic() - begun) / 60:.0f} minutes"
    text = TEXT.format(seed=SEED, took=took, more=more, **found)
    (asked.to / "validation-chains.md").write_text(text, encoding="utf-8")


if __name__ == "__main__":
    main()
