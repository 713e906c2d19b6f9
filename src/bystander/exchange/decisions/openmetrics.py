"""A decision as OpenMetrics text (version 1.0.0), for systems that keep and draw numbers over time."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field

from bystander.units import plain_text
from bystander.verdicts import CeilingVerdict, Decision, GateFinding, Row, Scale, Verdict

__all__ = ["openmetrics_text"]

Labels = Mapping[str, str]
_ENDS = (("", "", "ratio"), ("_low", ", the lower end", "low"), ("_high", ", the upper end", "high"))
_ESCAPED = str.maketrans({"\\": r"\\", "\n": r"\n", '"': r"\""})


@dataclass
class _Family:
    """One metric with all its samples."""

    name: str
    kind: str
    help: str
    samples: list[tuple[Labels, float]] = field(default_factory=list)

    def add(self, value: float, **labels: str) -> None:
        self.samples.append((labels, value))

    def add_state(self, states: Iterable[str], now: str, **labels: str) -> None:
        """Add one sample for each of the states, of which one is."""
        for state in states:
            self.samples.append(({**labels, self.name: state}, float(state == now)))

    def lines(self) -> Iterator[str]:
        yield f"# TYPE {self.name} {self.kind}"
        yield f"# HELP {self.name} {self.help.translate(_ESCAPED)}"
        suffix = "_info" if self.kind == "info" else ""
        for labels, value in self.samples:
            said = ",".join(f'{key}="{plain_text(text).translate(_ESCAPED)}"' for key, text in labels.items())
            yield f"{self.name}{suffix}{{{said}}} {_number(value)}"


def openmetrics_text(decision: Decision, gate: GateFinding | None = None) -> str:
    """Return the text: changes with intervals, verdicts, medians and trials of each row; the whole load; ceilings."""
    families = [*_of_record(decision, gate), *_of_rows(decision), *_of_wholes(decision), *_of_ceilings(decision)]
    lines = [line for family in families if family.samples for line in family.lines()]
    return "\n".join([*lines, "# EOF"]) + "\n"


def _of_record(decision: Decision, gate: GateFinding | None) -> Iterator[_Family]:
    head = decision.head
    record = _Family("bystander_record", "info", "The record that was decided.")
    record.add(1, record=head.name, uuid=head.uuid, study=head.study.name, version=head.version)
    yield record
    begun = _Family("bystander_begun_timestamp_seconds", "gauge", "When the record was begun, in seconds since 1970.")
    begun.add(head.started_wall_s, study=head.study.name)
    yield begun
    complete = _Family("bystander_complete", "gauge", "Whether the record is complete: 1, or 0.")
    complete.add(float(head.complete), study=head.study.name)
    yield complete
    if gate:
        found = _Family("bystander_gate_found", "gauge", "How often the gate found each word that it looked for.")
        for word in gate.ask.words:
            found.add(sum(one == word for one, _ in gate.found), study=head.study.name, word=word)
        yield found
        untold = _Family("bystander_gate_not_told", "gauge", "How much was asked of the gate and could not be told.")
        untold.add(len(gate.untold), study=head.study.name)
        yield untold


def _labels(decision: Decision, row: Row) -> dict[str, str]:
    return {
        "study": decision.head.study.name, "workload": row.workload, "arm": row.arm, "against": row.against,
        "measure": row.measure.name,
    }  # fmt: skip


def _of_rows(decision: Decision) -> Iterator[_Family]:
    scale = "candidate over reference for ratios, candidate less reference for differences, by the label scale"
    change = _Family("bystander_change", "gauge", f"The estimate of a change: {scale}.")
    low = _Family("bystander_change_low", "gauge", "The lower end of its interval.")
    high = _Family("bystander_change_high", "gauge", "The upper end of its interval.")
    verdict = _Family("bystander_verdict", "stateset", "What is said of a row.")
    middle = _Family("bystander_median", "gauge", "The median of an arm's good trials, in the label unit.")
    least = _Family("bystander_least", "gauge", "The least of an arm's good trials; nothing is tested on it.")
    greatest = _Family("bystander_greatest", "gauge", "The greatest of an arm's good trials; nothing is tested on it.")
    trials = _Family("bystander_trials", "gauge", "Trials of an arm that count.")
    failed = _Family("bystander_failed_trials", "gauge", "Trials of an arm that failed.")
    for row in decision.rows:
        labels = _labels(decision, row)
        ratio = row.scale == Scale.RATIO
        ends = row.low if not ratio or row.low > 0 else math.nan, row.high
        for family, value in ((change, row.estimate), (low, ends[0]), (high, ends[1])):
            family.add(value, **labels, scale=row.scale)
        if row.primary:
            verdict.add_state(Verdict, row.verdict, **labels)
        for arm, side in ((row.against, row.reference), (row.arm, row.candidate)):
            mine = {**labels, "of": arm}
            middle.add(side.median, **mine, unit=row.measure.unit)
            if row.primary:
                least.add(side.least, **mine, unit=row.measure.unit)
                greatest.add(side.greatest, **mine, unit=row.measure.unit)
                trials.add(side.trials, **mine)
                failed.add(side.failed, **mine)
    yield from (change, low, high, verdict, middle, least, greatest, trials, failed)


def _of_wholes(decision: Decision) -> Iterator[_Family]:
    for name, what, wholes in (
        ("bystander_load", "the whole load", decision.loads),
        ("bystander_geometric_mean", "the geometric mean of all workloads", decision.means),
    ):
        for suffix, which, of in _ENDS:
            family = _Family(f"{name}{suffix}", "gauge", f"Candidate over reference, {what}{which}.")
            for whole in wholes:
                labels = {"study": decision.head.study.name, "arm": whole.arm, "against": whole.against}
                family.add(getattr(whole, of), **labels)
            yield family


def _of_ceilings(decision: Decision) -> Iterator[_Family]:
    verdict = _Family("bystander_ceiling", "stateset", "Whether a ceiling holds.")
    beyond = _Family("bystander_beyond_ceiling", "gauge", "Trials beyond a ceiling, failed ones included.")
    for row in decision.ceilings:
        labels = {
            "study": decision.head.study.name, "workload": row.workload, "arm": row.arm, "measure": row.measure.name,
            "limit": f"{row.ceiling.limit:g}", "share": f"{row.ceiling.share:g}",
        }  # fmt: skip
        verdict.add_state(CeilingVerdict, row.verdict, **labels)
        beyond.add(row.beyond, **labels)
    yield from (verdict, beyond)


def _number(value: float) -> str:
    if math.isnan(value):
        return "NaN"
    if math.isinf(value):
        return "+Inf" if value > 0 else "-Inf"
    return repr(float(value)) if value != int(value) else str(int(value))
