"""Times one Python callable in a process of its own.  Run by path in the arm's own interpreter; standard library only.

usage: callable_harness.py JSON
JSON: {"call": "module:name", "given": "module:name" or null, "values": list, object or null, "fresh": bool,
       "iterations": n, "samples": n, "sample_s": seconds, "garbage": "held" or "as it is", "show": bool}

With 0 iterations it finds how many make a sample last `sample_s`, and says so.  What it found is written as one
JSON object to the file named in BYSTANDER_RESULTS: times of each sample in nanoseconds, and what reading the clock and
running an empty loop cost.  The loop's cost is not taken off here: the samples stay what they were.
"""

import asyncio
import gc
import importlib
import inspect
import itertools
import json
import os
import sys
import time

MOST_ITERATIONS = 10**8
CLOCK_READINGS = 200


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


def plain_sample(call, cases, iterations):
    """Return (elapsed, CPU, last result) of one sample; times in ns.  `cases` are arguments, one or one each."""
    if cases is None:
        cpu, start = time.process_time_ns(), time.perf_counter_ns()
        for _ in itertools.repeat(None, iterations):
            result = call()
        end = time.perf_counter_ns()
    elif len(cases) == 1 and len(cases[0][0]) == 1 and not cases[0][1]:
        (word,) = cases[0][0]
        cpu, start = time.process_time_ns(), time.perf_counter_ns()
        for _ in itertools.repeat(None, iterations):
            result = call(word)
        end = time.perf_counter_ns()
    elif len(cases) == 1:
        words, named = cases[0]
        cpu, start = time.process_time_ns(), time.perf_counter_ns()
        for _ in itertools.repeat(None, iterations):
            result = call(*words, **named)
        end = time.perf_counter_ns()
    else:
        cpu, start = time.process_time_ns(), time.perf_counter_ns()
        for words, named in cases:
            result = call(*words, **named)
        end = time.perf_counter_ns()
    return end - start, time.process_time_ns() - cpu, result


async def awaited_sample(call, cases, iterations):
    """Return the same of a callable that is awaited, all iterations in one event loop."""
    several = cases if cases is not None and len(cases) > 1 else itertools.repeat((cases or [((), {})])[0], iterations)
    cpu, start = time.process_time_ns(), time.perf_counter_ns()
    for words, named in several:
        result = await call(*words, **named)
    end = time.perf_counter_ns()
    return end - start, time.process_time_ns() - cpu, result


def empty_loop_ns(iterations, fresh):
    """Return the least time of the loop without its body, over some tries."""
    cases, least = [((), {})] * (iterations if fresh else 1), None
    for _ in range(5):
        start = time.perf_counter_ns()
        if fresh:
            for _words, _named in cases:
                pass
        else:
            for _ in itertools.repeat(None, iterations):
                pass
        took = time.perf_counter_ns() - start
        least = took if least is None else min(least, took)
    return least


def clock_ns():
    """Return the least time between two readings of the clock."""
    readings = [time.perf_counter_ns() for _ in range(CLOCK_READINGS)]
    return min(readings[i + 1] - readings[i] for i in range(CLOCK_READINGS - 1))


class Timed:
    """The callable with its arguments, ready to be sampled."""

    def __init__(self, spec):
        self.call = resolved(spec["call"])
        self.given = resolved(spec["given"]) if spec["given"] else None
        self.fresh = spec["fresh"] and self.given is not None
        self.held = spec["garbage"] == "held"
        self.loop = asyncio.new_event_loop() if inspect.iscoroutinefunction(self.call) else None
        self.same = [arguments(self.given())] if self.given and not self.fresh else None
        if spec["values"] is not None:
            values = spec["values"]
            self.same = [arguments(tuple(values) if isinstance(values, list) else values)]
        self.result = None

    def sample(self, iterations):
        """Return (elapsed, CPU) of one sample in ns; arguments are made and garbage is collected before."""
        cases = [arguments(self.given()) for _ in range(iterations)] if self.fresh else self.same
        if self.held:
            gc.collect()
            gc.disable()
        if self.loop:
            elapsed, cpu, self.result = self.loop.run_until_complete(awaited_sample(self.call, cases, iterations))
        else:
            elapsed, cpu, self.result = plain_sample(self.call, cases, iterations)
        if self.held:
            gc.enable()
        return elapsed, cpu

    def iterations_for(self, seconds):
        """Return how many iterations last so long: doubled until they do, then rounded up to 1, 2 or 5 and zeros."""
        wanted, iterations = seconds * 1e9, 1
        while True:
            self.sample(iterations)  # what is done at the first call must not count
            took = max(1, min(self.sample(iterations)[0] for _ in range(3)))
            if took >= wanted or iterations >= MOST_ITERATIONS:
                return iterations
            more = iterations * wanted / took
            iterations = min(MOST_ITERATIONS, rounded_up(more) if took > wanted / 20 else iterations * 10)


def rounded_up(number):
    """Return the next number of the form 1, 2 or 5 and zeros."""
    step = 1
    while True:
        for factor in (1, 2, 5):
            if factor * step >= number:
                return factor * step
        step *= 10


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
            "loop_ns": empty_loop_ns(iterations, timed.fresh),
            "clock_ns": clock_ns(),
        }
    with open(os.environ["BYSTANDER_RESULTS"], "w") as f:
        json.dump(found, f)
    if spec["show"]:
        sys.stdout.write(repr(timed.result) + "\n")


if __name__ == "__main__":
    sys.path.pop(0)  # the folder of this file
    main()
