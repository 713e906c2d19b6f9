"""One block's trials over time, as a picture by itself and as a page."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from bystander.report.environment import shell, template_environment
from bystander.report.pieces.lanes import Band, Lanes, TrialSide, lanes
from bystander.report.theme import LIGHT, PHASE_TINTS

__all__ = ["trial_page", "trial_svg"]

_LEFT, _PLOT, _TOP, _HEAD, _GAP, _FOOT = 180, 980, 58, 26, 12, 22


@dataclass(frozen=True)
class _Placed:
    """A heading or a band, and where it begins, in pixels from above."""

    y: float
    heading: str = ""
    band: Band | None = None


def trial_svg(title: str, sides: Sequence[TrialSide]) -> str:
    """Return the picture of one block's trials as an SVG document."""
    drawn = lanes(sides)
    placed, height = _stacked(drawn)
    return template_environment().get_template("trial.svg").render(
        title=title, lanes=drawn, placed=placed, left=_LEFT, plot=_PLOT, top=_TOP, width=_LEFT + _PLOT + 30,
        height=height + 34, colours=LIGHT, tints=PHASE_TINTS,
    )  # fmt: skip


def _stacked(drawn: Lanes) -> tuple[list[_Placed], float]:
    y, placed = float(_TOP), []
    for side in drawn.sides:
        placed.append(_Placed(y, heading=side.heading))
        y += _HEAD
        for band in side.bands:
            placed.append(_Placed(y, band=band))
            y += band.height + (_FOOT if band.is_chart else 4)
        y += _GAP
    return placed, y


def trial_page(title: str, sides: Sequence[TrialSide], notes: Sequence[str]) -> str:
    """Return a self-contained page with the picture and, below it, each phase in numbers.

    Parameters
    ----------
    notes : sequence of str
        Sentences about the record.
    """
    environment = template_environment()
    return environment.get_template("trial.html").render(
        title=title, lanes=lanes(sides), notes=notes, **shell(environment, ("lanes",))
    )
