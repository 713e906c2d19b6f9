"""`bystander new`: a commented study that is right for this folder as it stands."""

from __future__ import annotations

import re
from pathlib import Path

from bystander.errors import ArmError, UsageError
from bystander.field import StudyFolder
from bystander.flow.places import STUDY_FILE

__all__ = ["nothing_to_compare", "study_text", "write_study"]

_GIT_ARMS = """\
# Two states of one thing. The first arm is the reference; each other one is compared with it.
[arms.before]
revision = "HEAD"                # a git revision: a tag, a branch, a commit; checked out apart
# build = ["make"]               # steps that install or compile, run once

[arms.after]
folder = "."                     # the working tree as it stands, copied before the start
# environment.MODE = "new"       # variables for its trials
# settings.cache = "on"          # values for {placeholders} in commands
"""
_FOLDER_ARMS = """\
# Two states of one thing. The first arm is the reference; each other one is compared with it.
# This folder lies in no git repository with a commit, so both arms are folders: name the one that
# holds the old state, or let the arms differ in a setting or a variable.
[arms.before]
folder = "."
environment.STATE = "before"     # a variable that your program reads
# build = ["make"]               # steps that install or compile, run once

[arms.after]
folder = "."
environment.STATE = "after"
# settings.cache = "on"          # values for {placeholders} in commands
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
"""


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


def write_study(here: Path, force: bool = False) -> Path:
    """Write the study's file into a folder and return its path; raise UsageError when there is one."""
    target = here / STUDY_FILE
    if target.exists() and not force:
        raise UsageError(f"{STUDY_FILE} is there already; --force writes over it")
    target.write_text(study_text(here), encoding="utf-8")
    return target


def study_text(here: Path) -> str:
    """Return the text of a study that passes `bystander check` in this folder."""
    name, command = _command(here)
    comment = "" if name != "example" else "# nothing to run was found here: write what your program is run with\n"
    title = re.sub(r"[^\w .+-]", " ", here.resolve().name).strip() or "study"
    return _TEXT.format(
        name=f"{title}: before and after",
        arms=_GIT_ARMS if _has_commit(here) else _FOLDER_ARMS,
        workload=name,
        comment=comment,
        command=command,
    )


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
