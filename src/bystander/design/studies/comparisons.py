"""What is held against what: a comparison is a value, and a plan says which of them a study makes.

By default each arm is held against the first. Neighbours of a chain, or all pairs of a race, are other plans: one
function from arms to comparisons, registered by its name.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import TYPE_CHECKING

from bystander.errors import UsageError

if TYPE_CHECKING:
    from bystander.design.studies.arms import Arm

__all__ = ["EACH_WITH_FIRST", "Comparison", "ComparisonPurpose", "Plan", "plan_named", "register_plan"]

EACH_WITH_FIRST = "each-with-first"


class ComparisonPurpose(StrEnum):
    """What a comparison is for."""

    CHANGE = "change"  # whether the candidate differs
    CONTROL = "control"  # both are made alike, so that what differs is noise


@dataclass(frozen=True, order=True)
class Comparison:
    """A candidate held against a reference: positions of two arms in the study."""

    reference: int
    candidate: int
    purpose: ComparisonPurpose = ComparisonPurpose.CHANGE

    @property
    def arms(self) -> tuple[int, int]:
        """Both arms, the reference first."""
        return self.reference, self.candidate

    @property
    def turned(self) -> Comparison:
        """The same two arms, changed over."""
        return Comparison(self.candidate, self.reference, self.purpose)


Plan = Callable[[Sequence["Arm"]], tuple[Comparison, ...]]


def each_with_first(arms: Sequence[Arm]) -> tuple[Comparison, ...]:
    """Return each arm against the first; a placebo is its control."""
    purposes = {False: ComparisonPurpose.CHANGE, True: ComparisonPurpose.CONTROL}
    return tuple(Comparison(0, place, purposes[arm.placebo]) for place, arm in enumerate(arms) if place)


_PLANS: dict[str, Plan] = {EACH_WITH_FIRST: each_with_first}


def register_plan(name: str, plan: Plan) -> None:
    """Add a plan of comparisons."""
    _PLANS[name] = plan


def plan_named(name: str) -> Plan:
    """Return a plan; raise UsageError when there is none of that name."""
    if name not in _PLANS:
        raise UsageError(f'there is no plan of comparisons "{name}"; there are {", ".join(_PLANS)}')
    return _PLANS[name]
