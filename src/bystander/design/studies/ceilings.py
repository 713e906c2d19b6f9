"""Ceilings: a share of all trials of an arm that must stay within a limit, whatever another arm does."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from bystander.design.measures import Measure
from bystander.errors import UnitError
from bystander.units import parse_duration, parse_share, parse_size, quantity_text, share_text

__all__ = ["Ceiling", "ceiling_of"]

DEFAULT_SHARE = 0.95
_BETWEEN = " for "
_PARSERS: dict[str, Callable[[object], float]] = {"s": parse_duration, "B": parse_size, "share": parse_share}
_EXAMPLES = {"s": "250 ms", "B": "64 MiB", "share": "2 %"}


@dataclass(frozen=True)
class Ceiling:
    """A limit for a share of all trials.

    Attributes
    ----------
    measure : str
        The name of what is limited; "" for the study's measure.
    limit : float
        In the measure's base unit: a trial above it, or one that failed, is beyond.
    share : float
        Of all trials that must not be beyond, in (0, 1).
    """

    measure: str
    limit: float
    share: float = DEFAULT_SHARE

    def text(self, unit: str) -> str:
        """Return it as people say it: "95 % within 250 ms"."""
        number, space, rest = quantity_text(self.limit, unit, 6).partition(" ")
        number = number.rstrip("0").rstrip(".") if "." in number else number
        return f"{share_text(self.share, 4)} within {number}{space}{rest}"


def ceiling_of(text: object, measure: Measure, unit_known: bool = True) -> Ceiling:
    """Return the ceiling that a text such as "250 ms" or "250 ms for 99 %" sets for a measure.

    Parameters
    ----------
    unit_known : bool
        Whether the measure's unit is sure; otherwise any will do.

    Raises
    ------
    UnitError
        With a clause that shows the text, and says what would be right.
    """
    example = _EXAMPLES.get(measure.unit, "200") if unit_known else "250 ms"
    wrong = f'{_shown(text)} is no ceiling of {measure.name}; write for example "{example}" or "{example} for 99 %"'
    limit, _, of = str(text).partition(_BETWEEN)
    try:
        share = parse_share(of) if of else DEFAULT_SHARE
        named = _PARSERS.get(measure.unit, _number)
        value = _first(limit, [named] if unit_known else [*_PARSERS.values(), _number])
    except UnitError:
        raise UnitError(wrong) from None
    if share >= 1:
        raise UnitError(f'{_shown(text)}: that no trial ever is beyond cannot be shown; write for example "for 99.9 %"')
    if share <= 0:
        raise UnitError(wrong)
    return Ceiling(measure.name, value, share)


def _first(text: str, parsers: Sequence[Callable[[object], float]]) -> float:
    for parse in parsers:
        try:
            return float(parse(text))
        except UnitError:
            continue
    raise UnitError(text)


def _number(text: object) -> float:
    try:
        value = float(str(text))
    except ValueError:
        raise UnitError(str(text)) from None
    if not abs(value) < 1e100:
        raise UnitError(str(text))
    return value


def _shown(text: object) -> str:
    return f'"{text}"' if isinstance(text, str) else str(text)
