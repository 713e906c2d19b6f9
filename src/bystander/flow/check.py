"""`bystander check`: everything but the observation itself."""

from __future__ import annotations

import json
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from bystander.design import ArmState, Status, Study, stretches, with_only, with_placebo
from bystander.errors import UsageError
from bystander.field import ArmMaker, Launcher, MachineLock, machine_facts, machine_state
from bystander.flow.answers import Answers
from bystander.flow.calibration import calibrated
from bystander.flow.doubts import doubts
from bystander.flow.noise import earlier_noise, record_to_tell, tried_noise
from bystander.flow.observer import Observer
from bystander.flow.outlook import Outlook, measure_advice, outlooks
from bystander.flow.own_files import OwnFiles
from bystander.flow.pace import Pace
from bystander.flow.places import load_study
from bystander.flow.rehearsal import AnswerDifference, Tried, make_arms, rehearse
from bystander.flow.repetition import long_trials, repetition_advice
from bystander.flow.starts import Starts
from bystander.flow.tellings import told_sentences, work_sentences
from bystander.flow.trial import Commands, TrialRunner
from bystander.flow.trial_blocks import FEWEST_BLOCKS, MOST_BLOCKS, trial_blocks
from bystander.stats import blocks_needed
from bystander.units import counted, listed, share_text
from bystander.verdicts import PLACEBO_RISK, Noise

__all__ = ["CheckOptions", "Checked", "alike", "check", "checked_json", "shims", "too_few"]


@dataclass(frozen=True)
class Checked:
    """What a check found.

    Attributes
    ----------
    tried : tuple of Tried
        Empty where nothing was run.
    expected_s : float or None
        How long the observation will take, in seconds; None where nothing was run.
    outlooks : tuple of Outlook
        What the study could show, from `placebo_blocks` blocks or from a record; empty where that was not tried.
    noise_of : str
        The record that the outlooks are from; "" where they are from blocks just tried.
    change : float
        The change that the outlooks' blocks are for, as a share.
    remarks : tuple of str
        What the user should know before the start, one sentence each.
    """

    study: Study
    arms: tuple[ArmState, ...]
    commands: Commands
    tried: tuple[Tried, ...]
    differences: tuple[AnswerDifference, ...]
    machine: Mapping[str, Any]
    expected_s: float | None
    outlooks: tuple[Outlook, ...]
    placebo_blocks: int
    remarks: tuple[str, ...]
    change: float = 0.0
    noise_of: str = ""

    @property
    def failures(self) -> tuple[Tried, ...]:
        """Trials that did not end well."""
        return tuple(one for one in self.tried if one.outcome.status is not Status.OK)


@dataclass(frozen=True)
class CheckOptions:
    """How much to try.

    Attributes
    ----------
    only : sequence of str
        Workloads by name or pattern; all where it is empty.
    run : bool
        Whether anything is run at all.
    placebo : bool
        Add the placebo to the study.
    placebo_blocks : int or None
        Blocks of the reference against itself; by default 4 to 8, as many as fit in some seconds.
    change : float or None
        Say how many blocks would show this change, as a share; the margin by default.
    noise_of : str or None
        Take the noise from this record, and try no blocks.
    archive : Path or None
        Where records are.
    """

    only: Sequence[str] = ()
    run: bool = True
    placebo: bool = False
    placebo_blocks: int | None = None
    change: float | None = None
    noise_of: str | None = None
    archive: Path | None = None


def check(
    path: Path | None, here: Path, caller: Mapping[str, str], observer: Observer, options: CheckOptions | None = None
) -> Checked:
    """Read the study, make the arms ready, try each workload once per arm, and describe the machine.

    Raises
    ------
    UsageError, StudyError, ArmError, LauncherError, MachineBusyError
    """
    options = options or CheckOptions()
    if options.placebo_blocks in (1, 2):
        raise UsageError(
            f"--placebo-blocks: {options.placebo_blocks} blocks tell nothing; give 3 or more, or 0 for none"
        )
    study, place = load_study(path, here)
    study = with_only(with_placebo(study) if options.placebo else study, options.only)
    machine = machine_facts()
    # The lock comes first: making an arm again must not disturb an observation that runs on it.
    with MachineLock(f"check of {study.name}") as lock:
        place.keep_beside(options.archive)
        maker = ArmMaker(place, caller, options.archive)
        arms, commands = make_arms(study, maker, observer)
        remarks = [
            *alike(study, arms),
            *too_few(study),
            *shims(arms),
            *doubts(study, arms, commands),
            *_unread_answers(study),
        ]
        noise_of, noises, told = _earlier(study, options, str(machine.get("host")))
        remarks += told
        if not options.run:
            found = outlooks(study, noises, options.change)
            return Checked(
                study, arms, commands, (), (), machine, None, found, 0, tuple(remarks),
                options.change or study.margin, noise_of,
            )  # fmt: skip
        before = machine_state()
        with Launcher(lock.fd) as launcher:
            study, commands = calibrated(study, arms, commands, launcher)
            starts = Starts(study)
            trials = TrialRunner(launcher, commands, Answers(study, place.own / "answers"), starts)
            with OwnFiles(study, arms, maker) as watched:
                tried, differences = rehearse(study, trials, observer, watched)
            count = 0 if noise_of else _placebo_blocks(study, tried, options.placebo_blocks)
            twins = trial_blocks(study, trials, tried, count, observer)
    if watched.blind:
        remarks.append(f"Whether each arm opens its own files only could not be watched: {watched.blind}.")
    found = outlooks(study, noises or tried_noise(study, twins, tried), options.change)
    remarks += [*starts.sentences(), *told_sentences(study, tried), *work_sentences(study, tried)]
    remarks += [*_timers(study, tried), *_left_behind(study, tried), *_disturbance(before, machine_state())]
    if study.comparisons and not count and not noise_of and options.placebo_blocks is None:
        remarks.append(
            "What this study could show was not tried, as its trials are long: "
            f"--placebo-blocks {FEWEST_BLOCKS} does it, or --noise-of with an earlier record."
        )
    if advice := measure_advice(study, found):
        remarks.append(advice)
    remarks += [*repetition_advice(study, twins), *long_trials(study, tried)]
    expected = Pace(study, tried).left_s
    return Checked(
        study, arms, commands, tried, differences, machine, expected, found, count, tuple(remarks),
        options.change or study.margin, noise_of,
    )  # fmt: skip


def _earlier(study: Study, options: CheckOptions, host: str) -> tuple[str, tuple[Noise, ...], list[str]]:
    """Return the record that the noise is taken from, "" for none, the noise, and what should be known of it."""
    if options.archive is None or not study.comparisons:
        return "", (), []
    if options.noise_of is None:
        name = "" if options.run else record_to_tell(study, options.archive, host)
        hint = f"What this study could show can be told from an earlier record: --noise-of {name}"
        return "", (), [hint] if name else []
    head, noises = earlier_noise(study, options.archive, options.noise_of)
    told = []
    if (other := head.machine.get("host")) != host:
        told.append(f"Record {head.name} is from another machine ({other or 'unknown'}): this one has other noise.")
    if missing := [w.name for i, w in enumerate(study.workloads) if i not in {one.workload for one in noises}]:
        told.append(f"Record {head.name} tells nothing of the noise of {listed(missing, 3)}.")
    return head.name, noises, told


_TRYING_S, _LONG_S = 15.0, 60.0


def _placebo_blocks(study: Study, tried: tuple[Tried, ...], wanted: int | None) -> int:
    """Return how many blocks to try: as many as fit in some seconds, none where the fewest take a minute."""
    if study.comparisons == 0 or wanted is not None:
        return wanted or 0
    pair_s = 2 * sum(one.outcome.took_s for one in tried if one.arm == 0)
    if FEWEST_BLOCKS * pair_s > _LONG_S:
        return 0
    return min(MOST_BLOCKS, max(FEWEST_BLOCKS, int(_TRYING_S / max(pair_s, 1e-3))))


_STALLED, _STOLEN = 0.10, 0.02


def _disturbance(before: Mapping[str, Any], after: Mapping[str, Any]) -> list[str]:
    """Say what held the trials up while they were tried, as far as it can be read."""
    (seen,) = stretches([before, {**after, "first_block": 0, "last_block": 0}])
    told = []
    if seen.stalled >= _STALLED:
        told.append(f"While this was tried, programs waited for a processor {seen.stalled:.0%} of the time.")
    if seen.disk_stalled >= _STALLED:
        told.append(f"While this was tried, programs waited for the disk {seen.disk_stalled:.0%} of the time.")
    if seen.stolen >= _STOLEN:
        told.append(f"While this was tried, other virtual machines took {seen.stolen:.0%} of the processors.")
    return [sentence.replace("%", " %") for sentence in told]


def alike(study: Study, arms: Sequence[ArmState]) -> list[str]:
    """Say loudly which arms are the same thing: the same files, settings, environment and commands."""
    by_key: dict[str, list[str]] = {}
    for arm, state in zip(study.arms, arms, strict=True):
        if not arm.placebo:
            by_key.setdefault(f"{state.key} {state.folder if arm.in_place else ''}", []).append(arm.name)
    return [
        f"THE ARMS {' AND '.join(names)} ARE THE SAME THING: the same files, settings, environment and commands. What "
        "differs between them is chance."
        for names in by_key.values()
        if len(names) > 1
    ]


def too_few(study: Study) -> list[str]:
    """Say when so few blocks could not show a change, or a difference of the placebo, whatever came out."""
    told = []
    if study.comparisons and study.blocks < (needed := blocks_needed(study.tests, study.risk)):
        gated = f" with a gate on {len(study.gate.measures)} measures" if study.tests > study.comparisons else ""
        told.append(
            f"{counted(study.blocks, 'block')} can show nothing in a suite of "
            f"{counted(study.comparisons, 'comparison')}{gated}: it takes {needed} at least (blocks = {needed})."
        )
    workloads = len(study.workloads)
    if study.placebo is not None and study.blocks < (needed := blocks_needed(workloads, PLACEBO_RISK)):
        told.append(
            f"The placebo cannot differ visibly in {study.blocks} blocks, however it is: with "
            f"{counted(workloads, 'workload')} it takes {needed} at least (blocks = {needed})."
        )
    return told


def shims(arms: tuple[ArmState, ...]) -> list[str]:
    """Say when a trial pays for a script that starts the interpreter."""
    told = {}
    for arm in arms:
        facts = arm.facts.get("interpreter", {})
        if facts.get("through_script"):
            told[facts["path"]] = facts["program"]
    return [
        f"{path} is a script that starts {program}, and every trial pays for that; "
        "name the interpreter itself to leave it out."
        for path, program in told.items()
    ]


def _unread_answers(study: Study) -> list[str]:
    if len(study.arms) < 2 or any(workload.answer for workload in study.workloads):
        return []
    return ['No answers are compared: answer = "output" finds a faster program that prints something else.']


_COSTLY = 0.01


def _timers(study: Study, tried: tuple[Tried, ...]) -> list[str]:
    """Say where loop and clock take a share of a callable's samples that matters."""
    found = []
    for one in tried:
        if one.arm == 0 and one.outcome.timer_share > _COSTLY:
            iterations = one.outcome.harness["iterations"]
            found.append(
                f"{study.workloads[one.workload].name}: looping and reading the clock take "
                f"{share_text(one.outcome.timer_share)} of a sample of {iterations:g} iterations; the loop's part is "
                "taken off."
            )
    return found


def _left_behind(study: Study, tried: tuple[Tried, ...]) -> list[str]:
    names = dict.fromkeys(study.workloads[one.workload].name for one in tried if one.outcome.left_behind)
    return [f"{name} leaves processes behind; they are ended after each trial." for name in names]


def checked_json(checked: Checked) -> str:
    """Return a check as one JSON document."""
    study = checked.study
    document = {
        "format": "bystander.check",
        "version": 1,
        "study": study.name,
        "arms": [
            {"name": arm.name, "identity": arm.identity, "key": arm.key, "folder": arm.folder} for arm in checked.arms
        ],
        "commands": [
            {
                "workload": study.workloads[w].name,
                "arm": study.arms[a].name,
                "path": ready.command.path,
                "command": list(ready.command.argv),
            }
            for (w, a), ready in checked.commands.items()
        ],
        "trials": [
            {
                "workload": study.workloads[one.workload].name,
                "arm": study.arms[one.arm].name,
                "status": one.outcome.status.text,
                "elapsed_s": one.outcome.readings.get("elapsed"),
            }
            for one in checked.tried
        ],
        "other_answers": [
            {
                "workload": study.workloads[one.workload].name,
                "arm": study.arms[one.arm].name,
                "lines": list(one.lines),
            }
            for one in checked.differences
        ],
        "machine": dict(checked.machine),
        "expected_s": checked.expected_s,
        "placebo_blocks": checked.placebo_blocks,
        "noise_of": checked.noise_of or None,
        "change": checked.change,
        "outlook": [
            {
                "workload": study.workloads[one.workload].name,
                "smallest_shown": _number(one.smallest),
                "by_elapsed": _number(one.by_elapsed),
                "by_cpu": _number(one.by_cpu),
                "by_unqueued": _number(one.by_unqueued),
                "cpu_over_elapsed": _number(one.computing),
                "blocks_for_change": _number(one.blocks_for_change),
                "seconds_for_change": _number(one.seconds_for_change),
            }
            for one in checked.outlooks
        ],
        "remarks": list(checked.remarks),
    }
    return json.dumps(document, indent=2, ensure_ascii=False)


def _number(value: float) -> float | None:
    return value if math.isfinite(value) else None
