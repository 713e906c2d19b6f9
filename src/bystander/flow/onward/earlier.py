"""`bystander observe --with-earlier`: an earlier record's candidate is one more arm beside today's."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from bystander.archive import Archive
from bystander.design import Arm, Comparison, KeptState, RecordHead, Study
from bystander.errors import UsageError
from bystander.field import KeptStates, StudyFolder
from bystander.flow.sessions.heads import refuse_foreign
from bystander.units import listed

__all__ = ["with_earlier"]

EARLIER = "earlier"


def with_earlier(study: Study, home: StudyFolder, archive: Path, name: str) -> Study:
    """Return a study with the candidate of an earlier record as one more arm, held against today's.

    Raises
    ------
    UsageError
        When that record is from elsewhere, has several candidates or none, or kept nothing to rebuild it from.
    """
    with Archive(archive) as kept:
        head = kept.head(name)
    refuse_foreign(head, "name a record that was observed here")
    if study.chain or study.states:
        raise UsageError("--with-earlier is for a study of arms; a chain has its own earlier states")
    if any(arm.name == EARLIER for arm in study.arms):
        raise UsageError(f'--with-earlier: the study has an arm "{EARLIER}" already; give it another name')
    arm = _candidate(head, home)
    place = len(study.arms)
    now = [one.candidate for one in study.comparisons] or [study.reference_at]
    compared = (*study.all_comparisons, *(Comparison(place, candidate) for candidate in dict.fromkeys(now)))
    if study.comparisons:
        compared = (*compared, Comparison(study.reference_at, place))
    return replace(study, arms=(*study.arms, arm), compared=tuple(dict.fromkeys(compared)))


def _candidate(head: RecordHead, home: StudyFolder) -> Arm:
    """Return the arm that was new then, in the state that it had."""
    arms = [arm for arm in head.study.arms if not arm.placebo]
    places = list(dict.fromkeys(one.candidate for one in head.study.comparisons)) or [0]
    if len(places) > 1:
        names = listed([head.study.arms[place].name for place in places], 4)
        raise UsageError(
            f"--with-earlier: record {head.name} has several candidates, {names}; it takes a record of one"
        )
    arm = head.study.arms[places[0]] if head.study.comparisons else arms[0]
    kept = KeptStates(home).of(head.uuid)
    state = kept.arms.get(arm.name) if kept else None
    if not isinstance(state, KeptState):
        commit = next(one.facts.commit for one in head.arms if one.name == arm.name)
        if not commit:
            raise UsageError(f"--with-earlier: record {head.name} kept no files of {arm.name} to rebuild it from")
        return replace(arm, name=EARLIER, revision=commit, in_place=False)
    return replace(arm, name=EARLIER, revision=None, in_place=False, kept=replace(state, record=head.name))
