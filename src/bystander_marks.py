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

import array
import atexit
import binascii
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
_MOST_HELD, _MOST_PLACES = 2000, 5000
_IN_TASK = -2  # in the place of a CPU time
_GENERATOR, _COROUTINE = 0x20, 0x80  # bits of a code object's flags
_FLUSH_NS = 50_000_000
_SHORT_NS = 20_000  # reading the CPU time of a phase takes as long as all else: not where it is so short


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
_now, _cpu_time, _module = time.monotonic_ns, time.thread_time_ns, sys.modules.get
_local = threading.local()
_lanes = []  # of all threads that had phases
_lines = []  # everything else
_short = set()  # names of phases whose last instance was short
_open = set()  # phases that have not ended
_ids = itertools.count(os.getpid() << 32 | 1)  # of no other process
_flushed_ns = time.monotonic_ns()
_writing = threading.Lock()
_cost_ns = 0
_registered = False


class _Lane:
    """What a thread holds: by name and label, begin, length and CPU time of each phase, one after another."""

    __slots__ = ("held", "number", "thread")

    def __init__(self):
        self.held = {}
        self.number = threading.get_native_id()
        self.thread = threading.current_thread()
        _lanes.append(self)
        _lines.append(("thread", os.getpid(), self.number, self.thread.name))


class phase:  # noqa: N801
    """Marks a part of the program: a context, and a decorator of functions.

    Parameters
    ----------
    name : str
        Instances of one name are summed.
    label : str
        Tells like instances apart: which file, which berth.
    """

    __slots__ = ("around", "begin", "cpu", "id", "label", "lane", "name", "token")

    def __init__(self, name, label=""):
        self.name = name
        self.label = label

    def __enter__(self):
        try:
            self.lane = _local.lane
        except AttributeError:
            self.lane = _local.lane = _Lane()
        _open.add(self)
        loops = _module("asyncio.events")
        if loops is not None and loops._get_running_loop() is not None:
            # Tasks take turns on one thread: its CPU time is not theirs, and what lies within is not inside.
            self.around = _task.get()
            self.id = next(_ids)
            self.token = _task.set(self.id)
            self.cpu = _IN_TASK
        else:
            self.cpu = -1 if self.name in _short else _cpu_time()
        self.begin = _now()
        return self

    def __exit__(self, kind, error, trace):
        end = _now()
        took, cpu = end - self.begin, self.cpu
        _open.discard(self)
        if cpu == _IN_TASK:
            self._leave_task(took)
        else:
            if cpu >= 0:
                cpu = _cpu_time() - cpu
                if took < _SHORT_NS:
                    _short.add(self.name)
            elif took >= _SHORT_NS:
                _short.discard(self.name)
            held, what = self.lane.held, (self.name, self.label)
            try:
                held[what].extend((self.begin, took, cpu))
            except KeyError:
                held[what] = array.array("q", (self.begin, took, cpu))
        if end - _flushed_ns > _FLUSH_NS:
            flush()

    def _leave_task(self, took):
        try:
            _task.reset(self.token)
        except ValueError:  # it ends in another task than it began in
            pass
        where = self.name, self.label, os.getpid(), self.lane.number
        _lines.append(("phase", self.begin, took, *where, -1, self.id, self.around))

    def __call__(self, function):  # noqa: D102
        name, label, kind = self.name, self.label, function.__code__.co_flags
        if kind & _COROUTINE:

            async def marked(*words, **named):
                with phase(name, label):
                    return await function(*words, **named)

        elif kind & _GENERATOR:

            def marked(*words, **named):
                with phase(name, label):
                    return (yield from function(*words, **named))

        else:

            def marked(*words, **named):
                with phase(name, label):
                    return function(*words, **named)

        return functools.wraps(function)(marked)


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
    told, process = [], os.getpid()
    with _writing:
        for lane in list(_lanes):
            alive = lane.thread.is_alive()
            for (name, label), values in list(lane.held.items()):
                if values:
                    words = (name, label, process, lane.number, _packed(_taken(values)))
                    told.append(("phases", *words))
            if len(lane.held) > _MOST_PLACES and lane is getattr(_local, "lane", None):
                lane.held = {}  # by its own thread only: another one would lose what it adds meanwhile
            if not alive:
                _lanes.remove(lane)
        told += _taken(_lines)
        _flushed_ns = time.monotonic_ns()
    if told:
        _append("".join(["\t".join(map(_clean, words)) + "\n" for words in told]).encode("utf-8", "replace"))


def _taken(kept):
    """Take what a list or array holds, while other threads go on appending to it."""
    taken = kept[:]
    del kept[: len(taken)]
    return taken


def _packed(values):
    """Return numbers as text: little-endian, eight bytes each, in base 64."""
    if sys.byteorder == "big":
        values.byteswap()
    return binascii.b2a_base64(values, newline=False).decode()


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


def _last_words():
    """Tell what a phase costs here, and which ones never ended; write all that is held."""
    _lines.append(("cost", os.getpid(), _cost_ns))
    for one in sorted(_open, key=lambda one: one.begin):
        around = (one.id, one.around) if one.cpu == _IN_TASK else ()
        _lines.append(("begin", one.begin, one.name, one.label, os.getpid(), one.lane.number, *around))
    flush()


def _measured_cost_ns():
    """Return what one phase takes, in ns: the least of some short tries."""
    least = None
    for _ in range(5):
        begin = time.monotonic_ns()
        for _ in range(8):
            with phase("", ""):
                pass
        took = (time.monotonic_ns() - begin) // 8
        least = took if least is None else min(least, took)
    _local.lane.held.clear()
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
    global _ids, _writing, _local
    _writing = threading.Lock()
    _local = threading.local()
    _open.clear()
    del _lanes[:], _lines[:]
    _ids = itertools.count(os.getpid() << 32 | 1)


if listening:
    _flushed_ns = time.monotonic_ns() + 10**15  # not while the cost is measured
    _cost_ns = _measured_cost_ns()
    _flushed_ns = time.monotonic_ns()
    atexit.register(_last_words)
    if hasattr(os, "register_at_fork"):
        os.register_at_fork(before=_before_fork, after_in_child=_after_fork)
