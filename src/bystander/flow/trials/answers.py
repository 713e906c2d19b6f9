"""What a trial answered, so that equal answers are equal: parts masked, lines sorted, numbers within a tolerance."""

from __future__ import annotations

import hashlib
import math
import re
import shutil
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from bystander.design import AnswerRule, Study, workload_key
from bystander.field import LeftError, ReadyCommand, read_left
from bystander.files import write_whole
from bystander.flow.trials.collected import printed_number

__all__ = ["Answers", "Comparison", "Stamp", "canonical", "within_tolerance"]

Stamp = tuple[int, int, int]  # inode, size, time of the last change in ns

_NUMBER = re.compile(r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?")
_MASKED = "***"
_MOST_KEPT = 256 * 2**20  # bytes


def canonical(text: str, rule: AnswerRule) -> str:
    """Return an answer as it is compared: masked parts replaced, lines sorted where any order will do."""
    for pattern in rule.mask:
        text = re.sub(pattern, _MASKED, text, flags=re.MULTILINE)
    if rule.any_order:
        text = "\n".join(sorted(text.splitlines()))
    return text


def within_tolerance(first: str, second: str, tolerance: float) -> bool:
    """Whether two texts are the same but for numbers that differ by at most that share of the larger one."""
    if _NUMBER.sub("0", first) != _NUMBER.sub("0", second):
        return False
    pairs = zip(_NUMBER.findall(first), _NUMBER.findall(second), strict=True)
    return all(a == b or math.isclose(float(a), float(b), rel_tol=tolerance) for a, b in pairs)


def _lines(data: bytes) -> str:
    """Return text with line ends of one kind; bytes that are no letters stay what they are."""
    text = data.decode("utf-8", "surrogateescape")
    return text.replace("\r\n", "\n").replace("\r", "\n")


@dataclass(frozen=True)
class Comparison:
    """What a program said of two answers.

    Attributes
    ----------
    same : bool
    apart : float
        The last number that it printed; NaN where it printed none.
    """

    same: bool
    apart: float = math.nan

    @classmethod
    def of(cls, same: bool, printed: str) -> Comparison:
        """Return a comparison with the number in what was printed."""
        numbers = _NUMBER.findall(printed)
        return cls(same, printed_number(numbers[-1]) if numbers else math.nan)


Compare = Callable[[Path, Path], Comparison]


class Answers:
    """Gives trials the digests of their answers, by the rules of a study.

    Parameters
    ----------
    keep : Path
        A folder for the first answer of each kind: with a tolerance later ones are compared with it, also
        after a resumption.
    """

    def __init__(self, study: Study, keep: Path) -> None:
        self._study = study
        self._keep = keep
        self._kinds: dict[int, dict[str, str]] = {}
        self._emptied: set[int] = set()
        self._compared: dict[tuple[int, str], tuple[str, float]] = {}

    def plain(self, workload: int) -> bool:
        """Whether what a workload prints is compared to the last byte."""
        return self._study.workloads[workload].answer_rule.plain

    def file(self, workload: int) -> str:
        """Return the file of a workload's answer, "" for what it prints."""
        return self._study.workloads[workload].answer_rule.file

    def stamp(self, workload: int, folder: str) -> Stamp | None:
        """Return what tells whether the file of a workload's answer was written since; None when there is none."""
        name = self.file(workload)
        try:
            found = Path(folder, name).lstat() if name else None
        except OSError:
            return None
        return (found.st_ino, found.st_size, found.st_mtime_ns) if found else None

    def read(self, workload: int, output: Path, command: ReadyCommand) -> str | None:
        """Return a trial's answer as it is compared, None when its file is not there.

        Parameters
        ----------
        output : Path
            What it printed.

        Raises
        ------
        LeftError
            When the file of its answer is none, or larger than it may print.
        """
        data = self.data(workload, output, command)
        return None if data is None else canonical(_lines(data), self._study.workloads[workload].answer_rule)

    def data(self, workload: int, output: Path, command: ReadyCommand) -> bytes | None:
        """Return a trial's answer as it is, None when its file is not there; raises as `read`."""
        rule = self._study.workloads[workload].answer_rule
        source = Path(command.folder, rule.file) if rule.file else output
        what = f"the file of its answer, {rule.file}," if rule.file else "the file of its output"
        return read_left(source, command.output_bytes, what)

    def digest(self, workload: int, text: str) -> str:
        """Return what stands for an answer: its digest, or that of the first one like it within the tolerance."""
        digest = hashlib.sha256(text.encode("utf-8", "surrogateescape")).hexdigest()[:24]
        tolerance = self._study.workloads[workload].answer_rule.tolerance
        if not tolerance:
            return digest
        kinds = self._known(workload)
        for known, first in kinds.items():
            if known == digest or within_tolerance(first, text, tolerance):
                return known
        kinds[digest] = text
        folder = self._folder(workload)
        folder.mkdir(parents=True, exist_ok=True)
        write_whole(folder / digest, text)
        return digest

    def compared(self, workload: int, data: bytes, compare: Compare) -> tuple[str, float]:
        """Return what stands for an answer that a program compares, and how far it is from the first one.

        An answer that was seen before is not compared once more. The first one is held against itself.

        Raises
        ------
        LeftError
            When the program says that an answer differs from itself.
        """
        digest = hashlib.sha256(data).hexdigest()[:24]
        known = self._compared.get((workload, digest))
        if known is None:
            known = self._compared[workload, digest] = self._compare(workload, digest, data, compare)
        return known

    def _compare(self, workload: int, digest: str, data: bytes, compare: Compare) -> tuple[str, float]:
        folder = self._folder(workload)
        folder.mkdir(parents=True, exist_ok=True)
        candidate = folder.with_name(f"{folder.name}.candidate")
        write_whole(candidate, data)
        first = math.nan
        try:
            firsts = _by_time(folder) or [candidate]
            for number, reference in enumerate(firsts):
                said = compare(reference, candidate)
                first = said.apart if number == 0 else first
                if said.same:
                    if reference == candidate:
                        break
                    return reference.name, first
            else:
                if firsts == [candidate]:
                    raise LeftError("the program of answer.compare says that an answer differs from itself")
            candidate.replace(folder / digest)
            return digest, first
        finally:
            candidate.unlink(missing_ok=True)

    def _folder(self, workload: int) -> Path:
        """Return where the answers of a workload are kept; those that a program compares are of one record."""
        key = workload_key(self._study.workloads[workload])
        if not self._study.workloads[workload].answer_rule.compare:
            return self._keep / key
        folder = self._keep / f"{key}-{'check' if self._study.seed is None else f'{self._study.seed:x}'}"
        if self._study.seed is None and workload not in self._emptied:
            shutil.rmtree(folder, ignore_errors=True)
        self._emptied.add(workload)
        return folder

    def _known(self, workload: int) -> dict[str, str]:
        if workload not in self._kinds:
            folder = self._folder(workload)
            self._kinds[workload] = {file.name: text for file in _by_time(folder) if (text := _kept(file)) is not None}
        return self._kinds[workload]


def _by_time(folder: Path) -> list[Path]:
    """Return the answers that are kept, the first one first."""
    return sorted(folder.iterdir(), key=lambda file: file.stat().st_mtime_ns) if folder.is_dir() else []


def _kept(file: Path) -> str | None:
    """Return an answer that was kept, None where something else lies there: a trial can write there too."""
    try:
        data = read_left(file, _MOST_KEPT, "an answer that is kept")
    except LeftError:
        return None
    return None if data is None else data.decode("utf-8", "surrogateescape")
