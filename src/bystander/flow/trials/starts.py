"""Starts from disk and from memory: files are put where they should be, and it is measured where they are."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from bystander.design import IN_MEMORY, Measure, Start, Status, Study, TrialOutcome
from bystander.errors import StudyError, UsageError
from bystander.field import ReadyCommand, page_cache
from bystander.units import share_text, size_text

__all__ = ["Starts"]

_MEASURE = Measure(IN_MEMORY, "files in memory before", "share", better="", decided=False)


@dataclass
class _Files:
    """The files of a workload under an arm; while `candidates` is not empty it is not known yet which are read."""

    known: Sequence[Path] = ()
    candidates: Sequence[Path] = ()
    before: float = math.nan


class Starts:
    """Puts the files of workloads that start from disk or from memory there, before each trial.

    Which files a start reads is listed in the study, or found at the first trial: all candidates are put out of
    memory, and those that came back were read.
    """

    def __init__(self, study: Study) -> None:
        if study.drop_caches and not any(workload.start == Start.FROM_DISK for workload in study.workloads):
            raise UsageError(f'--drop-caches: no workload of {study.name} has start = "{Start.FROM_DISK}"')
        self._study = study
        self._files: dict[tuple[int, int], _Files] = {}

    def before(self, workload: int, arm: int, command: ReadyCommand) -> None:
        """Put a workload's files where its start is from.

        Raises
        ------
        StudyError
            When the study lists files and none of them is there.
        UsageError
            When the whole machine's memory is to be emptied and may not be.
        """
        start = Start(self._study.workloads[workload].start)
        if not start.places_files:
            return
        files = self._files.get((workload, arm)) or self._first(workload, arm, command)
        if files.candidates:  # those that are back after the trial were read
            page_cache.evict(files.candidates)
        elif start == Start.FROM_MEMORY:
            page_cache.load(files.known)
        else:
            page_cache.evict(files.known)
        if start == Start.FROM_DISK and self._study.drop_caches:
            page_cache.drop_everything()
        files.before = page_cache.resident_share(files.known)

    def after(self, workload: int, arm: int, outcome: TrialOutcome) -> TrialOutcome:
        """Return a trial with the share of its files that was in memory before; after the first, find the files."""
        files = self._files.get((workload, arm))
        if files is None:
            return outcome
        if files.candidates and outcome.status is Status.OK:
            files.known = [path for path in files.candidates if page_cache.resident(path)[0]]
            files.candidates = ()
        elif not math.isnan(files.before):
            readings, measures = (
                {**outcome.readings, IN_MEMORY: files.before},
                {**outcome.measures, IN_MEMORY: _MEASURE},
            )
            return replace(outcome, readings=readings, measures=measures)
        return outcome

    def _first(self, workload: int, arm: int, command: ReadyCommand) -> _Files:
        patterns, folder = self._study.workloads[workload].files, Path(command.folder)
        if patterns:
            known = sorted({path for pattern in patterns for path in _matching(folder, pattern) if path.is_file()})
            if not known:
                key = f"workloads.{self._study.workloads[workload].base}.files"
                raise StudyError([f"{key}: no file under arm {self._study.arms[arm].name} matches (in {folder})"])
            files = _Files(known)
        else:
            files = _Files(candidates=page_cache.candidates(folder, Path(command.path)))
        self._files[workload, arm] = files
        return files

    def sentences(self) -> list[str]:
        """Say which files the starts read, and how many of them cannot be put out of memory."""
        sentences = []
        for (workload, arm), files in self._files.items():
            name, start = self._study.workloads[workload].name, self._study.workloads[workload].start
            if arm != self._study.reference_at or not files.known:
                continue
            size = sum(path.stat().st_size for path in files.known if path.exists())
            text = f"{name} starts {start.replace('-', ' ')}: it reads {len(files.known)} files, {size_text(size)}"
            if start == Start.FROM_DISK:
                page_cache.evict(files.known)
                left = page_cache.resident_share(files.known)
                text += f"; put out of memory, {share_text(left)} of them stays there" if left == left else ""
            sentences.append(text + ".")
        return sentences


def _matching(folder: Path, pattern: str) -> Iterator[Path]:
    """Return files of a pattern: relative to the folder, or anywhere when it begins with a slash."""
    if pattern.startswith("/"):
        return Path("/").glob(pattern.lstrip("/"))
    return folder.glob(pattern)
