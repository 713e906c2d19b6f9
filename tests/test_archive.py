"""What is written is on disk, comes back the same, and keeps out what it cannot keep."""

from __future__ import annotations

import sqlite3
import time
from contextlib import suppress
from dataclasses import replace
from pathlib import Path
from uuid import uuid4

import numpy as np
import pytest
from builders import made_record, noisy, placed

from bystander.archive import Archive
from bystander.archive.care import compact
from bystander.archive.file.place import refuse_network
from bystander.archive.file.versions import SCHEMA
from bystander.archive.mend import mend
from bystander.archive.tables.steps import STEPS
from bystander.design import OBSERVED, Record, Status, TrialOutcome
from bystander.errors import ArchiveError, NoSpaceError, UnknownRecordError
from bystander.exchange import record_arrays, verdicts_json
from bystander.verdicts import decide


def outcome(elapsed: float, status: Status = Status.OK) -> TrialOutcome:
    return TrialOutcome(status, 0, 1e9, 5.0, {"elapsed": elapsed}, "abc" if status is Status.OK else "", "it broke")


def begun(archive: Archive, record: Record | None = None, uuid: str | None = None) -> object:
    head = (record or made_record({"w": {"a": [1.0], "b": [2.0]}})).head
    return archive.begin(replace(head, uuid=uuid or str(uuid4()), measures=OBSERVED))


def test_trials_come_back_as_they_were_written(tmp_path: Path) -> None:
    """Order, status, readings and answers survive; only whole blocks take part in decisions."""
    path = tmp_path / "a.sqlite"
    with Archive(path, create=True) as archive:
        writer, name = begun(archive)  # type: ignore[misc]
        writer.trial(placed(0, 0, 1, 0, last=False), outcome(0.5), 9.0)
        writer.trial(placed(0, 0, 0, 1, last=True), outcome(9.0, Status.CUT), 9.0)
        writer.trial(placed(0, 1, 0, 0, last=False), outcome(0.25), 9.0)
    with Archive(path) as archive:
        whole, everything = archive.load(name), archive.load(name, halves=True)

    assert whole.trials.arm.tolist() == [1, 0]
    assert whole.trials.order.tolist() == [0, 1]
    assert whole.trials.status.tolist() == [0, int(Status.CUT)]
    assert whole.trials.limit_s[1] == 9.0
    assert whole.trials.readings[:, 0].tolist() == [0.5, 9.0]
    assert np.isnan(whole.trials.readings[:, 1]).all()
    assert whole.excerpts[1] == "it broke"
    assert everything.trials.readings[:, 0].tolist() == [0.5, 9.0, 0.25]
    assert whole.head.state == "running"
    assert not whole.head.complete


def test_a_whole_record_is_kept_and_decided_alike(tmp_path: Path) -> None:
    """Paired and unpaired records decide after the archive as they do before it."""
    for paired in (True, False):
        record = made_record(
            {"w": {"a": noisy(9, 1, seed=1), "b": noisy(9, 1.2, seed=2)}}, paired=paired, origin="imported"
        )
        with Archive(tmp_path / f"{paired}.sqlite", create=True) as archive:
            writer, name = archive.begin(record.head)
            writer.arrays(record_arrays(record))
            writer.finish("complete")
            back = archive.load(name)

        assert verdicts_json(decide(back)) == verdicts_json(decide(record))


def test_every_commit_is_synced(tmp_path: Path) -> None:
    """Connections use the write-ahead log with full synchronisation."""
    with Archive(tmp_path / "a.sqlite", create=True) as archive:
        connection = archive._connection
        mode = connection.exec_driver_sql("PRAGMA journal_mode").scalar()
        sync = connection.exec_driver_sql("PRAGMA synchronous").scalar()

    assert (mode, sync) == ("wal", 2)


def test_records_have_readable_names_and_are_found_by_them(tmp_path: Path) -> None:
    """Names count up; a name, a UUID or its beginning finds a record; a slip is answered with the nearest."""
    with Archive(tmp_path / "a.sqlite", create=True) as archive:
        names = [begun(archive)[1] for _ in range(3)]  # type: ignore[index]
        newest = archive.head()

        assert names == ["made-up-1", "made-up-2", "made-up-3"]
        assert newest.name == archive.head(newest.uuid[:8]).name == "made-up-3"
        with pytest.raises(UnknownRecordError, match='did you mean "made-up-2"'):
            archive.head("mde-up-2")
        with pytest.raises(ArchiveError, match="already"):
            begun(archive, uuid=newest.uuid)


def test_what_is_no_archive_is_refused(tmp_path: Path) -> None:
    """A missing, damaged or newer file is one sentence."""
    with pytest.raises(ArchiveError, match="there is no archive"):
        Archive(tmp_path / "none.sqlite")
    damaged = tmp_path / "damaged.sqlite"
    damaged.write_bytes(b"not a database" * 100)
    with pytest.raises(ArchiveError, match="file is not a database"):
        Archive(damaged)
    newer = tmp_path / "newer.sqlite"
    with Archive(newer, create=True) as archive, pytest.raises(UnknownRecordError, match="holds no record"):
        archive.load()
    with sqlite3.connect(newer) as connection:
        connection.execute("INSERT INTO migration VALUES (99, 0)")
    with pytest.raises(ArchiveError, match="written by a newer Bystander"):
        Archive(newer)


def test_network_file_systems_are_refused() -> None:
    """The deepest mount decides."""
    mounts = "disk / ext4 rw 0 0\nserver:/x /net nfs4 rw 0 0\ndisk /net/local ext4 rw 0 0\n"

    refuse_network(Path("/home/a.sqlite"), mounts)
    refuse_network(Path("/net/local/a.sqlite"), mounts)
    with pytest.raises(ArchiveError, match="network file system"):
        refuse_network(Path("/net/team/a.sqlite"), mounts)


def test_an_import_that_breaks_leaves_nothing(tmp_path: Path) -> None:
    """Everything within `atomic` comes about together or not at all."""
    with Archive(tmp_path / "a.sqlite", create=True) as archive:
        with suppress(RuntimeError), archive.atomic():
            begun(archive)
            raise RuntimeError

        assert archive.heads() == []


def test_a_full_disk_is_told_apart_and_loses_nothing(tmp_path: Path) -> None:
    """It is an error that names how the record goes on; what was written before is there."""
    path = tmp_path / "a.sqlite"
    with Archive(path, create=True) as archive:
        writer, name = begun(archive)  # type: ignore[misc]
        writer.remark("before")
        archive._connection.exec_driver_sql("PRAGMA max_page_count = 1")
        archive._connection.rollback()
        with pytest.raises(NoSpaceError, match=r"the disk of the archive .* is full"):
            writer.remark("x" * 100_000)
    with Archive(path) as archive:
        assert archive.head(name).notes[-1] == "before"


def test_the_schema_known_to_readers_is_the_newest() -> None:
    """The number that is known without loading the schema is that of the last migration."""
    assert list(STEPS) == list(range(2, SCHEMA + 1))


def filled(path: Path, records: int = 2, blocks: int = 300) -> None:
    """Write records of so many whole blocks with two trials each, in one transaction."""
    with Archive(path, create=True) as archive:
        for _ in range(records):
            writer, _ = begun(archive)  # type: ignore[misc]
            with archive.atomic():
                for block in range(blocks):
                    for arm in range(2):
                        writer.trial(placed(0, block, arm, arm, last=arm == 1), outcome(0.5), 9.0)
                writer.finish("complete")


def test_records_are_removed_whole_and_their_room_is_given_back(tmp_path: Path) -> None:
    """Nothing of a removed record is left in any table; the other one is untouched; the file shrinks."""
    path = tmp_path / "a.sqlite"
    filled(path)
    with Archive(path) as archive:
        readings = archive.record_bytes()
        archive.remove(archive.head("made-up-1"))
    with sqlite3.connect(path) as connection:
        owned = [t for t in ("arm", "workload", "measure", "machine", "run", "block") if t]
        left = [connection.execute(f"SELECT DISTINCT record_id FROM {table}").fetchall() for table in owned]
        counts = [connection.execute(f"SELECT COUNT(*) FROM {t}").fetchone()[0] for t in ("trial", "attempt", "block")]
    before, after = compact(path)
    with Archive(path) as archive:
        kept = archive.load()

    assert readings == {"made-up-1": (600 * 8 * len(OBSERVED), 0), "made-up-2": (600 * 8 * len(OBSERVED), 0)}
    assert left == [[(2,)]] * 6
    assert counts == [600, 300, 300]
    assert after < before
    assert len(kept.trials) == 600


def test_notes_are_repeated(tmp_path: Path) -> None:
    """A note stands in the head and in every decision."""
    path = tmp_path / "a.sqlite"
    filled(path, 1, 9)
    with Archive(path) as archive:
        archive.note(archive.head(), "the crane was running")
        notes = decide(archive.load()).notes

    assert any(note.text == "the crane was running" for note in notes)


@pytest.mark.parametrize("seed", range(4))
def test_what_can_be_read_of_a_damaged_archive_is_saved(tmp_path: Path, seed: int) -> None:
    """Pages in the middle are overwritten with noise: the rest of the trials is there, and the new archive opens."""
    path, target = tmp_path / "a.sqlite", tmp_path / "b.sqlite"
    filled(path)
    compact(path)  # so that everything is in the one file
    data = bytearray(path.read_bytes())
    chance = np.random.default_rng(seed)
    pages = len(data) // 4096
    for page in chance.choice(np.arange(pages // 2, pages), 3, replace=False).tolist():
        data[page * 4096 : (page + 1) * 4096] = chance.bytes(4096)
    path.write_bytes(data)
    mended = mend(path, target)
    with Archive(target) as archive:
        heads = archive.heads()
        trials = [len(archive.load(head.name).trials) for head in heads]

    assert len(heads) == 2
    assert mended.gaps >= 1
    assert sum(trials) > 600
    with pytest.raises(ArchiveError, match="there already"):
        mend(path, target)


def test_a_third_of_all_pages_is_mended_in_seconds(tmp_path: Path) -> None:
    """Whatever was lost with them, what refers to it is left behind; progress is told, and few queries are made."""
    path, target = tmp_path / "a.sqlite", tmp_path / "b.sqlite"
    filled(path, 3, 800)
    compact(path)
    data = bytearray(path.read_bytes())
    chance = np.random.default_rng(5)
    for page in chance.choice(np.arange(42, len(data) // 4096), len(data) // 3 // 4096, replace=False).tolist():
        data[page * 4096 : (page + 1) * 4096] = chance.bytes(4096)
    path.write_bytes(data)
    told: list[tuple[str, int]] = []
    begun = time.monotonic()
    mended = mend(path, target, lambda table, rows: told.append((table, rows)))
    with Archive(target) as archive:
        trials = sum(len(archive.load(head.name).trials) for head in archive.heads())

    assert time.monotonic() - begun < 20  # it took minutes
    assert mended.gaps > 3
    assert trials > 400
    assert told[-1][1] <= mended.rows[told[-1][0]]
    assert {table for table, _ in told} >= {"record", "trial"}


def test_a_whole_archive_is_mended_whole(tmp_path: Path) -> None:
    """Without damage every row is saved; where nothing is left that is said."""
    path = tmp_path / "a.sqlite"
    filled(path, 1, 20)
    mended = mend(path, tmp_path / "b.sqlite")
    (tmp_path / "c.sqlite").write_bytes(b"SQLite format 3\0" + bytes(5000))

    assert (mended.gaps, mended.rows["trial"]) == (0, 40)
    with Archive(tmp_path / "b.sqlite") as archive:
        assert len(archive.load().trials) == 40
    with pytest.raises(ArchiveError, match="nothing can be read"):
        mend(tmp_path / "c.sqlite", tmp_path / "d.sqlite")
    assert not (tmp_path / "d.sqlite").exists()


def test_what_was_saved_of_a_removed_archive_before_stays(tmp_path: Path) -> None:
    """Each is saved under a name of its own, for its owner alone."""
    path = tmp_path / "a.sqlite"
    saved = [tmp_path / name for name in ("a.sqlite.saved", "a.sqlite.saved-2")]
    for elapsed in (1, 2):
        with Archive(path, create=True) as archive:
            writer, _ = begun(archive)  # type: ignore[misc]
            writer.trial(placed(0, 0, 0, 0, last=False), outcome(float(elapsed)), 9.0)
            path.unlink()
            with pytest.raises(ArchiveError, match=f"is saved in {saved[elapsed - 1]}"):
                archive.still_there()
        for end in ("-wal", "-shm"):
            path.with_name(path.name + end).unlink(missing_ok=True)
    found = []
    for one in saved:
        with Archive(one) as archive:
            found += archive.load(halves=True).column("elapsed").tolist()

    assert found == [1.0, 2.0]
    assert {one.stat().st_mode & 0o777 for one in saved} == {0o600}
