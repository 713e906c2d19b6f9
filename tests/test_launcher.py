"""The launcher against real children: what they use, how they end, and that none is left."""

from __future__ import annotations

import math
import os
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from bystander.design import Status, TrialOutcome
from bystander.field import Launcher, ReadyCommand, trial_environment
from bystander.field.launching.account import account_readings as readings_of

PYTHON = sys.executable


@pytest.fixture
def launcher() -> Iterator[Launcher]:
    with Launcher() as started:
        yield started


def command(*words: str, limit_s: float = 20.0, folder: str = "/tmp", **more: object) -> ReadyCommand:
    path = shutil.which(words[0]) or words[0]
    return ReadyCommand(path, words, folder, trial_environment(os.environ), limit_s, **more)  # type: ignore[arg-type]


def shell(line: str, **more: object) -> ReadyCommand:
    return command("sh", "-c", line, **more)  # type: ignore[arg-type]


def running(mark: str) -> bool:
    """Whether a process with these words in its command line is alive."""
    for entry in Path("/proc").iterdir():
        if entry.name.isdigit():
            try:
                words = (entry / "cmdline").read_bytes().replace(b"\0", b" ").decode(errors="replace")
                state = (entry / "stat").read_text(errors="replace").rsplit(")", 1)[1].split()[0]
            except OSError:
                continue
            if mark in words and state != "Z":
                return True
    return False


def gone(mark: str, seconds: float = 8.0) -> bool:
    """Whether no such process is left, soon."""
    stop = time.monotonic() + seconds
    while running(mark):
        if time.monotonic() > stop:
            return False
        time.sleep(0.01)
    return True


def test_a_small_program_reads_at_the_floor(launcher: Launcher) -> None:
    """/bin/true stays under 15 MB, at or below the floor, whatever this process has loaded."""
    import numpy  # noqa: F401
    import scipy.stats  # noqa: F401

    outcome = launcher.run(command("/bin/true"))

    assert outcome.status is Status.OK
    assert outcome.readings["peak_memory"] < 15e6
    assert outcome.readings["peak_memory"] <= outcome.readings["peak_memory_floor"] * 1.02


def test_memory_that_was_taken_is_read(launcher: Launcher) -> None:
    """A child that touches 200 MB reads within 5 % of it, and the next small one is at the floor again."""
    base = launcher.run(command(PYTHON, "-c", "pass")).readings["peak_memory"]
    outcome = launcher.run(command(PYTHON, "-c", "x = bytearray(b'1') * 200_000_000"))
    after = launcher.run(command("/bin/true"))

    assert outcome.readings["peak_memory"] - base == pytest.approx(200e6, rel=0.05)
    assert after.readings["peak_memory"] < 15e6


def test_time_is_accounted_for(launcher: Launcher) -> None:
    """Sleeping is waiting, spinning is CPU time, and both make up the elapsed time."""
    slept = launcher.run(command("sleep", "0.2")).readings
    spin = "import time\nwhile time.process_time() < 0.3: pass\nprint(time.process_time())"
    spun = launcher.run(command(PYTHON, "-c", spin)).readings
    own = float(launcher.output.read_text(encoding="ascii"))

    assert slept["elapsed"] >= 0.2
    assert slept["waiting"] > 0.15
    assert slept["cpu"] < 0.1
    assert own <= spun["cpu"] < own + 0.1  # what the program read of itself, and its end
    assert spun["cpu"] <= spun["elapsed"]


def test_the_run_queue_is_read_of_one_process_only(launcher: Launcher) -> None:
    """One process that spins has a run-queue delay; a shell that waits for another one has none that counts."""
    spin = "import time\nwhile time.process_time() < 0.1: pass"
    alone = launcher.run(command(PYTHON, "-c", spin)).readings
    nested = launcher.run(shell(f"'{PYTHON}' -c '{spin}'; true")).readings

    assert 0 <= alone["run_queue_delay"] < alone["elapsed"]
    assert 0.1 <= alone["unqueued"] <= alone["elapsed"]
    assert math.isnan(nested["run_queue_delay"])
    assert math.isnan(nested["unqueued"])


def test_when_a_trial_started_is_read_on_both_clocks(launcher: Launcher) -> None:
    """In seconds, between what the clocks said before and after."""
    before = time.time(), time.monotonic()
    outcome = launcher.run(command("/bin/true"))

    assert before[0] <= outcome.started_wall_s <= time.time()
    assert before[1] <= outcome.started_monotonic_s <= time.monotonic()


ACCOUNT = {
    "elapsed_ns": 500_000_000, "user_s": 0.25, "system_s": 0.05, "on_cpu_ns": 300_000_000, "run_queue_ns": 40_000_000,
    "peak_bytes": 7_000_000, "floor_bytes": 1_000_000, "minor_faults": 11, "major_faults": 3, "voluntary_switches": 5,
    "involuntary_switches": 2,
}  # fmt: skip


def test_an_account_becomes_readings_in_si_units() -> None:
    """Each reading from the one or two numbers that it is made of; nothing is read of a trial that never started."""
    found = readings_of(ACCOUNT)

    assert found == pytest.approx({
        "elapsed": 0.5, "cpu": 0.3, "user_cpu": 0.25, "system_cpu": 0.05, "waiting": 0.2, "run_queue_delay": 0.04,
        "unqueued": 0.46, "peak_memory": 7e6, "peak_memory_floor": 1e6, "minor_faults": 11, "major_faults": 3,
        "voluntary_switches": 5, "involuntary_switches": 2,
    })  # fmt: skip
    assert readings_of({"status": "not-started"}) == {}
    assert readings_of({**ACCOUNT, "user_s": 0.6})["waiting"] == 0.0
    assert math.isnan(readings_of({**ACCOUNT, "floor_bytes": 0})["peak_memory_floor"])
    assert math.isnan(readings_of({**ACCOUNT, "run_queue_ns": 500_000_000})["unqueued"])


@pytest.mark.parametrize(
    ("on_cpu_ns", "cpu_s", "told"),
    [
        (300_000_000, 0.3, True), (294_100_000, 0.3, True), (293_900_000, 0.3, False), (306_100_000, 0.3, False),
        (11_900_000, 0.01, True), (12_100_000, 0.01, False), (8_100_000, 0.01, True), (7_900_000, 0.01, False),
        (-1, 0.0, False), (0, 0.0, True), (0, 0.001, True),
    ],
)  # fmt: skip
def test_the_delay_counts_where_both_cpu_times_agree(on_cpu_ns: int, cpu_s: float, told: bool) -> None:
    """Within two percent, or two milliseconds, whichever is more."""
    found = readings_of({**ACCOUNT, "on_cpu_ns": on_cpu_ns, "user_s": cpu_s, "system_s": 0.0})

    assert math.isnan(found["run_queue_delay"]) != told


@pytest.mark.parametrize(
    ("line", "status", "detail"),
    [
        ("exit 3", Status.EXIT, 3),
        ("kill -9 $$", Status.SIGNAL, 9),
        ("kill -SEGV $$", Status.SIGNAL, 11),
        ("exit 0", Status.OK, 0),
    ],
)
def test_how_a_trial_ended_is_kept(launcher: Launcher, line: str, status: Status, detail: int) -> None:
    """Exit codes and signals arrive as they are."""
    outcome = launcher.run(shell(line))

    assert (outcome.status, outcome.detail) == (status, detail)


def test_what_a_failed_trial_said_is_kept(launcher: Launcher) -> None:
    """Errors come before output; a program that cannot be started says why."""
    told = launcher.run(shell("echo out; echo broken >&2; exit 1")).excerpt
    plain = launcher.run(shell("echo only; exit 1")).excerpt
    missing = launcher.run(ReadyCommand("/nonexistent", ("x",), "/tmp", {}, 1.0))

    assert (told, plain) == ("broken", "only")
    assert (missing.status, missing.excerpt) == (Status.NOT_STARTED, "No such file or directory")


def test_answers_are_digests_of_the_output(launcher: Launcher) -> None:
    """Equal output, equal digest; with the exit code as answer, a code is no failure."""
    first, again, other = (launcher.run(shell(line)).answer for line in ("echo a", "echo a", "echo b"))
    code = launcher.run(shell("exit 4", exit_code_is_answer=True))

    assert first == again != other
    assert (code.status, code.answer) == (Status.OK, "exit 4")


@pytest.mark.parametrize(
    "line",
    [
        "sleep 73.5",
        "trap '' TERM INT HUP; sleep 73.5; sleep 73.5",
        "setsid sleep 73.5 & (sleep 73.5 &) ; sleep 73.5",
        "kill -STOP $$",
    ],
    ids=["plain", "deaf", "leaves its group", "stops itself"],
)
def test_a_trial_over_its_limit_is_ended_with_its_whole_tree(launcher: Launcher, line: str) -> None:
    """Within a second of the limit nothing is left running, and the next trial is well."""
    begun = time.monotonic()
    outcome = launcher.run(shell(line, limit_s=0.3))
    took = time.monotonic() - begun

    assert outcome.status is Status.CUT
    assert 0.3 <= outcome.readings["elapsed"] < 3
    assert took < 5
    assert gone("sleep 73.5")
    assert launcher.run(command("/bin/true")).status is Status.OK


def test_a_flood_of_output_is_ended(launcher: Launcher) -> None:
    """A trial that prints without end is ended soon after its limit, and what it printed is cut to size."""
    outcome = launcher.run(shell("yes 'the dyke broke'", limit_s=60, output_bytes=3 * 2**20))
    errors = launcher.run(shell("yes >&2", limit_s=60, output_bytes=2**20))

    assert (outcome.status, errors.status) == (Status.FLOOD, Status.FLOOD)
    assert outcome.readings["elapsed"] < 10
    assert launcher.output.stat().st_size <= 3 * 2**20
    assert "the dyke broke" in outcome.excerpt
    assert gone("the dyke broke")


def test_memory_is_held_to_its_limit(launcher: Launcher) -> None:
    """A trial that takes more than it may fails by itself; one that stays below does not notice."""
    eat = "x = bytearray(400 * 2**20); print(len(x))"
    over = launcher.run(command(PYTHON, "-c", eat, memory_bytes=300 * 2**20))
    nested = launcher.run(shell(f"'{PYTHON}' -c '{eat}'", memory_bytes=300 * 2**20))
    below = launcher.run(command(PYTHON, "-c", eat, memory_bytes=2**30))

    assert (over.status, nested.status, below.status) == (Status.EXIT, Status.EXIT, Status.OK)
    assert "MemoryError" in over.excerpt


@pytest.mark.parametrize(
    ("line", "status"),
    [
        ("cat; echo done", Status.OK),  # reads its standard input, which is empty
        ("exec 0<&- 1>&- 2>&-; exit 3", Status.EXIT),  # closes its descriptors
        ("sh -c 'read x < /dev/tty'", Status.EXIT),  # opens the terminal, and has none
        ("rmdir ../gone-soon; exit 0", Status.OK),  # deletes its working directory
        ("(while :; do :; done) & (while :; do :; done) & wait", Status.CUT),  # spins in the background
        ("f() { f | f & }; for i in 1 2 3 4 5; do (sleep 72.5 &) & done; sleep 72.5", Status.CUT),  # leaves many behind
    ],
    ids=["reads", "closes", "terminal", "deletes", "spins", "many"],
)
def test_ill_behaved_programs_end_and_leave_nothing(
    launcher: Launcher, tmp_path: Path, line: str, status: Status
) -> None:
    """Whatever a program does to its surroundings, its trial ends as it should and the next one is well."""
    folder = tmp_path / "gone-soon"
    folder.mkdir()
    outcome = launcher.run(shell(line, folder=str(folder), limit_s=0.5))

    assert outcome.status is status
    assert launcher.run(command("/bin/true")).status is Status.OK
    assert gone("sleep 72.5")
    if status is Status.OK and not folder.exists():
        missing = launcher.run(shell("true", folder=str(folder)))
        assert missing.status is Status.NOT_STARTED


def test_what_outlives_a_trial_is_ended_and_counted(launcher: Launcher) -> None:
    """A daemon that a trial leaves behind does not run into the next one."""
    outcome = launcher.run(shell("setsid sleep 74.5 >/dev/null 2>&1 & (setsid sleep 74.5 &) & exit 0"))

    assert outcome.status is Status.OK
    assert outcome.left_behind >= 1
    assert gone("sleep 74.5")


def test_the_tree_ends_when_bystander_is_killed(tmp_path: Path) -> None:
    """SIGKILL of the parent closes the control pipe; the launcher ends the trial, then itself."""
    script = (
        "from bystander.field import Launcher, ReadyCommand\n"
        "with Launcher() as launcher:\n"
        "    print(launcher.process_id, flush=True)\n"
        "    launcher.run(ReadyCommand('/bin/sh', ('sh', '-c', 'setsid sleep 75.5 & sleep 75.5'), '/tmp',"
        " {'PATH': '/usr/bin:/bin'}, 60))\n"
    )
    parent = subprocess.Popen([PYTHON, "-c", script], stdout=subprocess.PIPE, text=True)
    assert parent.stdout
    launcher_id = int(parent.stdout.readline())
    stop = time.monotonic() + 5
    while not running("sleep 75.5") and time.monotonic() < stop:
        time.sleep(0.01)
    parent.kill()
    parent.wait()
    parent.stdout.close()

    assert gone("sleep 75.5")
    assert gone("inside/launcher.py") or not Path(f"/proc/{launcher_id}").exists()


def test_leaving_the_context_ends_a_running_trial() -> None:
    """An interrupt while a trial runs raises, and leaving the context takes the trial along."""
    read, write = os.pipe()
    os.write(write, b"!")
    with pytest.raises(KeyboardInterrupt), Launcher(interrupts=read) as launcher:
        launcher.run(command("sleep", "76.5"))
    os.close(read)
    os.close(write)

    assert gone("sleep 76.5")


def test_a_launcher_that_went_away_is_replaced(launcher: Launcher) -> None:
    """The trial that it was to run has failed, its block is to run again, and the next trial has another launcher."""
    os.kill(launcher.process_id, signal.SIGKILL)
    lost = launcher.run(command("/bin/true"))

    assert (lost.status, lost.disturbed) == (Status.INVALID, "the launcher was killed")
    assert lost.excerpt == "its launcher was killed while it ran"
    assert launcher.run(command("/bin/true")).status is Status.OK


def test_trials_start_from_a_clean_state(launcher: Launcher, tmp_path: Path) -> None:
    """Signals are back to their defaults, standard input is empty, no descriptor is inherited, the folder is right."""
    script = (
        "import os, sys\n"
        "print(sorted(int(n) for n in os.listdir('/proc/self/fd'))[:3], sys.stdin.read() == '', os.getcwd())\n"
        "print(os.getpgid(0) == os.getpid(), 'PYTHONHASHSEED' in os.environ)\n"
    )
    outcome = launcher.run(command(PYTHON, "-S", "-c", script, folder=str(tmp_path)))
    said = launcher.output.read_text(encoding="utf-8").splitlines()
    launcher.run(shell("grep SigIgn /proc/self/status"))
    ignored = int(launcher.output.read_text(encoding="utf-8").split()[1], 16)

    assert outcome.status is Status.OK
    assert said == [f"[0, 1, 2] True {tmp_path}", "True True"]
    assert ignored & 0x7FFFFFFF == 0  # 32 and 33 are the C library's own


def test_limits_niceness_and_affinity_are_set_by_the_stub(launcher: Launcher) -> None:
    """The stub sets what is asked for and becomes the program."""
    cpu = min(os.sched_getaffinity(0))
    stub = {"niceness": 3, "affinity": [cpu], "limits": {"NOFILE": 64}}
    outcome: TrialOutcome = launcher.run(shell("nice; ulimit -n; grep Cpus_allowed_list /proc/self/status", stub=stub))

    assert outcome.status is Status.OK
    assert launcher.output.read_text(encoding="utf-8").split() == ["3", "64", "Cpus_allowed_list:", str(cpu)]
