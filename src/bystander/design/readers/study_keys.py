"""Every key of a study: its name, type, range, default and meaning. Readers, options and the docs test share it."""

from __future__ import annotations

import math
from collections.abc import Iterable

from bystander.design.readers.values import Key, Type
from bystander.design.studies.study import DEFAULT_MARGIN, DEFAULT_RISK, LEAST_RISK
from bystander.design.studies.words import Condition, StoppingRule
from bystander.design.studies.workloads import (
    DEFAULT_LIMIT_S,
    DEFAULT_OUTPUT_BYTES,
    DEFAULT_SAMPLE_S,
    DEFAULT_SAMPLES,
    ToldLimits,
)

__all__ = [
    "ANSWER_KEYS",
    "ARM_KEYS",
    "CALLABLE_KEYS",
    "CHAIN_KEYS",
    "COMMAND_KEYS",
    "GATE_KEYS",
    "LOAD_KEYS",
    "NUMBER_KEYS",
    "READY_KEYS",
    "SHARED_KEYS",
    "STUDY_KEYS",
]

_LONGEST_LIMIT_S = 3.6e6
_LARGEST_BYTES = 2**50 - 1


def _table(*keys: Key) -> dict[str, Key]:
    return {key.name: key for key in keys}


def _own(name: str, words: str) -> Key:
    return Key(name, Type.OWN, words)


def _text(name: str, words: str, default: str | None = None) -> Key:
    return Key(name, Type.TEXT, words, default)


def _share(name: str, words: str, default: float, most: float, least: float = 0) -> Key:
    wrong = f"is out of range; it must be above {least:g} and at most {most:.0%}"
    return Key(name, Type.SHARE, words, default, least, most, above=True, wrong=wrong)


def _size(name: str, words: str, default: int | None) -> Key:
    wrong = "is out of range; it must be above 0 B"
    return Key(name, Type.SIZE, words, default, 0, _LARGEST_BYTES, above=True, wrong=wrong)


def _duration(name: str, words: str, default: float, most: float, most_words: str) -> Key:
    wrong = f"is out of range; it must be above 0 s, at most {most_words}"
    return Key(name, Type.DURATION, words, default, 0, most, above=True, wrong=wrong)


def _choice(name: str, words: str, default: str, among: Iterable[str], noun: str = "") -> Key:
    known = tuple(map(str, among))
    quoted = " or ".join(f'"{word}"' for word in known)
    wrong = f"is {noun}; write {quoted}" if noun else ""
    return Key(name, Type.CHOICE, words, default, among=known, wrong=wrong)


STUDY_KEYS = _table(
    _text("name", "what it is about", "unnamed study"),
    _share("margin", "the smallest change that matters", DEFAULT_MARGIN, 1.0),
    _share("risk", "of the rows shown as changed, so many may be false", DEFAULT_RISK, 0.5, LEAST_RISK),
    Key("blocks", Type.WHOLE, "blocks of each workload, at most", None, 1, 100_000),
    _choice("stopping", "when a workload may end earlier", StoppingRule.LOOKS, StoppingRule),
    _text("measure", "what is decided on", "elapsed"),
    Key("seed", Type.WHOLE, "decides all orders", None, 0, 2**63 - 1),
    Key("placebo", Type.FLAG, "adds an arm made like the reference", default=False),
    Key("keep_environment", Type.TEXTS, "variables taken over from the caller", ()),
    Key("secret_environment", Type.TEXTS, "variables taken over too, of which nothing is kept", ()),
    Key("vary", Type.TEXTS, "what is drawn anew for each block", (), among=tuple(map(str, Condition))),
    _own("affinity", "processors on which trials may run"),
    Key("niceness", Type.WHOLE, "added to the caller's, for trials", 0, -20, 19),
    _choice("address_space", "how address spaces are laid out", "as it is", ("fixed", "as it is"), "no layout"),
    Key("shared_files", Type.PATTERNS, "files that all arms may open where they lie", ()),
    Key("written_files", Type.PATTERNS, "files that trials write into an arm's folder", ()),
    _own("gate", "what stops a pipeline"),
    _own("load", "what the weights mean"),
    _own("chain", "the states that follow each other, each an arm"),
    _own("arms", "the states that are compared"),
    _own("workloads", "what is run"),
)
GATE_KEYS = _table(
    Key("stop", Type.TEXTS, "what the gate looks for", ()),
    Key("measures", Type.TEXTS, "on which measures", ()),
)
LOAD_KEYS = _table(_text("per", "the span in which workloads run as often as their weights say", ""))
CHAIN_KEYS = _table(
    _own("revisions", "a range of git revisions, or a list of them"),
    _text("patches", "a folder of patches, each applied on top of those before", ""),
    Key("versions", Type.TEXTS, "values of {version}", ()),
    Key("again", Type.FLAG, "the states that observe --again has kept", default=False),
    Key("all", Type.FLAG, "whether a range is all its commits, not first parents only", default=False),
)
ARM_KEYS = _table(
    _text("folder", "where it lies"),
    _text("revision", "a git revision, checked out apart"),
    _own("environment", "variables for its trials"),
    _own("settings", "values for placeholders"),
    Key("build", Type.TEXTS, "steps that install or compile, run once", ()),
    _own("before_all", "a command, or some, before its first trial"),
    _own("command", "a command that replaces the workload's"),
    _text("weigh", "what is left out of it, only to see what it weighs", ""),
    Key("filters", Type.FLAG, "whether git runs the filters of the repository's configuration", default=False),
)
SHARED_KEYS = _table(  # of workloads of every kind
    _own("settings", "values for placeholders"),
    Key("blocks", Type.WHOLE, "its blocks, at most", None, 1, 100_000),
    _duration("limit", "a trial that takes longer is ended", DEFAULT_LIMIT_S, _LONGEST_LIMIT_S, "1000 h"),
    _size("output", "a trial that prints more is ended", DEFAULT_OUTPUT_BYTES),
    _size("memory", "the most address space of each process", None),
    _text("before_all", "a command before all trials of an arm"),
    _text("before_each", "a command before each trial"),
    _text("after_each", "a command after each trial"),
    _own("answer", "what the arms must agree on"),
    Key(
        "weight", Type.NUMBER, "how often it runs in real life", None, 0, math.nextafter(1e100, 0),
        wrong="is no weight; write a number of 0 or more",
    ),
    Key(
        "scale", Type.NUMBER, "how many times as long the real work is", 1.0, 0, math.nextafter(1e100, 0), above=True,
        wrong="is no scale; write a number above 0",
    ),
    _own("ceiling", "what a share of its trials must not exceed"),
    _own("expected_share", "which share of the whole places are expected to take"),
    _text("spans", "the file of a trial's spans", ""),
    _size("told", "a trial that tells more in marks or spans has failed", ToldLimits.size),
    Key("told_lines", Type.WHOLE, "the most lines of marks", ToldLimits.lines, 1, 100_000_000),
    _own("numbers", "numbers that the program prints, each a measure"),
    Key("told_names", Type.WHOLE, "the most readings, items and intervals", ToldLimits.names, 1, 100_000),
    _own("start", "where its files are before each trial"),
    Key("files", Type.TEXTS, "files that its start reads", ()),
    _text("floor", "the workload that does only what this one must do anyway", ""),
)  # fmt: skip
COMMAND_KEYS = _table(
    _text("command", "the command line"),
    Key("shell", Type.FLAG, "whether a shell reads it", default=False),
    _text("input", "the file that is its standard input", ""),
    _own("ready", "how it is seen that a trial is ready"),
    _choice("end", "when a trial ends", "at exit", ("at exit", "at ready"), "no end of a trial"),
    _own("inputs", "one workload for each value"),
)
CALLABLE_KEYS = _table(
    _own("call", "the callable"),
    _own("given", "its arguments, or what makes them"),
    Key("fresh", Type.FLAG, "makes arguments anew for each iteration", default=False),
    _text("python", "the interpreter", "python3"),
    _duration("sample", "how long a sample lasts at least", DEFAULT_SAMPLE_S, 60.0, "1 min"),
    Key("samples", Type.WHOLE, "samples of each trial", DEFAULT_SAMPLES, 5, 1_000_000),
    _choice("garbage", "when garbage is collected", "held", ("held", "as it is"), "no way to collect garbage"),
)
NUMBER_KEYS = _table(
    _text("pattern", "the regular expression that finds it"),
    _text("unit", "in which it is printed", ""),
    _choice("better", "its better side", "less", ("less", "more", ""), "no side"),
    _choice("of", "which of several matches", "last", ("last", "first", "sum"), "none of several matches"),
)
READY_KEYS = _table(
    _text("pattern", "what is then printed", ""),
    _text("file", "the file that is then there", ""),
    _own("port", "the port that then answers"),
)
ANSWER_KEYS = _table(
    _own("of", "what the answer is"),
    _text("file", "the file that holds it", ""),
    Key("mask", Type.TEXTS, "patterns of what does not count", ()),
    _choice("order", "the order of lines", "as printed", ("any", "as printed"), "no order of lines"),
    Key(
        "tolerance", Type.SHARE, "by which numbers may differ", 0.0, 0, math.nextafter(1.0, 0), above=True,
        wrong="is out of range; it must be above 0, below 1",
    ),
    _text("accept", "why another answer is meant", ""),
    _text("compare", "a program that compares two answers", ""),
)  # fmt: skip
