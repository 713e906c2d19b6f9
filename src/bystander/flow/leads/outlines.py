"""Everything that an inspection saw at once: its outline, and the flow between its places."""

from __future__ import annotations

from bystander.design import VIEWS, Flow, Outline
from bystander.evidence import Both, flow_of_both, flow_of_one, outline_of_both, outline_of_one
from bystander.flow.leads.accounts import asked_of, seen_of
from bystander.flow.leads.kept import Kept
from bystander.flow.leads.tables import sums_of_state

__all__ = ["MOST_PLACES", "outline_and_flow"]

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
