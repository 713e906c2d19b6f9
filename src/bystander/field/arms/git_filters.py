"""Filters of git: programs through which files pass on their way into and out of a repository.

Those of the user's own configuration run whenever an arm is laid out, with the user's values even where the repository
gives others: large files are kept elsewhere so, and without them an arm would hold pointers. What the repository alone
names runs only where a study says so.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from bystander.errors import ArmError
from bystander.field.arms.git_trust import drivers_off, own_settings, pairs
from bystander.units import listed

__all__ = ["DRIVER_KEYS", "Filters", "filter_failure", "meant_files"]

DRIVER_KEYS = r"^filter\..*\.(clean|smudge|process|required)$"
_COMMANDS = ("clean", "smudge", "process")
_NAMED = 3
_FAILED = re.compile(r"^fatal: (?P<file>.*): (?P<way>clean|smudge) filter '?(?P<driver>[^']*?)'? failed$", re.MULTILINE)
_OF_GIT = ("error: external filter", "fatal: ", "error: cannot feed", "error: cannot fork", "error: copy-fd")


def _by_driver(settings: Sequence[tuple[str, str]]) -> dict[str, dict[str, str]]:
    """Return keys and values by the name of a filter; of two values of one key the later counts."""
    found: dict[str, dict[str, str]] = {}
    for name, value in settings:
        driver, _, key = name.removeprefix("filter.").rpartition(".")
        found.setdefault(driver, {})[key] = value
    return {driver: keys for driver, keys in found.items() if any(keys.get(key) for key in _COMMANDS)}


@dataclass(frozen=True)
class Filters:
    """The filters that files of one repository may be meant for.

    Attributes
    ----------
    own, given : mapping
        Keys and values by name: of the user's configuration, and of the repository's.
    """

    own: Mapping[str, Mapping[str, str]] = field(default_factory=dict)
    given: Mapping[str, Mapping[str, str]] = field(default_factory=dict)

    @classmethod
    def of(cls, said: str) -> Filters:
        """Return them by what git printed of the repository's configuration."""
        return cls(_by_driver(own_settings(DRIVER_KEYS)), _by_driver(pairs(said)))

    @property
    def only_given(self) -> dict[str, list[str]]:
        """What only the repository names, as keys by the name of a filter."""
        found = {
            driver: [key for key in _COMMANDS if keys.get(key) and not self.own.get(driver, {}).get(key)]
            for driver, keys in self.given.items()
        }
        return {driver: keys for driver, keys in found.items() if keys}

    def settings(self, all_of_them: bool) -> list[str]:
        """Return the words by which git runs the user's filters and, unless all may run, no others.

        One that fails must not pass its input on as if it had none to run: each is required. Where one way of it is
        not given, files pass that way as they are.
        """
        words = [] if all_of_them else drivers_off(list(self.only_given))
        for driver, keys in self.own.items():
            if driver in self.only_given and not all_of_them:
                continue  # files that are meant for it are refused
            if "=" in driver:
                raise ArmError(f'your configuration names a filter "{driver}", which cannot be passed on; rename it')
            values = {**keys, "required": "true"}
            if "process" not in keys and "required" not in keys:
                values = {"clean": "cat", "smudge": "cat", **values}
            words += [word for key, value in values.items() for word in ("-c", f"filter.{driver}.{key}={value}")]
        return words

    def refuse_given(self, meant: Mapping[str, str]) -> None:
        """Raise ArmError when files, by name, are meant for a filter that the repository alone names."""
        theirs = [(file, driver) for file, driver in meant.items() if driver in self.only_given]
        if theirs:
            raise ArmError(
                f'the repository\'s configuration runs a program, filter "{theirs[0][1]}", on '
                f"{listed([file for file, _ in theirs], _NAMED)}, and nothing of it is run unless the study says so: "
                "filters = true of this arm"
            )

    def undefined(self, meant: Mapping[str, str]) -> list[tuple[str, str]]:
        """Return files and filters that no configuration defines: git passes such files as they are."""
        return [(file, driver) for file, driver in meant.items() if driver not in self.own and driver not in self.given]

    def commands(self, meant: Mapping[str, str]) -> dict[str, dict[str, str]]:
        """Return what the user's filters run on some files, by name: it is part of what these files become."""
        used = set(meant.values()) & set(self.own)
        return {driver: {key: self.own[driver].get(key, "") for key in _COMMANDS} for driver in sorted(used)}


def meant_files(said: str) -> dict[str, str]:
    """Return file and filter by what `git check-attr -z filter` printed; what has none is left out."""
    words = said.split("\0")
    found = zip(words[::3], words[2::3], strict=False)
    return {file: driver for file, driver in found if driver not in ("unspecified", "unset", "set", "")}


def filter_failure(said: str) -> str | None:
    """Return the clause on a filter that failed, by what git complained; None where none did."""
    match = _FAILED.search(said)
    if match is None:
        return None
    lines = [line for line in said[: match.start()].splitlines() if line.strip() and not line.startswith(_OF_GIT)]
    last = f": {lines[-1].strip()}" if lines else ", and said nothing"
    return f'filter "{match["driver"]}" of your configuration of git failed on {match["file"]} ({match["way"]}){last}'
