"""Locks, environments, programs and interpreters, as trials get them."""

from __future__ import annotations

import os
import sys
from pathlib import Path

import pytest

from bystander.design import Arm, Workload
from bystander.errors import MachineBusyError, StudyError
from bystander.field import (
    STANDARD_VARIABLES,
    MachineLock,
    interpreter_facts,
    machine_facts,
    ready_command,
    trial_environment,
)

ENVIRONMENT = {"PATH": "/usr/bin:/bin"}


def test_the_environment_is_a_stated_list() -> None:
    """Nothing of the caller's leaks but what is listed or asked for; the arm comes last."""
    caller = {"PATH": "/p", "SECRET": "s", "TERM": "x", "LANG": "C.UTF-8", "PYTHONPATH": "/mine"}
    made = trial_environment(caller, ["TERM", "ABSENT"], {"LANG": "de", "EXTRA": "1"})

    assert made == {"PATH": "/p", "TERM": "x", "LANG": "de", "EXTRA": "1", "PYTHONHASHSEED": "0"}
    assert trial_environment({}, [], {"PYTHONHASHSEED": "7"})["PYTHONHASHSEED"] == "7"
    assert "PATH" in trial_environment({})
    assert "PYTHONPATH" not in STANDARD_VARIABLES


def test_one_observation_at_a_time(tmp_path: Path) -> None:
    """The second is told what runs and in which process; when the first is done the lock is free."""
    path = tmp_path / "lock"
    with MachineLock("tide tables", path), pytest.raises(MachineBusyError) as caught:
        MachineLock("other", path).__enter__()
    assert f"tide tables, process {os.getpid()}" in str(caught.value)
    with MachineLock("other", path):
        pass
    with pytest.raises(MachineBusyError, match="cannot be opened"):
        MachineLock("x", tmp_path / "none" / "lock").__enter__()


def test_commands_are_split_before_they_are_filled(tmp_path: Path) -> None:
    """A value with spaces and quotes stays one word; the shell gets it quoted."""
    workload = Workload("w", "w", "echo {what} 'a b'", settings={"what": "x 'y"})
    split = ready_command(workload, Arm("a"), str(tmp_path), ENVIRONMENT)
    shell = ready_command(Workload("w", "w", "echo {what} | cat", shell=True, settings={"what": "x 'y"}), Arm("a"),
                          str(tmp_path), ENVIRONMENT)  # fmt: skip

    assert split.argv == ("echo", "x 'y", "a b")
    assert Path(split.path).name == "echo"
    assert shell.argv[:2] == ("sh", "-c")
    assert shell.argv[2] == "echo 'x '\"'\"'y' | cat"


def test_programs_are_found_under_the_arm(tmp_path: Path) -> None:
    """A relative path is the arm's own file; one that cannot run is told with where it was looked for."""
    program = tmp_path / "run.sh"
    program.write_text("#!/bin/sh\n", encoding="utf-8")
    with pytest.raises(StudyError, match=r'no program "\./run\.sh" under arm a'):
        ready_command(Workload("w", "w", "./run.sh"), Arm("a"), str(tmp_path), ENVIRONMENT)
    program.chmod(0o755)

    assert ready_command(Workload("w", "w", "./run.sh"), Arm("a"), str(tmp_path), ENVIRONMENT).path == str(program)
    with pytest.raises(StudyError, match="looked in /usr/bin:/bin"):
        ready_command(Workload("w", "w", "no-such"), Arm("a"), str(tmp_path), ENVIRONMENT)


def test_the_interpreter_that_really_runs_is_told(tmp_path: Path) -> None:
    """A script that starts Python is seen through; another program is none."""
    shim = tmp_path / "python3"
    shim.write_text(f'#!/bin/sh\nexec {sys.executable} "$@"\n', encoding="utf-8")
    shim.chmod(0o755)
    facts = interpreter_facts(str(shim), ENVIRONMENT, str(tmp_path))

    assert facts["program"] == sys.executable
    assert facts["through_script"] == "yes"
    assert facts["version"].startswith("CPython 3.")
    assert interpreter_facts("/bin/sh", ENVIRONMENT, "/") == {}
    broken = tmp_path / "python"
    broken.write_text("#!/bin/sh\nexit 1\n", encoding="utf-8")
    broken.chmod(0o755)
    assert interpreter_facts(str(broken), ENVIRONMENT, "/") == {}


def test_the_machine_is_described_with_what_can_be_read() -> None:
    """Cores and memory are there on Linux; nothing is None."""
    facts = machine_facts()

    assert facts["cores"] == os.cpu_count()
    assert facts["memory_bytes"] > 2**28
    assert None not in facts.values()
