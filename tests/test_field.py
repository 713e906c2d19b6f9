"""Locks, environments, programs and interpreters, as trials get them."""

from __future__ import annotations

import os
import sys
from pathlib import Path

import pytest

from bystander.design import Arm, Command, InterpreterFacts, MachineFacts, Workload
from bystander.errors import MachineBusyError, StudyError
from bystander.field import (
    STANDARD_VARIABLES,
    MachineLock,
    Site,
    interpreter_facts,
    machine_facts,
    machine_state,
    ready_command,
    trial_environment,
)

ENVIRONMENT = {"PATH": "/usr/bin:/bin"}


def site(folder: Path) -> Site:
    """Return an arm that lies in a folder."""
    return Site(Arm("a"), str(folder), ENVIRONMENT)


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
    workload = Workload("w", "w", Command("echo {what} 'a b'"), settings={"what": "x 'y"})
    split = ready_command(workload, site(tmp_path))
    piped = Workload("w", "w", Command("echo {what} | cat", shell=True), settings={"what": "x 'y"})
    shell = ready_command(piped, site(tmp_path))

    assert split.argv == ("echo", "x 'y", "a b")
    assert Path(split.path).name == "echo"
    assert shell.argv[:2] == ("sh", "-c")
    assert shell.argv[2] == "echo 'x '\"'\"'y' | cat"


def test_programs_are_found_under_the_arm(tmp_path: Path) -> None:
    """A relative path is the arm's own file; one that cannot run is told with where it was looked for."""
    program = tmp_path / "run.sh"
    program.write_text("#!/bin/sh\n", encoding="utf-8")
    with pytest.raises(StudyError, match=r'no program "\./run\.sh" under arm a'):
        ready_command(Workload("w", "w", Command("./run.sh")), site(tmp_path))
    program.chmod(0o755)

    assert ready_command(Workload("w", "w", Command("./run.sh")), site(tmp_path)).path == str(program)
    with pytest.raises(StudyError, match="looked in /usr/bin:/bin"):
        ready_command(Workload("w", "w", Command("no-such")), site(tmp_path))


def test_the_interpreter_that_really_runs_is_told(tmp_path: Path) -> None:
    """A script that starts Python is seen through; another program is none."""
    shim = tmp_path / "python3"
    shim.write_text(f'#!/bin/sh\nexec {sys.executable} "$@"\n', encoding="utf-8")
    shim.chmod(0o755)
    facts = interpreter_facts(str(shim), ENVIRONMENT, str(tmp_path))

    assert facts.program == sys.executable
    assert facts.through_script == "yes"
    assert facts.version.startswith("CPython 3.")
    assert interpreter_facts("/bin/sh", ENVIRONMENT, "/") == InterpreterFacts()
    broken = tmp_path / "python"
    broken.write_text("#!/bin/sh\nexit 1\n", encoding="utf-8")
    broken.chmod(0o755)
    assert interpreter_facts(str(broken), ENVIRONMENT, "/") == InterpreterFacts()


def test_the_machine_is_described_with_what_can_be_read() -> None:
    """Cores and memory are there on Linux; nothing is None."""
    facts = machine_facts()

    assert facts.cores == os.cpu_count()
    assert (facts.memory_bytes or 0) > 2**28
    assert MachineFacts.of(facts.known) == facts


KERNEL = {
    "proc/cpuinfo": "processor : 0\nmodel name : Tern T2\nflags : fpu hypervisor\n\nprocessor : 1\nmodel name : b\n",
    "proc/meminfo": "MemTotal:  8000 kB\nMemFree: 100 kB\nMemAvailable:  3000 kB\n",
    "proc/pressure/cpu": "some avg10=1.00 avg60=0.50 avg300=0.10 total=2500000\nfull avg10=0.00 total=77\n",
    "proc/pressure/io": "some avg10=0.00 avg60=0.00 avg300=0.00 total=125000\n",
    "proc/sys/kernel/random/boot_id": "aaaa-bbbb\n",
    "proc/stat": "cpu  100 20 30 400 50 6 7 80 9 9\ncpu0 1 2 3 4 5 6 7 8\n",
    "sys/devices/system/cpu/cpu0/cpufreq/scaling_governor": "performance\n",
    "sys/devices/system/cpu/cpu0/cpufreq/scaling_cur_freq": "2000000\n",
    "sys/devices/system/cpu/cpu1/cpufreq/scaling_cur_freq": "3000000\n",
    "sys/devices/system/cpu/cpu0/thermal_throttle/core_throttle_count": "4\n",
    "sys/devices/system/cpu/cpu1/thermal_throttle/core_throttle_count": "5\n",
    "sys/class/power_supply/AC/type": "Mains\n",
    "sys/class/power_supply/AC/online": "0\n",
    "sys/class/power_supply/BAT/type": "Battery\n",
    "sys/class/power_supply/BAT/online": "1\n",
}


def kernel(root: Path, **changed: str | None) -> Path:
    """Lay out the kernel's files of a made-up machine; a change of None leaves one out."""
    for name, text in {**KERNEL, **{key.replace("__", "/"): value for key, value in changed.items()}}.items():
        if text is not None:
            (root / name).parent.mkdir(parents=True, exist_ok=True)
            (root / name).write_text(text, encoding="utf-8")
    return root


def test_the_state_of_a_machine_is_read_from_the_kernels_files(tmp_path: Path) -> None:
    """Every counter in SI units: microseconds and kernel ticks to seconds, KiB to bytes, kHz to Hz."""
    ticks = os.sysconf("SC_CLK_TCK")
    state = machine_state(kernel(tmp_path), lambda: 12.5)

    assert state.known == {
        "monotonic_s": 12.5, "stalled_s": 2.5, "disk_stalled_s": 0.125, "memory_free_bytes": 3000 * 1024,
        "frequency_hz": 2.5e9, "heat_slowdowns": 9, "on_mains": False, "stolen_s": 80 / ticks,
        "processors_s": 693 / ticks,
    }  # fmt: skip


def test_facts_of_a_machine_are_read_from_the_kernels_files(tmp_path: Path) -> None:
    """The first processor's name, its memory, whether it is virtual, and the boot."""
    facts = machine_facts(kernel(tmp_path), lambda: 1.0)

    assert {name: facts.known[name] for name in (
        "processor", "memory_bytes", "memory_free_bytes", "virtual", "governor", "boot_id", "on_mains",
        "heat_slowdowns", "frequency_hz", "cores",
    )} == {
        "processor": "Tern T2", "memory_bytes": 8000 * 1024, "memory_free_bytes": 3000 * 1024, "virtual": True,
        "governor": "performance", "boot_id": "aaaa-bbbb", "on_mains": False, "heat_slowdowns": 9,
        "frequency_hz": 2.5e9, "cores": os.cpu_count(),
    }  # fmt: skip
    assert str(facts.pressure).startswith("some avg10=1.00")
    assert facts.cores_allowed == len(os.sched_getaffinity(0))
    assert 0 < (facts.disk_free_bytes or 0) <= (facts.disk_bytes or 0)


def test_what_cannot_be_read_is_left_out(tmp_path: Path) -> None:
    """Files that are missing, empty or garbled leave no key; a battery alone tells nothing of the mains."""
    empty = machine_state(tmp_path / "none", lambda: 0.0)
    odd = machine_state(kernel(
        tmp_path / "odd", proc__stat="cpu 1 2 3\n", proc__pressure__cpu="some avg10=x\n",
        proc__meminfo="MemTotal: 5 kB\n", sys__class__power_supply__AC__type="UPS\n",
    ), lambda: 0.0)  # fmt: skip
    other = machine_state(kernel(tmp_path / "other", proc__stat="intr 1 2 3 4 5 6 7 8 9 10\n",
                                 sys__class__power_supply__AC__online="1\n"), lambda: 0.0)  # fmt: skip
    plain = machine_facts(kernel(tmp_path / "plain", proc__cpuinfo="flags : fpu\n"), lambda: 0.0)

    assert empty.known == {"monotonic_s": 0.0}
    assert set(odd.known) == {"monotonic_s", "disk_stalled_s", "frequency_hz", "heat_slowdowns"}
    assert other.on_mains is True
    assert other.stolen_s is None
    assert plain.virtual is None
