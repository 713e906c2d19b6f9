"""Workloads: something to run, of one kind or another."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import ClassVar, Protocol

from bystander.design.studies.ceilings import Ceiling
from bystander.design.studies.words import Start

__all__ = [
    "DEFAULT_LIMIT_S",
    "DEFAULT_OUTPUT_BYTES",
    "DEFAULT_SAMPLES",
    "DEFAULT_SAMPLE_S",
    "AnswerRule",
    "Command",
    "PrintedNumber",
    "Ready",
    "TimedCallable",
    "ToldLimits",
    "What",
    "Workload",
]

DEFAULT_LIMIT_S = 600.0
DEFAULT_OUTPUT_BYTES = 256 * 2**20
DEFAULT_SAMPLE_S = 0.01
DEFAULT_SAMPLES = 30


class What(Protocol):
    """What a workload runs: a frozen dataclass of one of the registered kinds, see `kinds`."""

    kind: ClassVar[str]


@dataclass(frozen=True)
class Command:
    """A command line.

    Attributes
    ----------
    template : str
        Before placeholders are filled.
    shell : bool
        Whether a shell reads it.
    input : str
        The file that is its standard input, relative to the arm's folder, before placeholders are filled; "" for none.
    """

    kind: ClassVar[str] = "command"

    template: str
    shell: bool = False
    input: str = ""


@dataclass(frozen=True)
class TimedCallable:
    """A Python callable that is timed in a process of the arm's own interpreter.

    Attributes
    ----------
    call, given : str
        "module:name" of the callable, and of what makes its arguments ("" for none).
    values : str
        Arguments as JSON instead: a list, or an object of named ones; "" for none.
    fresh : bool
        Make arguments anew for each iteration, outside the timed part.
    python : str
        The interpreter: a name, or a path in the arm's folder.
    sample_s : float
        How long a sample lasts at least, in seconds.
    samples : int
        Samples of each trial.
    iterations : int
        In each sample; 0 until they are found, once, on the reference.
    garbage : str
        "held": collected before each sample, and not within; or "as it is".
    """

    kind: ClassVar[str] = "callable"

    call: str
    given: str = ""
    values: str = ""
    fresh: bool = False
    python: str = "python3"
    sample_s: float = DEFAULT_SAMPLE_S
    samples: int = DEFAULT_SAMPLES
    iterations: int = 0
    garbage: str = "held"


@dataclass(frozen=True)
class AnswerRule:
    """How answers are compared.

    Attributes
    ----------
    file : str
        The file that holds the answer, relative to the arm's folder; "" for what is printed.
    mask : tuple of str
        Regular expressions; what they match does not count.
    any_order : bool
        Whether lines may stand in any order.
    tolerance : float
        By which share numbers may differ, 0 for not at all.
    accept : str
        Why another answer is intended; "" when it is not.
    compare : str
        A command that compares two answers, {reference} and {candidate}; "" for none.
    """

    file: str = ""
    mask: tuple[str, ...] = ()
    any_order: bool = False
    tolerance: float = 0.0
    accept: str = ""
    compare: str = ""

    @property
    def plain(self) -> bool:
        """Whether what is printed is compared to the last byte."""
        return not (self.compare or self.file or self.mask or self.any_order or self.tolerance)


@dataclass(frozen=True)
class ToldLimits:
    """The most that a trial may tell of itself; one that tells more has failed.

    Attributes
    ----------
    size : int
        Of its marks, and of its spans, in bytes.
    lines : int
        Of its marks.
    names : int
        Of readings, items and intervals, together.
    """

    size: int = 16 * 2**20
    lines: int = 500_000
    names: int = 256


@dataclass(frozen=True)
class PrintedNumber:
    """A number that a program prints, found in its output or, behind that, in its errors.

    Attributes
    ----------
    pattern : str
        A regular expression, by lines; its first group is the number, or all of it where it has none.
    unit : str
        In which it is printed; times and sizes are kept in seconds and bytes.
    better : str
        Its better side: "less", "more", or "" for none.
    of : str
        Which of several matches it is: "last", "first", or their "sum".
    """

    pattern: str
    unit: str = ""
    better: str = "less"
    of: str = "last"


@dataclass(frozen=True)
class Ready:
    """How it is seen that a trial is ready, one of three ways; none of them where nobody asks.

    Attributes
    ----------
    pattern : str
        A regular expression, by lines, that the output or the errors then match.
    file : str
        A file that is then there, relative to the arm's folder.
    port : str
        A port of this machine, as a text, on which something then answers.
    end : bool
        Whether the trial ends there: it is asked to, and ended by force after a while.
    """

    pattern: str = ""
    file: str = ""
    port: str = ""
    end: bool = False

    @property
    def asked(self) -> bool:
        """Whether anybody asks."""
        return bool(self.pattern or self.file or self.port)


@dataclass(frozen=True)
class Workload:
    """Something to run, for one value of each of its inputs.

    Attributes
    ----------
    name : str
        Its base name with the inputs, for example "year:port=north"; see `names`.
    base : str
        The name in the study.
    what : What
        A command, a callable, or what another registered kind runs.
    limit_s : float
        A trial that takes longer is ended and counts as failed, in seconds.
    answer : str or None
        What the arms must agree on: "output", "file", "exit code", "result" of a callable, or nothing but
        success; `answer_rule` says how it is compared.
    weight : float or None
        How often it runs in real life, relative to the others.
    output_bytes : int
        A trial that prints more is ended and counts as failed.
    memory_bytes : int or None
        The most address space of each of its processes; the kernel refuses more.
    before_all, before_each, after_each : str or None
        Commands around its trials, which are not timed: once per arm, or around every trial.
    spans : str
        A file in the arm's folder in which a trial leaves its spans (OTLP, JSON); "" for none.
    start : Start
        Where its files are before each trial.
    files : tuple of str
        Patterns of the files that its start reads, relative to the arm's folder; empty to find them.
    floor : str
        The name of a workload that does nothing but what this one must do anyway; "" for none.
    told : ToldLimits
        The most that a trial may tell in marks and spans.
    numbers : mapping
        By name: what it prints that is a measure.
    ready : Ready
        When it is ready.
    scale : float
        How many times as long the real work is, for which it stands in.
    ceilings : tuple of Ceiling
        What a share of its trials must not exceed, under any arm.
    blocks : int or None
        Its blocks, at most; as many as the study's where it is None.
    expected_share : mapping
        By place, or pattern of places: the share of the whole that somebody expected it to take, in (0, 1].
    """

    name: str
    base: str
    what: What
    settings: Mapping[str, str] = field(default_factory=dict)
    inputs: Mapping[str, str] = field(default_factory=dict)
    limit_s: float = DEFAULT_LIMIT_S
    answer: str | None = None
    weight: float | None = None
    output_bytes: int = DEFAULT_OUTPUT_BYTES
    memory_bytes: int | None = None
    before_all: str | None = None
    before_each: str | None = None
    after_each: str | None = None
    answer_rule: AnswerRule = AnswerRule()
    spans: str = ""
    start: Start = Start.WHEREVER
    files: tuple[str, ...] = ()
    floor: str = ""
    told: ToldLimits = ToldLimits()
    numbers: Mapping[str, PrintedNumber] = field(default_factory=dict)
    ready: Ready = Ready()
    blocks: int | None = None
    scale: float = 1.0
    ceilings: tuple[Ceiling, ...] = ()
    expected_share: Mapping[str, float] = field(default_factory=dict)

    @property
    def kind(self) -> str:
        """Which kind of workload it is."""
        return self.what.kind

    @property
    def template(self) -> str:
        """The command line of a command as it stands in the study; "" of other kinds."""
        return self.what.template if isinstance(self.what, Command) else ""

    @property
    def steps(self) -> dict[str, str]:
        """The steps around its trials that there are, by name."""
        steps = {"before_all": self.before_all, "before_each": self.before_each, "after_each": self.after_each}
        return {name: step for name, step in steps.items() if step}
