"""The measures of a trial: names, units and which side is better."""

from __future__ import annotations

from dataclasses import dataclass

_AMOUNTS = {"waiting", "run_queue_delay"}  # times of which there is more or less

__all__ = ["MEASURES", "OBSERVED", "Measure", "measure_named"]


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
    def words(self) -> tuple[str, str]:
        """The verdicts for an increase and a decrease."""
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
