"""What trials tell beside their readings, as a table of kinds: packed, unpacked, reduced and written out. Pure."""

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
from bystander.evidence.timelines import TIMELINE_KIND

__all__ = [
    "TIMELINE_KIND",
    "Collected",
    "EvidenceKind",
    "TrialFiles",
    "content_of",
    "evidence_kinds",
    "kind_named",
    "packed",
    "reduced",
    "register_evidence_kind",
]
