"""Runs a command and prints the CPU-seconds that it and all its children took: `cpu_seconds.py COMMAND ...`."""

from __future__ import annotations

import ctypes
import os
import resource
import subprocess
import sys
from contextlib import suppress

_SUBREAPER = 36


def main() -> int:
    """Return the command's exit code."""
    with suppress(OSError, AttributeError):  # children that outlive their parents are then counted here too
        ctypes.CDLL(None).prctl(_SUBREAPER, 1, 0, 0, 0)
    code = subprocess.run(sys.argv[1:], check=False).returncode
    with suppress(ChildProcessError):
        while os.waitpid(-1, os.WNOHANG)[0]:
            pass
    spent = resource.getrusage(resource.RUSAGE_CHILDREN)
    print(f"{spent.ru_utime + spent.ru_stime:.0f} CPU-seconds, children included", flush=True)
    return code


if __name__ == "__main__":
    sys.exit(main())
