"""Bystander as a library: read a study or a record, decide it, and write what came of it.

Nothing here runs a workload or writes an archive. From version 0.1 on, names in `__all__`, their arguments and the
columns of frames stay; new ones may come. Errors are `BystanderError`: a sentence each, as the program says it.

>>> from bystander import api
>>> record = api.read_record("harbour-office-1")
>>> decision = api.decide(record)
>>> [row.workload for row in decision.rows if row.verdict == "slower"]
"""

from __future__ import annotations

import math
import os
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from bystander.archive import Archive
from bystander.design import Given
from bystander.design import Record as _Record
from bystander.design import Study as _Study
from bystander.errors import BystanderError, UsageError
from bystander.exchange import read_record_json, readings_frame, verdicts_json
from bystander.files import read_at_most
from bystander.flow.commands.decide import decided
from bystander.flow.commands.report import FORMATS, Asked, refuse_picture
from bystander.flow.places import find_archive, load_study
from bystander.flow.records.imports import MOST_IMPORTED
from bystander.units import size_text
from bystander.verdicts import Decision as _Decision
from bystander.verdicts import GateFinding, Options, Scale, outcome_sentence, row_sentence
from bystander.verdicts import Row as _Row
from bystander.verdicts import decide as _decide

if TYPE_CHECKING:
    import pandas as pd

__all__ = [
    "BystanderError",
    "Decision",
    "Record",
    "Row",
    "Study",
    "decide",
    "read_record",
    "read_record_file",
    "read_study",
    "record_names",
    "render",
]


@dataclass(frozen=True)
class Study:
    """What is compared, and by what rule.

    Attributes
    ----------
    arms, workloads : tuple of str
        Their names; the first arm is the reference.
    measure : str
        What is decided, "elapsed" unless the study says otherwise.
    margin, risk : float
        The smallest relative change that matters, and the share of false rows allowed among those shown as changed.
    blocks : int
        The most blocks of any workload.
    weights : dict
        How often workloads run in real life, by name, as far as the study says it.
    """

    name: str
    arms: tuple[str, ...]
    workloads: tuple[str, ...]
    measure: str
    margin: float
    risk: float
    blocks: int
    weights: dict[str, float]


@dataclass(frozen=True)
class Record:
    """A record that was read.

    Attributes
    ----------
    name, uuid : str
    started_s : float
        When it was begun, in seconds since 1970.
    complete : bool
        Whether every planned trial ended.
    measures : dict
        The unit of each measure by its name: "s", "B", "share", or "" for counts.
    trials : int
        How many ended, failed ones included.
    """

    name: str
    uuid: str
    started_s: float
    complete: bool
    study: Study
    measures: dict[str, str]
    trials: int
    _record: _Record
    _archive: Path | None

    def readings(self) -> pd.DataFrame:
        """Return all readings, a row each, in SI units.

        Columns: workload, arm, block, order, measure, value, unit, status, sample, start, machine. A trial without
        any reading has one row whose value is NaN. `attrs["units"]` gives the unit of each measure.
        """
        return readings_frame(self._record)


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


def read_study(path: str | Path = "bystander.toml") -> Study:
    """Return a study; nothing is run.

    Raises
    ------
    BystanderError
        With every problem of the file.
    """
    study, _ = load_study(Path(path), Path.cwd())
    return _study(study)


def record_names(archive: str | Path | None = None) -> list[str]:
    """Return the names of an archive's records, the oldest first; the archive is found as by `read_record`."""
    with Archive(_found(archive)) as kept:
        return [head.name for head in kept.heads()]


def read_record(name: str | None = None, archive: str | Path | None = None) -> Record:
    """Return a record of an archive, the newest by default.

    Parameters
    ----------
    name : str, optional
        Its name, its UUID, or how that begins.
    archive : path, optional
        By default BYSTANDER_ARCHIVE, or the one in the current folder or above.

    Raises
    ------
    BystanderError
        When there is none, or it is damaged.
    """
    found = _found(archive)
    with Archive(found) as kept:
        return _of(kept.load(name), found)


def read_record_file(path: str | Path) -> Record:
    """Return a record that `bystander records export --to FILE.json` wrote; raises as `read_record`."""
    file = Path(path)
    try:
        data = read_at_most(file, MOST_IMPORTED)
        text = None if data is None else data.decode("utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise UsageError(f"{file}: it cannot be read: {error}") from None
    if text is None:
        raise UsageError(f"{file}: it is larger than {size_text(MOST_IMPORTED)}, and no record")
    return _of(read_record_json(text, file.name), None)


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


def _found(archive: str | Path | None) -> Path:
    return find_archive(None if archive is None else Path(archive), os.environ, Path.cwd())


def _study(study: _Study) -> Study:
    return Study(
        study.name, tuple(arm.name for arm in study.arms), tuple(one.name for one in study.workloads), study.measure,
        study.margin, study.risk, max(study.planned_blocks, default=study.blocks),
        {one.name: one.weight for one in study.workloads if one.weight is not None},
    )  # fmt: skip


def _of(record: _Record, archive: Path | None) -> Record:
    head = record.head
    return Record(
        head.name, head.uuid, head.started_wall_s, head.complete, _study(head.study),
        {measure.name: measure.unit for measure in head.measures}, len(record.trials), record, archive,
    )  # fmt: skip


def _row(row: _Row) -> Row:
    ratio = row.scale == Scale.RATIO
    return Row(
        row.workload, row.arm, row.against, row.measure.name, row.measure.unit, row.primary, str(row.verdict),
        row.estimate if ratio else math.nan, math.nan if ratio else row.estimate, row.low, row.high, row.confidence,
        row.p, row.p_adjusted, row.reference.median, row.candidate.median, row.blocks, row.accepted,
        row_sentence(row), {note.code: note.text for note in row.notes},
    )  # fmt: skip
