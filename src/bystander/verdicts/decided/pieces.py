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

    In each block the log ratio of a piece alone over nothing is held against that of all pieces over all but it; where
    pieces do not touch each other the two are alike. Tested by the exact signed-rank test (Wilcoxon 1945).
    """
    study = compared.record.head.study
    assert study.chain
    by_label = {link.name: comparison for link, comparison in zip(study.chain.links, study.links, strict=True)}
    found: list[tuple[str, int, float, float]] = []
    for label, alone in by_label.items():
        piece = label.removesuffix(ALONE)
        last = by_label.get(piece + LAST)
        if piece == label or last is None:
            continue
        for w, both in enumerate(zip(_readings(compared, alone), _readings(compared, last), strict=True)):
            difference = _within_blocks(*both)
            if difference.size >= _FEWEST:
                contrasts = walsh_contrasts(difference[None, :], difference[None, :])
                p, _ = p_and_e(contrasts, np.zeros(1))
                found.append((piece, w, float(p[0]), float(estimates(contrasts)[0])))
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
    """Return alone less last in each block that has both, exactly."""
    if not (alone.exact and last.exact and alone.paired and last.paired) or {alone.scale, last.scale} != {Scale.RATIO}:
        return np.zeros(0)
    _, left, right = np.intersect1d(alone.blocks, last.blocks, assume_unique=True, return_indices=True)
    return np.asarray(alone.differences[0][left] - last.differences[0][right])
