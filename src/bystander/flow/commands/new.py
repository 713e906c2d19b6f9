"""`bystander new`: a commented study that is right for this folder as it stands."""

from __future__ import annotations

import json
import re
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from bystander.design import TimedCallable
from bystander.errors import ArmError, UsageError
from bystander.exchange import toml_key, toml_value
from bystander.field import StudyFolder
from bystander.files import write_whole
from bystander.flow.places import STUDY_FILE
from bystander.flow.quick.found import Found, Runnable, found_in
from bystander.flow.quick.studies import path_of

__all__ = ["nothing_to_compare", "study_text", "write_study"]

_GIT_ARMS = """\
# Two states of one thing. The first arm is the reference; each other one is compared with it.
[arms.before]
revision = "HEAD"                # a git revision: a tag, a branch, a commit; checked out apart
{build}
[arms.after]
folder = "."                     # the working tree as it stands, copied before the start
{build_after}# environment.MODE = "new"       # variables for its trials
# settings.cache = "on"          # values for {{placeholders}} in commands
"""
_FOLDER_ARMS = """\
# Two states of one thing. The first arm is the reference; each other one is compared with it.
# This folder lies in no git repository with a commit, so both arms are folders: name the one that
# holds the old state, or let the arms differ in a setting or a variable.
[arms.before]
folder = "."
environment.STATE = "before"     # a variable that your program reads
{build}
[arms.after]
folder = "."
environment.STATE = "after"
{build_after}# settings.cache = "on"          # values for {{placeholders}} in commands
"""
_TEXT = """\
# A study for Bystander: what is compared, fixed before the first trial.
# bystander check tries it, bystander observe runs it. docs/study.md explains every key.
name = "{name}"
margin = "3 %"                   # smaller changes do not matter to us
# risk = "5 %"                   # of the rows shown as changed, so many may be false
# blocks = 40                    # each workload runs so often under every arm, at most
# stopping = "looks"             # a workload that is decided earlier ends earlier; "fixed" runs all blocks
# measure = "elapsed"            # or "cpu", which is steadier on a busy machine

{arms}
# What is run, the way it is run in real life, but short: a tenth of a second to some seconds.
[workloads.{workload}]
{comment}command = "{command}"
# inputs.size = ["10", "1000"]   # one workload for each value of {{size}} in the command
answer = "output"                # the arms must print the same; or "exit code"
limit = "60 s"                   # a trial that takes longer is ended, and counts as failed
# weight = 40                    # how often it runs in real life
{offered}"""
_CALL = """\
call = "{call}"
{given}answer = "result"                # the arms must return the same
limit = "60 s"                   # a trial that takes longer is ended, and counts as failed
# weight = 40                    # how often it runs in real life
"""
_USUAL_BUILD = '# build = ["make"]               # steps that install or compile, run once\n'
# Runs anywhere: the highest water of some weeks, from the moon's wave and the sun's.
_TIDE = "from math import sin; print(max(sin(t / 118.6) + sin(t / 114.6) / 3 for t in range(40000)))"


def nothing_to_compare(here: Path) -> bool:
    """Whether the working tree is as the newest commit has it, so that the arms of a new study would be the same."""
    git = StudyFolder(here).git
    if git is None or not _has_commit(here):
        return False
    asked = ("status", "--porcelain", "--untracked-files=all", "--ignore-submodules=all", "--", str(here.resolve()))
    changed = git.run(*asked).splitlines()
    return all(line[3:].strip('"').rpartition("/")[2] == STUDY_FILE for line in changed)


def write_study(here: Path, force: bool = False, timed: TimedCallable | None = None) -> Path:
    """Write the study's file into a folder and return its path; raise UsageError when there is one.

    Parameters
    ----------
    timed : TimedCallable, optional
        A callable that it times, instead of a command.
    """
    target = here / STUDY_FILE
    if (target.exists() or target.is_symlink()) and not force:
        raise UsageError(f"{STUDY_FILE} is there already; --force writes over it")
    write_whole(target, study_text(here, timed), 0o666)
    return target


def study_text(here: Path, timed: TimedCallable | None = None) -> str:
    """Return the text of a study that passes `bystander check` in this folder."""
    title = re.sub(r"[^\w .+-]", " ", here.resolve().name).strip() or "study"
    in_git = _has_commit(here)
    found = found_in(here, _committed)
    build, build_after = _build_lines(found, in_git)
    arms = (_GIT_ARMS if in_git else _FOLDER_ARMS).format(build=build, build_after=build_after)
    name, command = _command(here)
    comment = "" if name != "example" else "# nothing to run was found here: write what your program is run with\n"
    text = _TEXT.format(
        name=f"{title}: before and after", arms=arms, workload=name, comment=comment, command=command,
        offered=_offered([*found.programs, *found.tests]),
    )  # fmt: skip
    return _with_callable(text, here, timed) if timed else text


def _build_lines(found: Found, in_git: bool) -> tuple[str, str]:
    """Return the build steps as lines of each arm; commented where they may do more than build, or cannot run here.

    Outside git both arms are one folder, which is not built twice over itself.
    """
    if not found.build:
        return _USUAL_BUILD, ""
    steps = "[" + ", ".join(json.dumps(step) for step in found.build) + "]"
    sure = found.sure and in_git
    line = f"build = {steps}"
    said = f"# by {found.source}; run once for each arm"
    return f"{'' if sure else '# '}{line:<33}{said}\n", f"{'' if sure else '# '}{line}\n"


def _offered(runnable: Sequence[Runnable]) -> str:
    """Return workloads to choose from, as comments."""
    if not runnable:
        return ""
    lines = ["", "# What else was found here; take away the marks of those that matter, and make them short."]
    for one in runnable:
        command = toml_value(one.command)
        lines += [f"# [workloads.{toml_key(one.name)}]"]
        lines += [f"# command = {command:<22} # by {one.source}"]
    return "\n".join(lines) + "\n"


def _with_callable(text: str, here: Path, timed: TimedCallable) -> str:
    """Return a study whose workload is a callable; where its package lies in `src`, both arms look there."""
    head, _, rest = text.partition("[workloads.")
    offered = rest.partition("\n# What else")
    values = json.loads(timed.values or "null")
    given = _given(values) if values else json.dumps(timed.given) if timed.given else ""
    name = timed.call.partition(":")[2].rpartition(".")[2]
    body = _CALL.format(call=timed.call, given=f"given = {given}\n" if given else "")
    for variable, path in path_of(timed.call, here).items():
        line = f'environment.{variable} = "{path}"\n'
        head = head.replace("[arms.before]\n", f"[arms.before]\n{line}").replace(
            "[arms.after]\n", f"[arms.after]\n{line}"
        )
    return f"{head}[workloads.{name}]\n{body}{''.join(offered[1:])}"


def _given(values: Any) -> str:
    try:
        return toml_value(values)
    except ValueError:
        raise UsageError("--given: None cannot stand in a study; name a function that makes the arguments") from None


def _has_commit(here: Path) -> bool:
    git = StudyFolder(here).git
    if git is None:
        return False
    try:
        commit = git.commit("HEAD")
        inside = here.resolve().relative_to(git.top.resolve())
        return str(inside) == "." or bool(git.run("ls-tree", commit, "--", f"{inside}/").strip())
    except (ArmError, ValueError):
        return False


def _command(here: Path) -> tuple[str, str]:
    """Return a workload's name and command: a Python package that can be run, or something that runs anywhere.

    Only what is committed is sure to be under both arms, and only a question for help is sure to end.
    """
    for root, prefix in ((here, ""), (here / "src", "src")):
        for main in sorted(root.glob("*/__main__.py")):
            package = main.parent.name
            if re.fullmatch(r"[A-Za-z_]\w*", package) and _committed(main):
                run = f"python3 -m {package} --help"
                return "start", run if not prefix else f"env PYTHONPATH={prefix} {run}"
    return "example", f"python3 -c '{_TIDE}'"


def _committed(file: Path) -> bool:
    git = StudyFolder(file.parent).git
    if git is None or not _has_commit(file.parent):
        return git is None
    return bool(git.run("ls-tree", "HEAD", "--", str(file.resolve().relative_to(git.top.resolve()))).strip())
