"""How often a lead is false, how much is seen, and how well the account holds: simulated, and with real inspections.

usage: python benchmarks/validate_leads.py [--quick] [--only simulated|real] [--to FOLDER]

Simulated trials go through the functions that `bystander inspect` and `leads` decide with; real ones through the
program. What real ones found is kept in leads_real.json beside this file as it comes, and gone on with.
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
from collections.abc import Sequence
from concurrent.futures import Executor, ProcessPoolExecutor
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from leads_programs import PROGRAMS, UNCHANGED, Program, lay_out
from noises import MODELS, ROOT, SEED, Floats, real_noise

from bystander.design import PYTHON, Account, Edits, Match, Place, Stacks, Standing, Task
from bystander.evidence import Asked, Seen, account
from bystander.flow.leads.accounts import LOOKS, MOST_BLOCKS, risk_at

PLACES, TRIAL_S, TICK_S, CV = 50, 1.0, 1e-3, 0.03
KINDS = ("normal", "heavy tails", "skewed", "two speeds", "drift")
REAL = Path(__file__).with_name("leads_real.json")
_STEP = 50
_ROOTS = ("/arms/a", "/arms/b")


@dataclass(frozen=True)
class Sizes:
    """How often is drawn: studies of each kind, and real inspections."""

    studies: int
    unchanged: int
    planted: int


FULL, QUICK = Sizes(2000, 200, 20), Sizes(4, 0, 0)


def shares() -> Floats:
    """Return the shares of places: one of 30 %, one of 10 %, the others ever smaller."""
    rest = 1 / np.arange(3, PLACES + 1)
    return np.concatenate([[0.3, 0.1], 0.6 * rest / rest.sum()])


def place_of(k: int, side: int) -> Place:
    """Return the place of a number under an arm."""
    return Place(PYTHON, f"f{k}", f"{_ROOTS[side]}/quay.py", k + 2)


def trial(seconds: Floats, side: int) -> Stacks:
    """Return a watched trial that was so long at each place, under one that calls them all."""
    places = tuple(place_of(k, side) for k in range(seconds.size))
    main = Place(PYTHON, "main", f"{_ROOTS[side]}/quay.py", 1)
    k = np.arange(seconds.size, dtype=np.int64)
    ns = np.round(seconds * 1e9).astype(np.int64)
    none = np.zeros(0, dtype=np.int64)
    return Stacks(
        (main, *places), (Task(1, 1, 0, "quay", 0, int(ns.sum())),), np.concatenate([[-1], np.zeros_like(k)]),
        np.concatenate([[0], k + 1]), np.concatenate([[1], k + 2]), none, none, none, none, none, none, none, k + 1,
        np.zeros_like(k), np.full_like(k, -1), ns, int(ns.sum()), 1_000_000,
    )  # fmt: skip


def drawn(rng: np.random.Generator, logs: Floats, share: Floats) -> Floats:
    """Return seconds at places of trials whose whole varies so, as readings of a clock show them; shape (n, k)."""
    own = np.exp(rng.normal(0, CV, (logs.size, share.size)))
    truth = TRIAL_S * np.exp(logs)[:, None] * share * own
    whole = truth.sum(axis=1, keepdims=True)
    readings = rng.poisson(truth / TICK_S)
    seconds: Floats = readings / np.maximum(1, readings.sum(axis=1, keepdims=True)) * whole
    return seconds


def inspected(before: Floats, after: Floats, margin: float = 0.03) -> tuple[Account, int]:
    """Return the account with which an inspection ends, and after how many blocks: looks included."""
    matches = tuple(
        Match(place_of(k, 0), place_of(k, 1), Standing.UNTOUCHED)
        for k in range(before.shape[1])
    )  # fmt: skip
    stacks = [trial(one, 0) for one in before], [trial(one, 1) for one in after]
    for blocks in sorted(LOOKS):
        seen = Seen((stacks[0][:blocks], stacks[1][:blocks]), ([], []), Edits(matches), _ROOTS)
        found = account(seen, Asked("elapsed", risk_at(blocks, fixed=False), margin, places=False))
        if blocks == MOST_BLOCKS or (found.leads and found.explained_enough):
            return found, blocks
    raise AssertionError


def noise_of(kind: str, rng: np.random.Generator, count: int) -> Floats:
    """Return logs of the wholes of trials, shape (count, 2 blocks), in the order in which they ran."""
    if kind == "real":
        real = real_noise()
        return real[rng.integers(0, len(real), count)][:, : 2 * MOST_BLOCKS]
    return MODELS[kind](rng, count, 2 * MOST_BLOCKS, CV)


def arms(rng: np.random.Generator, row: Floats) -> tuple[Floats, Floats]:
    """Return the logs of both arms, assigned at random within each block."""
    pairs, first = row.reshape(-1, 2), rng.integers(0, 2, row.size // 2)
    at = np.arange(first.size)
    return pairs[at, first], pairs[at, 1 - first]


def _false(kind: str, piece: int, count: int) -> list[float]:
    """Return how many of unchanged programs show any lead, and how many intervals of the whole hold 0."""
    rng = np.random.default_rng([SEED, 11, *map(ord, kind), piece])
    found = np.zeros(2)
    for row in noise_of(kind, rng, count):
        a, b = (drawn(rng, logs, shares()) for logs in arms(rng, row))
        told, _ = inspected(a, b)
        found += [bool(told.leads), not told.whole.shown]
    return found.tolist()


def _seen(kind: str, changes: dict[int, float], piece: int, count: int) -> list[float]:
    """Return how often all changed places are leads, no other is, the rest holds 0 then, and blocks that it took."""
    rng = np.random.default_rng(
        [SEED, 12, *map(ord, kind), len(changes), round(1000 * abs(sum(changes.values()))), piece]
    )
    factor = np.ones(PLACES)
    for k, change in changes.items():
        factor[k] = 1 + change
    found = np.zeros(5)
    for row in noise_of(kind, rng, count):
        before, after = arms(rng, row)
        told, blocks = inspected(drawn(rng, before, shares()), drawn(rng, after, shares() * factor))
        names = {lead.place.name for lead in told.leads}
        wanted = {f"f{k}" for k in changes}
        complete = names == wanted
        total = told.explained.change_s + told.rest.change_s
        assert abs(total - told.whole.change_s) < 1e-9, "explained and rest are the whole"
        found += [wanted <= names, bool(names - wanted), complete, complete and not told.rest.shown, blocks]
    return found.tolist()


def in_pieces(pool: Executor, work: Any, count: int) -> Floats:
    """Return the sums of what each study gives."""
    sizes = [min(_STEP, count - start) for start in range(0, count, _STEP)]
    sums: Floats = np.sum(np.array(list(pool.map(work, range(len(sizes)), sizes))), axis=0)
    return sums


def share_text(hits: float, of: float) -> str:
    """Return a share with its standard error."""
    p = hits / max(1.0, of)
    return f"{100 * p:.1f} % (± {100 * math.sqrt(p * (1 - p) / max(1.0, of)):.1f})"


def false_leads(pool: Executor, sizes: Sizes) -> list[str]:
    """Return the table of unchanged programs."""
    lines = [
        "| noise | inspections | with any lead | | interval of the whole holds 0 |",
        "| --- | --- | --- | --- | --- |",
    ]
    for kind in (*KINDS, "real"):
        hits, held = in_pieces(pool, partial(_false, kind), sizes.studies)
        n = sizes.studies
        lines.append(f"| {kind} | {n} | {hits:.0f} | {share_text(hits, n)} | {share_text(held, n)} |")
    return lines


SEEN: tuple[tuple[str, dict[int, float]], ...] = (
    ("10 % place takes 20 % longer", {1: 0.2}),
    ("10 % place takes 30 % longer", {1: 0.3}),
    ("30 % place takes 10 % longer", {0: 0.1}),
    ("30 % place takes 20 % longer", {0: 0.2}),
    ("30 % place takes 20 % longer, 10 % place 40 % less", {0: 0.2, 1: -0.4}),
)


def power(pool: Executor, sizes: Sizes) -> list[str]:
    """Return what is seen, and whether the rest holds 0 where leads are complete."""
    lines = [
        "| change | noise | all found | another place called | leads complete: interval of the rest holds 0 | blocks |",
        "| --- | --- | --- | --- | --- | --- |",
    ]
    for name, changes in SEEN:
        for kind in ("normal", "real"):
            n = max(2, sizes.studies // 4)
            hits, false, complete, held, blocks = in_pieces(pool, partial(_seen, kind, changes), n)
            lines.append(
                f"| {name} | {kind} | {share_text(hits, n)} | {share_text(false, n)} | {share_text(held, complete)} | "
                f"{blocks / n:.1f} |"
            )
    return lines


def _bystander(folder: Path, *words: str) -> str:
    environment = {**os.environ, "XDG_RUNTIME_DIR": str(folder)}
    done = subprocess.run(
        [sys.executable, "-m", "bystander", *words],
        cwd=folder,
        env=environment,
        capture_output=True,
        text=True,
        check=False,
    )
    if done.returncode:
        raise SystemExit(f"bystander {' '.join(words)} ended with {done.returncode}: {done.stderr}")
    return done.stdout


def inspect_for_real(program: Program, times: int, kept: dict[str, list[dict[str, Any]]]) -> None:
    """Observe a program once, then inspect both of its states so many times; keep each as it comes."""
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch)
        lay_out(program, folder)
        _bystander(folder, "observe", "--quiet")
        found = kept.setdefault(program.name, [])
        while len(found) < times:
            began = time.monotonic()
            # Counts of one code are exactly alike: there they could add nothing but time.
            counts = [] if program.right else ["--no-counts"]
            words = ["inspect", "--only", "day", "--quiet", "--json", *counts]
            told = json.loads(_bystander(folder, *words))["accounts"][0]
            leads = [[lead["label"], lead["code"], lead["seconds"]["change_s"], lead["p"]] for lead in told["leads"]]
            seconds = [told["whole"]["change_s"], told["explained"]["change_s"], told["rest"]["change_s"]]
            one = {"leads": leads, "blocks": told["blocks"], "seconds": seconds, "before_s": told["whole"]["before_s"]}
            found.append({**one, "took_s": round(time.monotonic() - began, 1)})
            REAL.write_text(json.dumps(kept, indent=1), encoding="utf-8")
            print(program.name, len(found), found[-1], flush=True)


def real(sizes: Sizes) -> list[str]:
    """Return the table of real inspections, after those that are still to be made."""
    kept: dict[str, list[dict[str, Any]]] = json.loads(REAL.read_text(encoding="utf-8")) if REAL.exists() else {}
    for program in PROGRAMS:
        inspect_for_real(program, sizes.planted, kept)
    inspect_for_real(UNCHANGED, sizes.unchanged, kept)
    lines = ["| program | inspections | found | blocks | before |", "| --- | --- | --- | --- | --- |"]
    for program in (*PROGRAMS, UNCHANGED):
        found = kept[program.name]
        if program.right:
            hits = sum(bool(one["leads"]) and one["leads"][0][0].endswith(program.right) for one in found)
            said = f"first lead `{program.right}` in {hits}"
        else:
            said = f"any lead in {sum(bool(one['leads']) for one in found)}"
        blocks = np.mean([one["blocks"] for one in found])
        took = np.mean([one["before_s"] for one in found])
        lines.append(f"| {program.name} | {len(found)} | {said} | {blocks:.1f} | {took:.2f} s |")
    return lines


TEXT = """# Validation of leads

How often is a lead false, and how much does an inspection of two states see? Measured by `python
benchmarks/validate_leads.py`; seed {seed}; {took}. Behind a share stands its standard error.

## Simulated
Trials of {trial} s with {places} places, of which one has 30 % and one 10 % of the whole; a reading each ms; the whole
varies by 3 % in five kinds of noise, and as in real trials (`tests/data/same_code.csv`); each place besides by 3 % of
its own. Up to 12 blocks with looks after 8 and 10, through the functions that `inspect` and `leads` decide with.

### Nothing changed
At most 5 % of inspections may show any lead.

{false}

### Something changed
{power}

## Real inspections
Programs of about 0.3 s ({programs}), through the program itself, on a shared machine of two cores on which other work
ran. First lead: the place that was changed stands on top.

{real}
"""


def main(words: Sequence[str] | None = None) -> None:
    """Measure, and write the page."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--quick", action="store_true")
    parser.add_argument("--only", choices=("simulated", "real"))
    parser.add_argument("--to", type=Path, default=ROOT / "docs")
    asked = parser.parse_args(words)
    begun, sizes = time.monotonic(), QUICK if asked.quick else FULL
    told = {"false": ["not measured"], "power": ["not measured"], "real": ["not measured in this form"]}
    if asked.only != "real":
        with ProcessPoolExecutor(min(2, os.cpu_count() or 1)) as pool:
            told |= {"false": false_leads(pool, sizes), "power": power(pool, sizes)}
    if asked.only != "simulated" and not asked.quick:
        told["real"] = real(sizes)
    minutes = (time.monotonic() - begun) / 60
    how = f"{'quick form' if asked.quick else 'full form'}, {minutes:.0f} minutes"
    text = TEXT.format(
        seed=SEED, took=how, trial=f"{TRIAL_S:.0f}", places=PLACES, programs="benchmarks/leads_programs.py",
        **{name: "\n".join(lines) for name, lines in told.items()},
    )  # fmt: skip
    (asked.to / "validation-leads.md").write_text(text, encoding="utf-8")


if __name__ == "__main__":
    main()
