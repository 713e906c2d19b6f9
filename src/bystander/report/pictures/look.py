"""How drawn pictures look: the palette of the pages, on white; and how they become bytes."""

from __future__ import annotations

import io
import warnings
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import matplotlib as mpl
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from bystander.report.theme import LIGHT
from bystander.units import plain_text

__all__ = ["DPI", "MARKERS", "bare", "looked", "saved", "words"]

DPI = 160
# The shapes of pages as Matplotlib knows them.
MARKERS = {"up": "^", "down": "v", "square": "s", "ring": "o", "cross": "x"}
_SETTINGS: Any = {
    "font.family": "serif", "font.serif": ["DejaVu Serif"], "font.size": 9, "text.parse_math": False,
    "text.color": LIGHT["ink"], "axes.edgecolor": LIGHT["line"], "axes.labelcolor": LIGHT["soft"],
    "xtick.color": LIGHT["soft"], "ytick.color": LIGHT["soft"], "svg.fonttype": "none", "svg.hashsalt": "bystander",
    "pdf.fonttype": 42, "path.simplify": False,
}  # fmt: skip
_LONGEST = 44


@contextmanager
def looked() -> Iterator[None]:
    """Draw with these settings; names in scripts that the font lacks are drawn as boxes, without a warning."""
    with mpl.rc_context(_SETTINGS), warnings.catch_warnings():
        warnings.filterwarnings("ignore", message="Glyph .* missing from")
        yield


def words(text: str, most: int = _LONGEST) -> str:
    """Return a text as it is drawn: without control characters, and not too long."""
    text = plain_text(text)
    return text if len(text) <= most else f"{text[: most - 1]}…"


def bare(axes: Axes) -> None:
    """Leave a plot its lower edge only."""
    for side in ("top", "left", "right"):
        axes.spines[side].set_visible(False)
    axes.tick_params(length=0)


def saved(figure: Figure, suffix: str) -> bytes:
    """Return a picture as a file holds it, without a date."""
    out = io.BytesIO()
    date = {".svg": {"Date": None, "Creator": "Bystander"}, ".pdf": {"CreationDate": None, "Creator": "Bystander"},
            ".png": {"Software": "Bystander"}}[suffix]  # fmt: skip
    figure.savefig(out, format=suffix.removeprefix("."), dpi=DPI, facecolor=LIGHT["card"], metadata=date)
    return out.getvalue()
