"""What the benchmarks share: a C program built on the spot, CPU times of commands, and how results are told."""

from __future__ import annotations

import os
import platform
import resource
import statistics
import subprocess
import sys
from pathlib import Path

__all__ = ["BYSTANDER", "CALM", "build_c", "cpu_seconds", "median_cpu", "tell"]

BYSTANDER = str(Path(sys.executable).with_name("bystander"))
# Compiled files are kept between runs, as they are once Bystander is installed.
CALM = {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}


def build_c(source: str, folder: Path) -> Path:
    """Compile a C program and return its path; needs `cc`."""
    code, program = folder / "program.c", folder / "program"
    code.write_text(source, encoding="ascii")
    subprocess.run(["cc", "-O2", "-o", str(program), str(code)], check=True)
    return program


def cpu_seconds(words: list[str], cwd: Path | None = None) -> float:
    """Return user and system time of one run of a command."""
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    subprocess.run(words, cwd=cwd, env=CALM, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=True)
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return after.ru_utime - before.ru_utime + after.ru_stime - before.ru_stime


def median_cpu(commands: dict[str, list[str]], runs: int, cwd: Path | None = None) -> dict[str, float]:
    """Return the median CPU seconds of several commands, run in turn so that drift hits all alike."""
    for words in commands.values():
        cpu_seconds(words, cwd)  # the first run fills caches
    found: dict[str, list[float]] = {name: [] for name in commands}
    for _ in range(runs):
        for name, words in commands.items():
            found[name].append(cpu_seconds(words, cwd))
    return {name: statistics.median(values) for name, values in found.items()}


def tell(what: str, value: float, unit: str, wanted: str) -> None:
    """Print one result."""
    machine = f"Python {platform.python_version()}, {os.cpu_count()} cores"
    print(f"{Path(sys.argv[0]).stem}: {what}: {value:.3g} {unit} (wanted: {wanted}; {machine})")
