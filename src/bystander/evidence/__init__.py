"""What trials tell beside their readings, as a table of kinds: packed, unpacked, reduced and written out. Pure."""

from bystander.evidence.compared.accounts import account
from bystander.evidence.compared.answers import ANSWERS_KIND
from bystander.evidence.compared.both import Asked, Both, Seen
from bystander.evidence.compared.edits import EDITS_KIND
from bystander.evidence.compared.functions import functions_of, hunk_of
from bystander.evidence.compared.matching import edits_of, installed_in
from bystander.evidence.compared.told import ACCOUNT_KIND
from bystander.evidence.count_sentences import count_sentences
from bystander.evidence.counts import COUNTS_KIND
from bystander.evidence.kinds import (
    Collected,
    EvidenceKind,
    TrialFiles,
    content_of,
    evidence_kinds,
    kind_named,
    packed,
    register_evidence_kind,
)
from bystander.evidence.marks import reduced
from bystander.evidence.places import Sums, place_table, sums_of
from bystander.evidence.stacks import STACKS_KIND, stacks_of
from bystander.evidence.timelines import TIMELINE_KIND
from bystander.evidence.unwatched import UNWATCHED_KIND, watching_cost
from bystander.evidence.within.closely import CLOSELY_KIND, against_sizes
from bystander.evidence.within.down import seconds_by_line, way_down
from bystander.evidence.within.expected import share_interval, shares_of
from bystander.evidence.within.growing import grown
from bystander.evidence.within.hints import HINTS, FoundHint, hints_in
from bystander.evidence.within.narrowed import (
    Narrowing,
    is_importing,
    is_library,
    matching_places,
    narrowed_counts,
    narrowed_stacks,
)
from bystander.evidence.within.neighbours import neighbours_of_both, neighbours_of_one
from bystander.evidence.within.outlines import flow_of_both, flow_of_one, outline_of_both, outline_of_one
from bystander.evidence.within.slow import slow_places

__all__ = [
    "ACCOUNT_KIND",
    "ANSWERS_KIND",
    "CLOSELY_KIND",
    "COUNTS_KIND",
    "EDITS_KIND",
    "HINTS",
    "STACKS_KIND",
    "TIMELINE_KIND",
    "UNWATCHED_KIND",
    "Asked",
    "Both",
    "Collected",
    "EvidenceKind",
    "FoundHint",
    "Narrowing",
    "Seen",
    "Sums",
    "TrialFiles",
    "account",
    "against_sizes",
    "content_of",
    "count_sentences",
    "edits_of",
    "evidence_kinds",
    "flow_of_both",
    "flow_of_one",
    "functions_of",
    "grown",
    "hints_in",
    "hunk_of",
    "installed_in",
    "is_importing",
    "is_library",
    "kind_named",
    "matching_places",
    "narrowed_counts",
    "narrowed_stacks",
    "neighbours_of_both",
    "neighbours_of_one",
    "outline_of_both",
    "outline_of_one",
    "packed",
    "place_table",
    "reduced",
    "register_evidence_kind",
    "seconds_by_line",
    "share_interval",
    "shares_of",
    "slow_places",
    "stacks_of",
    "sums_of",
    "watching_cost",
    "way_down",
]
