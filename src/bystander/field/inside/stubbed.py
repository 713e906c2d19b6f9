"""What stands between the launcher and a program: a stub, and a pipe each way.  Standard library only.

The stub sets what the program inherits, waits until somebody watches, and says what it used itself before it became
the program: that is taken from the trial's account.
"""

import json
import os
import sys

from readiness import moved_up

STUB = os.path.join(os.path.dirname(os.path.abspath(__file__)), "stub.py")
HELD_FD, ACCOUNT_FD = 3, 4  # the stub waits until somebody watches, and says what it used; the program gets neither
MOST_ACCOUNT = 4096
FROM_START = ("elapsed_ns", "until_ready_ns", "until_output_ns")
USED = ("user_s", "system_s", "minor_faults", "major_faults", "voluntary_switches", "involuntary_switches")


def command_of(request):
    """Return path and arguments; a stub stands before the command when limits or affinity are asked for.

    A limit set from outside after the start would come too late for what the trial starts at once.
    """
    wanted = dict(request.get("stub") or {})
    if request.get("hold"):
        wanted["held"] = HELD_FD
    if request["memory_bytes"]:
        wanted["limits"] = dict(wanted.get("limits", {}), AS=request["memory_bytes"])
    if not wanted:
        return request["path"], request["argv"]
    wanted["account"] = ACCOUNT_FD
    stub = [sys.executable, "-I", "-S", STUB, json.dumps(wanted), request["path"]]
    return sys.executable, stub + request["argv"]


def without_stub(answer, told):
    """Take from an account what the stub used before it became the program."""
    try:
        stub = json.loads(told)
    except ValueError:  # it did not get so far
        return
    for name in FROM_START:
        if name in answer:
            answer[name] -= stub["started_ns"] - answer["started_ns"]
    answer.update(started_ns=stub["started_ns"], started_wall_ns=stub["started_wall_ns"])
    for name in USED:
        answer[name] = max(0, answer[name] - stub[name])
    if answer["on_cpu_ns"] >= 0:
        answer["on_cpu_ns"] = max(0, answer["on_cpu_ns"] - stub["on_cpu_ns"])
        answer["run_queue_ns"] = max(0, answer["run_queue_ns"] - stub["run_queue_ns"])


class Pipe:
    """A pipe between the launcher and the stub; nothing where nobody asks for it."""

    def __init__(self, asked, theirs, at):
        self.ends = tuple(map(moved_up, os.pipe())) if asked else (-1, -1)
        self.theirs, self.at = self.ends[theirs], at

    def actions(self):
        """Return what gives the child its end."""
        return [(os.POSIX_SPAWN_DUP2, self.theirs, self.at)] if self.theirs >= 0 else []

    def until_watched(self, pid, requests, say):
        """Say which process waits, and let it go on at the next word; return False when there is none."""
        if self.theirs < 0:
            return True
        say({"held": pid})
        if requests.next() is None:
            return False
        os.write(self.ends[1], b"!")
        return True

    def told(self):
        """Return what was written so far."""
        os.set_blocking(self.ends[0], False)
        try:
            return os.read(self.ends[0], MOST_ACCOUNT)
        except BlockingIOError:
            return b""

    def close(self):
        """Give both ends back."""
        for fd in self.ends:
            if fd >= 0:
                os.close(fd)
