"""Sets limits, niceness and affinity of a trial, then becomes it.  The same in all arms; standard library only.

usage: stub.py JSON PATH ARGV...
JSON: {"limits": {"AS": bytes, ...}, "niceness": n, "affinity": [cpu, ...]}
"""

import json
import os
import resource
import sys


def main():
    """Set what is asked for, and become the program."""
    wanted = json.loads(sys.argv[1])
    for name, most in wanted.get("limits", {}).items():
        resource.setrlimit(getattr(resource, "RLIMIT_" + name), (most, most))
    if wanted.get("niceness"):
        os.nice(wanted["niceness"])
    if wanted.get("affinity") and hasattr(os, "sched_setaffinity"):
        os.sched_setaffinity(0, wanted["affinity"])
    os.execv(sys.argv[2], sys.argv[3:])


if __name__ == "__main__":
    main()
