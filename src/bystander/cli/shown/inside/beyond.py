"""What was expected, and guesses from the source, on a terminal: each in a part of its own."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console

from bystander.cli.shown.console import tell
from bystander.design import Expectation, Hint, expectation_sentence, place_label, place_where
from bystander.units import duration_text

__all__ = ["print_expected", "print_hints"]


def print_expected(console: Console, expected: Sequence[Expectation]) -> None:
    """Print what the study expected of places beside what they take."""
    if not expected:
        return
    console.print()
    console.print("Against what the study expected:", style="title")
    for one in expected:
        tell(console, f"{expectation_sentence(one)}.", style="" if one.surprise else "quiet")


def print_hints(console: Console, hints: Sequence[Hint], roots: Sequence[str], first: int) -> None:
    """Print guesses from the source, each with its number for --try, line and seconds, and what would test it."""
    if not hints:
        return
    console.print()
    console.print("Guesses from the source, which are no evidence:", style="title")
    for number, one in enumerate(hints, first):
        where = place_where(one.place._replace(line=one.line), roots)
        tell(console, f"{number}. {where}, {duration_text(one.seconds, 3)}: {place_label(one.place)} {one.said}.")
        tell(console, f"   To test it: {one.advice}.", style="quiet")
