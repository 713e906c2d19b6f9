"""When a trial is ready: it prints a line, a file appears, or a port answers.  Standard library only, as the launcher.

What is looked for in the output needs a pipe: the launcher reads it, looks, and writes it into the file that takes
the output otherwise.  By what was measured that costs a program 0.2 ms in a megabyte; to look at the file itself every
millisecond costs it 3 % of its time, and notices of the kernel (inotify(7)) cost 9 ms in 10,000 writes.  Files and
ports are looked at every millisecond all the same.
"""

import fcntl
import os
import re
import select
import socket
import time

CHUNK = 1 << 16
PIPE_BYTES = 1 << 20
HELD_BYTES = 1 << 22  # of the output that is not written down yet: that is done after the trial, as far as it can be
F_SETPIPE_SZ = 1031
LONGEST_LINE = 1 << 16  # of which the end is looked through once more when the rest of it comes
LOOK_MS = 1


def watch_for(asked, files):
    """Return what watches a trial; nothing happens where nothing is asked for."""
    if not asked:
        return Nothing()
    if asked.get("pattern"):
        return Printed(asked["pattern"], files, asked["end"])
    if asked.get("file"):
        return Looked(lambda: os.path.lexists(asked["file"]), "the file %s is there" % asked["file"], asked["end"])
    return Looked(lambda: answers(asked["port"]), "something answers on port %d" % asked["port"], asked["end"])


def answers(port):
    """Whether something takes connections on a port of this machine."""
    for family, host in ((socket.AF_INET, "127.0.0.1"), (socket.AF_INET6, "::1")):
        try:
            with socket.socket(family, socket.SOCK_STREAM) as one:
                one.settimeout(0.5)
                one.connect((host, port))
                return True
        except OSError:
            continue
    return False


def moved_up(fd):
    """Return a descriptor for the same that stands in nobody's place in a child."""
    higher = fcntl.fcntl(fd, fcntl.F_DUPFD_CLOEXEC, 10)
    os.close(fd)
    return higher


def sure_part(pattern):
    """Return the longest text that all matches of a pattern hold, as far as that is plain to see; "" otherwise.

    To find it is a hundred times quicker than to search for a pattern.
    """
    if any(letter in pattern for letter in "|([#") or re.search(r"\\[xuUN0-9]", pattern):
        return ""
    runs = re.split(r"\\.|.[?*]|.\{[^}]*\}|[.^$+\]{}?*]", pattern, flags=re.DOTALL)
    return max(runs, key=len)


class Nothing:
    """Nobody asks when the trial is ready.

    `until_ns` and `output_ns` are on the monotonic clock: when it was ready, and when it first printed; None before.
    `taken` says why it could not be told, as a clause about what is so before the trial.  `look_ms` is until the next
    look; None for none.  `held_bytes` were printed and are in no file yet.
    """

    look_ms = None
    asked = False
    end = False
    until_ns = None
    output_ns = None
    held_bytes = 0
    taken = ""

    def actions(self):
        """Return what leads the child's output here."""
        return []

    def begun(self):
        """The child is there, or could not be started."""

    def fds(self):
        """Return descriptors that become readable when there is something to read."""
        return []

    def step(self, _ready, _ended):
        """Look once, at those descriptors that are readable; leave off when the trial ends."""

    def close(self):
        """Take what is left when all of the trial has ended, and give all descriptors back."""


class Looked(Nothing):
    """Something outside the output that is there once the trial is ready."""

    look_ms = LOOK_MS
    asked = True

    def __init__(self, there, words, end):
        self.there, self.end = there, end
        self.taken = words if there() else ""

    def step(self, _ready, _ended):
        """Look whether it is there."""
        if self.until_ns is None and self.there():
            self.until_ns = time.monotonic_ns()
            self.look_ms = None


class Printed(Nothing):
    """A pattern in the output or the errors, line by line."""

    asked = True

    def __init__(self, pattern, files, end):
        self.pattern = re.compile(pattern.encode("utf-8", "surrogateescape"), re.MULTILINE)
        self.sure = sure_part(pattern).encode("utf-8", "surrogateescape")
        self.end = end
        self.theirs, self.files, self.lines, self.held = [], {}, {}, {}
        for file in files:
            ours, theirs = map(moved_up, os.pipe())
            os.set_blocking(ours, False)
            try:
                fcntl.fcntl(ours, F_SETPIPE_SZ, PIPE_BYTES)
            except OSError:  # the user has many of them: then one of the usual size does
                pass
            self.theirs.append(theirs)
            self.files[ours], self.lines[ours], self.held[file] = file, b"", []

    def actions(self):
        """Return what gives the child the ends to write to."""
        return [(os.POSIX_SPAWN_DUP2, fd, number) for number, fd in enumerate(self.theirs, 1)]

    def begun(self):
        """Let go of the child's ends."""
        for fd in self.theirs:
            os.close(fd)
        self.theirs = []

    def fds(self):
        """Return our ends, as long as somebody holds the others."""
        return list(self.files)

    def step(self, ready, ended):
        """Read what can be read, as much as a pipe holds."""
        now = time.monotonic_ns()
        for fd in ready:
            for _ in range(PIPE_BYTES // CHUNK):
                if fd not in self.files or not self.pumped(fd, now) or ended():
                    break

    def pumped(self, fd, now):
        """Read once and look; return whether there may be more already."""
        try:
            data = os.read(fd, CHUNK)
        except BlockingIOError:
            return False
        if not data:
            os.close(fd)
            del self.files[fd]
            return False
        if self.output_ns is None:
            self.output_ns = now
        if self.until_ns is None:
            text = self.lines[fd] + data
            if self.sure in text and self.pattern.search(text):
                self.until_ns = now
            self.lines[fd] = text[text.rfind(b"\n") + 1 :][-LONGEST_LINE:]
        self.held[self.files[fd]].append(data)
        self.held_bytes += len(data)
        if self.held_bytes > HELD_BYTES:
            self.write_down()
        return True

    def write_down(self):
        """Write what was read into the files."""
        for file, parts in self.held.items():
            for part in parts:
                while part:
                    part = part[os.write(file, part) :]
            parts.clear()
        self.held_bytes = 0

    def close(self):
        """Take what is still in the pipes: all who could write are gone, or are let go of."""
        self.begun()
        while ready := select.select(self.fds(), [], [], 0)[0]:
            self.step(ready, lambda: False)
        for fd in self.fds():
            os.close(fd)
        self.files = {}
        self.write_down()
