"""What git is told before it reads a repository: whom the user trusts, and that nothing of the repository's is run.

A repository's own configuration can name programs: filters, monitors, hooks, signature checkers, transports. Git runs
them for whoever works in the repository, so that it refuses repositories of other users, unless `safe.directory` of
the user's own configuration allows them. Both rules are git's, and kept here.
"""

from __future__ import annotations

import os
import re
import shlex
import shutil
import subprocess
from collections.abc import Mapping, Sequence
from pathlib import Path

from bystander.errors import ArmError

__all__ = ["NOTHING_RUN", "drivers_off", "git_environment", "git_program", "own_settings", "refused_repository"]

NOTHING_RUN = (
    "-c", "core.hooksPath=/dev/null", "-c", "core.fsmonitor=false", "-c", "core.untrackedCache=false",
    "-c", "log.showSignature=false", "-c", "advice.detachedHead=false", "-c", "gc.auto=0",
    # A file whose size and time were set back is seen by when its inode changed.
    "-c", "core.trustCtime=true", "-c", "core.checkStat=default",
)  # fmt: skip
_KEPT = ("GIT_CONFIG_GLOBAL", "GIT_CONFIG_SYSTEM", "GIT_CONFIG_NOSYSTEM", "GIT_CONFIG_COUNT", "GIT_CONFIG_PARAMETERS")
_KEPT_NUMBERED = re.compile(r"GIT_CONFIG_(KEY|VALUE)_\d+")
_MOST_DRIVERS = 200
_FOREIGN = re.compile(r"(?:dubious ownership in|unsafe) repository (?:at )?\(?'([^']*)'")


def git_program() -> str:
    """Return git's file; a relative place on the path could be in the very folder that is looked into."""
    places = [place for place in os.environ.get("PATH", os.defpath).split(os.pathsep) if place.startswith("/")]
    found = shutil.which("git", path=os.pathsep.join(places))
    if found is None:
        raise ArmError("git is not installed, and an arm names a revision or lies in a repository")
    return found


def git_environment(variables: Mapping[str, str]) -> dict[str, str]:
    """Return the variables of git in a repository: no configuration but the repository's, and no transport at all."""
    environment = {name: value for name, value in os.environ.items() if not name.startswith("GIT_")}
    return environment | {
        "GIT_CONFIG_GLOBAL": os.devnull,
        "GIT_CONFIG_NOSYSTEM": "1",
        "GIT_OPTIONAL_LOCKS": "0",
        "GIT_TERMINAL_PROMPT": "0",
        "GIT_ALLOW_PROTOCOL": "",  # a transport is a program that the repository names; what is not here stays away
        "GIT_NO_LAZY_FETCH": "1",
        "LC_ALL": "C",
        **variables,
    }


def own_settings(pattern: str) -> tuple[tuple[str, str], ...]:
    """Return names and values of the user's own configuration, as git itself finds it for this user, in its order."""
    kept = {
        name: value
        for name, value in os.environ.items()
        if not name.startswith("GIT_") or name in _KEPT or _KEPT_NUMBERED.fullmatch(name)
    }
    done = subprocess.run(
        [git_program(), "config", "--type=path", "-z", "--get-regexp", pattern],
        cwd="/", env={**kept, "GIT_DIR": os.devnull, "LC_ALL": "C"}, stdin=subprocess.DEVNULL, capture_output=True,
        check=False,
    )  # fmt: skip
    return pairs(os.fsdecode(done.stdout))


def pairs(said: str) -> tuple[tuple[str, str], ...]:
    """Return names and values of what `git config -z` printed."""
    found = [entry.partition("\n") for entry in said.split("\0") if entry]
    return tuple((name, value) for name, _, value in found)


def drivers_off(drivers: Sequence[str]) -> list[str]:
    """Return the words that make filters do nothing, by their names.

    Raises
    ------
    ArmError
        When one of them cannot be named on a command line, or there are too many.
    """
    if len(drivers) > _MOST_DRIVERS or any("=" in name for name in drivers):
        raise ArmError("the repository's configuration names filters that cannot be switched off; remove them from it")
    keys = [f"filter.{name}.{key}" for name in drivers for key in ("clean", "smudge", "process")]
    return [word for key in keys for word in ("-c", f"{key}=")] + [
        word for name in drivers for word in ("-c", f"filter.{name}.required=false")
    ]


def refused_repository(said: str) -> str | None:
    """Return the sentence for a repository that git refuses because of its owner; None where it refuses nothing."""
    match = _FOREIGN.search(said)
    if match is None:
        return None
    folder = match[1]
    try:
        owner = f"belongs to {Path(folder).owner()}"
    except (OSError, KeyError):
        owner = "belongs to another user"
    return (
        f"the repository {folder} {owner}, and its configuration could run programs as you; if you trust it: "
        f"git config --global --add safe.directory {shlex.quote(folder)}"
    )
