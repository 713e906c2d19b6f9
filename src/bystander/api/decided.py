"""Records, decided, and what came of it as a file holds it."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from bystander.api.records import Record
from bystander.design import Given
from bystander.errors import UsageError
from bystander.exchange import verdicts_json
from bystander.flow.commands.decide import decided
from bystander.flow.commands.report import FORMATS, Asked, refuse_picture
from bystander.verdicts import Decision as _Decision
from bystander.verdicts import (
    GateFinding,
    Options,
    Scale,
    outcome_sentence,
    row_sentence,
)
from bystander.verdicts import Row as _Row
from bystander.verdicts import decide as _decide

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Decision", "Row", "decide", "render"]


@dataclass(frozen=True)
class Row:
    """A workload under a candidate against a reference, by one measure.

    Attributes
    ----------
    primary : bool
        Whether the measure is the one that was decided.
    verdict : str
        "slower", "faster", "more", "less", "lower", "higher", "same", "unclear" or "failed".
    ratio : float
        Candidate over reference, the pseudo-median of blocks; NaN where it is not known, or told as a difference.
    difference : float
        In the measure's unit, where ratios make no sense (counts, shares); else NaN.
    low, high : float
        The interval of whichever of the two is told; infinite where it has no bound.
    confidence : float
        Its level.
    p, p_adjusted : float
        Over all looks; and over the family of rows. NaN where nothing was tested.
    reference_median, candidate_median : float
        In the measure's unit.
    blocks : int
        That count; 0 without pairing.
    accepted : bool
        Whether somebody accepted the change, and that holds.
    sentence : str
        The row in words.
    notes : dict
        What else is to be known: sentences by their codes.
    """

    workload: str
    arm: str
    against: str
    measure: str
    unit: str
    primary: bool
    verdict: str
    ratio: float
    difference: float
    low: float
    high: float
    confidence: float
    p: float
    p_adjusted: float
    reference_median: float
    candidate_median: float
    blocks: int
    accepted: bool
    sentence: str
    notes: dict[str, str]


@dataclass(frozen=True)
class Decision:
    """A record, decided.

    Attributes
    ----------
    outcome : str
        In one sentence.
    rows : tuple of Row
        The worst first; those of the measure that was decided, then those of all others.
    gate_found : tuple of (str, str)
        What a gate looks for and found: the word, and of what. Empty without a gate.
    gate_untold : tuple of str
        What a gate was asked and could not be told, a sentence each.
    """

    record: Record
    outcome: str
    rows: tuple[Row, ...]
    gate_found: tuple[tuple[str, str], ...]
    gate_untold: tuple[str, ...]
    _decision: _Decision
    _finding: GateFinding | None

    def frame(self) -> pd.DataFrame:
        """Return all rows as a pandas frame; columns are the attributes of `Row`, but for notes."""
        import pandas as pd

        names = [name for name in Row.__dataclass_fields__ if name != "notes"]
        return pd.DataFrame([[getattr(row, name) for name in names] for row in self.rows], columns=names)

    def json(self) -> str:
        """Return the document whose schema is docs/verdicts.schema.json."""
        return verdicts_json(self._decision, self._finding)


def decide(
    record: Record,
    *,
    measure: str | None = None,
    margin: float | None = None,
    risk: float | None = None,
    arm: str | None = None,
    only: Sequence[str] = (),
    gate: str | None = None,
) -> Decision:
    """Decide a record as its study says; what is chosen otherwise makes it an exploration, whose risk is not held.

    Parameters
    ----------
    measure, margin, risk : optional
        Instead of the study's.
    arm : str, optional
        Show this candidate only.
    only : sequence of str
        Show workloads of these names or patterns only.
    gate : str, optional
        Words as `--gate` takes them, "slower,failed" for example; "study" is what the study says.

    Raises
    ------
    BystanderError
        When the record does not have what is named, or a gate is asked of an exploration, or of an exported record.
    """
    options = Options(measure, margin, risk, arm, tuple(only))
    finding = None
    if record._archive is not None:
        given = Given(archive=str(record._archive))
        found, finding = decided(record._archive, record.uuid, options, gate, given=given)
    elif gate is not None:
        raise UsageError("a gate is asked of a record in an archive; import the exported one first")
    else:
        found = _decide(record._record, options)
    return Decision(
        record, outcome_sentence(found), tuple(map(_row, found.rows)), finding.found if finding else (),
        finding.untold if finding else (), found, finding,
    )  # fmt: skip


def render(decision: Decision, suffix: str, picture: str | None = None) -> str | bytes:
    """Return what `bystander report --to FILE` writes into a file of that suffix.

    Parameters
    ----------
    suffix : str
        ".html", ".md", ".json", ".csv", ".xml" and ".openmetrics" give text; ".svg", ".png" and ".pdf" give bytes.
    picture : str, optional
        What a picture shows: "forest" (by default), "distribution" or "blocks".

    Raises
    ------
    BystanderError
        When there is no such format or picture, or no row that it could show.
    """
    if suffix not in FORMATS:
        raise UsageError(f'"{suffix}" is no format; there are {", ".join(FORMATS)}')
    kind = refuse_picture(picture, [Path(f"x{suffix}")])
    return FORMATS[suffix](Asked(decision._decision, decision._finding, decision.record._archive, kind))


def _row(row: _Row) -> Row:
    ratio = row.scale == Scale.RATIO
    return Row(
        row.workload, row.arm, row.against, row.measure.name, row.measure.unit, row.primary, str(row.verdict),
        row.estimate if ratio else math.nan, math.nan if ratio else row.estimate, row.low, row.high, row.confidence,
        row.p, row.p_adjusted, row.reference.median, row.candidate.median, row.blocks, row.accepted,
        row_sentence(row), {note.code: note.text for note in row.notes},
    )  # fmt: skip
