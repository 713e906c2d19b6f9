"""Times one Python callable in a process of its own.  Run by path in the arm's own interpreter; standard library only.

usage: callable_harness.py JSON
JSON: {"call": "module:name", "given": "module:name" or null, "values": list, object or null, "fresh": bool,
       "iterations": n, "samples": n, "sample_s": seconds, "garbage": "held" or "as it is", "show": bool}

With 0 iterations it finds how many make a sample last `sample_s`, and says so.  What it found is written as one
JSON object to the file named in BYSTANDER_RESULTS: times of each sample in nanoseconds, and what reading the clock and
driving a sample without its calls cost.  That cost is not taken off here: the samples stay what they were.

A sample is a starred map of the callable over its arguments, drained into a queue of length one: no line of Python
runs between two calls, and the last result is left over for the answer.
"""

import asyncio
import collections
import functools
import gc
import importlib
import inspect
import itertools
import json
import math
import os
import statistics
import sys
import time

MOST_ITERATIONS = 10**8
CLOCK_READINGS = 200
BATCHES = 5


def resolved(path):
    """Return the object that "module:name.of.it" names."""
    module, _, name = path.partition(":")
    found = importlib.import_module(module)
    for part in name.split("."):
        found = getattr(found, part)
    return found


def arguments(made):
    """Return positional and named arguments: a tuple is several, a dict of names is named, all else is one."""
    if isinstance(made, tuple):
        return made, {}
    if isinstance(made, dict) and all(isinstance(key, str) for key in made):
        return (), made
    return (made,), {}


def driven(results):
    """Drain an iterator; return (elapsed, CPU, last item), times in ns."""
    last = collections.deque(maxlen=1)
    cpu, start = time.process_time_ns(), time.perf_counter_ns()
    last.extend(results)
    end = time.perf_counter_ns()
    return end - start, time.process_time_ns() - cpu, (last[0] if last else None)


async def awaited(coroutines):
    """Return the same of coroutines, awaited one after another in one event loop."""
    result = None
    cpu, start = time.process_time_ns(), time.perf_counter_ns()
    for coroutine in coroutines:
        result = await coroutine
    end = time.perf_counter_ns()
    return end - start, time.process_time_ns() - cpu, result


def driving_ns(iterations):
    """Return the least time of draining as many arguments without calling anything, over some tries."""
    return min(driven(itertools.repeat((), iterations))[0] for _ in range(5))


def clock_ns():
    """Return the least time between two readings of the clock."""
    readings = [time.perf_counter_ns() for _ in range(CLOCK_READINGS)]
    return min(readings[i + 1] - readings[i] for i in range(CLOCK_READINGS - 1))


class Timed:
    """The callable with its arguments, ready to be sampled."""

    def __init__(self, spec):
        self.call = resolved(spec["call"])
        self.given = resolved(spec["given"]) if spec["given"] else None
        if self.given and spec["values"]:
            self.given = functools.partial(self.given, **spec["values"])
        self.fresh = spec["fresh"] and self.given is not None
        self.held = spec["garbage"] == "held"
        self.loop = asyncio.new_event_loop() if inspect.iscoroutinefunction(self.call) else None
        self.same = [arguments(self.given())] if self.given and not self.fresh else [((), {})]
        if spec["values"] is not None and not self.given:
            values = spec["values"]
            self.same = [arguments(tuple(values) if isinstance(values, list) else values)]
        self.result = None
        if self.held:
            gc.set_threshold(0)  # from now on only between samples

    def calls(self, iterations):
        """Return an iterator that makes one call for each item; fresh arguments are made here, before it starts."""
        if self.fresh:
            cases = [arguments(self.given()) for _ in range(iterations)]
            if any(named for _, named in cases):
                return (self.call(*words, **named) for words, named in cases)
            return itertools.starmap(self.call, [words for words, _ in cases])
        words, named = self.same[0]
        call = functools.partial(self.call, **named) if named else self.call
        return itertools.starmap(call, itertools.repeat(words, iterations))

    def sample(self, iterations):
        """Return (elapsed, CPU) of one sample in ns; arguments are made and garbage is collected before."""
        calls = self.calls(iterations)
        if self.held:
            gc.collect()
        if self.loop:
            elapsed, cpu, self.result = self.loop.run_until_complete(awaited(calls))
        else:
            elapsed, cpu, self.result = driven(calls)
        return elapsed, cpu

    def iterations_for(self, seconds):
        """Return how many iterations last so long, in two significant digits.

        Batches grow threefold until one lasts a tenth of that.  The time of one iteration is then the difference of
        the last two batches' medians over that of their sizes: what a batch costs besides drops out.
        """
        wanted, size, before = seconds * 1e9, 1, 0.0
        if min(self.sample(1)[0], self.sample(1)[0]) >= wanted:
            return 1
        while True:
            took = self.batch_ns(size)
            if took >= wanted / 10 or size >= MOST_ITERATIONS:
                break
            size, before = 3 * size, took
        smaller = size // 3
        each = (took - before) / (size - smaller)
        if each <= 0:  # a stall in the smaller one
            each = took / size
        return min(MOST_ITERATIONS, max(1, two_digits(wanted / max(each, 1e-3))))

    def batch_ns(self, size):
        """Return the median time of a batch, over some of them; what is done at the first call must not count."""
        self.sample(1)
        return statistics.median(self.sample(size)[0] for _ in range(BATCHES))


def two_digits(number):
    """Return a number rounded up to two significant digits."""
    step = 10 ** max(0, math.floor(math.log10(max(1.0, number))) - 1)
    return int(math.ceil(round(number / step, 9)) * step)


def main():
    """Sample the callable and write down what was found."""
    spec = json.loads(sys.argv[1])
    sys.path.insert(0, os.getcwd())
    timed = Timed(spec)
    iterations = spec["iterations"]
    if iterations == 0:
        found = {"iterations": timed.iterations_for(spec["sample_s"])}
    else:
        samples = [timed.sample(iterations) for _ in range(spec["samples"])]
        found = {
            "iterations": iterations,
            "elapsed_ns": [elapsed for elapsed, _ in samples],
            "cpu_ns": [cpu for _, cpu in samples],
            "loop_ns": driving_ns(iterations),
            "clock_ns": clock_ns(),
        }
    with open(os.environ["BYSTANDER_RESULTS"], "w") as f:
        json.dump(found, f)
    if spec["show"]:
        sys.stdout.write(repr(timed.result) + "\n")


if __name__ == "__main__":
    sys.path.pop(0)  # the folder of this file
    main()
