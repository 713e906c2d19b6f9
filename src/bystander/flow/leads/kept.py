"""What is kept of inspections, chosen and read back."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from bystander.archive import Archive
from bystander.design import (
    COUNTED,
    COUNTS,
    EDITS,
    STACKS,
    UNWATCHED,
    Counts,
    Edits,
    RecordHead,
    Run,
    Stacks,
    State,
    chosen_names,
    inspected_against,
    inspected_place,
    inspections,
    run_name,
)
from bystander.errors import UsageError
from bystander.evidence import content_of
from bystander.units import listed

__all__ = ["Choice", "Kept", "OfTrial", "kept_inspections", "newest_runs", "read_inspection"]

Pairs = list[tuple[float, float]]


@dataclass(frozen=True)
class Choice:
    """Which inspection is meant: by workloads and arm, where there are several."""

    only: tuple[str, ...] = ()
    arm: str | None = None


@dataclass(frozen=True)
class OfTrial:
    """What was seen of one trial."""

    arm: int
    summary: Mapping[str, Any]
    stacks: Stacks

    @property
    def well(self) -> bool:
        """Whether it came to a good end."""
        return bool(self.summary["status"] == "ok")


@dataclass(frozen=True)
class Kept:
    """What is kept of one inspection.

    Attributes
    ----------
    workload, arm : int
        Positions in the study.
    against : int or None
        The reference, where two states stand side by side.
    """

    head: RecordHead
    run: Run
    workload: int
    arm: int
    against: int | None
    trials: Sequence[OfTrial] = ()
    bare: Mapping[int, Pairs] = field(default_factory=dict)
    counts: Mapping[int, list[tuple[Mapping[str, Any], Counts]]] = field(default_factory=dict)
    edits: Edits = field(default_factory=Edits)

    @property
    def name(self) -> str:
        """The inspection's name."""
        return run_name(self.head, self.run)

    @property
    def made_wall_s(self) -> float:
        """When it was begun, in seconds since 1970; when its record was, where nobody knows."""
        return self.run.began_wall_s or self.head.started_wall_s

    @property
    def workload_name(self) -> str:
        """The workload's name."""
        return self.head.study.workloads[self.workload].name

    def has(self, arm: int) -> bool:
        """Whether an arm was looked into."""
        return arm in (self.arm, self.against)

    @property
    def each(self) -> int:
        """How many trials of an arm are in a block: one, but for short ones."""
        each = self.run.options.get("each")
        return each if isinstance(each, int) and each > 0 else 1

    @property
    def pairs(self) -> list[tuple[OfTrial, OfTrial]]:
        """The trials, reference first, of blocks in which all came to a good end; those of one follow each other."""
        by_number: dict[int, dict[int, OfTrial]] = {}
        for trial in self.trials:
            if trial.well:
                by_number.setdefault(int(trial.summary["block"]), {})[trial.arm] = trial
        both = {n: (one.get(self.against or 0), one.get(self.arm)) for n, one in sorted(by_number.items())}
        pairs = {n: (a, b) for n, (a, b) in both.items() if a and b}
        whole = {
            n // self.each for n in pairs if all(n // self.each * self.each + k in pairs for k in range(self.each))
        }
        return [pair for n, pair in pairs.items() if n // self.each in whole]


def read_inspection(archive: Archive, head: RecordHead, run: Run) -> Kept:
    """Return what is kept of an inspection; raise UsageError where it is damaged."""
    counting = [one for one in head.runs if one.purpose == COUNTED and one.options.get("inspection") == run.number]
    workload, arm = inspected_place(head, run)
    trials, bare, counts, edits = [], dict[int, Pairs](), dict[int, list[Any]](), Edits()
    try:
        for number in (run.number, *(one.number for one in counting[-1:])):
            for whose, packet in archive.run_evidence(head.uuid, number):
                if packet.kind == STACKS:
                    trials.append(OfTrial(whose.arm, packet.summary, content_of(packet)))
                elif packet.kind == COUNTS:
                    counts.setdefault(whose.arm, []).append((packet.summary, content_of(packet)))
                elif packet.kind == UNWATCHED:
                    bare.setdefault(whose.arm, []).extend(content_of(packet))
                elif packet.kind == EDITS:
                    edits = content_of(packet)
    except ValueError as error:
        raise UsageError(f"{run_name(head, run)}: {error}") from None
    return Kept(head, run, workload, arm, inspected_against(head, run), trials, bare, counts, edits)


def newest_runs(archive: Archive, record: str | None, purpose: str) -> Iterator[tuple[RecordHead, Run]]:
    """Yield the runs of one purpose with their records, the newest first; of all records where none is named."""
    heads = [archive.head(record.partition("/")[0])] if record else reversed(archive.heads())
    for head in heads:
        for run in reversed(head.runs):
            if run.purpose == purpose:
                yield head, run


def kept_inspections(archive: Archive, record: str | None, choice: Choice, number: int | None = None) -> list[Kept]:
    """Return the inspection that is meant; of two states, with the others that were made together with it.

    Parameters
    ----------
    record : str or None
        A record, which means its newest finished inspection, or an inspection by its name, such as tides-3/inspected-2;
        None for the newest record that has one.
    number : int, optional
        Of the inspection's run in that record.

    Raises
    ------
    UsageError
        When there is no such inspection.
    """
    name, _, run = (record or "").partition("/")
    heads = [archive.head(name)] if name else _newest_first(archive)
    found = [(head, one) for head in heads for one in reversed(_runs(head, choice, run, number))]
    for head, one in found:
        kept = read_inspection(archive, head, one)
        if kept.trials or kept.counts:
            if run or number is not None or choice.arm is not None:
                return [kept]
            return _together(archive, kept, choice)
    if not found:
        raise UsageError(_nothing(heads[0], choice, run))
    raise UsageError(f"{run_name(*found[0])} ended before anything was seen; inspect it again")


def _together(archive: Archive, kept: Kept, choice: Choice) -> list[Kept]:
    """Return an inspection with those that one command made with it, in their order."""
    together = kept.run.options.get("together")
    if kept.against is None or not together:
        return [kept]
    same = [one for one in _runs(kept.head, choice, "", None) if one.options.get("together") == together]
    others = [kept if one.number == kept.run.number else read_inspection(archive, kept.head, one) for one in same]
    return sorted((one for one in others if one.pairs), key=lambda one: one.run.number) or [kept]


def _newest_first(kept: Archive) -> list[RecordHead]:
    """Return the records that have inspections, the newest of these first, and finished ones before all others."""

    def key(head: RecordHead) -> tuple[bool, float]:
        runs = inspections(head)
        return any(run.state != State.RUNNING for run in runs), max(run.began_wall_s or 0 for run in runs)

    inspected = sorted((head for head in kept.heads() if inspections(head)), key=key, reverse=True)
    return inspected or [kept.head(None)]


def _runs(head: RecordHead, choice: Choice, run: str, number: int | None) -> list[Run]:
    """Return the inspections that are meant, the oldest first; unfinished ones before all others."""
    found = inspections(head)
    if number is not None:
        return [one for one in found if one.number == number]
    if run:
        return [one for one in found if run_name(head, one).partition("/")[2] == run]
    study = head.study
    if choice.only:
        names = chosen_names(study.workloads, list(choice.only), f"record {head.name}")
        found = [one for one in found if study.workloads[inspected_place(head, one)[0]].name in names]
    if choice.arm is not None:
        arms = [arm.name for arm in study.arms]
        found = [one for one in found if choice.arm in _arms(head, one, arms)]
    return sorted(found, key=lambda one: (one.state != State.RUNNING, one.number))


def _arms(head: RecordHead, run: Run, names: Sequence[str]) -> list[str]:
    against = inspected_against(head, run)
    return [names[arm] for arm in (inspected_place(head, run)[1], against) if arm is not None]


def _nothing(head: RecordHead, choice: Choice, run: str) -> str:
    there = [run_name(head, one) for one in inspections(head)]
    if not there:
        makes = f"bystander inspect {head.name} --only WORKLOAD makes one"
        return f"record {head.name} has no inspection yet; {makes}"
    options = [*(f"--only {word}" for word in choice.only), *([f"--arm {choice.arm}"] if choice.arm else [])]
    return f"record {head.name} has no inspection {run or ' '.join(options)}; it has {listed(there, 6)}"
