"""The recorder: woken by the kernel's clock, it reads where a program's threads are, and when each ran or waited."""

from __future__ import annotations

import random
import time
from array import array
from collections import Counter
from contextlib import suppress
from itertools import compress
from typing import Protocol

import numpy as np

from bystander.design import BLOCKED, ENDED, PYTHON, QUEUED, RUNNING, Place, Task, Watched
from bystander.field.watching.clock_events import (
    COMMAND,
    END,
    EXECUTED,
    LOST,
    MAPPED,
    NEW,
    OUT,
    PREEMPTED,
    SWITCH,
    TICK,
    KernelRecord,
)
from bystander.field.watching.interpreter import Chain, Code, Interpreter, NoInterpreterError
from bystander.field.watching.paths import Paths
from bystander.field.watching.waits import wait_of

__all__ = ["Clock", "Recorder"]

_SWEEP_NS = 5_000_000  # from one look at all threads that moved to the next, on average
_LONGEST_MS = 5.0
_MOST_READINGS = 10_000_000
_MOST_SWITCHES = 40_000_000
_MOST_A_SWEEP = 64  # threads
_TRIES = 12  # to find an interpreter in a process; a new file of one begins anew
_FIRST_WAIT_NS, _LONGEST_WAIT_NS = 500_000, 200_000_000
_BETWEEN_LISTS_NS = 500_000
_RECHECK_NS = 10_000_000  # how long a path of addresses is believed to be what it was


class Clock(Protocol):
    """What tells of ticks and switches."""

    way: str

    @property
    def fds(self) -> list[int]:
        """Descriptors that become readable when there is a tick."""

    def read(self) -> list[KernelRecord]:
        """Return what was told since the last call, in the order of time."""

    def close(self) -> None:
        """Give everything back."""


class _Process:
    """What is known of one process."""

    def __init__(self, number: int, parent: int, name: str) -> None:
        self.number, self.parent, self.name = number, parent, name
        self.interpreter: Interpreter | None = None
        self.inherits: Interpreter | None = None  # its parent's, as long as it is the same program
        self.leaves: dict[tuple[tuple[int, int], ...], int] = {}
        self.recheck_ns = self.listed_ns = self.try_ns = 0
        self.became_ns = self.tries = 0
        self.forbidden = self.seen = False

    def became(self, name: str, now_ns: int) -> None:
        """It is another program now."""
        self.__init__(self.number, self.parent, name)  # type: ignore[misc]
        self.became_ns = now_ns


class _Thread:
    def __init__(self, index: int, process: _Process, number: int, began_ns: int) -> None:
        self.index, self.process, self.number, self.began_ns = index, process, number, began_ns
        self.name, self.ended_ns = "", 0
        self.running, self.moved, self.named = False, True, False


class Recorder:
    """Watches one program; `step` is to be called whenever the clock's descriptors are readable, or `wait_ms` is over.

    Parameters
    ----------
    process : int
        The program's process, which has not become it yet.
    """

    def __init__(self, process: int, clock: Clock, period_ns: int, seed: int = 0) -> None:
        self._clock, self._period_ns = clock, period_ns
        self._random = random.Random(seed)
        self._paths = Paths()
        self._root = process
        self._processes: dict[int, _Process] = {}
        self._threads: dict[int, _Thread] = {}
        self._orphans: dict[int, _Thread] = {}
        self._all: list[_Thread] = []
        self._began_ns = self._ended_ns = self._unwatched_ns = 0
        self._at, self._task, self._node, self._tick, self._wait = (array("q") for _ in range(5))
        self._switch_at, self._switch_task, self._switch_state = (array("q") for _ in range(3))
        self._ticks = self._missed = self._torn = self._lost = 0
        self._problems: Counter[str] = Counter()
        self._versions: dict[str, None] = {}
        self._next_sweep_ns = 0
        self._idle = 0
        self._new_thread(self._new_process(process, 0, ""), process, time.monotonic_ns())

    @property
    def fds(self) -> list[int]:
        """Descriptors to wait for."""
        return self._clock.fds

    @property
    def wait_ms(self) -> float:
        """How long to wait for them at most; drawn anew each time, so as not to fall into step with the program."""
        usual = 1.5e-6 * self._period_ns * 2 ** min(self._idle, 4) if self.fds else 1e-6 * self._period_ns
        return min(_LONGEST_MS, usual) * self._random.uniform(0.7, 1.3)

    def step(self) -> None:
        """Take in what the clock told, and read the threads that it is about."""
        ticked: dict[_Thread, int] = {}
        records = self._clock.read()
        for record in records:
            self._take(record, ticked)
        now = time.monotonic_ns()
        for thread, tick_ns in ticked.items():
            self._look(thread, tick_ns)
        if not records:
            self._idle += 1
        elif ticked or any(record.kind == SWITCH for record in records):
            self._idle = 0
        if not ticked or now >= self._next_sweep_ns:
            self._sweep(ticked)
            self._next_sweep_ns = now + round(_SWEEP_NS * self._random.uniform(0.7, 1.3))

    def tell(self, problem: str) -> None:
        """Keep what could not be seen, as a clause."""
        self._problems[problem] += 1

    def finish(self) -> Watched:
        """Take in the rest and return what was seen; the clock is given back."""
        ticked: dict[_Thread, int] = {}
        for record in self._clock.read():
            self._take(record, ticked)
        self._missed += len(ticked)  # nobody is there any more
        self._clock.close()
        now = time.monotonic_ns()
        ended = self._ended_ns or now
        tasks = tuple(
            Task(one.process.number, one.number, one.process.parent, one.name, one.began_ns, one.ended_ns or ended)
            for one in self._all
        )
        parent, place, line = self._paths.columns()
        self._drop_between()
        columns = {
            "at_ns": self._at, "task": self._task, "node": self._node, "tick_ns": self._tick, "wait": self._wait,
            "switch_ns": self._switch_at, "switch_task": self._switch_task, "switch_state": self._switch_state,
        }  # fmt: skip
        return Watched(
            self._began_ns or tasks[0].began_ns, ended, self._clock.way, self._period_ns, tuple(self._paths.places),
            tasks, parent, place, line, **{name: np.array(one, dtype=np.int64) for name, one in columns.items()},
            ticks=self._ticks, missed=self._missed, torn=self._torn, lost=self._lost, problems=dict(self._problems),
            unwatched_ns=self._unwatched_ns, interpreters=tuple(self._versions),
        )  # fmt: skip

    def _drop_between(self) -> None:
        """Leave out readings of a thread without frames that has frames before and after: it was read in a change."""
        empty = {self._paths.alone(Place("end", "interpreter end"))}
        empty |= {self._paths.alone(Place("native", one.name or "thread")) for one in self._all}
        read = list(zip(self._task, self._node, strict=True))
        last = {task: k for k, (task, node) in enumerate(read) if node not in empty}
        first = {task: k for k, (task, node) in reversed(list(enumerate(read))) if node not in empty}
        kept = [node not in empty or not first.get(task, k) < k < last[task] for k, (task, node) in enumerate(read)]
        self._torn += kept.count(False)
        self._missed += sum(bool(tick) for tick, keep in zip(self._tick, kept, strict=True) if not keep)
        for column in (self._at, self._task, self._node, self._tick, self._wait):
            column[:] = array("q", compress(column, kept))

    # What the clock tells

    def _take(self, record: KernelRecord, ticked: dict[_Thread, int]) -> None:
        kind = record.kind
        if kind == TICK:
            thread = self._thread_of(record)
            self._ticks += 1
            self._missed += thread in ticked
            ticked[thread] = record.time_ns
            thread.moved = True
        elif kind == SWITCH:
            thread = self._thread_of(record)
            out = bool(record.flags & OUT)
            state = (QUEUED if record.flags & PREEMPTED else BLOCKED) if out else RUNNING
            thread.running, thread.moved = not out, True
            self._switched(thread, record.time_ns, state)
        elif kind == NEW:
            self._begun(record)
        elif kind == COMMAND:
            self._named(record)
        elif kind == END:
            self._ended(record)
        elif kind == MAPPED:
            process = self._processes.get(record.process)
            if process and b"python" in record.text:
                process.tries = process.try_ns = 0
        elif kind == LOST:
            self._lost += record.number

    def _thread_of(self, record: KernelRecord) -> _Thread:
        thread = self._threads.get(record.thread)
        if thread is None:  # its beginning was lost
            process = self._processes.get(record.process) or self._new_process(record.process, 0, "")
            thread = self._orphans[record.thread] = self._new_thread(process, record.thread, record.time_ns)
        return thread

    def _begun(self, record: KernelRecord) -> None:
        """Take a thread or process in that began; another processor may have told of it before its parent's did."""
        known = self._orphans.pop(record.thread, None)
        if known and 0 < known.ended_ns < record.time_ns:  # another one of that number, whose beginning was lost
            known = None
        process = known.process if known else self._processes.get(record.process)
        if record.process != record.number:
            process = self._forked(record, known.process if known else None)
        if known:
            known.began_ns, known.name = record.time_ns, known.name or known.process.name
        else:
            process = process or self._new_process(record.process, 0, "")
            self._new_thread(process, record.thread, record.time_ns)

    def _switched(self, thread: _Thread, time_ns: int, state: int) -> None:
        if len(self._switch_at) >= _MOST_SWITCHES:
            self._problems["it changed places on the processors more often than can be kept"] += 1
            return
        self._switch_at.append(time_ns)
        self._switch_task.append(thread.index)
        self._switch_state.append(state)

    def _forked(self, record: KernelRecord, known: _Process | None) -> _Process:
        """Return a process that was just begun; it is what its parent was, unless it became another one meanwhile."""
        parent = self._processes.get(record.number)
        process = known or self._new_process(record.process, record.number, "")
        process.parent = record.number
        if parent and not process.name:
            process.name, process.became_ns = parent.name, record.time_ns
            process.inherits = parent.interpreter or parent.inherits
        return process

    def _named(self, record: KernelRecord) -> None:
        name = record.text.decode("utf-8", "replace")
        thread = self._thread_of(record)
        thread.name = name
        if not record.flags & EXECUTED:
            return
        process = thread.process
        process.became(name, record.time_ns)
        if record.process == self._root and not self._began_ns:
            self._began_ns = thread.began_ns = record.time_ns
            thread.running = True
            self._switched(thread, record.time_ns, RUNNING)

    def _ended(self, record: KernelRecord) -> None:
        thread = self._threads.pop(record.thread, None)
        if thread:
            thread.ended_ns, thread.running = record.time_ns, False
            self._switched(thread, record.time_ns, ENDED)
            if record.thread == self._root:
                self._ended_ns = record.time_ns
            if record.thread == record.process and record.process in self._processes:
                ended = self._processes.pop(record.process)
                ended.interpreter = ended.inherits = None
                ended.leaves.clear()

    def _new_process(self, number: int, parent: int, name: str) -> _Process:
        process = self._processes[number] = _Process(number, parent, name)
        return process

    def _new_thread(self, process: _Process, number: int, began_ns: int) -> _Thread:
        thread = self._threads[number] = _Thread(len(self._all), process, number, began_ns)
        thread.name = process.name
        self._all.append(thread)
        if process.interpreter:
            process.listed_ns = 0
        return thread

    # Reading threads

    def _sweep(self, but: dict[_Thread, int]) -> None:
        """Look at the threads that moved since they were last looked at; those that wait stand still."""
        if not self._began_ns:
            return
        moved = [thread for thread in self._threads.values() if (thread.moved or thread.running) and thread not in but]
        if len(moved) > _MOST_A_SWEEP:
            moved = self._random.sample(moved, _MOST_A_SWEEP)
        for thread in moved:
            self._look(thread, 0)

    def _look(self, thread: _Thread, tick_ns: int) -> None:
        """Read where a thread is."""
        if not self._began_ns or len(self._at) >= _MOST_READINGS:
            self._missed += bool(tick_ns)
            return
        thread.moved = False
        at_ns = time.monotonic_ns()  # a long chain takes a while to read; it is what it was when that began
        node = self._where(thread)
        if node is None:
            self._missed += bool(tick_ns)
            return
        wait = 0 if thread.running else wait_of(thread.process.number, thread.number)
        self._at.append(at_ns)
        self._task.append(thread.index)
        self._node.append(node)
        self._tick.append(tick_ns)
        self._wait.append(wait)

    def _where(self, thread: _Thread) -> int | None:
        """Return the node where a thread is; None where it cannot be told."""
        process, now = thread.process, time.monotonic_ns()
        interpreter = process.interpreter or self._found(process, now)
        if interpreter is None:
            return self._paths.alone(Place("program", process.name or thread.name or "a program"))
        for _ in range(2):
            try:
                return self._at_frames(thread, process, interpreter, now)
            except PermissionError:
                self._forbid(process, "its memory may not be read")
                return None
            except ProcessLookupError:
                return None
            except Exception:  # what changed while it was read may be anything
                self._torn += 1
        return None

    def _at_frames(self, thread: _Thread, process: _Process, interpreter: Interpreter, now: int) -> int:
        if thread.number not in interpreter.states and now - process.listed_ns > _BETWEEN_LISTS_NS:
            process.listed_ns = now
            interpreter.find_threads()
        chain = interpreter.chain(thread.number) if thread.number in interpreter.states else None
        if chain is None:
            if thread.number != process.number:
                return self._paths.alone(Place("native", thread.name or "thread"))
            ended = process.seen
            return self._paths.alone(Place("end", "interpreter end") if ended else Place("start", "interpreter start"))
        if not process.seen:
            process.seen = True
            self._unwatched_ns = max(self._unwatched_ns, now - process.became_ns)
            self._versions[interpreter.version] = None
        if not thread.named and thread.number != process.number:
            thread.named = True
            with suppress(Exception):
                thread.name = interpreter.thread_name(chain) or thread.name
        leaf = process.leaves.get(chain.frames)
        if leaf is None or now > process.recheck_ns:
            process.recheck_ns = now + _RECHECK_NS
            before = interpreter.remade
            leaf = self._leaf(interpreter, chain)
            if interpreter.remade != before:
                process.leaves.clear()
            process.leaves[chain.frames] = leaf
        return leaf

    def _leaf(self, interpreter: Interpreter, chain: Chain) -> int:
        """Return the node of a chain of frames."""
        steps: list[tuple[int, int]] = []
        codes = interpreter.codes_of([address for address, _ in chain.frames])
        for k, ((address, instruction), code) in enumerate(zip(chain.frames, codes, strict=True)):
            if k == chain.cut and k:
                steps.append((self._paths.place(Place("gap", "frames left out")), 0))
            steps.append((self._place(code), interpreter.line(code, address, instruction)))
        return self._paths.path(reversed(steps))

    def _place(self, code: Code) -> int:
        return self._paths.place(Place(PYTHON, code.name, code.file, code.first_line))

    def _found(self, process: _Process, now: int) -> Interpreter | None:
        """Return the interpreter of a process where there is one; it is looked for now and then, not for ever."""
        if process.forbidden or process.tries >= _TRIES or now < process.try_ns:
            return None
        try:
            process.interpreter = Interpreter(process.number, process.inherits)
            process.seen = process.inherits is not None
        except NoInterpreterError as error:
            process.tries += 1
            process.try_ns = now + min(_LONGEST_WAIT_NS, _FIRST_WAIT_NS << process.tries)
            if str(error):
                self._forbid(process, str(error))
        return process.interpreter

    def _forbid(self, process: _Process, why: str) -> None:
        process.forbidden, process.interpreter = True, None
        self.tell(f"{process.name or 'a program'}: {why}")
