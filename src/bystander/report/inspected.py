"""Where the time of workloads went, or where it changed, as one self-contained page."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from bystander.design import (
    Account,
    Expectation,
    Flow,
    Hint,
    LinesOf,
    Outline,
    PlaceTable,
    account_sentences,
    expectation_sentence,
    place_label,
    place_where,
    told_account,
)
from bystander.report.environment import shell, template_environment
from bystander.report.pieces.accounts import DrawnAccount, drawn_account
from bystander.report.pieces.flowing import DrawnFlow, drawn_flow
from bystander.report.pieces.outline import DrawnOutline, drawn_outline
from bystander.report.pieces.places import DrawnLines, DrawnPlaces, drawn_lines, places_of_account, places_of_table
from bystander.units import counted, duration_text

__all__ = ["InspectedView", "inspected_page"]

_PIECES = ("accounts", "outline", "flowing", "places")


@dataclass(frozen=True)
class InspectedView:
    """What one inspection showed: an account of two states, or the table of one; and all of it in other forms.

    Attributes
    ----------
    lines : sequence of LinesOf
        Of the places that matter most; those of one place follow each other.
    """

    outline: Outline
    flow: Flow
    account: Account | None = None
    table: PlaceTable | None = None
    lines: Sequence[LinesOf] = ()


@dataclass(frozen=True)
class _Drawn:
    title: str
    sentences: tuple[str, ...]
    account: DrawnAccount | None
    outline: DrawnOutline
    flow: DrawnFlow
    places: DrawnPlaces
    lines: tuple[DrawnLines, ...]
    about: tuple[str, ...]
    expected: tuple[str, ...]
    hints: tuple[str, ...]


def inspected_page(views: Sequence[InspectedView]) -> str:
    """Return the page of some inspections; everything in it is escaped and nothing is fetched."""
    environment = template_environment()
    drawn = [_drawn(one) for one in views]
    return environment.get_template("inspected.html").render(
        title=drawn[0].title if len(drawn) == 1 else f"Where {counted(len(drawn), 'workload')} changed",
        views=drawn, run=views[0].outline.run, **shell(environment, _PIECES),
    )  # fmt: skip


def _drawn(view: InspectedView) -> _Drawn:
    outline, flow = drawn_outline(view.outline), drawn_flow(view.flow)
    lines = tuple(drawn_lines(view.lines))
    if view.account:
        account = view.account
        told = told_account(account)
        title = f"{account.workload}: {account.against}, then {account.arm}"
        sentences = (*account.part, *account_sentences(account))
        drawn = drawn_account(account.workload, replace(told, sentences=()))
        return _Drawn(
            title, sentences, drawn, outline, flow, places_of_account(account), lines, tuple(account.about),
            *_beyond(account.expected, account.hints, account.roots),
        )  # fmt: skip
    table = view.table
    assert table is not None
    calls = "calls not counted" if table.calls is None else counted(table.calls, "call")
    whole = f"{duration_text(table.elapsed_s)} a trial, {calls}; {counted(table.readings, 'reading')}."
    return _Drawn(
        f"{table.workload} under {table.arm}", (whole, *table.sentences), None, outline, flow, places_of_table(table),
        lines, table.about, *_beyond(table.expected, table.hints, (table.root,)),
    )  # fmt: skip


def _beyond(
    expected: Sequence[Expectation], hints: Sequence[Hint], roots: Sequence[str]
) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """Return what was expected, and guesses from the source, a sentence each."""
    guesses = []
    for one in hints:
        where = place_where(one.place._replace(line=one.line), roots)
        said = f"{where}, {duration_text(one.seconds, 3)}: {place_label(one.place)} {one.said}"
        guesses.append(f"{said}. To test it: {one.advice}.")
    return tuple(f"{expectation_sentence(one)}." for one in expected), tuple(guesses)
