"""Marks parts of a program as phases, and reports numbers of its own, to whoever runs it in a trial.

One file, standard library only, Python 3.8 or newer: copy it into your project. It does nothing unless the
environment variable BYSTANDER_MARKS names a file; then lines are appended to that file, whole ones only.

    from bystander_marks import deadline, interval, items, phase, reading

    with phase("parse"):                    # or phase("parse", "berth 7") to tell like instances apart
        ...
    @phase("print")                         # functions, also async ones and generators
    def table(): ...
    items("telegrams", 1200)                # how much work was done: must be the same in all arms
    reading("rows", 5e4, "", "more")        # any number, its unit, and which side is better
    interval("answer", 0.012)               # one of many: seconds from a question to its answer
    deadline("answer", 0.020)               # by when an answer must be there
"""

import atexit
import contextvars
import functools
import itertools
import os
import sys
import threading
import time

__all__ = ["deadline", "flush", "interval", "items", "listening", "phase", "reading"]

_FILE = os.environ.get("BYSTANDER_MARKS", "")
listening = bool(_FILE)
_MOST_HELD = 2000
_GENERATOR, _COROUTINE = 0x20, 0x80  # bits of a code object's flags
_FLUSH_NS = 50_000_000


class _Nothing:
    """What a phase is when nobody listens."""

    __slots__ = ()
    # Built in, because calls of Python functions are most of the cost: the first takes no argument, the second any
    # three, and what it returns is false, so that errors go on.
    __enter__ = object
    __exit__ = "".format

    def __call__(self, function):
        return function


_NOTHING = _Nothing()
_task = contextvars.ContextVar("bystander_task", default=0)  # the phase around, in tasks of an event loop
_lane = threading.local()
_held = []  # phases that ended
_lines = []  # everything else
_open = {}  # phases that have not ended
_ids = itertools.count(os.getpid() << 32 | 1)  # of no other process
_flushed_ns = time.monotonic_ns()
_writing = threading.Lock()
_cost_ns = 0
_registered = False


class _Phase:
    """One instance of a phase, or the decorator that makes one for every call."""

    __slots__ = ("around", "begin", "cpu", "id", "label", "name", "thread", "token")

    def __init__(self, name, label):
        self.name = name
        self.label = label

    def __enter__(self):
        try:
            self.thread = _lane.id
        except AttributeError:
            self.thread = _new_lane()
        _open[id(self)] = self
        loops = sys.modules.get("asyncio.events")
        if loops is not None and loops._get_running_loop() is not None:
            # Tasks take turns on one thread: its CPU time is not theirs, and what lies within is not inside.
            self.around = _task.get()
            self.id = next(_ids)
            self.token = _task.set(self.id)
            self.cpu = -1
        else:
            self.id = 0
            self.cpu = time.thread_time_ns()
        self.begin = time.monotonic_ns()
        return self

    def __exit__(self, kind, error, trace):
        end = time.monotonic_ns()
        if self.id:
            self._leave_task()
        else:
            self.cpu = time.thread_time_ns() - self.cpu
        _open.pop(id(self), None)
        self.token = end
        _held.append(self)
        if end - _flushed_ns > _FLUSH_NS or len(_held) >= _MOST_HELD:
            flush()

    def _leave_task(self):
        try:
            _task.reset(self.token)
        except ValueError:  # it ends in another task than it began in
            pass

    def __call__(self, function):
        name, label, kind = self.name, self.label, function.__code__.co_flags
        if kind & _COROUTINE:

            async def marked(*words, **named):
                with _Phase(name, label):
                    return await function(*words, **named)

        elif kind & _GENERATOR:

            def marked(*words, **named):
                with _Phase(name, label):
                    return (yield from function(*words, **named))

        else:

            def marked(*words, **named):
                with _Phase(name, label):
                    return function(*words, **named)

        return functools.wraps(function)(marked)


def phase(name, label=""):
    """Mark a part of the program: a context, and a decorator of functions.

    Parameters
    ----------
    name : str
        Instances of one name are summed.
    label : str
        Tells like instances apart: which file, which berth.
    """
    return _Phase(name, label)


if not listening:

    def phase(name, label=""):  # noqa: ARG001, D103
        return _NOTHING


def items(name, count):
    """Report how much work was done; a count that differs between arms is told like another answer."""
    if listening:
        _lines.append(("items", name, repr(count)))


def reading(name, value, unit="", better="less"):
    """Report a number of the program's own, once a trial.

    Parameters
    ----------
    unit : str
        ns, us, ms, s, min, h; B, kB, MB, GB, KiB, MiB, GiB; or any other word.
    better : str
        "less", "more", or "" where neither side is.
    """
    if listening:
        _lines.append(("reading", name, repr(value), unit, better))


def interval(name, seconds):
    """Report one of many like intervals, in seconds."""
    if listening:
        _lines.append(("interval", name, repr(seconds)))
        if len(_lines) >= _MOST_HELD:
            flush()


def deadline(name, seconds):
    """Say by when each interval of that name must have ended, in seconds."""
    if listening:
        _lines.append(("deadline", name, repr(seconds)))


def flush():
    """Write what is held; it is also done from time to time, and at the end of the process."""
    global _flushed_ns
    with _writing:
        held, lines = _taken(_held), _taken(_lines)
        _flushed_ns = time.monotonic_ns()
    told, process, places = [], os.getpid(), {}
    for one in held:
        what = one.name, one.label, one.thread
        place = places.get(what) or places.setdefault(what, _place(process, *what))
        told.append(f"phase\t{one.begin}\t{one.token - one.begin}{place}{one.cpu}")
        told.append(f"\t{one.id}\t{one.around}\n" if one.id else "\n")
    told += ["\t".join(map(_clean, words)) + "\n" for words in lines]
    if told:
        _append("".join(told).encode("utf-8", "replace"))


def _place(process, name, label, thread):
    return f"\t{_clean(name)}\t{_clean(label)}\t{process}\t{thread}\t"


def _taken(kept):
    """Take what a list holds, while other threads go on appending to it."""
    count = len(kept)
    taken = kept[:count]
    del kept[:count]
    return taken


def _append(data):
    """Append whole lines; a file that cannot be written must not harm the program."""
    try:
        handle = os.open(_FILE, os.O_WRONLY | os.O_APPEND | os.O_CREAT | getattr(os, "O_CLOEXEC", 0), 0o600)
        try:
            while data:
                data = data[os.write(handle, data) :]
        finally:
            os.close(handle)
    except OSError:
        pass


def _clean(text):
    """Return a word that breaks no line."""
    text = str(text)
    return " ".join(text.split()) if "\t" in text or "\n" in text or "\r" in text else text


def _new_lane():
    """Give this thread its number, and tell its name once."""
    _lane.id = threading.get_native_id()
    _lines.append(("thread", os.getpid(), _lane.id, threading.current_thread().name))
    return _lane.id


def _last_words():
    """Tell what a phase costs here, and which ones never ended; write all that is held."""
    _lines.append(("cost", os.getpid(), _cost_ns))
    for one in sorted(_open.values(), key=lambda one: one.begin):
        around = (one.id, one.around) if one.id else ()
        _lines.append(("begin", one.begin, one.name, one.label, os.getpid(), one.thread, *around))
    flush()


def _measured_cost_ns():
    """Return what one phase takes, in ns: the least of some short tries."""
    least = None
    for _ in range(5):
        begin = time.monotonic_ns()
        for _ in range(8):
            with _Phase("", ""):
                pass
        took = (time.monotonic_ns() - begin) // 8
        least = took if least is None else min(least, took)
    del _held[:]
    return least


def _before_fork():
    global _registered
    flush()
    util = sys.modules.get("multiprocessing.util")
    if util and not _registered:  # its children leave by os._exit, past atexit
        util.register_after_fork(_last_words, lambda _: util.Finalize(None, _last_words, exitpriority=-100))
        _registered = True


def _after_fork():
    """What was open or held belongs to the parent."""
    global _ids, _writing, _lane
    _writing = threading.Lock()
    _lane = threading.local()
    _open.clear()
    del _held[:], _lines[:]
    _ids = itertools.count(os.getpid() << 32 | 1)


if listening:
    _flushed_ns = time.monotonic_ns() + 10**15  # not while the cost is measured
    _cost_ns = _measured_cost_ns()
    _flushed_ns = time.monotonic_ns()
    atexit.register(_last_words)
    if hasattr(os, "register_at_fork"):
        os.register_at_fork(before=_before_fork, after_in_child=_after_fork)
