"""How long the machine idles between two trials of an observation, beyond the disk's own sync.

A whole observation of /bin/true runs through the program's own loop; idle time is what lies between a
trial's end and the next one's start. The disk's sync is measured in the same folder, by appending and
syncing as many pages as a commit writes.
"""

from __future__ import annotations

import os
import statistics
import tempfile
import time
from pathlib import Path

import numpy as np
from common import tell

from bystander.archive import Archive
from bystander.design import Arm, Command, Study, Workload
from bystander.field import StudyFolder
from bystander.flow.commands.observe import observe
from bystander.flow.observer import Silent

BLOCKS = 150
COMMIT_BYTES = 4 * 4096


def sync_seconds(folder: Path) -> float:
    """Return the median time of appending a commit's worth of bytes and syncing them."""
    times = []
    with (folder / "sync").open("wb", buffering=0) as file:
        for _ in range(100):
            begun = time.perf_counter()
            file.write(b"x" * COMMIT_BYTES)
            os.fdatasync(file.fileno())
            times.append(time.perf_counter() - begun)
    return statistics.median(times)


def main() -> None:
    """Observe and print the median idle time."""
    with tempfile.TemporaryDirectory(dir=".") as scratch:
        folder = Path(scratch)
        os.environ["BYSTANDER_LOCK"] = str(folder / "lock")
        study = Study(
            "idle",
            (Arm("before", in_place=True), Arm("after", in_place=True)),
            (Workload("true", "true", Command("/bin/true")),),
            blocks=BLOCKS,
        )
        archive = folder / "archive.sqlite"
        observe(study, StudyFolder(folder), archive, os.environ, Silent())
        with Archive(archive) as kept:
            trials = kept.load().trials
        ends = trials.started_s + trials.readings[:, 0]
        idle = float(np.median(trials.started_s[1:] - ends[:-1]))
        sync = sync_seconds(folder)
    tell("between trials, median", idle * 1e3, "ms", "-")
    tell("the disk's own sync, median", sync * 1e3, "ms", "-")
    tell("idle beyond the sync", (idle - sync) * 1e3, "ms", "under 2")


if __name__ == "__main__":
    main()
