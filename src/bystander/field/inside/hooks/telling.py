"""What hooks share: they reach all threads and forks of a process, and tell when it ends.

Standard library only, Python 3.8 and later.  What was seen is written when the process ends: at its exit, before it
leaves without one, and before it becomes another program.  A process that is killed leaves only the note that it began.
"""

import _thread
import abc
import atexit
import json
import os
import sys


class Telling(abc.ABC):
    """One process; a hook of the interpreter that is given to each of its threads."""

    set_hook = get_hook = set_for_threads = None  # functions of sys and threading
    took = ""  # what the program did when it took the hook for itself

    def __init__(self, folder):
        self.folder = folder
        self.problems = []
        self.process = 0

    @abc.abstractmethod
    def hook(self):
        """Return the hook of one thread, with tables of its own: one for all would lose counts."""

    @abc.abstractmethod
    def forget(self):
        """Empty all tables."""

    @abc.abstractmethod
    def told(self):
        """Return what was seen, as plain values."""

    def begin(self):
        """Look from now on, in all threads."""
        self.note()
        self.set_for_threads(self.enter)
        start = _thread.start_new_thread

        def started(function, args, kwargs=None, *rest, **more):
            def run(*words, **named):
                self.set_hook(self.hook())
                return function(*words, **named)

            return start(run, args, *(() if kwargs is None else (kwargs,)), *rest, **more)

        _thread.start_new_thread = started
        if hasattr(os, "register_at_fork"):
            os.register_at_fork(after_in_child=self.forked)
        for name in ("_exit", "execv", "execve"):
            if hasattr(os, name):
                setattr(os, name, self.last(getattr(os, name)))
        atexit.register(self.write)
        self.own = self.hook()
        self.set_hook(self.own)

    def enter(self, frame, event, arg):
        """Give a thread its hook at its first event."""
        hook = self.hook()
        self.set_hook(hook)
        return hook(frame, event, arg)

    def last(self, function):
        """Return a function that writes what was seen before it does its work."""

        def leave(*words, **named):
            self.write()
            return function(*words, **named)

        return leave

    def note(self):
        """Leave a note that this process is looked at."""
        self.process = os.getpid()
        self.name = "%d-%s" % (self.process, os.urandom(4).hex())
        open(os.path.join(self.folder, self.name + ".begun"), "w").close()

    def forked(self):
        """Begin anew in a process that was forked: what its parent did is its parent's."""
        self.forget()
        self.note()

    def write(self):
        """Write down what was seen, and look no more."""
        if self.get_hook() is None and self.process == os.getpid():
            self.problems.append(self.took)
        self.set_hook(None)
        self.set_for_threads(None)
        if self.process != os.getpid():
            return
        self.process = 0
        told = self.told()
        told["python"] = "%d.%d.%d" % sys.version_info[:3]
        told["problems"] = self.problems
        part = os.path.join(self.folder, self.name + ".part")
        with open(part, "w") as file:
            json.dump(told, file)
        os.rename(part, os.path.join(self.folder, self.name + ".json"))
