"""`bystander observe`."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated

import typer

from bystander.cli.exit_codes import INTERRUPTED
from bystander.cli.options import ArchiveOption, OnlyOption, StudyOption, here, share_option, variables
from bystander.errors import UsageError

__all__ = ["EXAMPLE", "observe"]

EXAMPLE = (
    "Examples: bystander observe | bystander observe -- python3 report.py | "
    "bystander observe --arm before='python3 old.py' --arm after='python3 new.py'"
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
    blocks: Annotated[int | None, typer.Option("--blocks", help="Run so many blocks of each workload.", min=1)] = None,
    seed: Annotated[
        int | None, typer.Option("--seed", help="Decide the order of trials by this number.", min=0)
    ] = None,
    keep_environment: Annotated[
        list[str] | None,
        typer.Option(
            "--keep-environment", metavar="NAME", help="Pass this variable on to the trials; may be repeated."
        ),
    ] = None,
    only: OnlyOption = None,
    margin: Annotated[
        str | None, typer.Option("--margin", help='The smallest change that matters, for example "2 %".')
    ] = None,
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
    wait: Annotated[
        bool, typer.Option("--wait", help="Wait until another observation on this machine has ended.")
    ] = False,
    quiet: Annotated[bool, typer.Option("--quiet", help="Show no progress.")] = False,
) -> None:
    """Run the trials of a study into a record; or time one command now, or compare two, without a study."""
    from bystander.cli.decide import show
    from bystander.cli.live import Display
    from bystander.design import with_only
    from bystander.flow.decide import decided
    from bystander.flow.observe import observe as run
    from bystander.flow.observe import resume as resumed
    from bystander.flow.places import find_archive, load_study, new_archive
    from bystander.flow.quick import commands_study, one_command_study

    given = [
        name
        for name, value in (
            ("--study", study),
            ("--arm", arm),
            ("--blocks", blocks),
            ("--seed", seed),
            ("--margin", margin),
            ("--only", only),
            ("--keep-environment", keep_environment),
        )
        if value
    ]
    if resume and (given or len(command or []) > 1):
        raise UsageError(f"--resume finishes a plan as it is; {given[0] if given else 'a command'} does not apply")
    if only and (command or arm):
        raise UsageError("--only chooses workloads of a study; without one it does not apply")
    if elsewhere and not resume:
        raise UsageError("--elsewhere goes with --resume")
    if not resume and command and (arm or study):
        raise UsageError(
            f"a command after -- and {'--arm' if arm else '--study'} are both given; keep the one that is meant"
        )
    if arm and study:
        raise UsageError("--study and --arm are both given; keep the one that is meant")
    if resume:
        target = find_archive(archive, variables(), here())
        with Display(quiet) as display:
            result = resumed(
                target, command[0] if command else None, variables(), display, elsewhere=elsewhere, wait=wait
            )
    else:
        keep = keep_environment or []
        if command:
            planned, place = one_command_study(command, here(), keep)
        elif arm:
            planned, place = commands_study(arm, here(), keep)
        else:
            planned, place = load_study(study, here())
            planned = with_only(replace(planned, keep_environment=(*planned.keep_environment, *keep)), only or ())
        planned = replace(
            planned,
            blocks=blocks or planned.blocks,
            seed=planned.seed if seed is None else seed,
            margin=share_option("--margin", margin, 1.0) or planned.margin,
        )
        target = new_archive(archive, variables(), place)
        with Display(quiet) as display:
            result = run(planned, place, target, variables(), display, wait=wait)
    if result.record:
        show(decided(target, result.record))
    if not result.complete:
        told = "interrupted; nothing was recorded"
        if result.record:
            told = f"interrupted; record {result.record} is unfinished: bystander observe --resume finishes it"
        typer.echo(f"bystander: {told}", err=True)
        raise typer.Exit(INTERRUPTED)
