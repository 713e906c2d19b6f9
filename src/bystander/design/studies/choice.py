"""Choosing workloads by name or pattern."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import replace
from difflib import get_close_matches

from bystander.design.studies.study import Study
from bystander.design.studies.workloads import Workload
from bystander.errors import UsageError

__all__ = ["chosen_names", "with_only"]


def chosen_names(workloads: Iterable[Workload], wanted: Sequence[str], whose: str) -> tuple[str, ...]:
    """Return the names of the workloads that are wanted, in their own order.

    A name stands for itself, and a base for all its inputs; * stands for any letters and ? for one.

    Raises
    ------
    UsageError
        When something that is wanted fits no name; `whose` says whose names they are.
    """
    bases = {workload.name: workload.base for workload in workloads}
    known = list(bases)
    found: set[str] = set()
    for word in wanted:
        pattern = re.compile("".join({"*": ".*", "?": "."}.get(c, re.escape(c)) for c in word), re.DOTALL)
        fitting = {name for name in known if pattern.fullmatch(name) or bases[name] == word}
        if not fitting:
            near = get_close_matches(word, known, 1, 0.4)
            hint = f'did you mean "{near[0]}"?' if near else f"it has {', '.join(known[:8])}"
            raise UsageError(f'{whose} has no workload "{word}"; {hint}')
        found |= fitting
    return tuple(name for name in known if name in found)


def with_only(study: Study, wanted: Sequence[str]) -> Study:
    """Return the study with the wanted workloads only; all others are left out before the start."""
    if not wanted:
        return study
    names = set(chosen_names(study.workloads, wanted, "the study"))
    names |= {workload.floor for workload in study.workloads if workload.name in names}  # a floor goes with it
    return replace(study, workloads=tuple(w for w in study.workloads if w.name in names), chosen=tuple(wanted))
