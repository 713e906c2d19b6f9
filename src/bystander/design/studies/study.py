"""What a study says, as frozen types."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from functools import cached_property
from itertools import starmap

from bystander.design.studies.arms import PLACEBO, Arm
from bystander.design.studies.ceilings import Ceiling
from bystander.design.studies.chain import Chain, ChainKind, ChainStates, chained
from bystander.design.studies.comparisons import Comparison, ComparisonPurpose, each_with_first, plan_named
from bystander.design.studies.gate import Gate
from bystander.design.studies.words import Condition, StoppingRule
from bystander.design.studies.workloads import Workload

__all__ = [
    "DEFAULT_BLOCKS",
    "DEFAULT_MARGIN",
    "DEFAULT_RISK",
    "LEAST_RISK",
    "ONE_ARM_BLOCKS",
    "ONE_ARM_STUDY_BLOCKS",
    "Study",
    "compared_by",
    "with_placebo",
]

DEFAULT_MARGIN = 0.03
DEFAULT_RISK = 0.05
LEAST_RISK = 1e-12  # nobody means less; shared among many rows it would be no float
DEFAULT_BLOCKS = 40  # at most
ONE_ARM_STUDY_BLOCKS = 20
ONE_ARM_BLOCKS = 12  # of a command without a study


@dataclass(frozen=True)
class Study:
    """Everything that is fixed before the first trial.

    Attributes
    ----------
    margin, risk : float
        Shares from 0 to 1.
    blocks : int
        Blocks of each workload that does not say how many, at most.
    stopping : StoppingRule
        Records of before there were looks are fixed.
    seed : int or None
        Decides all orders; drawn and stored when the observation starts, where it is not given.
    keep_environment : tuple of str
        Variables taken over from the caller besides the standard list.
    secret_environment : tuple of str
        Variables taken over from the caller too, of which nothing is ever kept.
    vary : tuple of Condition
        Conditions that are drawn for each block, alike for all its arms.
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
    per : str
        In which span workloads run as often as their weights say: "day"; "" where weights are relative.
    compared : tuple of Comparison
        What is held against what, controls included; empty for each arm against the first.
    states : ChainStates or None
        Where the states of its chain come from, where it has one.
    chain : Chain or None
        The links between its arms, where these are a chain.
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
    vary: tuple[Condition, ...] = ()
    affinity: tuple[int, ...] = ()
    niceness: int = 0
    fixed_addresses: bool = False
    drop_caches: bool = False
    stopping: StoppingRule = StoppingRule.FIXED
    gate: Gate = field(default_factory=Gate)
    shared_files: tuple[str, ...] = ()
    written_files: tuple[str, ...] = ()
    chosen: tuple[str, ...] = ()
    compared: tuple[Comparison, ...] = ()
    secret_environment: tuple[str, ...] = ()
    per: str = ""
    states: ChainStates | None = None
    chain: Chain | None = None

    @property
    def taken_over(self) -> tuple[str, ...]:
        """The variables that trials have from the caller, besides the standard list."""
        return tuple(dict.fromkeys((*self.keep_environment, *self.secret_environment)))

    @cached_property
    def planned_blocks(self) -> tuple[int, ...]:
        """The blocks of each workload, at most."""
        return tuple(workload.blocks or self.blocks for workload in self.workloads)

    @property
    def total_blocks(self) -> int:
        """The blocks of all workloads together, at most."""
        return sum(self.planned_blocks)

    @property
    def blocks_text(self) -> str:
        """How many blocks each workload has, at most: "40", or "12 to 80"."""
        least, most = min(self.planned_blocks), max(self.planned_blocks)
        return str(most) if least == most else f"{least} to {most}"

    @property
    def counted_blocks(self) -> str:
        """The same with the word: "40 blocks"."""
        return f"{self.blocks_text} block{'' if self.blocks_text == '1' else 's'}"

    @cached_property
    def all_comparisons(self) -> tuple[Comparison, ...]:
        """What is held against what, controls included."""
        return self.compared or each_with_first(self.arms)

    @cached_property
    def comparisons(self) -> tuple[Comparison, ...]:
        """The comparisons that look for a change."""
        return tuple(one for one in self.all_comparisons if one.purpose == ComparisonPurpose.CHANGE)

    @cached_property
    def links(self) -> tuple[Comparison, ...]:
        """The links of its chain, each the state after an edit against the one before it; empty without a chain."""
        return (
            tuple(starmap(Comparison, chained(self.chain.links, [arm.name for arm in self.arms]))) if self.chain else ()
        )

    @cached_property
    def families(self) -> tuple[tuple[Comparison, ...], ...]:
        """Comparisons whose rows are adjusted together: of a chain all links, else each by itself."""
        rest = [(one,) for one in self.comparisons if one not in self.links]
        return (tuple(one for one in self.comparisons if one in self.links), *rest) if self.links else tuple(rest)

    @property
    def every_row(self) -> bool:
        """Whether no row at all may look changed by luck: of the pieces of one edit, each is asked for."""
        return self.chain is not None and self.chain.kind is ChainKind.PIECES

    @property
    def sharing(self) -> int:
        """Among how many families the risk is shared; a chain's links and its total are two questions."""
        return 1 if self.chain else max(1, len(self.families))

    @cached_property
    def control(self) -> Comparison | None:
        """The placebo against what it is made like, where there is one."""
        return next((one for one in self.all_comparisons if one.purpose == ComparisonPurpose.CONTROL), None)

    @cached_property
    def reference_at(self) -> int:
        """The position of the arm that comparisons begin with: what is found once, is found on it."""
        return self.all_comparisons[0].reference if self.all_comparisons else 0

    @property
    def reference(self) -> Arm:
        """The arm that comparisons begin with."""
        return self.arms[self.reference_at]

    @property
    def planned_rows(self) -> int:
        """The number of compared (workload, comparison) pairs."""
        return len(self.workloads) * len(self.comparisons)

    @property
    def tests(self) -> int:
        """The tests over which a row is held before it stops: its rows, times the measures of the study's gate."""
        return self.planned_rows * max(1, len(self.gate.measures))

    @cached_property
    def ceilings(self) -> tuple[tuple[int, int, Ceiling], ...]:
        """Every ceiling with the positions of its workload and of each arm that is held to it: all but a placebo."""
        arms = [a for a, arm in enumerate(self.arms) if not arm.placebo]
        return tuple(
            (w, a, ceiling) for w, workload in enumerate(self.workloads) for ceiling in workload.ceilings for a in arms
        )

    @property
    def stops_early(self) -> bool:
        """Whether a workload may end before its last block."""
        return self.stopping != StoppingRule.FIXED and (self.planned_rows > 0 or bool(self.ceilings))

    def names(self, comparison: Comparison) -> tuple[str, str]:
        """Return the names of both arms, the reference's first."""
        return self.arms[comparison.reference].name, self.arms[comparison.candidate].name

    def accepted(self, workload: int, arm: int) -> str:
        """Why an arm may give another answer to a workload, "" where it may not."""
        left_out = self.arms[arm].weigh
        return self.workloads[workload].answer_rule.accept or (left_out and f"{left_out} is left out")

    @property
    def conditions_text(self) -> str:
        """The conditions of trials in a sentence; "" when the study sets none."""
        held = [f"at niceness {self.niceness:+d}"] if self.niceness else []
        if self.affinity:
            held.append(
                f"on processor{'s' if len(self.affinity) > 1 else ''} {', '.join(map(str, self.affinity))} only"
            )
        if self.fixed_addresses:
            held.append("with address spaces laid out alike")
        fixed = f"All trials ran {', '.join(held)}." if held else ""
        varied = f"Drawn anew for each block, alike for its arms: {', '.join(self.vary)}." if self.vary else ""
        return f"{fixed} {varied}".strip()


def compared_by(study: Study, plan: str) -> Study:
    """Return the study with the comparisons of a plan; raise UsageError when there is no such plan."""
    return replace(study, compared=plan_named(plan)(study.arms))


def with_placebo(study: Study) -> Study:
    """Return the study with one more arm: the reference again, to be made apart from it."""
    if study.control is not None:
        return study
    control = Comparison(study.reference_at, len(study.arms), ComparisonPurpose.CONTROL)
    return replace(
        study,
        arms=(*study.arms, replace(study.reference, name=PLACEBO, placebo=True)),
        compared=(*study.compared, control) if study.compared else (),
    )
