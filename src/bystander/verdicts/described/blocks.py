"""A row block by block, in the order in which its blocks ran."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from bystander.stats import outlying
from bystander.verdicts.compared.row_readings import RowReadings
from bystander.verdicts.words import Scale

__all__ = ["BlockSeries", "block_series"]


@dataclass(frozen=True)
class BlockSeries:
    """The blocks that count in a row, n of them; arrays of n, by increasing number of the block.

    Attributes
    ----------
    blocks : ndarray of int
        Their numbers.
    low, high : ndarray of float
        Candidate less reference, of logarithms on a scale of ratios; they part where a trial failed, and are then
        bounds, which may be infinite.
    """

    scale: Scale
    blocks: NDArray[np.int64]
    low: NDArray[np.float64]
    high: NDArray[np.float64]

    @cached_property
    def exact(self) -> NDArray[np.bool_]:
        """Which blocks have a difference, not a bound."""
        found: NDArray[np.bool_] = (self.low == self.high) & np.isfinite(self.low)
        return found

    @cached_property
    def far(self) -> NDArray[np.bool_]:
        """Which lie far from the others, as the notes on a row say it."""
        found = np.zeros(self.blocks.size, dtype=bool)
        if self.exact.all() and self.blocks.size:
            found = outlying(self.low[None, :])[0]
        return found


def block_series(row: RowReadings) -> BlockSeries | None:
    """Return the blocks of a row, None where it is not compared block by block."""
    if not row.paired or not row.size:
        return None
    order = np.argsort(row.blocks, kind="stable")
    low, high = row.differences
    return BlockSeries(row.scale, row.blocks[order], low[order], high[order])
