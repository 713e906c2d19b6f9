"""Programs that behave ill, as trials: a few of those of `make hostile`, and what each of them is told as."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import tempfile
import time
from dataclasses import replace
from pathlib import Path

import pytest
from conftest import PROGRAM, Run
from fuzz import campaign
from hostile import ILL_BEHAVED, NAMES, attack
from program import Program
from test_launcher import command, gone, launcher, running, shell  # noqa: F401

from bystander.design import Status
from bystander.errors import NoSpaceError
from bystander.field import Launcher, LeftError, read_left
from bystander.field.launching import scratch
from bystander.field.launching.containment import ControlGroup, Orphans, _end_leftovers, _namespace, _started, state_of


@pytest.mark.parametrize(
    ("name", "kind"),
    [
        ("kills_its_launcher_and_leaves_a_daemon", "command"), ("stops_its_launcher_and_stays", "callable"),
        ("pipe_for_marks", "command"), ("endless_device_for_the_answer", "command"), ("broken_marks", "callable"),
        ("deletes_the_scratch", "command"), ("many_names", "inspected"), ("kills_bystander", "command"),
        ("circle_of_spans", "command"),
    ],
)  # fmt: skip
def test_an_ill_behaved_program_harms_nobody_else(tmp_path: Path, loaded: Program, name: str, kind: str) -> None:
    """It ends at its limit, leaves nothing, the workload beside it is whole, and the observation completes."""
    assert attack(name, kind, tmp_path, loaded=loaded) == []


def test_there_are_at_least_sixty_of_them() -> None:
    """As many as `make hostile` promises."""
    assert len(NAMES) >= 60


def test_mutated_files_are_read_or_told(loaded: Program) -> None:
    """The short form of `make fuzz`."""
    counts, wrong = campaign(160, 6, int(time.time()) if os.environ.get("BYSTANDER_LONG") else 3, loaded=loaded)

    assert wrong == []
    assert sum(counts.values()) > 150


def ill(name: str, marks: Path | None = None) -> tuple[str, ...]:
    return ("python3", "-S", str(ILL_BEHAVED), name)


@pytest.mark.parametrize(
    ("name", "reason"),
    [
        ("kills_its_launcher", "its launcher was killed while it ran"),
        ("stops_its_launcher_and_stays", "its launcher was stopped while it ran"),
        ("asks_its_launcher_to_leave", "its launcher was killed while it ran"),
        ("forged_account", "its launcher said something that is no account while it ran"),
        ("deletes_the_scratch", "it removed Bystander's scratch folder, or what is in it"),
        ("pipe_for_output", "it put other files in the place of those that take its output"),
    ],
)
def test_what_a_trial_did_is_its_reason(launcher: Launcher, name: str, reason: str) -> None:  # noqa: F811
    """The trial fails, told by what it did; the next one has all that it needs."""
    outcome = launcher.run(command(*ill(name), limit_s=1.0, listens=True))

    assert (outcome.status, outcome.excerpt) == (Status.INVALID, reason)
    assert launcher.run(shell("echo well", listens=True)).status is Status.OK
    assert launcher.output.read_text(encoding="utf-8") == "well\n"


@pytest.mark.parametrize(
    ("name", "why"),
    [
        ("stops_its_launcher_for_a_moment", "the launcher was stopped for a while"),
        ("slows_its_launcher_down", "limits or the priority of the launcher were changed"),
    ],
)
def test_a_block_in_which_the_launcher_was_touched_runs_again(launcher: Launcher, name: str, why: str) -> None:  # noqa: F811
    """Its trials ended well, and were seen too late or ran under other limits."""
    outcome = launcher.run(command(*ill(name), limit_s=5.0, listens=True))

    assert outcome.disturbed == why
    assert launcher.run(command("/bin/true")).disturbed == ""


def test_a_request_longer_than_a_pipe_finds_a_stopped_launcher(launcher: Launcher) -> None:  # noqa: F811
    """It is not waited for; and a long one is no trouble for one that works."""
    large = {"PATH": os.environ["PATH"], **{f"V{i}": "x" * 100_000 for i in range(3)}}
    assert launcher.run(replace(command("/bin/true"), environment=large)).status is Status.OK
    os.kill(launcher.process_id, signal.SIGSTOP)

    assert (
        launcher.run(replace(command("/bin/true"), environment=large)).excerpt
        == "its launcher was stopped while it ran"
    )


def test_a_block_that_is_run_again_is_told(tmp_path: Path, run: Run) -> None:
    """What disturbed it stands in the record and on the screen; after three times it is taken as it is."""
    (tmp_path / "bystander.toml").write_text(
        'blocks = 2\nstopping = "fixed"\n[arms.now]\nfolder = "."\n[workloads.w]\n'
        f'command = "python3 -S {ILL_BEHAVED} stops_bystander_for_a_moment"\n',
        encoding="utf-8",
    )
    # A process of its own: the one that has loaded the program would be stopped as well.
    done = subprocess.run([str(PROGRAM), "observe"], cwd=tmp_path, capture_output=True, text=True, check=False)
    shown = " ".join(run("records", "show").stdout.split())

    assert done.returncode == 0
    assert "Block 0 of w was run again: Bystander itself was stopped for a while." in shown
    assert "Block 0 of w was disturbed 3 times and is taken as it was" in shown
    assert "In all, 2 blocks of w were disturbed so: Bystander itself was stopped for a while." in shown
    assert "Block 1 of w" not in shown


def test_a_command_cannot_write_the_stubs_account(launcher: Launcher) -> None:  # noqa: F811
    """Its own time cannot be shortened: the account comes through a pipe that the program does not have."""
    forge = (
        'd=$(dirname $(dirname $BYSTANDER_MARKS)); for f in output-stub account; do echo "{\\"started_ns\\": '
        '9999999999999999, \\"user_s\\": 99}" > $d/$f; done; ls /proc/self/fd | tr "\\n" " "; sleep 0.3'
    )
    outcome = launcher.run(shell(forge, stub={"niceness": 1}, listens=True))

    assert outcome.readings["elapsed"] > 0.29
    assert launcher.output.read_text(encoding="utf-8").split() == ["0", "1", "2", "3"]  # 3 is that of ls itself


@pytest.mark.parametrize(
    ("make", "kind"),
    [
        (lambda path: os.mkfifo(path), "is a pipe"), (lambda path: path.mkdir(), "is a folder"),
        (lambda path: path.symlink_to("/dev/zero"), "is a link"),
        (lambda path: path.write_bytes(b"x" * 101), "is larger than 100 B"),
    ],
)  # fmt: skip
def test_what_is_left_is_read_in_one_way(tmp_path: Path, make: object, kind: str) -> None:
    """Regular files up to a size, and nothing else; what is not there is none."""
    path = tmp_path / "left"
    assert read_left(path, 100, "the file of its answer") is None
    make(path)  # type: ignore[operator]

    with pytest.raises(LeftError, match=f"the file of its answer {kind}"):
        read_left(path, 100, "the file of its answer")
    (tmp_path / "well").write_bytes(b"x" * 100)
    assert read_left(tmp_path / "well", 100, "") == b"x" * 100


def test_limits_of_what_is_told_are_keys_of_the_study(tmp_path: Path, run: Run) -> None:
    """Each fails the trial with its reason, and can be raised."""
    tell = 'i=0; while [ $i -lt 20 ]; do printf "items\\tname$i\\t1\\n" >> $BYSTANDER_MARKS; i=$((i+1)); done'
    (tmp_path / "tell.sh").write_text(tell, encoding="utf-8")
    study = "blocks = 2\n[arms.now]\nfolder = '.'\n[workloads.w]\ncommand = 'sh tell.sh'\n"
    said = {}
    for key in ("told = '100 B'", "told_lines = 19", "told_names = 19", "told_names = 20"):
        (tmp_path / "bystander.toml").write_text(study + key, encoding="utf-8")
        said[key] = " ".join(run("check", code=0 if key.endswith("20") else 1).stdout.split())

    assert "is larger than 100 B" in said["told = '100 B'"]
    assert "it told 20 lines of marks, and told_lines is 19" in said["told_lines = 19"]
    assert "it told 20 readings, items and intervals, and told_names is 19" in said["told_names = 19"]
    assert "it told" not in said["told_names = 20"]


def test_no_space_is_no_arms_fault(launcher: Launcher, monkeypatch: pytest.MonkeyPatch) -> None:  # noqa: F811
    """Where the disk of the scratch is full, nothing is run; a trial that failed on it does not count."""
    monkeypatch.setattr(scratch, "_LEAST_FREE", 2**60)
    monkeypatch.setattr(scratch.require_space, "__defaults__", (2**60,))
    with pytest.raises(NoSpaceError, match=r"free, and trials need 1.00 EiB|free, and trials need"):
        launcher.run(command("/bin/true"))


@pytest.mark.skipif(os.geteuid() != 0, reason="mounting needs root")
def test_a_full_scratch_ends_the_observation_which_can_be_resumed(tmp_path: Path, run: Run) -> None:
    """A trial that fills the disk for all is not counted against its arm; with room again, --resume finishes."""
    small = tmp_path / "small"
    small.mkdir()
    if subprocess.run(["mount", "-t", "tmpfs", "-o", "size=16m", "none", str(small)], check=False).returncode:
        pytest.skip("nothing can be mounted here")
    try:
        (tmp_path / "fill.sh").write_text(
            "n=$(cat count 2>/dev/null || echo 0); echo $((n+1)) > count; if [ $n = 4 ]; then "
            f"head -c 15000000 /dev/zero > {small}/big; exit 1; fi\n",
            encoding="utf-8",
        )
        (tmp_path / "bystander.toml").write_text(
            'blocks = 5\nstopping = "fixed"\nwritten_files = ["count"]\n[arms.now]\nfolder = "."\n[workloads.w]\n'
            'command = "sh fill.sh"\n',
            encoding="utf-8",
        )
        said = run("observe", "--quiet", code=1, TMPDIR=str(small)).stderr
        (small / "big").unlink()
        resumed = run("observe", "--quiet", "--resume", TMPDIR=str(small)).stdout
    finally:
        subprocess.run(["umount", str(small)], check=True)

    assert "free, and trials need 4.00 MiB; make room, then bystander observe --resume unnamed-study-1" in said
    assert "failed" not in resumed
    assert "5 trials" in resumed


def test_sigint_twice_ends_everything_at_once(tmp_path: Path) -> None:
    """Whatever hangs: here Bystander's own main thread, in a library that waits for a lock."""
    (tmp_path / "bystander.toml").write_text(
        'blocks = 50\n[arms.now]\nfolder = "."\n[workloads.w]\ncommand = "sleep 431"\n', encoding="utf-8"
    )
    hang = (
        "import sys, time, threading, bystander.flow.sessions.session as session\n"
        "from bystander.cli.app import run\n"
        "def hangs(*_):\n    threading.Lock().acquire() or None\n    import ctypes; ctypes.CDLL(None).sleep(600)\n"
        "session.rehearse = lambda study, trials, *_: (threading.Thread(target=trials.run, args=(0, 0), daemon=True)"
        ".start(), time.sleep(0.5), ctypes.PyDLL(None).usleep(1), ctypes.CDLL(None).pause(), hangs())\n"
        "import ctypes\nsys.argv = ['bystander', 'observe', '--quiet']\nrun()\n"
    )
    python = PROGRAM.with_name("python")
    process = subprocess.Popen([python, "-c", hang], cwd=tmp_path, stderr=subprocess.PIPE, text=True)
    stop = time.monotonic() + 10
    while not running("sleep 431") and time.monotonic() < stop:
        time.sleep(0.05)
    time.sleep(0.5)
    process.send_signal(signal.SIGINT)
    time.sleep(0.5)
    process.send_signal(signal.SIGINT)
    _, said = process.communicate(timeout=5)

    assert process.returncode == 130
    assert "interrupted twice: everything was ended at once" in said
    assert gone("sleep 431")


def test_orphans_are_ended_and_earlier_children_are_not() -> None:
    """What was there before is nobody's orphan."""
    mine = subprocess.Popen(["sleep", "97.5"])
    with Orphans().adopted() as orphans:
        parent = subprocess.Popen(["sh", "-c", "setsid sleep 98.5 & setsid sleep 98.5 & exit 0"])
        parent.wait()

        assert orphans.end([]) == 2
        assert orphans.end([]) == 0
    assert state_of(mine.pid) == "S"
    mine.kill()
    mine.wait()


@pytest.mark.skipif(os.geteuid() != 0, reason="making a control group needs rights")
def test_a_control_group_ends_what_is_in_it() -> None:
    """Also what left its session and its parents; and the group is removed."""
    group = ControlGroup()
    child = subprocess.Popen(["sh", "-c", "sleep 0.3; (setsid setsid sleep 99.5 &) ; sleep 99.5"])
    group.hold(child.pid)
    if not group._folder:
        child.kill()
        child.wait()
        pytest.skip("no control group can be made here")
    folder = group._folder
    time.sleep(0.6)
    group.kill()
    child.wait(5)

    assert gone("sleep 99.5")
    group.close()
    assert not folder.exists()


def test_only_groups_of_a_bystander_that_is_gone_are_ended(tmp_path: Path) -> None:
    """By its number and start; where numbers are another container's, nobody here can know, and it is left alone."""
    here, mine, start = _namespace(), os.getpid(), _started(os.getpid())
    names = {
        "gone": f"bystander-{here}-{mine}-{int(start) - 1}-9",
        "here": f"bystander-{here}-{mine}-{start}-9",
        "elsewhere": f"bystander-{here}1-{mine}-{int(start) - 1}-9",
        "other": "bystander-notes",
    }
    for name in names.values():
        (tmp_path / name).mkdir()
        (tmp_path / name / "cgroup.kill").write_text("", encoding="utf-8")
    _end_leftovers(tmp_path)

    assert {what: (tmp_path / name / "cgroup.kill").read_text() for what, name in names.items()} == {
        "gone": "1", "here": "", "elsewhere": "", "other": "",
    }


def test_what_nobody_thought_of_is_one_sentence(run: Run, tmp_path: Path) -> None:
    """With what it is, where it happened and how to report it; the traceback only where it is asked for."""
    code = (
        "import sys, bystander.flow.places as places\n"
        "from bystander.cli.app import run\n"
        "def broken(*_):\n    raise ZeroDivisionError('of ours')\n"
        "places.load_study = broken\nsys.argv = ['bystander', 'check']\nrun()\n"
    )
    python = PROGRAM.with_name("python")
    plain = {name: value for name, value in os.environ.items() if name != "BYSTANDER_TRACEBACK"}
    words = [python, "-c", code]
    done = subprocess.run(words, cwd=tmp_path, env=plain, capture_output=True, text=True, check=False)
    shown = subprocess.run(words, cwd=tmp_path, capture_output=True, text=True, check=False)

    assert done.returncode == 1
    assert done.stderr.startswith(
        "bystander: this should not happen: ZeroDivisionError: of ours at flow/commands/check.py, line "
    )
    assert len(done.stderr.splitlines()) == 1
    assert "Traceback" in shown.stderr


def test_a_scratch_without_its_lock_is_cleared_once_it_is_old(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Its owner was killed before it could take the lock: then it is empty. Others keep theirs."""
    monkeypatch.setattr(tempfile, "tempdir", str(tmp_path))
    for name in ("bystander-old", "bystander-new", "bystander-full"):
        (tmp_path / name).mkdir()
    (tmp_path / "bystander-full" / "notes").touch()
    for name in ("bystander-old", "bystander-full"):
        os.utime(tmp_path / name, (1e9, 1e9))

    assert scratch.remove_leftovers() == 1
    assert sorted(path.name for path in tmp_path.iterdir()) == ["bystander-full", "bystander-new"]


def test_json_of_hostile_trials_is_json(tmp_path: Path, run: Run) -> None:
    """Control characters and names of any kind come back as they were told, escaped."""
    (tmp_path / "bystander.toml").write_text(
        f'blocks = 2\n[arms.now]\nfolder = "."\n[workloads.w]\ncommand = "python3 -S {ILL_BEHAVED} '
        'control_characters_in_names"\n',
        encoding="utf-8",
    )
    run("observe", "--quiet")
    shown = run("records", "show", "--json").stdout

    json.loads(shown)
    assert not [letter for letter in shown if ord(letter) in (*range(9), *range(14, 32), *range(127, 160), 0x202E)]
