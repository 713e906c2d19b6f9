"""Leads: places whose change is shown, netted where work moved, and what is called more often than before."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from bystander.design import BUILT_IN, PYTHON, CalledBy, Change, Lead, Place, Standing, place_label
from bystander.evidence.compared.both import Both
from bystander.evidence.compared.lines import line_after, mapped
from bystander.evidence.count_sentences import OPENING
from bystander.stats import Flipped, flip_p, flipped, subset_interval

__all__ = ["Leads", "ends"]

_MOSTLY = 0.5  # of a change: where calls leave less than that, they explain it
_SURE = 0.05  # below it a call is shown to take longer, or less long
_NETTED = 0.5  # of the smaller one: what remains of two that cancel is less
_FEWEST_OPENED = 20
_MOST_OF_IT = 0.5
Floats = NDArray[np.float64]


def ends(tested: Flipped, i: int) -> tuple[float, float, float]:
    """Return the mean of a tested difference and the ends of its interval."""
    return float(tested.mean[i]), float(tested.low[i]), float(tested.high[i])


class Leads:
    """The leads of one inspection.

    Attributes
    ----------
    leads : list of Lead
        The largest change first, then counts.
    explained : array, shape (n,)
        What they add or take, by block.
    smaller : Change
        The parts that weigh little, together.
    """

    def __init__(self, both: Both) -> None:
        self.both, self.matching, self.calls = both, both.matching, both.calls
        self.takes: dict[int, list[int]] = {}
        self._take_by_calls()
        part = both.part
        large = both.large(part)
        rows = np.flatnonzero(large)
        difference = part[1] - part[0]
        small = difference[~large].sum(axis=0)
        tested = flipped(np.concatenate([difference[rows], small[None, :]]), both.asked.risk)
        found, self.explained = self._shown(rows, tested, difference)
        told = {one for lead in found for one in (lead.place, lead.moved_from, *lead.takes)}
        self.leads = [*found, *self._by_count(told)]
        before, after = (float(one[~large].sum(axis=0).mean()) for one in part)
        self.smaller = Change(before, after, *ends(tested, rows.size))

    def _take_by_calls(self) -> None:
        """Give the change of what is called more often, and takes as long a call, to who calls it so."""
        changed = [
            k for k in range(self.both.size) if (n := self.calls.of(k)) and n[0] != n[1] and self.both.is_part(k)
        ]
        for k in sorted(changed, key=lambda k: -int(self.both.depth[k])):
            by = self._caller(k)
            if by is not None and self._by_calls_alone(k):
                for pair in (self.both.part, self.both.waited):
                    for values in pair:
                        values[by] += values[k]
                        values[k] = 0.0
                self.takes[by] = [*self.takes.get(by, []), k, *self.takes.pop(k, [])]

    def _by_calls_alone(self, k: int) -> bool:
        """Whether its calls changed and the time of a call did not, as far as can be seen."""
        n0, n1 = self.calls.of(k) or (0, 0)
        change = self.both.part[1][k] - self.both.part[0][k]
        if (n1 - n0) * float(change.mean()) < 0:
            return False
        if not n0 or not n1:
            return self.matching.standing[k] not in (Standing.NEW, Standing.GONE)
        # Held against each other at as many calls as there are in the arm with fewer: no noise is made larger.
        left = self.both.part[1][k] * min(1, n0 / n1) - self.both.part[0][k] * min(1, n1 / n0)
        return abs(float(left.mean())) <= _MOSTLY * abs(float(change.mean())) or flip_p(left) > _SURE

    def _caller(self, k: int) -> int | None:
        """Return the place of the program whose calls of it changed most, through libraries too."""
        seen, one = {k}, k
        for _ in range(6):
            callers = [c for c in self.calls.callers(one) if c not in seen]
            if not callers:
                return None
            one = callers[0]
            seen.add(one)
            if self.matching.is_home(one):
                return one if self.both.is_part(one) or self.both.depth[one] < self.both.depth[k] else None
        return None

    def _shown(self, rows: NDArray[np.int64], tested: Flipped, difference: Floats) -> tuple[list[Lead], Floats]:
        """Return the places whose change is shown, those that cancel netted, and what all of them explain by block."""
        shown = {int(k): i for i, k in enumerate(rows.tolist()) if tested.shown[i]}
        explained = difference[list(shown)].sum(axis=0) if shown else np.zeros(self.both.blocks)
        standing = {k: self.both.standing(k) for k in shown}
        leads = []
        for up, down, under in self._netted(shown, difference, standing):
            net = difference[up] + difference[down]
            low, high = subset_interval(net, self.both.asked.risk)
            before, after = (float((part[up] + part[down]).mean()) for part in self.both.part)
            lead = self._lead(up, Change(before, after, float(net.mean()), low, high), standing[up])
            p = max(float(tested.p[shown[one]]) for one in (up, down))
            takes = tuple(map(self.matching.place, [*self.takes.get(up, []), *self.takes.get(down, [])]))
            lead = replace(lead, p=p, takes=takes, moved_from=self.matching.place(down))
            leads.append(replace(lead, under=self.matching.place(under)))
            del shown[up], shown[down]
        for k, i in shown.items():
            before, after = (float(part[k].mean()) for part in self.both.part)
            lead = self._lead(k, Change(before, after, *ends(tested, i)), standing[k])
            leads.append(replace(lead, p=float(tested.p[i])))
        return sorted(leads, key=lambda lead: -abs(lead.seconds.change_s)), explained

    def _lead(self, k: int, seconds: Change, standing: Standing) -> Lead:
        n = self.calls.of(k) or (None, None)
        called: tuple[CalledBy, ...] = ()
        called_place = None
        for other, caller in [
            *((one, k) for one in self.takes.get(k, [])),
            *((k, c) for c in self.calls.callers(k)[:1]),
        ]:
            told = self.calls.each(self.matching, caller, other)
            if told and told.before != told.after and self.calls.changed(other):
                called, called_place = (told,), self.matching.place(other)
                break
        waits = [float(one[k].mean()) for one in self.both.waited]
        return Lead(
            self.matching.place(k), standing, seconds, takes=tuple(map(self.matching.place, self.takes.get(k, ()))),
            calls_before=n[0], calls_after=n[1], called=called, called_place=called_place, items=self._items(),
            waiting_before_s=waits[0], waiting_after_s=waits[1], line=self._line(k, seconds.change_s),
        )  # fmt: skip

    def _line(self, k: int, change_s: float) -> int:
        """Return the candidate's line at which at least half of a change stands, 0 where there is none."""
        before, after = self.matching.places[k]
        if after is None or after.kind != PYTHON or k in self.takes or not change_s:
            return 0
        old, changes = (side.by_line(k) for side in self.both.sides)
        for line, seconds in old.items() if before else ():
            to = self._line_after(before, after, line) if before else 0
            changes[to] = changes.get(to, 0.0) - seconds
        sign = math.copysign(1.0, change_s)
        best = max(changes, key=lambda line: changes[line] * sign, default=0)
        return best if best and changes[best] * sign >= _MOST_OF_IT * abs(change_s) else 0

    def _line_after(self, before: Place, after: Place, line: int) -> int:
        """Return where a line of a place is in the candidate: by the files' lines, in what moved by its distance."""
        blocks = mapped(self.both.seen.edits.lines, before.file, after.file)
        if blocks is not None:
            return line_after(blocks, line)
        return line - before.line + after.line

    def _items(self) -> dict[str, float]:
        """Return what the program tells of, where it is as much in both arms."""
        before, after = self.both.seen.items
        return {name: n for name, n in after.items() if n > 0 and before.get(name) == n}

    def _netted(
        self, shown: Mapping[int, int], difference: Floats, standing: Mapping[int, Standing]
    ) -> list[tuple[int, int, int]]:
        """Return pairs of what grew and what shrank as much, with what lies around both: work that moved."""
        change = {k: float(difference[k].mean()) for k in shown}
        left, found = set(shown), []
        for up in sorted(shown, key=lambda k: -change[k]):
            if change[up] <= 0 or up not in left:
                continue
            for down in sorted(left, key=lambda k: change[k]):
                if change[down] >= 0 or abs(change[up] + change[down]) > _NETTED * min(change[up], -change[down]):
                    continue
                if not self._may_have_moved(up, down, standing):
                    continue
                if (under := self._around(up, down)) is not None:
                    found.append((up, down, under))
                    left -= {up, down}
                    break
        return found

    def _may_have_moved(self, up: int, down: int, standing: Mapping[int, Standing]) -> bool:
        """Whether both were touched by the edit, or what one saves is waited for in the other."""
        touched = [standing[k] not in (Standing.UNTOUCHED, Standing.UNKNOWN) for k in (up, down)]
        waits = [abs(float((self.both.waited[1][k] - self.both.waited[0][k]).mean())) for k in (up, down)]
        change = [abs(float((self.both.part[1][k] - self.both.part[0][k]).mean())) for k in (up, down)]
        waiting = [wait >= _NETTED * of for wait, of in zip(waits, change, strict=True)]
        return all(touched) or (any(touched) and waiting[0] != waiting[1])

    def _around(self, up: int, down: int) -> int | None:
        """Return the innermost place around both, which may be one of them."""
        above = [
            set.union(*(side.above({one, *self.takes.get(one, [])}) for side in self.both.sides)) for one in (up, down)
        ]
        whole = np.maximum(*self.both.whole).mean(axis=1)
        common = [k for k in above[0] & above[1] if self.matching.is_home(k)]
        return min(common, key=lambda k: (float(whole[k]), -int(self.both.depth[k]))) if common else None

    def _by_count(self, told: set[Place | None]) -> list[Lead]:
        """Return what one call of a place of the program calls more often than before, without more items."""
        if not self.calls.known:
            return []
        before, after = self.both.seen.items
        if any(n > before.get(name, 0.0) for name, n in after.items()):
            return []
        large, found = self.both.large(self.both.whole), []
        for (caller, callee), n1 in self.calls.after.edges.items():
            n0 = self.calls.before.edges.get((caller, callee), 0)
            place = self.matching.place(callee)
            if n1 <= n0 or caller == callee or place in told or not self.matching.is_home(caller):
                continue
            opened = place.kind == BUILT_IN and place.name in OPENING and n1 - n0 >= _FEWEST_OPENED
            if not opened and not (self.matching.is_home(callee) and large[callee]):
                continue
            each = self.calls.each(self.matching, caller, callee)
            if each is None or each.after <= each.before or not self.calls.outer_both(caller):
                continue
            if not self.calls.grew(callee):
                continue
            lead = self._lead(
                callee,
                self.both.change(self.both.part[0][callee], self.both.part[1][callee]),
                self.both.standing(callee),
            )
            found.append((n1 - n0, replace(lead, by_count=True, called=(each,), called_place=place, takes=())))
        found.sort(key=lambda one: (-one[0], place_label(one[1].place)))
        return [lead for _, lead in found]
