"""`bystander decide` on the recorded demo, against starting Python with the libraries it needs: CPU time."""

from __future__ import annotations

import subprocess
import sys
import tempfile
from pathlib import Path

from common import CALM, median_cpu, tell


def main() -> None:
    """Run in turn and print medians and the ratio."""
    ours = str(Path(sys.executable).with_name("bystander"))
    with tempfile.TemporaryDirectory() as scratch:
        office = Path(scratch, "office")
        subprocess.run([ours, "demo", str(office), "--recorded"], env=CALM, stdout=subprocess.DEVNULL, check=True)
        libraries = [sys.executable, "-c", "import numpy, typer, rich.console, rich.table"]
        seen = median_cpu({"libraries": libraries, "ours": [ours, "decide"]}, 15, office)
    tell("importing the libraries alone, CPU", seen["libraries"], "s", "-")
    tell("bystander decide, CPU", seen["ours"], "s", "under 1.2")
    tell("ratio", seen["ours"] / seen["libraries"], "times", "-")


if __name__ == "__main__":
    main()
