"""Exact calls in both arms: which places are called more often, and by whom."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from bystander.design import CalledBy, Counts
from bystander.evidence.compared.matching import Matching, in_place
from bystander.evidence.places import calls_of, is_ours

__all__ = ["Calls", "CallsOfBoth", "calls_of_both"]

Pair = tuple[int, int]


@dataclass(frozen=True)
class Calls:
    """The calls of one arm that repeat between its counting trials.

    Attributes
    ----------
    of : mapping
        By place: calls, and those that came while it was running already.
    edges : mapping
        By caller and callee: calls.
    repeats : bool or None
        Whether all do; None where there were not two trials.
    """

    of: Mapping[int, Pair] = field(default_factory=dict)
    edges: Mapping[Pair, int] = field(default_factory=dict)
    repeats: bool | None = None

    def outer(self, place: int) -> int:
        """Return the calls of a place that are no recursion."""
        calls, inner = self.of.get(place, (0, 0))
        return calls - inner


@dataclass(frozen=True)
class CallsOfBoth:
    """Calls in the reference and in the candidate; what does not repeat in one is known of neither."""

    before: Calls
    after: Calls
    unsteady: frozenset[int] = frozenset()

    @property
    def known(self) -> bool:
        """Whether calls were counted twice in both arms."""
        return self.before.repeats is not None and self.after.repeats is not None

    @property
    def repeats(self) -> bool | None:
        """Whether all calls repeat in both arms."""
        return bool(self.before.repeats and self.after.repeats) if self.known else None

    def of(self, place: int) -> tuple[int, int] | None:
        """Return the calls of a place before and after; None where they are not known exactly."""
        if not self.known or place in self.unsteady:
            return None
        found = self.before.of.get(place, (0, 0))[0], self.after.of.get(place, (0, 0))[0]
        return found if any(found) else None

    def changed(self, place: int) -> bool:
        """Whether its calls are known and differ."""
        found = self.of(place)
        return found is not None and found[0] != found[1]

    def grew(self, place: int) -> bool:
        """Whether its calls are known and are more."""
        found = self.of(place)
        return found is not None and found[0] < found[1]

    def inner(self, place: int) -> tuple[int, int]:
        """Return those of them that are recursion."""
        return self.before.of.get(place, (0, 0))[1], self.after.of.get(place, (0, 0))[1]

    def outer_both(self, place: int) -> bool:
        """Whether a place is called in both arms."""
        return bool(self.before.outer(place) and self.after.outer(place))

    def callers(self, place: int) -> list[int]:
        """Return who calls a place, the one whose calls changed most first; itself is left out."""
        edges: dict[int, int] = {}
        for sign, calls in ((-1, self.before), (1, self.after)):
            for (caller, callee), number in calls.edges.items():
                if callee == place != caller and caller >= 0:
                    edges[caller] = edges.get(caller, 0) + sign * number
        return sorted(edges, key=lambda caller: (-abs(edges[caller]), caller))

    def each(self, matching: Matching, caller: int, callee: int) -> CalledBy | None:
        """Return how often one call of the caller calls the callee, before and after; None where nobody knows."""
        if self.of(caller) is None or self.of(callee) is None:
            return None
        parts = []
        for calls in (self.before, self.after):
            own, edge = calls.outer(caller), calls.edges.get((caller, callee), 0)
            if not own and edge:
                return None
            parts.append(edge / own if own else 0.0)
        return CalledBy(matching.place(caller), *parts)


def calls_of_both(counts: tuple[Sequence[Counts], Sequence[Counts]], matching: Matching) -> CallsOfBoth:
    """Return the calls of both arms from their counting trials."""
    found, unsteady = [], set()
    for side, trials in enumerate(counts):
        calls, odd = _of_arm(trials, matching, side)
        found.append(calls)
        unsteady |= odd
    return CallsOfBoth(found[0], found[1], frozenset(unsteady))


def _of_arm(trials: Sequence[Counts], matching: Matching, side: int) -> tuple[Calls, set[int]]:
    if not trials:
        return Calls(), set()
    of = [_numbered(one, matching, side) for one in trials]
    edges = [_edges(one, matching, side) for one in trials]
    odd = {place for other in of[1:] for place in of[0].keys() | other.keys() if of[0].get(place) != other.get(place)}
    same = {edge: n for edge, n in edges[0].items() if all(other.get(edge) == n for other in edges[1:])}
    return Calls(of[0], same, not odd if len(trials) > 1 else None), odd


def _numbered(counts: Counts, matching: Matching, side: int) -> dict[int, Pair]:
    found: dict[int, Pair] = {}
    for place, (calls, inner, _) in calls_of(counts).items():
        if in_place(place):
            continue
        number = matching.number(side, place)
        a, b = found.get(number, (0, 0))
        found[number] = a + calls, b + inner
    return found


def _edges(counts: Counts, matching: Matching, side: int) -> dict[Pair, int]:
    found: dict[Pair, int] = {}
    number = [matching.number(side, place) for place in counts.places]
    ours = [is_ours(place) for place in counts.places]
    inner = [in_place(place) for place in counts.places]
    for edge in counts.edges:
        if edge.caller >= 0 and not (ours[edge.caller] or ours[edge.callee] or inner[edge.callee]):
            key = number[edge.caller], number[edge.callee]
            found[key] = found.get(key, 0) + edge.calls
    return found
