"""Pictures by themselves: for a slide, a document, a chat. Drawn by Matplotlib, which is loaded only here."""

from __future__ import annotations

from collections.abc import Sequence

from bystander.design import Account, Flow, Outline
from bystander.verdicts import Decision, Ladder

__all__ = [
    "PICTURES",
    "PICTURES_INSIDE",
    "PICTURE_SUFFIXES",
    "accounts_picture",
    "flow_picture",
    "ladder_picture",
    "mirror_picture",
    "picture",
]

PICTURES_INSIDE = ("account", "mirror", "flow")
PICTURES = ("forest", "distribution", "blocks")
PICTURE_SUFFIXES = (".svg", ".png", ".pdf")


def picture(decision: Decision, kind: str, suffix: str) -> bytes:
    """Return a picture of a decision's rows; the same decision gives the same bytes.

    Parameters
    ----------
    kind : str
        Among `PICTURES`: every row on the axis of change, every trial of some rows, or their blocks in time order.
    suffix : str
        Among `PICTURE_SUFFIXES`.

    Raises
    ------
    UsageError
        When there is no row that it could show.
    """
    from bystander.report.pictures.drawn import drawn

    return drawn(decision, kind, suffix)


def accounts_picture(accounts: Sequence[Account], suffix: str) -> bytes:
    """Return a picture of where workloads changed: the whole, each lead and the rest; raises as `picture`."""
    from bystander.report.pictures.accounts import drawn_accounts_picture

    return drawn_accounts_picture(accounts, suffix)


def mirror_picture(outline: Outline, suffix: str) -> bytes:
    """Return both arms of a workload mirrored at a spine, place by place; raises as `picture`."""
    from bystander.report.pictures.inside import drawn_mirror_picture

    return drawn_mirror_picture(outline, suffix)


def flow_picture(flow: Flow, suffix: str) -> bytes:
    """Return what flows between the places of a workload; raises as `picture`."""
    from bystander.report.pictures.inside import drawn_flow_picture

    return drawn_flow_picture(flow, suffix)


def ladder_picture(ladder: Ladder, suffix: str) -> bytes:
    """Return a chain as a ladder: each edit's own gain, and beside it the stairs in time; raises as `picture`."""
    from bystander.report.pictures.ladder import drawn_ladder_picture

    return drawn_ladder_picture(ladder, suffix)
