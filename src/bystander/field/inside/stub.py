"""Sets limits, niceness, affinity and address space of a trial, then becomes it.  The same in all arms.

Run by path, standard library only.

usage: stub.py JSON PATH ARGV...
JSON: {"limits": {"AS": bytes, ...}, "niceness": n, "affinity": [cpu, ...], "fixed_addresses": true,
       "account": descriptor to write at, "held": descriptor to wait at}
The account is what this stub itself has used when it becomes the program: its cost is no part of the trial.
"""

import json
import os
import resource
import sys
import time

ADDR_NO_RANDOMIZE = 0x0040000
REFUSED = 126


def fix_addresses():
    """Have the kernel lay out the address space alike each time (personality(2)); it lasts through exec."""
    import ctypes

    libc = ctypes.CDLL(None, use_errno=True)
    now = libc.personality(0xFFFFFFFF)
    if now < 0 or libc.personality(now | ADDR_NO_RANDOMIZE) < 0:
        raise OSError(ctypes.get_errno(), "the address space cannot be laid out alike here")


def prepare(wanted):
    """Set what is asked for."""
    for name, most in wanted.get("limits", {}).items():
        resource.setrlimit(getattr(resource, "RLIMIT_" + name), (most, most))
    if wanted.get("niceness"):
        os.nice(wanted["niceness"])
    if wanted.get("affinity") and hasattr(os, "sched_setaffinity"):
        os.sched_setaffinity(0, wanted["affinity"])
    if wanted.get("fixed_addresses"):
        fix_addresses()


def leave_account(to):
    """Write down the time and what was used so far; close to the last thing done here."""
    try:
        with open("/proc/self/schedstat") as f:
            on_cpu, queued, _ = f.read().split()
    except (OSError, ValueError):
        on_cpu, queued = 0, 0
    os.set_inheritable(to, False)  # the program gets no end of it, and can say nothing in our place
    usage = resource.getrusage(resource.RUSAGE_SELF)
    report = {
        "user_s": usage.ru_utime,
        "system_s": usage.ru_stime,
        "minor_faults": usage.ru_minflt,
        "major_faults": usage.ru_majflt,
        "voluntary_switches": usage.ru_nvcsw,
        "involuntary_switches": usage.ru_nivcsw,
        "on_cpu_ns": int(on_cpu),
        "run_queue_ns": int(queued),
        "started_wall_ns": time.time_ns(),
        "started_ns": time.monotonic_ns(),
    }
    os.write(to, json.dumps(report).encode())


def held(fd):
    """Wait until somebody watches; return False when nobody ever will."""
    word = os.read(fd, 1)
    os.close(fd)
    return bool(word)


def main():
    """Set what is asked for, and become the program."""
    try:
        wanted = json.loads(sys.argv[1])
        prepare(wanted)
        if "held" in wanted and not held(wanted["held"]):
            sys.exit(REFUSED)
        if "account" in wanted:
            leave_account(wanted["account"])
    except (OSError, ValueError) as error:
        sys.stderr.write("bystander could not prepare the trial: %s\n" % error)
        sys.exit(REFUSED)
    os.execv(sys.argv[2], sys.argv[3:])


if __name__ == "__main__":
    main()
