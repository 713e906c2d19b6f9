"""What inspections showed as files, by their suffixes: a page, rows, leads for a review, pictures."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

from bystander.design import VIEWS, Flow, Outline
from bystander.errors import UsageError
from bystander.evidence import Both, flow_of_both, flow_of_one, outline_of_both, outline_of_one
from bystander.exchange import accounts_csv, leads_sarif, paths_csv
from bystander.flow.leads.accounts import asked_of, seen_of
from bystander.flow.leads.edits import with_edits
from bystander.flow.leads.kept import Kept
from bystander.flow.leads.shown import (
    Shown,
    Wanted,
    accounts_of,
    arm_of,
    chosen_inspections,
    is_two,
    leads_json,
    part_of,
    shown_of,
)
from bystander.flow.leads.tables import sums_of_state
from bystander.flow.leads.within import lines_of_places, places_in_question
from bystander.report import (
    PICTURE_SUFFIXES,
    PICTURES_INSIDE,
    InspectedView,
    accounts_picture,
    flow_picture,
    inspected_page,
    mirror_picture,
)
from bystander.units import either, listed

__all__ = ["LEADS_FORMATS", "leads_file", "outline_and_flow", "refuse_leads_files"]

MOST_PLACES = 40  # of a flow: more cannot be told apart


def outline_and_flow(kept: Kept, arm: int | None, view: str | None, most: int) -> tuple[Outline, Flow]:
    """Return outline and flow of both arms, or of one that is named.

    Parameters
    ----------
    kept : Kept
        With what was edited, where both arms are meant.
    most : int
        Places of the flow, at most.
    """
    study = kept.head.study
    arms = [kept.against or 0, kept.arm] if arm is None else [arm]
    names, roots = tuple(study.arms[one].name for one in arms), tuple(kept.head.arms[one].folder for one in arms)
    if arm is None:
        asked = asked_of(kept, view)
        both, view = Both(seen_of(kept), asked), asked.view
        found, flowing = outline_of_both(both), flow_of_both(both, most)
    else:
        view = view or VIEWS[0]
        sums = sums_of_state(kept, arm, view)
        counts = [one for _, one in kept.counts.get(arm, [])]
        found, flowing = outline_of_one(sums), flow_of_one(sums, counts, most)
    outline = Outline(
        kept.name, kept.workload_name, view, names, found.whole, found.branches, found.smaller, found.smaller_s, roots
    )
    flow = Flow(kept.name, kept.workload_name, view, names, flowing.places, flowing.ribbons, flowing.left_out)
    return outline, flow


@dataclass(frozen=True)
class _Asked:
    """What is written: inspections, and how."""

    archive: Path
    record: str | None
    wanted: Wanted
    spreadsheet: bool
    picture: str | None
    suffix: str

    @cached_property
    def _parts(self) -> tuple[list[Kept], list[tuple[str, ...]]]:
        return part_of(chosen_inspections(self.archive, self.record, self.wanted, None), self.wanted)

    @property
    def kept(self) -> Sequence[Kept]:
        """The part of each inspection that is meant."""
        return self._parts[0]

    @property
    def left_out(self) -> Sequence[tuple[str, ...]]:
        """What is said of each part."""
        return self._parts[1]

    @cached_property
    def shown(self) -> Shown:
        """Accounts, or a table."""
        return shown_of(self.archive, self.kept, self.left_out, self.wanted)

    @property
    def two(self) -> bool:
        """Whether it is of two states."""
        return is_two(self.kept, self.wanted)

    @property
    def arm(self) -> int:
        """The one state."""
        return arm_of(self.kept[0], self.wanted)

    def outline_and_flow(self, kept: Kept) -> tuple[Outline, Flow]:
        """Return everything that an inspection saw at once."""
        if self.two:
            return outline_and_flow(with_edits(kept), None, self.wanted.view, MOST_PLACES)
        return outline_and_flow(kept, self.arm, self.wanted.view, MOST_PLACES)


def _page(asked: _Asked) -> str:
    views = []
    for at, kept in enumerate(asked.kept):
        outline, flow = asked.outline_and_flow(kept)
        if asked.shown.table:
            table = asked.shown.table
            lines = lines_of_places(kept, [asked.arm], table.view, places_in_question(table))
            views.append(InspectedView(outline, flow, table=table, lines=lines))
        else:
            account = asked.shown.accounts[at]
            arms = [kept.against or 0, kept.arm]
            lines = lines_of_places(kept, arms, account.view, [lead.place for lead in account.leads])
            views.append(InspectedView(outline, flow, account, lines=lines))
    return inspected_page(views)


def _csv(asked: _Asked) -> str:
    if asked.two:
        return accounts_csv(accounts_of(asked.kept, asked.left_out, asked.wanted), asked.spreadsheet)
    return paths_csv(sums_of_state(asked.kept[0], asked.arm, asked.wanted.view or VIEWS[0]), asked.spreadsheet)


def _sarif(asked: _Asked) -> str:
    if not asked.two:
        raise UsageError("--to FILE.sarif holds leads, and one state alone has none; .csv and .json hold its places")
    return leads_sarif(asked.shown.accounts)


def _picture(asked: _Asked) -> bytes:
    kind = asked.picture or ("account" if asked.two else "flow")
    if kind == "account":
        if not asked.two:
            raise UsageError("--picture account shows two states; one state alone has --picture flow")
        return accounts_picture(asked.shown.accounts, asked.suffix)
    if len(asked.kept) > 1:
        names = listed([one.workload_name for one in asked.kept], 6)
        raise UsageError(f"--picture {kind} shows one workload; name it: --only, of {names}")
    outline, flow = asked.outline_and_flow(asked.kept[0])
    return mirror_picture(outline, asked.suffix) if kind == "mirror" else flow_picture(flow, asked.suffix)


LEADS_FORMATS: Mapping[str, Callable[[_Asked], str | bytes]] = {
    ".html": _page,
    ".csv": _csv,
    ".json": lambda asked: leads_json(asked.shown),
    ".sarif": _sarif,
    **dict.fromkeys(PICTURE_SUFFIXES, _picture),
}


def refuse_leads_files(targets: Sequence[Path], picture: str | None) -> None:
    """Raise UsageError for a file of no known kind, and for a kind of picture that is none or goes with no file."""
    for file in targets:
        if file.suffix.lower() not in LEADS_FORMATS:
            raise UsageError(f'--to: leads are written as {either(LEADS_FORMATS)}, not as "{file.suffix.lower()}"')
    if picture is None:
        return
    if picture not in PICTURES_INSIDE:
        raise UsageError(f'--picture: "{picture}" is none; it is {either(PICTURES_INSIDE)}')
    if not any(file.suffix.lower() in PICTURE_SUFFIXES for file in targets):
        raise UsageError(f"--picture says what a picture shows; name one: --to {picture}{either(PICTURE_SUFFIXES)}")


def leads_file(
    archive: Path, record: str | None, wanted: Wanted, suffix: str, spreadsheet: bool = False,
    picture: str | None = None,
) -> str | bytes:  # fmt: skip
    """Return what is shown as a file.

    Parameters
    ----------
    suffix : str
        .html, a page with all of it; .json; .csv, one row a place of two states, one row a path of one; .sarif, one
        result a lead of two states; .svg, .png or .pdf, a picture.
    picture : str, optional
        Among `PICTURES_INSIDE`; the account of two states, the flow of one.

    Raises
    ------
    UsageError
        When there is no such inspection, or nothing of that kind to show.
    """
    refuse_leads_files([Path(f"x{suffix}")], None)
    return LEADS_FORMATS[suffix](_Asked(archive, record, wanted, spreadsheet, picture, suffix))
