"""Pieces of one edit: does each gain as much by itself as it does on top of all the others?"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from bystander.design import Comparison
from bystander.stats import estimates, holm, p_and_e, walsh_contrasts
from bystander.verdicts.compared.compared import ComparedRecord, main_measure
from bystander.verdicts.compared.row_readings import RowReadings, row_readings
from bystander.verdicts.ladders import Disagreement
from bystander.verdicts.words import Scale

__all__ = ["disagreements"]

Floats = NDArray[np.float64]
_FEWEST = 6
ALONE, LAST = " alone", " last"


def disagreements(compared: ComparedRecord) -> tuple[Disagreement, ...]:
    """Return the pieces shown to gain otherwise alone than last, at the study's risk (Holm 1979 over all of them).

    In each block a piece alone over nothing is held against all pieces over all but it, twice: as log ratios, and as
    what it adds in the measure's unit. Where pieces do not touch each other the one or the other is alike: of work that
    is done one after the other what is saved is the same time, and another share of what the others leave. So a piece
    is named where both differ, the same way: its p is the larger of two exact signed-rank tests (Wilcoxon 1945; both
    have to reject, Berger 1982).
    """
    study = compared.record.head.study
    assert study.chain
    by_label = {link.name: comparison for link, comparison in zip(study.chain.links, study.links, strict=True)}
    found: list[tuple[str, int, float, float]] = []  # piece, workload, p, and how much more it adds alone
    for label, alone in by_label.items():
        piece = label.removesuffix(ALONE)
        last = by_label.get(piece + LAST)
        if piece == label or last is None:
            continue
        for w, both in enumerate(zip(_readings(compared, alone), _readings(compared, last), strict=True)):
            differences = _within_blocks(*both)
            if differences.shape[1] >= _FEWEST:
                contrasts = walsh_contrasts(differences, differences)
                p, _ = p_and_e(contrasts, np.zeros(2))
                ratio, more = estimates(contrasts).tolist()
                found.append((piece, w, float(p.max()) if ratio * more > 0 else 1.0, more))
    if not found:
        return ()
    adjusted = holm(np.array([p for *_, p, _ in found]), len(found))
    return tuple(
        Disagreement(piece, study.workloads[w].name, float(p), estimate)
        for (piece, w, _, estimate), p in zip(found, adjusted, strict=True)
        if p <= study.risk
    )


def _readings(compared: ComparedRecord, comparison: Comparison) -> list[RowReadings]:
    measure = main_measure(compared.record)
    seen = compared.readings(measure, comparison)
    return row_readings(compared.record.trials, compared.rows(comparison), seen, compared.record.head.study.margin)


def _within_blocks(alone: RowReadings, last: RowReadings) -> Floats:
    """Return alone less last in each block that has both, exactly; shape (2, blocks): log ratios, and in the unit."""
    if not (alone.exact and last.exact and alone.paired and last.paired) or {alone.scale, last.scale} != {Scale.RATIO}:
        return np.zeros((2, 0))
    _, left, right = np.intersect1d(alone.blocks, last.blocks, assume_unique=True, return_indices=True)
    sides = [(one.candidate[0][at], one.reference[0][at]) for one, at in ((alone, left), (last, right))]
    ratios, added = ([of(after) - of(before) for after, before in sides] for of in (np.asarray, np.exp))
    return np.array([ratios[0] - ratios[1], added[0] - added[1]])
