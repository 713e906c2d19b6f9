"""What a study says, as frozen types."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

from bystander.design.gate import Gate

__all__ = [
    "ANSWER_RULES",
    "CALL_ANSWER_RULES",
    "DEFAULT_BLOCKS",
    "DEFAULT_LIMIT_S",
    "DEFAULT_MARGIN",
    "DEFAULT_OUTPUT_BYTES",
    "DEFAULT_RISK",
    "DEFAULT_SAMPLES",
    "DEFAULT_SAMPLE_S",
    "ONE_ARM_BLOCKS",
    "ONE_ARM_STUDY_BLOCKS",
    "PLACEBO",
    "STARTS",
    "STOPPINGS",
    "VARIED",
    "AnswerRule",
    "Arm",
    "Callable",
    "Study",
    "Workload",
    "with_placebo",
]

PLACEBO = "placebo"  # the name of that arm
DEFAULT_MARGIN = 0.03
DEFAULT_RISK = 0.05
DEFAULT_BLOCKS = 40  # at most
ONE_ARM_STUDY_BLOCKS = 20
ONE_ARM_BLOCKS = 12  # of a command without a study
DEFAULT_LIMIT_S = 600.0
DEFAULT_OUTPUT_BYTES = 256 * 2**20
ANSWER_RULES = ("output", "file", "exit code")
CALL_ANSWER_RULES = ("result",)
STARTS = ("from-disk", "from-memory", "in-process")
DEFAULT_SAMPLE_S = 0.01
DEFAULT_SAMPLES = 30
STOPPINGS = ("looks", "strict", "fixed")
VARIED = ("hash seed", "environment size", "folder depth")


@dataclass(frozen=True)
class Arm:
    """One state of the code or configuration.

    Attributes
    ----------
    folder : str
        Where it lies, relative to the study; "." is the working tree.
    revision : str or None
        A git revision to check out apart instead.
    environment : mapping
        Variables set for its trials and build steps.
    settings : mapping
        Values for placeholders.
    build : tuple of str
        Commands that install or compile, run once.
    command : mapping
        Commands by workload that replace the study's; the key "" stands for all workloads.
    in_place : bool
        Run in the folder itself, without a snapshot (observations without a study).
    placebo : bool
        Made like the reference, apart from it; what it shows is noise.
    weigh : str
        What is left out of this arm, only to see what it weighs: its answers may differ. "" for nothing.
    """

    name: str
    folder: str = "."
    revision: str | None = None
    environment: Mapping[str, str] = field(default_factory=dict)
    settings: Mapping[str, str] = field(default_factory=dict)
    build: tuple[str, ...] = ()
    command: Mapping[str, str] = field(default_factory=dict)
    in_place: bool = False
    placebo: bool = False
    weigh: str = ""

    def command_for(self, workload: Workload) -> str:
        """Return the command template that this arm runs for a workload."""
        return self.command.get(workload.base, self.command.get("", workload.command))


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
    """

    file: str = ""
    mask: tuple[str, ...] = ()
    any_order: bool = False
    tolerance: float = 0.0
    accept: str = ""

    @property
    def plain(self) -> bool:
        """Whether what is printed is compared to the last byte."""
        return not (self.file or self.mask or self.any_order or self.tolerance)


@dataclass(frozen=True)
class Callable:
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
class Workload:
    """Something to run, for one value of each of its inputs.

    Attributes
    ----------
    name : str
        Its base name with the inputs, for example "year:port=north"; see `names`.
    base : str
        The name in the study.
    command : str
        The template, before placeholders are filled.
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
    timed : Callable or None
        A callable in the place of a command.
    spans : str
        A file in the arm's folder in which a trial leaves its spans (OTLP, JSON); "" for none.
    start : str
        One of `STARTS`: where its files are before each trial; "" for wherever they happen to be.
    files : tuple of str
        Patterns of the files that its start reads, relative to the arm's folder; empty to find them.
    floor : str
        The name of a workload that does nothing but what this one must do anyway; "" for none.
    """

    name: str
    base: str
    command: str
    shell: bool = False
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
    timed: Callable | None = None
    answer_rule: AnswerRule = AnswerRule()
    spans: str = ""
    start: str = ""
    files: tuple[str, ...] = ()
    floor: str = ""

    @property
    def kind(self) -> str:
        """Which kind of workload it is."""
        return "callable" if self.timed else "command"

    @property
    def steps(self) -> dict[str, str]:
        """The steps around its trials that there are, by name."""
        steps = {"before_all": self.before_all, "before_each": self.before_each, "after_each": self.after_each}
        return {name: step for name, step in steps.items() if step}

    def values(self, arm: Arm) -> dict[str, str]:
        """Return the values of placeholders under an arm: inputs come before arm before workload."""
        return {**self.settings, **arm.settings, **self.inputs}


@dataclass(frozen=True)
class Study:
    """Everything that is fixed before the first trial.

    Attributes
    ----------
    margin, risk : float
        Shares from 0 to 1.
    blocks : int
        Blocks of each workload, at most.
    stopping : str
        One of `STOPPINGS`: a row stops at the planned look that decides it, the same with levels that hold under
        any dependence, or all blocks run. Records of before there were looks are "fixed".
    seed : int or None
        Decides all orders; drawn and stored when the observation starts, where it is not given.
    keep_environment : tuple of str
        Variables taken over from the caller besides the standard list.
    vary : tuple of str
        Conditions among `VARIED` that are drawn for each block, alike for all its arms.
    affinity : tuple of int
        Processors on which trials may run; all where it is empty.
    niceness : int
        Added to that of the caller, for trials.
    fixed_addresses : bool
        Lay out the address space of every trial alike.
    drop_caches : bool
        Put all files of the machine out of memory before each start from disk.
    gate : Gate
        What `--gate study` looks for.
    shared_files : tuple of str
        Patterns of files, relative to the study, that all arms may open where they lie though they have copies.
    written_files : tuple of str
        Patterns of files that trials write into an arm's folder; they are no part of what the arm is.
    chosen : tuple of str
        The names and patterns by which its workloads were chosen among those of its file; empty for all.
    """

    name: str
    arms: tuple[Arm, ...]
    workloads: tuple[Workload, ...]
    margin: float = DEFAULT_MARGIN
    risk: float = DEFAULT_RISK
    blocks: int = DEFAULT_BLOCKS
    measure: str = "elapsed"
    seed: int | None = None
    keep_environment: tuple[str, ...] = ()
    vary: tuple[str, ...] = ()
    affinity: tuple[int, ...] = ()
    niceness: int = 0
    fixed_addresses: bool = False
    drop_caches: bool = False
    stopping: str = "fixed"
    gate: Gate = field(default_factory=Gate)
    shared_files: tuple[str, ...] = ()
    written_files: tuple[str, ...] = ()
    chosen: tuple[str, ...] = ()

    @property
    def reference(self) -> Arm:
        """The arm that each other one is compared with."""
        return self.arms[0]

    @property
    def candidates(self) -> tuple[int, ...]:
        """Positions of the arms that are compared with the reference; the placebo is none."""
        return tuple(a for a, arm in enumerate(self.arms) if a and not arm.placebo)

    @property
    def placebo(self) -> int | None:
        """Position of the placebo, where there is one."""
        return next((a for a, arm in enumerate(self.arms) if arm.placebo), None)

    @property
    def comparisons(self) -> int:
        """The number of compared (workload, candidate) pairs."""
        return len(self.workloads) * len(self.candidates)

    @property
    def tests(self) -> int:
        """The tests over which a row is held before it stops: comparisons, times the measures of the study's gate."""
        return self.comparisons * max(1, len(self.gate.measures))

    @property
    def stops_early(self) -> bool:
        """Whether a workload may end before its last block."""
        return self.stopping != "fixed" and self.comparisons > 0

    def accepted(self, workload: int, arm: int) -> str:
        """Why an arm may give another answer to a workload, "" where it may not."""
        left_out = self.arms[arm].weigh
        return self.workloads[workload].answer_rule.accept or (left_out and f"{left_out} is left out")

    @property
    def conditions_text(self) -> str:
        """The conditions of trials in a sentence; "" when the study sets none."""
        told = [f"at niceness {self.niceness:+d}"] if self.niceness else []
        if self.affinity:
            told.append(
                f"on processor{'s' if len(self.affinity) > 1 else ''} {', '.join(map(str, self.affinity))} only"
            )
        if self.fixed_addresses:
            told.append("with address spaces laid out alike")
        fixed = f"All trials ran {', '.join(told)}." if told else ""
        varied = f"Drawn anew for each block, alike for its arms: {', '.join(self.vary)}." if self.vary else ""
        return f"{fixed} {varied}".strip()


def with_placebo(study: Study) -> Study:
    """Return the study with one more arm: the reference again, to be made apart from it."""
    if study.placebo is not None:
        return study
    return replace(study, arms=(*study.arms, replace(study.reference, name=PLACEBO, placebo=True)))
