"""The measures of a trial: names, units and which side is better."""

from __future__ import annotations

from dataclasses import dataclass

_AMOUNTS = {"waiting", "run_queue_delay"}  # times of which there is more or less

__all__ = [
    "ABOVE_FLOOR",
    "APART",
    "IN_MEMORY",
    "MARKS_COST",
    "MEASURES",
    "OBSERVED",
    "TOLD",
    "UNMARKED",
    "UNTIL_OUTPUT",
    "UNTIL_READY",
    "Measure",
    "is_told",
    "measure_named",
    "told_measure",
]

MARKS_COST = "marks_cost"
UNMARKED = "unmarked"
IN_MEMORY, ABOVE_FLOOR = "files_in_memory", "above_floor"
UNTIL_READY, UNTIL_OUTPUT = "until_ready", "until_output"
# What the program of a trial tells of itself: kinds of measures, each followed by ":" and a name.
TOLD = ("phase", "phase-alone", "reading", "items", "interval")
APART = "answers_apart"
_OF_TRIALS = {
    UNTIL_READY: ("time until ready", "s", "less"), UNTIL_OUTPUT: ("time until the first output", "s", "less"),
    APART: ("how far the answers are apart", "", ""),
}  # fmt: skip
_PARTS_OF_INTERVALS = {
    "median": ("median", "s"), "p90": ("90th percentile", "s"), "p95": ("95th percentile", "s"),
    "p99": ("99th percentile", "s"), "longest": ("longest", "s"), "missed": ("share too late", "share"),
    "count": ("how many", ""), "deadline": ("deadline", "s"),
}  # fmt: skip
_OF_WORK = ("count", "deadline")


@dataclass(frozen=True)
class Measure:
    """A quantity of a trial.

    Attributes
    ----------
    unit : str
        "s", "B", or "" for a count.
    better : str
        "less", "more", or "" where neither side is.
    decided : bool
        Whether it takes part in verdicts unless it is asked for by name.
    floor : str or None
        Another reading of the trial at or below which this one says nothing.
    """

    name: str
    label: str
    unit: str
    better: str = "less"
    decided: bool = True
    floor: str | None = None

    @property
    def is_phase(self) -> bool:
        """Whether it is the time of a phase."""
        return self.name.startswith(("phase:", "phase-alone:"))

    @property
    def is_work(self) -> bool:
        """Whether it says how much work was done, which must be the same in all arms."""
        kind, _, rest = self.name.partition(":")
        return kind == "items" or (kind == "interval" and rest.rpartition(":")[2] in _OF_WORK)

    @property
    def words(self) -> tuple[str, str]:
        """The verdicts for an increase and a decrease."""
        if self.better == "more":
            return "higher", "lower"
        quickness = self.unit == "s" and self.name not in _AMOUNTS
        return ("slower", "faster") if quickness else ("more", "less")


OBSERVED = (
    Measure("elapsed", "elapsed time", "s"),
    Measure("cpu", "CPU time", "s"),
    # The kernel samples the split by ticks of a few milliseconds: kept, but no evidence on short trials.
    Measure("user_cpu", "CPU time in user mode", "s", decided=False),
    Measure("system_cpu", "CPU time in the kernel", "s", decided=False),
    Measure("waiting", "time without CPU", "s"),
    # What other programs did to this trial: kept for judging the machine, not a property of the arm.
    # Kept for studies that choose it before: it would say much the same as elapsed time beside it.
    Measure("unqueued", "elapsed time less run queue", "s", decided=False),
    # Of a callable: the tail within a trial becomes one number a trial, so that trials stay the unit.
    Measure("slow_samples", "slow samples (95th percentile)", "s"),
    Measure("run_queue_delay", "time in the run queue", "s", decided=False),
    Measure("peak_memory", "peak memory", "B", floor="peak_memory_floor"),
    Measure("peak_memory_floor", "least peak memory that can be seen", "B", better="", decided=False),
    Measure("minor_faults", "page faults (memory)", ""),
    Measure("major_faults", "page faults (disk)", ""),
    Measure("voluntary_switches", "switches while waiting", ""),
    Measure("involuntary_switches", "switches by the scheduler", "", decided=False),
)
MEASURES = {measure.name: measure for measure in OBSERVED}


def measure_named(name: str, unit: str = "") -> Measure:
    """Return the measure of that name; one that is not known is made with the unit given."""
    return MEASURES.get(name) or Measure(name, name.replace("_", " "), unit, better="less" if unit == "s" else "")


def is_told(name: str) -> bool:
    """Whether a measure of that name comes from the program itself."""
    kind, colon, rest = name.partition(":")
    if kind == "interval" and rest.rpartition(":")[2] not in _PARTS_OF_INTERVALS:
        return False
    return name == UNMARKED or name in _OF_TRIALS or bool(colon and rest and kind in TOLD)


def told_measure(name: str, unit: str = "s", better: str = "less") -> Measure:
    """Return the measure of something that a program told; see `TOLD`.

    Parameters
    ----------
    name : str
        "phase:parse", "phase-alone:parse", "reading:rows", "items:telegrams", "interval:answer:p95", `UNMARKED` or
        `MARKS_COST`.
    """
    kind, _, rest = name.partition(":")
    if name == UNMARKED:
        return Measure(name, "time in no phase", "s")
    if name in _OF_TRIALS:
        return Measure(name, *_OF_TRIALS[name], decided=name != APART)
    if name == MARKS_COST:
        return Measure(name, "cost of marks", "s", better="", decided=False)
    if kind == "phase":
        return Measure(name, f"phase {rest}", "s")
    if kind == "phase-alone":
        return Measure(name, f"phase {rest} alone", "s")
    if kind == "items":
        return Measure(name, f"items: {rest}", "", better="", decided=False)
    if kind == "interval":
        interval, _, part = rest.rpartition(":")
        label, unit = _PARTS_OF_INTERVALS[part]
        better, decided = ("", False) if part in _OF_WORK else ("less", True)
        return Measure(name, f"{interval}: {label}", unit, better, decided)
    return Measure(name, rest, unit, better)
