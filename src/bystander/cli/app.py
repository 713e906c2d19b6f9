"""The program: commands are put together, errors become one sentence and an exit code."""

from __future__ import annotations

import errno
import gc
import io
import os
import signal
import sys
from contextlib import suppress
from types import FrameType
from typing import Annotated

import typer

from bystander import __version__
from bystander.cli import check, decide, demo, inside, leads, new, observe, records, report
from bystander.cli.exit_codes import FAILED, INTERRUPTED, code_for
from bystander.cli.onward import bisect, chain, settle
from bystander.cli.shown.said import say
from bystander.errors import BystanderError
from bystander.files import remove_leftovers
from bystander.units import plain_text

__all__ = ["app", "run"]

_TRACEBACK = "BYSTANDER_TRACEBACK"  # shows where an error comes from, all of it
_MOST_LETTERS = 200

app = typer.Typer(
    name="bystander",
    help="A controlled trial for every change: is the program faster, slower or the same, by how much, and how "
    "sure is that?",
    epilog="Start with: bystander demo",
    no_args_is_help=True,
    pretty_exceptions_enable=False,
    rich_markup_mode=None,
)


def _version(asked: bool) -> None:
    if asked:
        say(f"bystander {__version__}")
        raise typer.Exit


@app.callback()
def _main(
    version: Annotated[  # noqa: ARG001 (its callback ends the program)
        bool, typer.Option("--version", callback=_version, is_eager=True, help="Show the version and exit.")
    ] = False,
) -> None:
    remove_leftovers()  # of commands that were killed


# Each command with the line that the overview shows; the function's own text is its long help.
for _name, _function, _example, _line in (
    ("demo", demo.demo, demo.EXAMPLE, "See everything at work on a made-up harbour office."),
    ("new", new.new, new.EXAMPLE, "Write a commented study for this folder."),
    ("check", check.check, check.EXAMPLE, "Try everything once, before hours are spent."),
    ("observe", observe.observe, observe.EXAMPLE, "Run the trials of a study, or of a command."),
    ("decide", decide.decide, decide.EXAMPLE, "Say what is slower, faster, same or unclear."),
    ("report", report.report, report.EXAMPLE, "Write a page, or files for programs."),
):
    app.command(_name, epilog=_example, short_help=_line)(_function)
app.command(
    "inspect", epilog=inside.INSPECT_EXAMPLE, short_help="Where did it change? Of one state: where does the time go?",
    cls=inside.InspectCommand,
)(inside.inspect)  # fmt: skip
app.command("leads", epilog=leads.LEADS_EXAMPLE, short_help="Show that again, from what is kept.")(leads.leads)
app.command("chain", epilog=chain.EXAMPLE, short_help="Measure one change after another.")(chain.chain)
app.command("bisect", epilog=bisect.EXAMPLE, short_help="Find the commit that made it slower.")(bisect.bisect)
app.command("settle", epilog=settle.EXAMPLE, short_help="Accept, judge, keep or drop, with a reason.")(settle.settle)
app.add_typer(records.app, name="records", short_help="List, show, keep, move and mend records.")


# A command makes many objects that last and hardly a cycle: looking for cycles as often as Python does by default
# took a sixth of the time of a ladder of 200 states.
_OBJECTS = 100_000


class _Stopped(BaseException):
    """The user pressed Ctrl-C while nothing was being recorded."""


def _stop(_number: int, _frame: FrameType | None) -> None:
    raise _Stopped


def run() -> None:
    """Run the program and exit; the only place where errors are turned into exit codes."""
    signal.signal(signal.SIGINT, _stop)
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="replace")  # a name that the terminal cannot show is no reason to fail
    # NumPy starts a thread per core for work that we never give it; trials do not get this variable.
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    gc.set_threshold(_OBJECTS)
    try:
        app()
    except BystanderError as error:
        _complain(str(error))
        sys.exit(code_for(error))
    except _Stopped:
        _complain("interrupted; nothing was recorded")
        sys.exit(INTERRUPTED)
    except BrokenPipeError:
        # Whoever read our output has seen enough; keep Python from complaining once more at exit.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        sys.exit(FAILED)
    except OSError as error:
        if error.errno == errno.ENOSPC:
            where = f" of {error.filename}" if error.filename else ""
            _complain(f"the disk{where} is full; free some room there, nothing that was kept is lost")
            sys.exit(FAILED)
        name = f": {error.filename}" if error.filename else ""
        _complain(f"{error.strerror or error}{name}")
        sys.exit(FAILED)
    except Exception as error:
        if os.environ.get(_TRACEBACK):
            raise
        _complain(_last_resort(error))
        sys.exit(FAILED)


def _last_resort(error: Exception) -> str:
    """Return the sentence for what nobody thought of: what it is, where it happened, and how to report it."""
    at, last = "", error.__traceback__
    while last is not None:
        code = last.tb_frame.f_code
        if "/bystander/" in code.co_filename:
            at = f" at {code.co_filename.rpartition('/bystander/')[2]}, line {last.tb_lineno}"
        last = last.tb_next
    text = " ".join(str(error).split())[:_MOST_LETTERS]
    return (
        f"this should not happen: {type(error).__name__}{f': {text}' if text else ''}{at}; nothing that was kept is "
        f"lost. Please report it with the command, bystander --version and what {_TRACEBACK}=1 prints with it"
    )


def _complain(text: str) -> None:
    lines = plain_text(text).splitlines() or [""]
    with suppress(OSError):  # the terminal may be closed
        for line in lines:
            print(f"bystander: {line}" if not line.startswith(" ") else line, file=sys.stderr)
