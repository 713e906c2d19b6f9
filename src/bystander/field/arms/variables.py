"""The environment of trials: a stated list, so that a record can say what it was."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

__all__ = ["STANDARD_VARIABLES", "trial_environment"]

STANDARD_VARIABLES = (
    "PATH", "HOME", "USER", "LOGNAME", "SHELL", "LANG", "LC_ALL", "LC_CTYPE", "TZ", "TMPDIR",
)  # fmt: skip


def trial_environment(
    caller: Mapping[str, str], keep: Iterable[str] = (), extra: Mapping[str, str] | None = None
) -> dict[str, str]:
    """Return the variables of a trial: the standard list and `keep` from the caller, then `extra`.

    Hash seeds move a dictionary-heavy Python program by about one percent, so the seed is fixed alike
    in all arms unless the study sets it.
    """
    names = [*STANDARD_VARIABLES, *keep]
    taken = {name: caller[name] for name in names if name in caller}
    return {"PATH": "/usr/local/bin:/usr/bin:/bin", "PYTHONHASHSEED": "0", **taken, **(extra or {})}
