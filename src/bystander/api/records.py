"""Studies and records, read."""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from bystander.archive import Archive
from bystander.design import Record as _Record
from bystander.design import Study as _Study
from bystander.errors import UsageError
from bystander.exchange import read_record_json, readings_frame
from bystander.files import read_at_most
from bystander.flow.places import find_archive, load_study
from bystander.flow.records.imports import MOST_IMPORTED
from bystander.units import size_text

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Record", "Study", "found_archive", "read_record", "read_record_file", "read_study", "record_names"]


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
    with Archive(found_archive(archive)) as kept:
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
    found = found_archive(archive)
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


def found_archive(archive: str | Path | None) -> Path:
    """Return the archive that is meant; see `read_record`."""
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
