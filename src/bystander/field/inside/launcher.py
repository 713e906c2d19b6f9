"""The launcher: starts one trial at a time and accounts for it.  Run by path, standard library only.

A small process of its own, for three reasons: a child's peak memory is never reported below that of the process that
started it; starting a child from a large process is slow; and it outlives a killed Bystander to end the whole tree.

Protocol: one JSON object per line, requests on standard input and answers on standard output.  When
standard input ends, Bystander is gone: the tree is ended and the launcher leaves.

usage: launcher.py OUTPUT ERRORS LOCK...
All are descriptors: files that take what a trial prints, and the machine lock, which is held here too.  A trial has
the first two as its standard output and errors; it cannot put others in their place.
"""

import ctypes
import errno
import json
import os
import resource
import select
import signal
import sys
import time

sys.path.insert(0, os.path.dirname(os.path.abspath(__file__)))
from processes import below, end_all, forget_own_peak, kill, own_peak_bytes, run_queue_ns
from readiness import watch_for
from stubbed import ACCOUNT_FD, HELD_FD, Pipe, command_of, without_stub

PR_SET_CHILD_SUBREAPER = 36
LOOK_MS, REST_MS = 100, 1
GRACE_NS = 5000000000  # in which a trial that is asked to end may do so
LIMITED = ("NOFILE", "CPU", "AS", "DATA", "STACK", "FSIZE", "NPROC", "CORE")
LIMITS = [getattr(resource, "RLIMIT_" + name) for name in LIMITED]
NUMBERS = [0]  # of the request that is answered
FILES = []  # the two descriptors of what a trial prints
ALL_SIGNALS = [s for s in range(1, signal.NSIG) if s not in (signal.SIGKILL, signal.SIGSTOP, 32, 33)]


class Requests:
    """Lines from standard input, read without a buffer that could hide them from poll()."""

    def __init__(self):
        self.pending = b""

    def next(self):
        """Return the next request, or None when the other end is closed."""
        while b"\n" not in self.pending:
            data = os.read(0, 1 << 16)
            if not data:
                return None
            self.pending += data
        line, self.pending = self.pending.split(b"\n", 1)
        request = json.loads(line)
        NUMBERS[0] = request.get("number", NUMBERS[0])
        return request


def become_subreaper():
    """Adopt orphans of a trial, so that none of them can leave its tree unseen."""
    try:
        return ctypes.CDLL(None).prctl(PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0) == 0
    except (OSError, AttributeError):
        return False


def reap():
    """Reap what has ended; return False when there is no child at all."""
    while True:
        try:
            pid, _ = os.waitpid(-1, os.WNOHANG)
        except ChildProcessError:
            return False
        if pid == 0:
            return True


def end_tree():
    """End and reap every descendant, also those that started while we looked; return how many."""
    return end_all(lambda: below(os.getpid()), reap)


def printed(request):
    """Return how many bytes the trial has printed so far, or told of itself."""
    size = os.fstat(FILES[0]).st_size + os.fstat(FILES[1]).st_size
    try:
        return size + os.lstat(request["marks"]).st_size if request.get("marks") else size
    except OSError:
        return size


class Itself:
    """What a trial may do to its launcher: stop it for a while, so that an end is seen too late, or limit it.

    Limits, niceness and processors are handed down to every later trial, of all arms.
    """

    def __init__(self):
        self.often = 0
        signal.signal(signal.SIGCONT, self.noticed)
        self.first = self.state()

    def state(self):
        """Return what trials inherit and others can set."""
        limits = [resource.getrlimit(number) for number in LIMITS]
        affinity = os.sched_getaffinity(0) if hasattr(os, "sched_getaffinity") else None
        return limits, affinity, os.getpriority(os.PRIO_PROCESS, 0)

    def noticed(self, _number, _frame):
        """Count one."""
        self.often += 1


class Exits:
    """Waits for one child's end, for its being ready, for the other end of the control pipe, and for the limit."""

    def __init__(self, pid, watch):
        self.pid, self.watch = pid, watch
        self.pidfd = os.pidfd_open(pid) if hasattr(os, "pidfd_open") else -1
        self.end, self.all = select.poll(), select.poll()
        for poll in (self.end, self.all):
            poll.register(0, select.POLLIN | select.POLLHUP)
            if self.pidfd >= 0:
                poll.register(self.pidfd, select.POLLIN)
        for fd in watch.fds():
            self.all.register(fd, select.POLLIN)

    def wait(self, limit_ns, too_much, end=False):
        """Return "ended", "cut", "flood", "abort" or, where it ends then, "ready"; and the monotonic time in ns.

        What the trial has printed is looked at ten times a second; `too_much` says whether it is over.  What comes
        through a pipe is read, and then left alone for a moment: whoever reads at each write is in the writer's way.
        """
        stop, resting = time.monotonic_ns() + limit_ns, False
        while True:
            look_ms = REST_MS if resting else LOOK_MS if self.watch.look_ms is None else self.watch.look_ms
            left_ms = min(max(0, -(-(stop - time.monotonic_ns()) // 1000000)), look_ms)
            events = (self.end if resting else self.all).poll(left_ms if self.pidfd >= 0 else min(left_ms, 1))
            now = time.monotonic_ns()
            ready = [fd for fd, _ in events]
            if self.watch.asked:
                resting = self._watched(ready)
                if end and self.watch.until_ns is not None:
                    return "ready", self.watch.until_ns
            if self.pidfd in ready or (self.pidfd < 0 and self._ended()):
                return "ended", now
            if 0 in ready:
                return "abort", now
            if now >= stop:
                return "cut", now
            if too_much():
                return "flood", now

    def _watched(self, ready):
        """Let what watches look; return whether it read something."""
        before = self.watch.fds()
        self.watch.step(ready, self._ended)
        for fd in set(before) - set(self.watch.fds()):
            self.all.unregister(fd)
        return not set(before).isdisjoint(ready)

    def _ended(self):
        return os.waitid(os.P_PID, self.pid, os.WEXITED | os.WNOWAIT | os.WNOHANG) is not None

    def close(self):
        """Give the descriptor back."""
        if self.pidfd >= 0:
            os.close(self.pidfd)


def emptied():
    """Make both files of what a trial prints empty, and begin at their start."""
    for fd in FILES:
        os.ftruncate(fd, 0)
        os.lseek(fd, 0, os.SEEK_SET)


def asked_to_end(pid, exits, too_much):
    """Ask a trial that is ready to end, and wait for it a while; return whether it did."""
    try:
        os.killpg(pid, signal.SIGTERM)
    except (ProcessLookupError, PermissionError):
        pass
    return exits.wait(GRACE_NS, too_much)[0] == "ended"


def run_trial(request, requests, itself):
    """Run one trial to its end and return its account."""
    limit_ns, stopped = int(request["limit_s"] * 1e9), itself.often
    answer = {"status": "not-started", "detail": 0}
    answer.update(started_wall_ns=time.time_ns(), started_ns=time.monotonic_ns())
    path, argv = command_of(request)
    emptied()
    watch = watch_for(request.get("ready"), FILES)
    if watch.taken:
        return dict(answer, status="taken", said=watch.taken)
    hold, stub = Pipe(request.get("hold"), 0, HELD_FD), Pipe(argv != request["argv"], 1, ACCOUNT_FD)
    try:
        os.chdir(request["folder"])
        actions = [
            (os.POSIX_SPAWN_OPEN, 0, request.get("input") or os.devnull, os.O_RDONLY, 0),
            (os.POSIX_SPAWN_DUP2, FILES[0], 1),
            (os.POSIX_SPAWN_DUP2, FILES[1], 2),
            *watch.actions(),
            *hold.actions(),
            *stub.actions(),
        ]
        forget_own_peak()
        answer["started_wall_ns"] = time.time_ns()
        started = answer["started_ns"] = time.monotonic_ns()
        pid = os.posix_spawn(
            path,
            argv,
            request["environment"],
            file_actions=actions,
            setpgroup=0,
            setsigmask=[],
            setsigdef=ALL_SIGNALS,
        )
    except (OSError, ValueError) as error:  # ValueError: a zero byte among the words
        answer["detail"] = getattr(error, "errno", None) or errno.EINVAL
        hold.close()
        stub.close()
        watch.close()
        return answer
    watch.begun()
    try:
        if hold.until_watched(pid, requests, say):
            exits = Exits(pid, watch)

            def too_much():
                return printed(request) + watch.held_bytes > request["output_bytes"]

            outcome, ended = exits.wait(limit_ns, too_much, watch.end)
            gone = outcome == "ended" or (outcome == "ready" and asked_to_end(pid, exits, too_much))
            exits.close()
        else:
            outcome, ended, gone = "abort", time.monotonic_ns(), False
        if not gone:
            kill(pid, group=True)
            kill(pid)
        os.waitid(os.P_PID, pid, os.WEXITED | os.WNOWAIT)
        on_cpu, queued = run_queue_ns(pid)
        _, status, usage = os.wait4(pid, 0)
    finally:
        hold.close()
        left = end_tree() if reap() else 0
        watch.close()
        if printed(request) > request["output_bytes"]:  # what nobody will read need not fill the disk
            for fd in FILES:
                os.ftruncate(fd, min(os.fstat(fd).st_size, request["output_bytes"]))
    answer.update(account(outcome, status, usage), elapsed_ns=ended - started, left_behind=left)
    if watch.asked:
        told = {"until_ready_ns": watch.until_ns, "until_output_ns": watch.output_ns}
        answer.update({name: min(at, ended) - started for name, at in told.items() if at is not None})
        if watch.end and answer["status"] == "ok" and watch.until_ns is None:
            answer["status"] = "unready"
    # Read last: the child's mark began at ours as it was when the child became its program.
    answer.update(on_cpu_ns=on_cpu, run_queue_ns=queued, floor_bytes=own_peak_bytes())
    if stub.theirs >= 0:
        without_stub(answer, stub.told())
        stub.close()
    answer.update(stopped=itself.often - stopped, limited=itself.state() != itself.first)
    return answer


def account(outcome, status, usage):
    """Return how a reaped child ended and what it used."""
    code = os.WEXITSTATUS(status) if os.WIFEXITED(status) else 0
    ended = ("signal", os.WTERMSIG(status)) if os.WIFSIGNALED(status) else ("exit" if code else "ok", code)
    kind, detail = ended if outcome == "ended" else ("ok" if outcome == "ready" else outcome, 0)
    unit = 1 if sys.platform == "darwin" else 1024
    return {
        "status": kind,
        "detail": detail,
        "user_s": usage.ru_utime,
        "system_s": usage.ru_stime,
        "peak_bytes": usage.ru_maxrss * unit,
        "minor_faults": usage.ru_minflt,
        "major_faults": usage.ru_majflt,
        "voluntary_switches": usage.ru_nvcsw,
        "involuntary_switches": usage.ru_nivcsw,
    }


def say(answer):
    """Write an answer, with the number of what it answers."""
    os.write(1, json.dumps(dict(answer, number=NUMBERS[0])).encode() + b"\n")


def leave(signum, _frame):
    """Leave on SIGTERM, through every finally."""
    raise SystemExit(128 + signum)


def main():
    """Answer requests until the other end is closed."""
    os.setsid() if os.getsid(0) != os.getpid() else None
    for number in (signal.SIGINT, signal.SIGHUP, signal.SIGQUIT, signal.SIGTSTP):
        signal.signal(number, signal.SIG_IGN)
    signal.signal(signal.SIGTERM, leave)
    itself = Itself()
    given = list(map(int, sys.argv[1:]))
    for fd in given:  # the machine lock is held here too, but not by trials
        os.set_inheritable(fd, False)
    FILES[:] = given[:2]
    say({"ready": os.getpid(), "subreaper": become_subreaper()})
    requests = Requests()
    try:
        while True:
            request = requests.next()
            if request is None:
                return
            answer = run_trial(request, requests, itself)
            if answer["status"] == "abort" and not requests.pending:
                request = requests.next()  # the word that ended it, or the end
                if request is None:
                    return
            say(answer)
    except BrokenPipeError:
        pass
    finally:
        end_tree()


if __name__ == "__main__":
    main()
