"""500 workloads under 2 arms: check --plan-only, decide, and what the live display takes of a processor."""

from __future__ import annotations

import os
import pty
import subprocess
import tempfile
import time
from pathlib import Path

from common import BYSTANDER, CALM, tell

HEAD = "blocks = {blocks}\n[arms.before]\n[arms.after]\nsettings.n = 1\n"


def study(folder: Path, workloads: int, blocks: int, command: str) -> None:
    """Write a study of so many workloads."""
    text = HEAD.format(blocks=blocks) + "".join(
        f'[workloads.w{i:03d}]\ncommand = "{command}"\n' for i in range(workloads)
    )
    (folder / "bystander.toml").write_text(text, encoding="utf-8")


def seconds(folder: Path, *words: str) -> float:
    """Return how long a command takes."""
    begun = time.monotonic()
    subprocess.run([BYSTANDER, *words], cwd=folder, env=CALM, stdout=subprocess.DEVNULL, check=True)
    return time.monotonic() - begun


def on_a_terminal(folder: Path, *words: str) -> tuple[float, float]:
    """Return (CPU, elapsed) seconds of a command on a terminal that is read, its trials left out."""
    begun = time.monotonic()
    process, terminal = pty.fork()
    if process == 0:
        os.chdir(folder)
        os.execve(BYSTANDER, [BYSTANDER, *words], CALM)
    try:
        while os.read(terminal, 1 << 16):
            pass
    except OSError:  # closed from the other side
        pass
    _, _, usage = os.wait4(process, 0)
    elapsed = time.monotonic() - begun
    os.close(terminal)
    return usage.ru_utime + usage.ru_stime, elapsed


def main() -> None:
    """Measure, and print medians."""
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch)
        study(folder, 500, 8, "true")
        runs = [seconds(folder, "check", "--plan-only") for _ in range(5)]
        tell("500 workloads: check --plan-only", sorted(runs)[2], "s", "under 3")
        seconds(folder, "observe", "--quiet")
        runs = [seconds(folder, "decide") for _ in range(5)]
        tell("500 workloads x 8 blocks: decide", sorted(runs)[2], "s", "under 3")
        study(folder, 40, 6, "sleep 0.05")
        shares = []
        for _ in range(3):
            with_display, elapsed = on_a_terminal(folder, "observe")
            without, _ = on_a_terminal(folder, "observe", "--quiet")
            shares.append(100 * (with_display - without) / elapsed)
        tell("40 workloads: the display's share of one core", sorted(shares)[1], "%", "under 2")


if __name__ == "__main__":
    main()
