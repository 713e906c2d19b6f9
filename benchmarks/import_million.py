"""Importing and deciding one million rows of readings from CSV: elapsed time of the installed program."""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
from common import CALM, tell

ROWS = 1_000_000
SHAPES = {"500 workloads x 1,000 blocks": 500, "5 workloads x 100,000 blocks": 5, "unpaired, 50 workloads": 50}


def written(file: Path, workloads: int, paired: bool) -> None:
    """Write a file of so many workloads, two arms each."""
    blocks = ROWS // workloads // 2
    values = np.exp(np.random.default_rng(1).normal(-2, 0.05, ROWS))
    with file.open("w", encoding="ascii") as out:
        out.write("workload,arm,block,order,measure,value,unit\n")
        for i, value in enumerate(values):
            w, rest = divmod(i, 2 * blocks)
            block, arm = divmod(rest, 2)
            where = f"{block},{(arm + block * 7919) % 2}" if paired else ","
            out.write(f"w{w},{('before', 'after')[arm]},{where},elapsed,{value:.9f},s\n")


def main() -> None:
    """Write, import, decide; print seconds."""
    ours = str(Path(sys.executable).with_name("bystander"))
    for shape, workloads in SHAPES.items():
        with tempfile.TemporaryDirectory() as scratch:
            folder = Path(scratch)
            written(folder / "t.csv", workloads, "unpaired" not in shape)
            for words, wanted in ((["records", "import", "t.csv"], "under 10"), (["decide", "--json"], "-")):
                begun = time.perf_counter()
                subprocess.run([ours, *words], cwd=folder, env=CALM, stdout=subprocess.DEVNULL, check=True)
                tell(f"{shape}: {words[0]} {words[1]}", time.perf_counter() - begun, "s", wanted)


if __name__ == "__main__":
    main()
