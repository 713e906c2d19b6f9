"""Options that mean two different things, or do not apply to what is meant."""

from __future__ import annotations

from collections.abc import Mapping

from bystander.errors import UsageError

__all__ = ["refuse_contradictions", "refuse_given"]

_PAIRS = (
    ("a command", "--arm"), ("a command", "--call"), ("a command", "--study"), ("--arm", "--call"),
    ("--arm", "--study"), ("--call", "--study"), ("--blocks", "--budget"), ("--fixed", "--blocks"),
    ("--fixed", "--budget"), ("--fixed", "--strict"), ("--with-earlier", "a command"), ("--with-earlier", "--arm"),
    ("--with-earlier", "--call"), ("--with-earlier", "--again"),
)  # fmt: skip
_NEED = {  # an option, and those of which one must be there for it to apply
    "--elsewhere": ("--resume",), "--from-first": ("--again",), "--candidate": ("--again",), "--given": ("--call",),
    "--make-input": ("--call",), "--apart": ("--sessions",), "--end-at-ready": ("--ready",),
}  # fmt: skip
_QUICK = ("a command", "--arm", "--call")
_NOT_AS_IT_WAS = ("--again", "--only", "--also", "--build")
_AGAIN_ANEW = ("--arm", "--call", "--study", "--number", "--ready")  # what a record says already


def refuse_contradictions(given: set[str], words: int) -> None:
    """Raise UsageError when the options given do not go together.

    Parameters
    ----------
    words : int
        Of the command; with `--resume` and `--again` one word stands there, the record's name.
    """
    for option, needed in _NEED.items():
        if option in given and not given & set(needed):
            raise UsageError(f"{option} goes with {' or '.join(needed)}")
    for option, why, others in (
        ("--resume", "finishes a plan as it is", given - {"--resume", "--elsewhere"}),
        ("--again", "takes its command from a record", given & {"a command", *_AGAIN_ANEW}),
        ("--confirm", "runs what a record ran", given & {"a command", *_NOT_AS_IT_WAS, *_AGAIN_ANEW}),
    ):
        if option in given:
            if others := others - ({"a command"} if words == 1 else set()):
                raise UsageError(f"{option} {why}; {min(others)} does not apply")
            given = given - {"a command"}
    for first, second in _PAIRS:
        if {first, second} <= given:
            raise UsageError(f"{first} and {second} are both given; keep the one that is meant")
    quick = bool(given & set(_QUICK))
    if "--only" in given and quick:
        raise UsageError("--only chooses workloads of a study; without one it does not apply")
    for option, key in (("--number", "numbers"), ("--ready", "ready")):
        if option in given and not given & {"a command", "--arm"}:
            raise UsageError(f"{option} is for a command or --arm; a study has workloads.NAME.{key}")
    if "--build" in given and not quick and "--again" not in given:
        raise UsageError(
            "--build is for a command, --arm, --call or --again; a study names its steps in arms.NAME.build"
        )


def refuse_given(options: Mapping[str, object], why: str) -> None:
    """Raise UsageError when one of these options is given: it names the first, and why it does not apply."""
    if names := [name for name, value in options.items() if value]:
        raise UsageError(f"{names[0]} {why}")
