"""What the records of an archive have shown, read back: a change that was shown once may be luck.

Each complete record is decided once; what it tested is kept beside the archive, where that can be written.
"""

from __future__ import annotations

import json
import stat
import time
from contextlib import suppress
from pathlib import Path

from bystander.archive import Archive
from bystander.design import KeptState, RecordHead, arm_key
from bystander.errors import BystanderError
from bystander.field import KeptStates, StudyFolder
from bystander.files import mode_at, read_at_most, write_whole
from bystander.verdicts import FEWEST_BATCHES, Decision, Key, RecordTests, Repeated, Scale, decide, repeated

__all__ = ["repeated_in"]

_FORMAT = "bystander-shown/1"
_MOST_RECORDS, _MOST_BYTES = 500, 2**26
_MOST_S = 3.0  # that a command waits for what other records tested


def repeated_in(archive: Path, decision: Decision) -> Repeated | None:
    """Return how a record stands among all that its archive tested; None where few were, or it shows nothing."""
    head = decision.head
    if not head.observed_here or decision.exploration or not any(row.changed for row in decision.primary):
        return None
    with Archive(archive) as kept:
        heads = [one for one in kept.heads() if _counts(one) and one.uuid != head.uuid][-_MOST_RECORDS:]
        if len(heads) + 1 < FEWEST_BATCHES:
            return None
        known = _known(archive)
        fresh: dict[str, RecordTests] = {}
        until_s = time.monotonic() + _MOST_S
        for one in heads:
            if one.uuid not in known and time.monotonic() < until_s:
                with suppress(BystanderError):  # a damaged record is told by whoever shows it
                    fresh[one.uuid] = _tests(decide(kept.load(one.uuid)))
    if fresh:
        _keep(archive, known | fresh)
    found = known | fresh
    if time.monotonic() >= until_s:  # a large archive is worked through bit by bit, and nothing is said before
        return None
    workloads = dict(zip(head.workload_keys, (one.name for one in head.study.workloads), strict=True))
    return repeated(_tests(decision), workloads, [found[one.uuid] for one in heads if one.uuid in found])


def _counts(head: RecordHead) -> bool:
    return head.observed_here and head.complete and not head.only_inspected and bool(head.study.comparisons)


def _tests(decision: Decision) -> RecordTests:
    """Return what a record tested: of a chain its links, the total being no edit."""
    head, study = decision.head, decision.head.study
    rows = [row for row in decision.primary if not study.links or row.comparison in study.links]
    workloads = dict(zip((one.name for one in study.workloads), head.workload_keys, strict=True))
    states, shown = _states(head), dict[Key, int]()
    for row in rows:
        first, second = states[row.against], states[row.arm]
        way = 0 if not row.changed else 1 if row.estimate > (row.scale == Scale.RATIO) else -1
        if first > second:  # the other way round it is the same pair
            first, second, way = second, first, -way
        shown[first, second, workloads[row.workload], row.measure.name] = way
    return RecordTests(head.name, study.risk, shown)


def _states(head: RecordHead) -> dict[str, str]:
    """Return what tells the state of each arm from others, by its name.

    An arm that ran where it lies has a key without its files: those of the state that the record kept count, or those
    of no other record.
    """
    states = {}
    kept = None
    if any(arm.in_place for arm in head.study.arms) and Path(head.study_folder, ".bystander").is_dir():
        kept = KeptStates(StudyFolder(Path(head.study_folder))).of(head.uuid)
    for arm, state in zip(head.study.arms, head.arms, strict=True):
        states[arm.name] = state.key
        if arm.in_place:
            files = kept.arms.get(arm.name) if kept else None
            tree = files.digest if isinstance(files, KeptState) else head.uuid
            states[arm.name] = arm_key(arm, tree, state.facts.interpreter.version)
    return states


def _file(archive: Path) -> Path:
    return archive.with_name(archive.name + ".shown")


def _known(archive: Path) -> dict[str, RecordTests]:
    """Return what is kept, by UUID; nothing where nothing is, or something else."""
    try:
        if not stat.S_ISREG(mode_at(_file(archive), follow=False)):
            return {}  # a pipe would be waited for; an archive may come from elsewhere with what lies beside it
        document = json.loads(read_at_most(_file(archive), _MOST_BYTES) or b"null")
        if document["format"] != _FORMAT:
            return {}
        found = {}
        for uuid, told in document["records"].items():
            shown = {_key(one): int(one[4]) for one in told["shown"]}
            found[str(uuid)] = RecordTests(str(told["record"]), float(told["risk"]), shown)
        return found
    except (OSError, ValueError, KeyError, TypeError, AttributeError, IndexError, OverflowError, RecursionError):
        return {}


def _key(told: list[str]) -> Key:
    first, second, workload, measure = map(str, told[:4])
    return first, second, workload, measure


def _keep(archive: Path, found: dict[str, RecordTests]) -> None:
    records = {
        uuid: {"record": one.record, "risk": one.risk, "shown": [[*key, way] for key, way in one.shown.items()]}
        for uuid, one in found.items()
    }
    with suppress(OSError):  # it is worked out again the next time
        write_whole(_file(archive), json.dumps({"format": _FORMAT, "records": records}))
