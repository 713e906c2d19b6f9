"""Two states side by side: the account of the change, from what is kept of an inspection."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

from bystander.design import Account, Counts, TimedCallable
from bystander.evidence import Asked, Seen, account
from bystander.flow.leads.kept import Kept, OfTrial
from bystander.units import counted, share_text

__all__ = ["LOOKS", "MOST_BLOCKS", "account_of", "asked_of", "risk_at", "seen_of", "view_of"]

# After how many blocks is looked, and the risk that each look spends: their sum holds whatever is seen before
# (Bonferroni). The last has most of it, as only what is plain ends earlier.
LOOKS = {8: 0.01, 10: 0.01, 12: 0.03}
MOST_BLOCKS = max(LOOKS)
_RISK = sum(LOOKS.values())
_BEHIND = 0.05  # of the ticks, beyond which the recorder fell behind
_FEW = 2000  # readings of an arm, below which small places are hardly known


def risk_at(blocks: int, fixed: bool) -> float:
    """Return the risk of an account after so many blocks: of its look, or what earlier looks left over."""
    if fixed:
        return _RISK
    return LOOKS.get(blocks) or _RISK - sum(risk for at, risk in LOOKS.items() if at < blocks and at < MOST_BLOCKS)


def view_of(measure: str) -> str:
    """Return whose time a measure is about: of all threads for CPU time, else the main thread's from begin to end."""
    return "processor" if measure == "cpu" else "elapsed"


def account_of(kept: Kept, view: str | None = None, places: bool = True) -> Account:
    """Return the account of an inspection of two states.

    Parameters
    ----------
    view : str, optional
        One of `VIEWS`; that of the study's measure by default.
    places : bool
        Whether all places are told, beside account and leads.
    """
    study = kept.head.study
    workload = study.workloads[kept.workload]
    found = account(seen_of(kept), asked_of(kept, view, places))
    names = [study.arms[arm].name for arm in (kept.against or 0, kept.arm)]
    about = (*_about(kept, kept.pairs), *_callable(workload.what))
    return replace(
        found, workload=workload.name, against=names[0], arm=names[1], run=kept.name, about=about
    )  # fmt: skip


def seen_of(kept: Kept) -> Seen:
    """Return what was seen of both arms."""
    pairs, reference = kept.pairs, kept.against or 0
    sides = reference, kept.arm
    counts = tuple(_contents(kept.counts.get(arm, [])) for arm in sides)
    roots = kept.head.arms[reference].folder, kept.head.arms[kept.arm].folder
    return Seen(
        ([a.stacks for a, _ in pairs], [b.stacks for _, b in pairs]), (counts[0], counts[1]), kept.edits, roots,
        (_items(kept, reference), _items(kept, kept.arm)), (kept.bare.get(reference, []), kept.bare.get(kept.arm, [])),
        [number // kept.each for number in range(len(pairs))],
    )  # fmt: skip


def asked_of(kept: Kept, view: str | None = None, places: bool = True) -> Asked:
    """Return how two states are held side by side; see `account_of`."""
    study = kept.head.study
    fixed = bool(kept.run.options.get("fixed"))
    rooted = isinstance(study.workloads[kept.workload].what, TimedCallable)
    risk = risk_at(len(kept.pairs) // kept.each, fixed)
    return Asked(view or view_of(study.measure), risk, study.margin, rooted, places)


def _contents(told: Sequence[tuple[Mapping[str, Any], Counts]]) -> list[Counts]:
    return [content for _, content in told]


def _items(kept: Kept, arm: int) -> dict[str, float]:
    """Return what the program told of in a trial of an arm."""
    trials = [trial.summary["items"] for trial in kept.trials if trial.arm == arm and trial.well]
    return dict(trials[0]) if trials else {}


def _callable(what: object) -> list[str]:
    if not isinstance(what, TimedCallable):
        return []
    calls = what.samples * what.iterations
    return [f"Seconds are of {counted(calls, 'call')} in one trial."] if calls > 1 else []


def _about(kept: Kept, pairs: Sequence[tuple[OfTrial, OfTrial]]) -> list[str]:
    """Say what limits the account."""
    sentences = [str(kept.run.options["lost"])] if kept.run.options.get("lost") else []
    names = [arm.name for arm in kept.head.study.arms]
    behind = []
    for arm in (kept.against or 0, kept.arm):
        summaries = [trial.summary for trial in kept.trials if trial.arm == arm]
        ticks, missed = (sum(one[key] for one in summaries) for key in ("ticks", "missed"))
        if ticks and missed / ticks > _BEHIND:
            behind.append(f"{share_text(missed / ticks)} under {names[arm]}")
        problems = Counter(problem for one in summaries for problem in one["problems"])
        sentences += [f"Not seen from inside under {names[arm]}, {problem}." for problem in sorted(problems)[:3]]
        ends = Counter(one["status"] for one in summaries if one["status"] != "ok")
        sentences += [
            f"{counted(times, 'watched trial')} under {names[arm]} ended with {how}: its block does not count."
            for how, times in ends.items()
        ]
    if behind:
        sentences.insert(0, f"Ticks that were not read: {', '.join(behind)}.")
    readings = (
        min(sum(int(one.summary["readings"]) for one in side) for side in zip(*pairs, strict=True)) if pairs else 0
    )
    if pairs and readings < _FEW:
        sentences.append(f"Only {counted(readings, 'reading')} of an arm: small places are hardly known.")
    answers = [{trial.summary.get("answer", "") for trial in side} for side in zip(*pairs, strict=True)]
    if len(answers) == 2 and answers[0] != answers[1] and all(answers):
        sentences.append("The watched trials of both arms answered differently.")
    return sentences
