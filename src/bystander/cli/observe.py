"""`bystander observe`."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from bystander.cli.given.contradictions import refuse_contradictions
from bystander.cli.given.gate import GateAlsoOption, GateOption, gate_code
from bystander.cli.given.options import (
    ArchiveOption,
    DropCachesOption,
    GivenOption,
    MakeInputOption,
    OnlyOption,
    PlaceboOption,
    StudyOption,
    duration_option,
    here,
    share_option,
    size_option,
    variables,
    whole_option,
)
from bystander.cli.given.options import given as given_again
from bystander.cli.given.outputs import SummaryOption, ToOption
from bystander.cli.shown.unfinished import end_interrupted, resumable
from bystander.errors import BystanderError
from bystander.units import plain_text

if TYPE_CHECKING:
    from bystander.cli.shown.live import Display
    from bystander.design import Study
    from bystander.flow.quick.again import Again, AskedAgain
    from bystander.flow.quick.studies import Quick

__all__ = ["EXAMPLE", "observe"]

EXAMPLE = (
    "Examples: bystander observe | bystander observe -- python3 report.py | "
    "bystander observe --again | bystander observe --arm before='python3 old.py' --arm after='python3 new.py'"
)


def observe(
    command: Annotated[
        list[str] | None,
        typer.Argument(metavar="[-- COMMAND ...]", help="Time this one command now, without a study."),
    ] = None,
    study: StudyOption = None,
    arm: Annotated[
        list[str] | None,
        typer.Option(
            "--arm",
            metavar="NAME=COMMAND",
            help="Compare commands without a study; the first is the reference.",
        ),
    ] = None,
    call: Annotated[
        list[str] | None,
        typer.Option(
            "--call", metavar="[NAME=]MODULE:FUNCTION", help="Time one Python function; several, with names, compare."
        ),
    ] = None,
    arguments: GivenOption = None,
    make_input: MakeInputOption = None,
    again: Annotated[
        bool,
        typer.Option(
            "--again",
            help="Compare the folder as it stands with the state that it had: --again [RECORD], the newest by default.",
        ),
    ] = False,
    confirm: Annotated[
        str | None,
        typer.Option(
            "--confirm", metavar="RECORD", help="Run the very states of that record again, to see whether it holds."
        ),
    ] = None,
    from_first: Annotated[
        bool, typer.Option("--from-first", help="With --again: compare with the first state of all, too.")
    ] = False,
    earlier: Annotated[
        str | None,
        typer.Option("--with-earlier", metavar="RECORD", help="Run that record's candidate beside today's."),
    ] = None,
    candidate: Annotated[
        str | None, typer.Option("--candidate", metavar="ARM", help="With --again: take up this arm of the record.")
    ] = None,
    build: Annotated[
        list[str] | None,
        typer.Option("--build", metavar="COMMAND", help="Build by this before the trials; may be repeated."),
    ] = None,
    also: Annotated[
        list[str] | None,
        typer.Option("--also", metavar="PATTERN", help="Keep these files for --again although they are ignored."),
    ] = None,
    keep: Annotated[
        str | None,
        typer.Option("--keep", metavar="SIZE", help='Keep at most so much of the folder for --again: "64 MiB"; or 0.'),
    ] = None,
    blocks: Annotated[
        int | None, typer.Option("--blocks", help="Run at most so many blocks of each workload.", min=1)
    ] = None,
    fixed: Annotated[
        int | None, typer.Option("--fixed", help="Run exactly so many blocks, and stop no workload earlier.", min=1)
    ] = None,
    strict: Annotated[
        bool, typer.Option("--strict", help="Stop early by levels that hold however the looks depend on each other.")
    ] = False,
    budget: Annotated[
        str | None,
        typer.Option("--budget", help='Set the most blocks, once and before the start, to fit in this time: "10 min".'),
    ] = None,
    seed: Annotated[
        int | None, typer.Option("--seed", help="Decide the order of trials by this number.", min=0)
    ] = None,
    keep_environment: Annotated[
        list[str] | None,
        typer.Option(
            "--keep-environment", metavar="NAME", help="Pass this variable on to the trials; may be repeated."
        ),
    ] = None,
    number: Annotated[
        list[str] | None,
        typer.Option(
            "--number", metavar="NAME=PATTERN", help="Read a number that the command prints, as one more measure."
        ),
    ] = None,
    ready: Annotated[
        str | None,
        typer.Option("--ready", metavar="PATTERN", help="Time until the command prints this, and decide on it."),
    ] = None,
    end_at_ready: Annotated[
        bool, typer.Option("--end-at-ready", help="With --ready: end each trial there: a server, a window.")
    ] = False,
    only: OnlyOption = None,
    margin: Annotated[
        str | None, typer.Option("--margin", help='The smallest change that matters, for example "2 %".')
    ] = None,
    placebo: PlaceboOption = False,
    drop_caches: DropCachesOption = False,
    resume: Annotated[
        bool,
        typer.Option(
            "--resume", help="Finish a record that was interrupted: --resume [RECORD], the newest by default."
        ),
    ] = False,
    elsewhere: Annotated[
        bool, typer.Option("--elsewhere", help="Resume although this is another boot or machine; it is noted.")
    ] = False,
    archive: ArchiveOption = None,
    gate: GateOption = None,
    gate_also: GateAlsoOption = None,
    sessions: Annotated[
        int | None, typer.Option("--sessions", help="Spread the blocks over so many sessions.", min=2)
    ] = None,
    apart: Annotated[
        str | None, typer.Option("--apart", help='So far are sessions apart; "10 min" by default. The machine is free.')
    ] = None,
    wait: Annotated[
        bool, typer.Option("--wait", help="Wait until another observation on this machine has ended.")
    ] = False,
    to: ToOption = None,
    summary: SummaryOption = None,
    quiet: Annotated[
        bool, typer.Option("--quiet", help="Show no progress; with --gate, one line when all is well.")
    ] = False,
) -> None:
    """Run the trials of a study into a record; or time one command now, or compare two, without a study.

    After an edit, --again compares the folder as it stands with the state that it had.
    """
    from bystander.cli.decide import show
    from bystander.cli.onward.chain import show_ladder
    from bystander.cli.shown.brief import print_brief
    from bystander.cli.shown.live import Display
    from bystander.design import StoppingRule, with_placebo
    from bystander.flow.chains.ladders import chain_ladder
    from bystander.flow.commands.decide import decided
    from bystander.flow.commands.observe import observe as run
    from bystander.flow.commands.observe import resume as finish
    from bystander.flow.commands.report import Asked, append_report, refuse_targets, remove_stale, write_reports
    from bystander.flow.onward.earlier import with_earlier
    from bystander.flow.places import find_archive, new_archive
    from bystander.flow.quick.again import AskedAgain, confirmed_study
    from bystander.flow.quick.studies import Quick
    from bystander.flow.sessions.pauses import DEFAULT_APART_S, Spread
    from bystander.verdicts import gate_ask, gate_words, refuse_gate

    given = {
        "a command": command, "--study": study, "--arm": arm, "--blocks": blocks, "--seed": seed, "--only": only,
        "--margin": margin, "--number": number, "--keep-environment": keep_environment, "--placebo": placebo,
        "--budget": budget, "--drop-caches": drop_caches, "--fixed": fixed, "--strict": strict, "--call": call,
        "--given": arguments, "--make-input": make_input, "--again": again, "--confirm": confirm,
        "--from-first": from_first,
        "--candidate": candidate, "--build": build, "--also": also, "--keep": keep, "--resume": resume,
        "--elsewhere": elsewhere, "--ready": ready, "--end-at-ready": end_at_ready,
        "--sessions": sessions, "--apart": apart, "--with-earlier": earlier,
    }  # fmt: skip
    targets = to or []
    refuse_targets(targets, summary)
    refuse_contradictions({name for name, value in given.items() if value}, len(command or []))
    share, seconds = share_option("--margin", margin), duration_option("--budget", budget)
    most = whole_option("--fixed", fixed, "blocks") or whole_option("--blocks", blocks, "blocks")
    apart_s = duration_option("--apart", apart)
    spread = Spread(sessions, apart_s or DEFAULT_APART_S) if sessions else None
    seed = whole_option("--seed", seed, "seed")
    words = None if gate is None else gate_words(gate)
    quick = Quick(
        command=tuple(command or ()), arms=tuple(arm or ()), calls=tuple(call or ()), given=arguments,
        make_input=make_input, build=tuple(build or ()), keep=tuple(keep_environment or ()),
        numbers=tuple(number or ()), ready=ready, end_at_ready=end_at_ready,
    )  # fmt: skip
    asked = AskedAgain(candidate, from_first, quick.build, tuple(also or ()), size_option("--keep", keep))
    remove_stale(targets)
    with Display(quiet) as display, resumable(archive), _summarised(summary):
        if resume:
            target = find_archive(archive, variables(), here())
            name = command[0] if command else None
            result = finish(target, name, variables(), display, elsewhere=elsewhere, wait=wait)
        else:
            if confirm:
                meant = confirmed_study(find_archive(archive, variables(), here()), confirm)
            else:
                meant = _again(command, asked, archive, display) if again else _planned(quick, study, asked, archive)
            planned = _with(meant.study, quick, only or [])
            if most:
                planned = replace(planned, workloads=tuple(replace(one, blocks=None) for one in planned.workloads))
            planned = replace(
                with_placebo(planned) if placebo else planned,
                blocks=most or planned.blocks,
                stopping=StoppingRule.FIXED if fixed else StoppingRule.STRICT if strict else planned.stopping,
                seed=planned.seed if seed is None else seed,
                margin=share or planned.margin,
                drop_caches=drop_caches,
            )
            if words is not None:
                refuse_gate(gate_ask(words, planned, gate_also), planned)
            target = meant.archive or new_archive(archive, variables(), meant.home)
            if earlier:
                planned = with_earlier(planned, meant.home, target, earlier)
            result = run(
                planned,
                meant.home,
                target,
                variables(),
                display,
                budget_s=seconds,
                wait=wait,
                keeping=meant.keeping,
                spread=spread,
            )
    code = 0
    if result.record:
        repeated = given_again(None if quick or again or confirm or resume else study, archive, None)
        decision, finding = decided(target, result.record, words=gate, also=gate_also, given=repeated)
        write_reports(Asked(decision, finding, target), targets)
        if summary:
            append_report(decision, finding, summary)
        if quiet and finding and result.complete:
            code = print_brief(decision, finding)
        else:
            if decision.head.study.chain:
                show_ladder(chain_ladder(target, result.record), False, False, repeated)
            else:
                show(decision)
            code = gate_code(finding) if finding and result.complete else 0
    if not result.complete:
        end_interrupted(result.record, archive)
    if code:
        raise typer.Exit(code)


@contextmanager
def _summarised(summary: Path | None) -> Iterator[None]:
    """Append to a summary why an observation could not be made: no report would say it."""
    from bystander.flow.commands.report import append_text

    try:
        yield
    except BystanderError as error:
        if summary:
            append_text(f"**bystander observe could not be done**\n\n```\n{plain_text(str(error))}\n```\n", summary)
        raise


def _again(command: list[str] | None, asked: AskedAgain, archive: Path | None, display: Display) -> Again:
    """Return the study that compares the folder as it was with the folder as it stands, and say how they differ."""
    from bystander.flow.places import find_archive
    from bystander.flow.quick.again import observe_again_study

    meant = observe_again_study(find_archive(archive, variables(), here()), command[0] if command else None, asked)
    for sentence in meant.remarks:
        display.remark(sentence)
    return meant


def _planned(quick: Quick, study: Path | None, asked: AskedAgain, archive: Path | None) -> Again:
    """Return the study that is meant, and where it lies."""
    from bystander.flow.places import load_study
    from bystander.flow.quick.again import Again, keeping_of
    from bystander.flow.quick.studies import quick_study
    from bystander.flow.sessions.early_ends import noted

    if quick:
        return Again(*quick_study(quick, here()), keeping_of(asked))
    with noted(archive, variables(), here()):
        return Again(*load_study(study, here()), keeping_of(asked))


def _with(study: Study, quick: Quick, only: list[str]) -> Study:
    """Return a study with the variables that are kept besides, and with the wanted workloads only."""
    from bystander.design import with_only

    kept = tuple(dict.fromkeys((*study.keep_environment, *quick.keep)))
    return with_only(replace(study, keep_environment=kept), only)
