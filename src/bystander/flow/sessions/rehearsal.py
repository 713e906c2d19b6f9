"""Before anything is recorded each workload is tried once per arm, and what they answer is compared."""

from __future__ import annotations

import difflib
import threading
from collections.abc import Iterator, Sequence
from contextlib import contextmanager

from bystander.archive.writer import RecordWriter
from bystander.design import Run, Status, Study, TrialOutcome, Whose, Workload
from bystander.evidence import ANSWERS_KIND, packed
from bystander.flow.observer import Observer
from bystander.flow.trials.own_files import OwnFiles
from bystander.flow.trials.trial import TrialRunner
from bystander.foresight import AnswerDifference, Tried, require_measure

__all__ = ["keep_answers_apart", "rehearse"]

_COMPARED = 1 << 20  # characters
_GENERATORS = ("<generator object ", "<async_generator object ")  # as a result is written
_DIFF_LINES = 8


def rehearse(
    study: Study, trials: TrialRunner, observer: Observer, watched: OwnFiles | None = None
) -> tuple[tuple[Tried, ...], tuple[AnswerDifference, ...]]:
    """Try each workload once per arm, and compare answers where the study asks for it.

    Parameters
    ----------
    watched : OwnFiles, optional
        Tells what was opened outside an arm's own folder, whoever did it: only what a second try opens too counts.

    Raises
    ------
    StudyError
        When a program does not tell what the study decides on.
    OwnFilesError
        When an arm runs files that are not its own.
    """
    foreign: dict[int, set[str]] = {}
    tried, differences = [], []
    for w, workload in enumerate(study.workloads):
        answers: list[tuple[TrialOutcome, str]] = []
        for a, arm in enumerate(study.arms):
            texts: list[str] = []
            as_text = workload.answer in ("output", "file", "result") and not workload.answer_rule.compare
            keep = texts.append if as_text else None
            if watched:
                watched.opened(a)
            with _hint_while_waiting(workload, observer):
                outcome = trials.run(w, a, seen=keep)
            if watched and (seen := watched.opened(a)):
                trials.run(w, a)
                foreign.setdefault(a, set()).update(seen & watched.opened(a))
            observer.tried(workload.name, arm.name, outcome)
            if workload.answer == "result" and texts and texts[0].startswith(_GENERATORS):
                observer.remark(
                    f"{workload.name} returns a generator: nothing of it ran. Time a function that consumes it."
                )
            tried.append(Tried(w, a, outcome))
            answers.append((outcome, texts[0][:_COMPARED] if texts else outcome.answer))
        steady: dict[int, bool] = {}
        for comparison in study.all_comparisons if workload.answer else ():
            (one, first), (other, second) = (answers[a] for a in comparison.arms)
            if not _differ(one, other):
                continue
            for a in comparison.arms:  # once more: what differs by itself tells nothing of the other arm
                if a not in steady:
                    steady[a] = not _differ(answers[a][0], trials.run(w, a))
            if not all(steady[a] for a in comparison.arms):
                differences.append(AnswerDifference(w, comparison, (), varies=True))
            else:
                by_program = workload.answer_rule.compare
                told = ("as answer.compare says",) if by_program else _diff(first, second, *study.names(comparison))
                differences.append(AnswerDifference(w, comparison, told))
    for a, files in foreign.items():
        if watched and files:
            raise watched.refusal(a, files)
    require_measure(study, tried)
    return tuple(tried), tuple(differences)


_PATIENCE_S = 10.0


@contextmanager
def _hint_while_waiting(workload: Workload, observer: Observer) -> Iterator[None]:
    """Say why nothing may be seen of a line that is waited for, once that takes long."""
    if not workload.ready.pattern:
        yield
        return
    text = (
        f"{workload.name} printed nothing yet that {workload.ready.pattern} matches. Programs hold lines back while "
        "they write into a pipe: let it flush each line (python3 -u, stdbuf -oL)."
    )
    waiting = threading.Timer(_PATIENCE_S, observer.remark, (text,))
    waiting.daemon = True
    waiting.start()
    try:
        yield
    finally:
        waiting.cancel()


def keep_answers_apart(writer: RecordWriter, run: Run, study: Study, differences: Sequence[AnswerDifference]) -> None:
    """Keep where answers first part, for whoever reads the record: answers themselves are not kept."""
    found: dict[tuple[int, int], dict[str, tuple[str, ...]]] = {}
    for one in differences:
        if one.varies:
            continue
        apart = found.setdefault((one.workload, one.comparison.candidate), {})
        apart[study.arms[one.comparison.reference].name] = one.lines
    for (workload, arm), apart in found.items():
        packet = packed(ANSWERS_KIND, apart, {"lines": sum(map(len, apart.values()))})
        writer.evidence(Whose(run.number, workload, arm), [packet])


def _differ(reference: TrialOutcome, candidate: TrialOutcome) -> bool:
    both = reference.status is Status.OK and candidate.status is Status.OK
    return both and reference.answer != candidate.answer


def _diff(reference: str, candidate: str, reference_name: str, candidate_name: str) -> tuple[str, ...]:
    """Return the first differing lines, marked with the arms' names."""
    old, new = reference.splitlines(), candidate.splitlines()
    start = next(
        (i for i, pair in enumerate(zip(old, new, strict=False)) if pair[0] != pair[1]),
        min(len(old), len(new)),
    )
    window = slice(start, start + 200)
    lines = [
        f"{reference_name if line[0] == '-' else candidate_name}: {line[2:]}"
        for line in difflib.ndiff(old[window], new[window], charjunk=None)
        if line[0] in "+-"
    ]
    rest = len(lines) - _DIFF_LINES
    shown = [f"from line {start + 1} on:", *lines[:_DIFF_LINES]]
    return tuple([*shown, f"and {rest} more lines that differ"] if rest > 0 else shown)
