"""Commands that Bystander prints for its user: complete, quoted for a shell, and none where it could not work."""

from __future__ import annotations

import json
import os
import shlex
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from bystander.design.records.trials import RecordHead
from bystander.design.studies.study import Study
from bystander.design.studies.workloads import TimedCallable

__all__ = [
    "Given",
    "braced",
    "check_again",
    "command_line",
    "confirming",
    "inspect_again",
    "mending",
    "observe_again",
    "only_options",
    "printed_options",
    "unbraced",
]

_STUDY_FILE = "bystander.toml"
_REDACTED = ("decide", "report")
_TAKES = {
    "observe": ("study", "archive", "only"),
    "check": ("study", "archive", "only"),
    "decide": ("archive", "only"),
    "report": ("archive", "only"),
    "records": ("archive",),
    "inspect": ("study", "archive"),
    "leads": ("archive",),
    "settle": ("archive",),
    "chain": ("archive", "only"),
    "bisect": ("archive",),
}


@dataclass(frozen=True)
class Given:
    """What was given on the command line, and must be given again for a command to mean the same.

    Attributes
    ----------
    here : str
        The current folder, absolute; "" where nobody says.
    redacted : bool
        Whether outputs leave out who, where and what exactly.
    around : str
        The folder, absolute, in which both a study and the archive in use lie: of a project that was copied its own.
    """

    study: str = ""
    archive: str = ""
    only: tuple[str, ...] = ()
    here: str = ""
    redacted: bool = False
    around: str = ""


def command_line(*words: str, given: Given = Given(), last: Sequence[str] = ()) -> str:
    """Return a command line: its words, what was given and it takes, and what must stand last."""
    takes = _TAKES.get(words[0], ())
    line = list(words)
    if given.study and "study" in takes:
        line += ["--study", given.study]
    if given.archive and "archive" in takes and "--archive" not in words:
        line += ["--archive", given.archive]
    if given.redacted and words[0] in _REDACTED:
        line.append("--redacted")
    if "only" in takes and "--only" not in words:
        line += only_options(given.only)
    return "bystander " + shlex.join([*line, *last])


def _with_study(head: RecordHead, given: Given) -> Given:
    """Return what must be given to meet a record's study again: its file, unless it is found without."""
    if given.study or not given.here:
        return given
    path = f"{given.around or head.study_folder}/{head.study_file or _STUDY_FILE}"
    if path == f"{given.here}/{_STUDY_FILE}":
        return given
    near = os.path.relpath(path, given.here)
    return replace(given, study=near if len(near) < len(path) else path)


def mending(archive: Path | str | None) -> str:
    """Return the command that saves what can be read of a damaged archive into a new one."""
    return command_line("records", "mend", "--to", "mended.sqlite", "--archive", str(archive))


def only_options(patterns: Sequence[str]) -> list[str]:
    """Return the options that choose workloads by these names or patterns."""
    return [word for pattern in patterns for word in ("--only", pattern)]


def printed_options(study: Study) -> list[str]:
    """Return the options by which a command without a study tells which numbers it prints, and when it is ready."""
    in_place = any(arm.in_place for arm in study.arms)
    numbers = study.workloads[0].numbers if in_place else {}
    words = [word for name, number in numbers.items() for word in ("--number", f"{name}={number.pattern}")]
    if in_place and (ready := study.workloads[0].ready).asked:
        words += ["--ready", ready.pattern, *(["--end-at-ready"] if ready.end else [])]
    return words


def observe_again(head: RecordHead, given: Given, *words: str) -> str:
    """Return the command that observes a record's study anew, "" where it cannot.

    Parameters
    ----------
    words : str
        Options, for example "--blocks", "80".
    """
    study = head.study
    if not head.observed_here:
        return ""
    bare = Given(archive=given.archive)
    if earlier := next((arm.kept.record for arm in study.arms if arm.kept and arm.kept.record), ""):
        first = ["--from-first"] if len(study.comparisons) > 1 else []
        return command_line("observe", "--again", earlier, *first, *words, given=bare)
    if not any(arm.in_place for arm in study.arms):
        return command_line("observe", *words, given=_with_study(head, given))
    if given.here and given.here not in (head.study_folder, given.around):
        return ""  # it was run where it lies, and that is elsewhere
    kept = [word for name in study.keep_environment for word in ("--keep-environment", name)] + printed_options(study)
    kept += [word for step in study.arms[0].build for word in ("--build", step)]
    if isinstance(timed := study.workloads[0].what, TimedCallable):
        calls = [f"{arm.name}={arm.command['']}" for arm in study.arms if arm.command and not arm.placebo]
        said = [word for call in calls or [timed.call] for word in ("--call", call)]
        return command_line("observe", *words, *kept, *said, *_given_options(timed), given=bare)
    if all(arm.placebo or not arm.command for arm in study.arms):
        said = shlex.split(unbraced(study.workloads[0].template))
        return command_line("observe", *words, *kept, given=bare, last=["--", *said])
    arms = [
        word for arm in study.arms if not arm.placebo for word in ("--arm", f"{arm.name}={unbraced(arm.command[''])}")
    ]
    return command_line("observe", *words, *kept, given=bare, last=arms)


def confirming(head: RecordHead, given: Given) -> str:
    """Return the command that runs the very states of a record again, "" where it cannot."""
    if not head.observed_here:
        return ""
    return command_line("observe", "--confirm", head.name, given=Given(archive=given.archive))


def _given_options(timed: TimedCallable) -> list[str]:
    """Return the options by which a callable's arguments are given without a study."""
    if timed.given:
        return ["--make-input", timed.given]
    values = json.loads(timed.values or "null")
    if isinstance(values, dict):
        return ["--given", ", ".join(f"{name}={value!r}" for name, value in values.items())]
    return ["--given", ", ".join(map(repr, values))] if values else []


def check_again(head: RecordHead, given: Given, workload: str) -> str:
    """Return the command that tries one workload of a record's study, "" where it cannot.

    The arms of chains and searches stand in no study: `check` would try others.
    """
    if (
        not head.observed_here
        or head.shown_by in ("chain", "bisect")
        or any(arm.in_place or arm.kept for arm in head.study.arms)
    ):
        return ""
    return command_line("check", "--only", workload, given=_with_study(head, given))


def inspect_again(head: RecordHead, given: Given, workload: str) -> str:
    """Return the command that looks into both arms of a workload of a record, "" where it cannot."""
    if not head.observed_here:
        return ""
    return command_line("inspect", head.name, "--only", workload, given=replace(given, study="", only=()))


def braced(text: str) -> str:
    """Return a command as a template without placeholders: with doubled braces."""
    return text.replace("{", "{{").replace("}", "}}")


def unbraced(template: str) -> str:
    """Return a template without placeholders as it is typed: with single braces."""
    return template.replace("{{", "{").replace("}}", "}")
