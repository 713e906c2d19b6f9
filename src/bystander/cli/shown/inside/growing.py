"""How a workload grows with an input, on a terminal."""

from __future__ import annotations

import math

from rich.console import Console
from rich.text import Text

from bystander.cli.shown.console import tell
from bystander.design import Growing, Grown, place_label
from bystander.units import counted, duration_text, numbered, plain_text

__all__ = ["print_growing"]

_EXPONENT, _TIME, _LEAST_NAME = 22, 9, 14


def print_growing(console: Console, found: Growing, first: int, everything: bool) -> None:
    """Print how the whole grows, and each place: what grows faster than the rest first."""
    sizes = ", ".join(f"{size:,g}" for size in found.sizes)
    console.print(f"{found.run}: {found.workload} under {found.arm}, {found.name} = {sizes}", style="title")
    times = ", ".join(duration_text(seconds, 3) for seconds in found.whole.seconds)
    tell(console, f"The whole grows as {_power(found.name, found.whole.exponent)}: {times} a trial.")
    faster = [plain_text(place_label(one.place)) for one in found.places if one.faster]
    if faster:
        tell(console, f"Shown to grow faster than the rest: {', '.join(faster)}.")
    console.print()
    shown = found.places if everything else found.places[:first]
    counted_too = any(one.calls is not None for one in shown)
    columns = _EXPONENT * (1 + counted_too) + _TIME + (0 if console.width < 100 else _TIME)
    names = [plain_text(place_label(one.place)) for one in shown]
    width = max(_LEAST_NAME, min(max(map(len, names), default=_LEAST_NAME), console.width - columns - 1))
    forms = numbered(names, width)
    wide = console.width >= 100
    partly = False
    heads = ["seconds grow as", *(["calls grow as"] * counted_too)]
    ends = [f"at {found.sizes[0]:g}", f"at {found.sizes[-1]:g}"] if wide else [f"at {found.sizes[-1]:g}"]
    console.print(
        f"{'place':<{width}}" + "".join(f"{head:>{_EXPONENT}}" for head in heads)
        + "".join(f"{end:>{_TIME}}" for end in ends), style="quiet",
    )  # fmt: skip
    for name, one in zip(names, shown, strict=True):
        cells = [_interval(one.exponent), *([_calls(one)] * counted_too)]
        partly = partly or bool(one.since)
        cells[0] += "*" if one.since else ""
        seconds = [one.seconds[0], one.seconds[-1]] if wide else [one.seconds[-1]]
        line = f"{forms[name]:<{width}}" + "".join(f"{cell:>{_EXPONENT}}" for cell in cells)
        line += "".join(f"{duration_text(s, 2) if s else '0':>{_TIME}}" for s in seconds)
        console.print(Text(line, style="bold" if one.faster else ""), no_wrap=True, crop=False)
    if len(shown) < len(found.places):
        console.print(f"{counted(len(found.places) - len(shown), 'place')} more: --all", style="quiet")
    console.print()
    tell(
        console,
        f"Exponents of {found.name}, with what each calls; of seconds with an interval at 95 % over "
        f"{counted(found.blocks, 'block')}, of exact calls between the slopes of neighbouring sizes.",
        style="quiet",
    )
    if partly:
        tell(console, "*: from the sizes on at which it was seen in every block.", style="quiet")
    for text in found.about:
        tell(console, text, style="quiet")


def _power(name: str, exponent: tuple[float, float, float] | None) -> str:
    return f"{name}^{_interval(exponent)}" if exponent else f"nobody knows which power of {name}"


def _interval(exponent: tuple[float, float, float] | None) -> str:
    if exponent is None:
        return "too small to tell"
    mean, low, high = exponent
    return f"{mean:.2f} ({low:.2f} to {high:.2f})" if math.isfinite(low) and math.isfinite(high) else f"{mean:.2f}"


def _calls(one: Grown) -> str:
    if one.calls_exponent is not None:
        mean, low, high = one.calls_exponent
        if high - low < 5e-3:
            return f"{one.calls[-1]:,} always" if one.calls and abs(mean) < 5e-3 else f"{mean:.2f}"
        return _interval(one.calls_exponent)
    return "" if one.calls is None else "never at some size"
