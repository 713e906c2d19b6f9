"""What `inspect` is asked for besides watching: lines, arguments, growth, slow trials; what does not go together."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from bystander.cli.given.options import duration_option
from bystander.errors import UsageError

if TYPE_CHECKING:
    from bystander.design import Study
    from bystander.flow.inside.asked import AskedClosely, AskedGrowth, AskedSlow

__all__ = ["asked_closely", "asked_growth", "asked_slow", "with_given_sizes"]


def asked_closely(executions: str | None, arguments: str | None, others: dict[str, Any]) -> AskedClosely | None:
    """Return what is looked at closely; raise UsageError for what does not go with that."""
    from bystander.flow.inside.asked import AskedClosely

    if executions is None and arguments is None:
        return None
    if executions is not None and arguments is not None:
        raise UsageError("--executions and --arguments are both given; one function is counted in one way at a time")
    option = "--executions" if arguments is None else "--arguments"
    if given_too := [name for name, value in others.items() if value]:
        raise UsageError(f"{option} only counts; {given_too[0]} does not apply")
    return AskedClosely(str(executions if arguments is None else arguments), arguments is not None)


def asked_growth(
    inputs: str | None, trials: int | None, counts: bool | None, others: dict[str, Any]
) -> tuple[AskedGrowth | None, list[str]]:
    """Return by which input growth is asked for, and the sizes that are given; raise UsageError for nonsense."""
    from bystander.flow.inside.asked import AskedGrowth

    if inputs is None:
        return None, []
    if given_too := [name for name, value in others.items() if value]:
        raise UsageError(f"--inputs shows how places grow; {given_too[0]} does not apply")
    name, equals, text = inputs.partition("=")
    if not name.isidentifier() or (equals and not text.strip()):
        raise UsageError(f'--inputs: "{inputs}" names no input; write for example --inputs n=100,200,400')
    return AskedGrowth(name, trials, counts), [one.strip() for one in text.split(",")] if equals else []


def asked_slow(
    slow: bool, slower_than: str | None, trials: int | None, others: dict[str, Any]
) -> AskedSlow | None:  # fmt: skip
    """Return which trials are slow, None where nobody asks; raise UsageError for what does not go with that."""
    from bystander.flow.inside.asked import AskedSlow

    if not slow:
        if slower_than is not None:
            raise UsageError("--slower-than goes with --slow")
        return None
    if given_too := [name for name, value in others.items() if value]:
        raise UsageError(f"--slow watches until enough slow trials are caught; {given_too[0]} does not apply")
    return AskedSlow(duration_option("--slower-than", slower_than), trials)


def with_given_sizes(planned: Study, name: str, sizes: list[str], study: Path | None) -> Study:
    """Return the study of a command or a callable at some sizes of an input."""
    from bystander.flow.quick.studies import with_sizes

    if study is not None or len(planned.workloads) != 1:
        raise UsageError(f"--inputs: a study has the sizes of its own inputs; name {name} alone")
    return with_sizes(planned, name, sizes)
