"""Runs a command and prints the CPU-seconds that it and all its children took: `cpu_seconds.py COMMAND ...`."""

from __future__ import annotations

import ctypes
import os
import resource
import sys
from contextlib import suppress

_SUBREAPER = 36


def main() -> int:
    """Return the command's exit code."""
    with suppress(OSError, AttributeError):  # children that outlive their parents are then counted here too
        ctypes.CDLL(None).prctl(_SUBREAPER, 1, 0, 0, 0)
    child, code = os.posix_spawnp(sys.argv[1], sys.argv[1:], os.environ), 1
    while True:  # orphans too: a zombie that nobody reaps would pass for a process that lives
        process, status = os.wait()
        if process == child:
            code = os.waitstatus_to_exitcode(status)
            break
    with suppress(ChildProcessError):
        while os.waitpid(-1, os.WNOHANG)[0]:
            pass
    spent = resource.getrusage(resource.RUSAGE_CHILDREN)
    print(f"{spent.ru_utime + spent.ru_stime:.0f} CPU-seconds, children included", flush=True)
    return code if code >= 0 else 128 - code


if __name__ == "__main__":
    sys.exit(main())
