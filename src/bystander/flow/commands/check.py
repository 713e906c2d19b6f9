"""`bystander check`: everything but the observation itself."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from bystander.design import Study, with_only, with_placebo
from bystander.errors import UsageError
from bystander.exchange import check_json
from bystander.field import ArmMaker, Launcher, MachineLock, kind_in_field, machine_facts, machine_state
from bystander.flow.chains.making import made_chain
from bystander.flow.chains.states import chain_of
from bystander.flow.observer import Observer
from bystander.flow.places import load_study
from bystander.flow.sessions.earlier_noise import earlier_noise, record_to_tell
from bystander.flow.sessions.rehearsal import rehearse
from bystander.flow.trials.answers import Answers
from bystander.flow.trials.blocks import trial_blocks
from bystander.flow.trials.calibration import calibrated
from bystander.flow.trials.own_files import OwnFiles
from bystander.flow.trials.ready import make_arms, run_before_all
from bystander.flow.trials.signs import signs
from bystander.flow.trials.starts import Starts
from bystander.flow.trials.trial import Commands, TrialRunner
from bystander.foresight import (
    FEWEST_BLOCKS,
    MOST_BLOCKS,
    Checked,
    CheckedCommand,
    Outlook,
    Pace,
    Tried,
    alike,
    ceiling_sentences,
    disturbance,
    left_behind,
    links_sentences,
    long_trials,
    measure_advice,
    outlooks,
    printed_sentences,
    refuse_few_trials,
    repetition_advice,
    shims,
    spaced,
    timers,
    told_sentences,
    too_few,
    tried_noise,
    unprinted_sentences,
    unread_answers,
    unwatched,
    work_sentences,
)
from bystander.units import listed
from bystander.verdicts import Noise

__all__ = ["CheckOptions", "check", "checked_json"]


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
    study, home = load_study(path, here)
    study = with_only(with_placebo(study) if options.placebo else study, options.only)
    study = chain_of(study, home, options.archive)
    refuse_few_trials(study)
    machine = machine_facts()
    # The lock comes first: making an arm again must not disturb an observation that runs on it.
    with MachineLock(f"check of {study.name}") as lock:
        home.keep_beside(options.archive)
        maker = ArmMaker(home, caller, options.archive)
        study = made_chain(study, maker, observer)
        arms, commands = make_arms(study, maker, observer)
        remarks = [
            *alike(study, arms),
            *too_few(study),
            *ceiling_sentences(study),
            *spaced(study),
            *shims(arms),
            *signs(study, arms, commands),
            *unread_answers(study),
        ]
        noise_of, noises, sentences = _earlier(study, options, machine.host)
        remarks += sentences
        if not options.run:
            found = outlooks(study, noises, options.change)
            remarks += links_sentences(study, found, options.change or study.margin)
            return Checked(
                study, arms, _commands(study, commands), (), (), machine, None, found, 0, tuple(remarks),
                options.change or study.margin, noise_of,
            )  # fmt: skip
        before = machine_state()
        with Launcher(lock.fd) as launcher:
            run_before_all(study, dict(enumerate(arms)), launcher)
            study, commands = calibrated(study, arms, commands, launcher)
            starts = Starts(study)
            trials = TrialRunner(launcher, commands, Answers(study, home.own / "answers"), starts)
            with OwnFiles(study, arms, maker) as watched:
                tried, differences = rehearse(study, trials, observer, watched)
            count = 0 if noise_of else _placebo_blocks(study, tried, options.placebo_blocks)
            twins = trial_blocks(study, trials, tried, count, observer)
    found = outlooks(study, noises or tried_noise(study, twins, tried), options.change)
    remarks += [*unwatched(watched.blind), *starts.sentences(), *_of_trying(study, tried)]
    remarks += [*left_behind(study, tried), *disturbance(before, machine_state())]
    remarks += links_sentences(study, found, options.change or study.margin)
    remarks += _of_outlook(study, found, untried=not count and not noise_of and options.placebo_blocks is None)
    remarks += [*repetition_advice(study, twins), *long_trials(study, tried)]
    return Checked(
        study, arms, _commands(study, commands), tried, differences, machine, Pace(study, tried).left_s, found, count,
        tuple(remarks), options.change or study.margin, noise_of,
    )  # fmt: skip


def _of_trying(study: Study, tried: Sequence[Tried]) -> list[str]:
    """Say what one trial of each workload showed of what they tell, do and time."""
    told = [*told_sentences(study, tried), *printed_sentences(study, tried), *unprinted_sentences(study, tried)]
    return [*told, *work_sentences(study, tried), *timers(study, tried)]


def _of_outlook(study: Study, found: Sequence[Outlook], *, untried: bool) -> list[str]:
    """Say which measure is the wiser one here, and how to learn what the study could show where that was not tried."""
    remarks = []
    if study.comparisons and untried:
        remarks.append(
            "What this study could show was not tried, as its trials are long: "
            f"--placebo-blocks {FEWEST_BLOCKS} does it, or --noise-of with an earlier record."
        )
    advice = measure_advice(study, found)
    return [*remarks, advice] if advice else remarks


def _earlier(study: Study, options: CheckOptions, host: str | None) -> tuple[str, tuple[Noise, ...], list[str]]:
    """Return the record that the noise is taken from, "" for none, the noise, and what should be known of it."""
    if options.archive is None or not study.comparisons:
        return "", (), []
    if options.noise_of is None:
        name = "" if options.run else record_to_tell(study, options.archive, host)
        hint = f"What this study could show can be told from an earlier record: --noise-of {name}"
        return "", (), [hint] if name else []
    head, noises = earlier_noise(study, options.archive, options.noise_of)
    sentences = []
    if (other := head.machine.host) != host:
        sentences.append(
            f"Record {head.name} is from another machine ({other or 'unknown'}): this one has other noise."
        )
    if missing := [w.name for i, w in enumerate(study.workloads) if i not in {one.workload for one in noises}]:
        sentences.append(f"Record {head.name} tells nothing of the noise of {listed(missing, 3)}.")
    return head.name, noises, sentences


_TRYING_S, _LONG_S = 15.0, 60.0


def _placebo_blocks(study: Study, tried: tuple[Tried, ...], wanted: int | None) -> int:
    """Return how many blocks to try: as many as fit in some seconds, none where the fewest take a minute."""
    if not study.comparisons or wanted is not None:
        return wanted or 0
    pair_s = 2 * sum(one.outcome.took_s for one in tried if one.arm == study.reference_at)
    if FEWEST_BLOCKS * pair_s > _LONG_S:
        return 0
    return min(MOST_BLOCKS, max(FEWEST_BLOCKS, int(_TRYING_S / max(pair_s, 1e-3))))


def _commands(study: Study, commands: Commands) -> tuple[CheckedCommand, ...]:
    """Return what is run of each workload under each arm."""
    found = []
    for (w, a), ready in commands.items():
        workload, command = study.workloads[w], ready.command
        text = kind_in_field(workload.kind).text(workload, command)
        found.append(CheckedCommand(w, a, command.path, tuple(command.argv), text))
    return tuple(found)


def checked_json(checked: Checked) -> str:
    """Return a check as one JSON document."""
    return check_json(checked)
