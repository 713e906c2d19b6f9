"""Many trials of one state, read back: how it grew with an input, and where its slow trials were slow."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise
from pathlib import Path

import numpy as np

from bystander.archive import Archive
from bystander.design import (
    COUNTS,
    GROWTH,
    SLOW,
    STACKS,
    VIEWS,
    Counts,
    Growing,
    RecordHead,
    Run,
    SlowTrials,
    Stacks,
    inspected_place,
    run_name,
    size_of,
)
from bystander.errors import UsageError
from bystander.evidence import content_of, grown, slow_places
from bystander.exchange import within_json
from bystander.flow.leads.kept import newest_runs
from bystander.stats import apart
from bystander.units import counted, duration_text, listed, share_text

__all__ = ["growing_json", "growing_of", "slow_json", "slow_of"]

_RISK = 0.05
_FEWEST_SIZES = 3
_FEWEST_BLOCKS = 6  # blocks, from which on anything can be shown to grow faster than the rest


def growing_of(archive: Path, record: str | None, only: Sequence[str], view: str | None) -> Growing:
    """Return how a workload grew when that was last looked at; the newest where no record is named.

    Raises
    ------
    UsageError
        When nobody looked, or what is kept is damaged.
    """
    with Archive(archive) as kept:
        for head, run in newest_runs(kept, record, GROWTH):
            workloads = _workloads(head, run)
            ours = [head.study.workloads[at] for at in workloads]
            names = {one.base for one in ours} | {one.name for one in ours}
            if workloads and (not only or names & set(only)):
                return _growing(kept, head, run, workloads, view or VIEWS[0])
    where = f"record {record}" if record else str(archive)
    raise UsageError(f"--growth: {where} holds nothing on how it grows; bystander inspect --inputs n=100,200,400 looks")


def growing_json(found: Growing) -> str:
    """Return the document of how a workload grows."""
    return within_json((), (), (), growth=found)


def _workloads(head: RecordHead, run: Run) -> list[int]:
    told = run.options.get("workloads")
    fits = isinstance(told, list) and all(isinstance(at, int) and 0 <= at < len(head.study.workloads) for at in told)
    return list(told) if fits and isinstance(told, list) else []


def _each(run: Run, count: int) -> list[int] | None:
    """Return how often a trial of each size does it, None for commands."""
    told = run.options.get("each")
    fits = isinstance(told, list) and len(told) == count and all(isinstance(one, int) and one > 0 for one in told)
    return list(told) if fits and isinstance(told, list) else None


def _growing(kept: Archive, head: RecordHead, run: Run, workloads: Sequence[int], view: str) -> Growing:
    name, study = str(run.options.get("input")), head.study
    stacks: dict[int, dict[int, Stacks]] = {at: {} for at in workloads}
    counts: dict[int, list[Counts]] = {at: [] for at in workloads}
    arm = 0
    try:
        for whose, packet in kept.run_evidence(head.uuid, run.number):
            arm = whose.arm
            if packet.kind == STACKS and whose.workload in stacks:
                stacks[whose.workload][int(packet.summary["block"])] = content_of(packet)
            elif packet.kind == COUNTS and whose.workload in counts:
                counts[whose.workload].append(content_of(packet))
    except ValueError as error:
        raise UsageError(f"{run_name(head, run)}: {error}") from None
    whole_blocks = sorted(set.intersection(*(set(mine) for mine in stacks.values())))
    if not whole_blocks:
        raise UsageError(f"--growth: {run_name(head, run)} ended before the first block of all sizes")
    trials = [[stacks[at][block] for block in whole_blocks] for at in workloads]
    sizes = tuple(size_of(study.workloads[at], name) for at in workloads)
    if len(sizes) < _FEWEST_SIZES or not all(a < b for a, b in pairwise(sizes)):
        raise UsageError(f"--growth: the sizes of {run_name(head, run)} make no sense: {listed([*map(str, sizes)], 6)}")
    both = [counts[at] for at in workloads]
    each = _each(run, len(workloads))
    whole, places = grown(sizes, trials, both if all(both) else [], view, _RISK, each)
    about = []
    if len(whole_blocks) < _FEWEST_BLOCKS:
        blocks = counted(len(whole_blocks), "block")
        about.append(f"{blocks}: fewer than {_FEWEST_BLOCKS} cannot show what grows faster than the rest.")
    if not all(both):
        about.append("Calls were not counted.")
    first = study.workloads[workloads[0]]
    return Growing(
        run_name(head, run), first.base, study.arms[arm].name, name, sizes, len(whole_blocks), whole, places,
        head.arms[arm].folder, tuple(about),
    )  # fmt: skip


_ENOUGH = 5  # slow trials, below which little can be shown


def slow_of(archive: Path, record: str | None, only: Sequence[str], arm: str | None, view: str | None) -> SlowTrials:
    """Return where slow trials were slow when that was last looked at; the newest where no record is named.

    Raises
    ------
    UsageError
        When nobody looked, or what is kept is damaged.
    """
    with Archive(archive) as kept:
        for head, run in newest_runs(kept, record, SLOW):
            workload, position = inspected_place(head, run)
            name, of = head.study.workloads[workload].name, head.study.arms[position].name
            if (not only or name in only) and (arm is None or arm == of):
                return _slow(kept, head, run, view or VIEWS[0])
    where = f"record {record}" if record else str(archive)
    raise UsageError(f"--slow: {where} holds no slow trials that were caught; bystander inspect --slow catches some")


def slow_json(found: SlowTrials) -> str:
    """Return the document of slow trials."""
    return within_json((), (), (), slow=found)


def _slow(kept: Archive, head: RecordHead, run: Run, view: str) -> SlowTrials:
    stacks: list[Stacks] = []
    took: list[float] = []
    try:
        for _, packet in kept.run_evidence(head.uuid, run.number, STACKS):
            stacks.append(content_of(packet))
            took.append(float(packet.summary["elapsed_s"]))
    except (ValueError, KeyError, TypeError) as error:
        raise UsageError(f"{run_name(head, run)}: {error}") from None
    if not stacks:
        raise UsageError(f"--slow: {run_name(head, run)} ended before the first trial")
    values = np.array(took)
    asked = run.options.get("slower_than")
    end, slow = (asked, values > asked) if isinstance(asked, float) else apart(values)
    whole, places, waits = slow_places(stacks, slow, view, _RISK, run.seed)
    workload, arm = inspected_place(head, run)
    middle = float(np.median(values))
    about = []
    if not slow.any():
        tenth = float(np.quantile(values, 0.9)) / middle - 1
        many = counted(len(took), "trial")
        most = f"{share_text(tenth)} more than the middle one, from {duration_text(middle * (1 + tenth), 3)} on"
        about.append(f"No slow trial was caught in {many}: the slowest tenth takes {most}.")
    elif slow.sum() < _ENOUGH:
        about.append(f"Only {counted(int(slow.sum()), 'slow trial')}: little can be shown of so few.")
    return SlowTrials(
        run_name(head, run), head.study.workloads[workload].name, head.study.arms[arm].name, len(took),
        int(slow.sum()), float(end), middle, whole, places, waits, head.arms[arm].folder, run.seed, tuple(about),
    )  # fmt: skip
