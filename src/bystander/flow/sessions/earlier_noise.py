"""The noise of workloads from an earlier record."""

from __future__ import annotations

from pathlib import Path

from bystander.archive import Archive
from bystander.design import Origin, RecordHead, Study, workload_key
from bystander.errors import UsageError
from bystander.foresight import record_noise
from bystander.verdicts import Noise

__all__ = ["earlier_noise", "noise_to_tell", "record_to_tell"]


def earlier_noise(study: Study, archive: Path, name: str) -> tuple[RecordHead, tuple[Noise, ...]]:
    """Return the head of a record, and the noise of workloads of the study in it.

    Raises
    ------
    ArchiveError, UsageError
        When there is no such record, or it has no blocks of these workloads to tell from.
    """
    with Archive(archive) as kept:
        record = kept.load(name)
    if found := record_noise(study, record):
        return record.head, found
    raise UsageError(
        f"--noise-of: record {record.head.name} tells nothing of the noise of these workloads; that takes three blocks "
        "of two arms without a failure, of a workload with the same command and inputs"
    )


def noise_to_tell(study: Study, archive: Path, host: str | None) -> tuple[Noise, ...]:
    """Return the noise of workloads of the study in the newest record that knows it; none where no record does."""
    name = record_to_tell(study, archive, host) if archive.exists() else ""
    if not name:
        return ()
    with Archive(archive) as kept:
        return record_noise(study, kept.load(name))


def record_to_tell(study: Study, archive: Path, host: str | None) -> str:
    """Return the newest complete record of workloads of the study that was observed on a host, "" for none."""
    keys = {workload_key(workload) for workload in study.workloads}
    with Archive(archive) as kept:
        for head in reversed(kept.heads()):
            same = head.origin == Origin.OBSERVED and head.complete and head.machine.host == host
            if same and keys & set(head.workload_keys):
                return head.name
    return ""
