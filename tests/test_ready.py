"""Until it is ready: a pattern in the output, a file, or a port; and trials that end there."""

from __future__ import annotations

import re
import socket
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from conftest import Run
from hypothesis import given, settings
from hypothesis import strategies as st

from bystander.design import Status, TrialOutcome, read_study
from bystander.errors import StudyError
from bystander.field import Launcher, ReadyCommand, StudyFolder

sys.path.insert(0, str(Path(__file__).parents[1] / "src" / "bystander" / "field" / "inside"))
from readiness import sure_part

PROGRAM = """
import os, signal, socket, sys, time
time.sleep(0.03)
at = time.monotonic_ns()
if sys.argv[1] == "file":
    open("up", "w").close()
elif sys.argv[1] == "port":
    server = socket.create_server(("127.0.0.1", int(sys.argv[2])))
elif sys.argv[1] == "deaf":
    signal.signal(signal.SIGTERM, signal.SIG_IGN)
os.write(2 if sys.argv[1] == "errors" else 1, b"up at %d\\n" % at)
time.sleep(30 if "stay" in sys.argv else 0.03)
"""


@pytest.fixture(scope="module")
def launcher() -> Iterator[Launcher]:
    with Launcher() as started:
        yield started


def trial(launcher: Launcher, folder: Path, ready: dict[str, Any], *words: str, **limits: Any) -> TrialOutcome:
    (folder / "serve.py").write_text(PROGRAM, encoding="utf-8")
    argv = (sys.executable, "-S", "serve.py", *words)
    return launcher.run(ReadyCommand(sys.executable, argv, str(folder), {}, 20.0, ready=ready, **limits))


def free_port() -> int:
    with socket.create_server(("127.0.0.1", 0)) as server:
        return int(server.getsockname()[1])


@pytest.mark.parametrize("kind", ["output", "errors", "file", "port"])
@pytest.mark.parametrize("end", [True, False])
def test_the_time_is_that_of_which_the_program_tells(launcher: Launcher, tmp_path: Path, kind: str, end: bool) -> None:
    """Against the program's own clock, which is the same one; where it ends there, that is its elapsed time."""
    port = free_port()
    ready: dict[str, Any] = {"file": {"file": str(tmp_path / "up")}, "port": {"port": port}}.get(
        kind, {"pattern": "^up at"}
    )
    outcome = trial(launcher, tmp_path, {**ready, "end": end}, kind, str(port), *(["stay"] if end else []))
    said = (launcher.errors if kind == "errors" else launcher.output).read_text(encoding="utf-8")
    if not (end and kind in ("file", "port")):  # those may end before it says so
        told = int(said.split()[2]) / 1e9 - outcome.started_monotonic_s
        assert told <= outcome.readings["until_ready"] < told + 1
    assert outcome.status is Status.OK
    assert outcome.measures["until_ready"].words == ("slower", "faster")
    assert (outcome.readings["elapsed"] == outcome.readings["until_ready"]) == end
    assert ("until_output" in outcome.readings) == (kind in ("output", "errors"))
    assert outcome.left_behind == 0


def test_a_trial_that_does_not_end_when_it_is_asked_is_ended(launcher: Launcher, tmp_path: Path) -> None:
    """By force, after five seconds; its time is that until it was ready, and it ended well."""
    began = time.monotonic()
    outcome = trial(launcher, tmp_path, {"pattern": "up", "end": True}, "deaf", "stay")
    assert outcome.status is Status.OK
    assert outcome.readings["elapsed"] < 4.5 < time.monotonic() - began < 15


def test_a_trial_that_prints_on_when_it_is_asked_to_end_is_ended_at_the_limit(
    launcher: Launcher, tmp_path: Path
) -> None:
    """It was ready, so its time stands; it does not get five seconds in which to fill the disk."""
    body = (
        "import os, signal\nsignal.signal(signal.SIGTERM, signal.SIG_IGN)\nos.write(1, b'up\\n')\n"
        "while True: os.write(1, b'e' * 60000)"
    )
    asked, began = {"pattern": "up", "end": True}, time.monotonic()
    words = (sys.executable, "-S", "-c", body)
    one = ReadyCommand(sys.executable, words, str(tmp_path), {}, 20.0, ready=asked, output_bytes=1_000_000)
    outcome = launcher.run(one)
    assert outcome.status is Status.OK
    assert time.monotonic() - began < 4.5
    assert launcher.output.stat().st_size <= 1_000_000


@pytest.mark.parametrize(
    ("ready", "status", "said"),
    [
        ({"pattern": "never", "end": True}, Status.INVALID, "it ended before it was ready\nup at"),
        ({"file": "/dev/null", "end": True}, Status.NOT_STARTED, "the file /dev/null is there before it starts"),
        ({"pattern": "never", "end": False}, Status.OK, ""),
    ],
)  # fmt: skip
def test_a_trial_that_is_never_ready_or_was_before_says_so(
    launcher: Launcher, tmp_path: Path, ready: dict[str, Any], status: Status, said: str
) -> None:
    """Where it should end there it failed; else it only has no such time."""
    outcome = trial(launcher, tmp_path, ready, "output")
    assert outcome.status is status
    assert outcome.excerpt.startswith(said)
    assert "until_ready" not in outcome.readings


def test_a_port_that_is_taken_is_told(launcher: Launcher, tmp_path: Path) -> None:
    """Another server there would pass for the program."""
    with socket.create_server(("127.0.0.1", 0)) as server:
        port = server.getsockname()[1]
        outcome = trial(launcher, tmp_path, {"port": port, "end": True}, "port", str(port))
    assert (outcome.status, outcome.excerpt.partition(" before")[0]) == (
        Status.NOT_STARTED, f"something answers on port {port}",
    )  # fmt: skip


def test_trials_that_never_start_leave_no_descriptor_behind(tmp_path: Path) -> None:
    """With a limit of memory each has a pipe to its stub: a thousand of them would be all that a process may hold."""
    with Launcher() as one:
        held = Path(f"/proc/{one.process_id}/fd")
        before = len(list(held.iterdir()))
        for _ in range(5):
            outcome = trial(one, tmp_path, {"file": "/dev/null", "end": True}, "file", memory_bytes=2**30)
            assert outcome.status is Status.NOT_STARTED
        assert len(list(held.iterdir())) == before


def test_what_goes_through_the_pipe_arrives_whole(launcher: Launcher, tmp_path: Path) -> None:
    """Ten megabytes in pieces, on both sides, with the pattern in the last line; a flood is ended as ever."""
    body = (
        "import os\nfor k in range(200): os.write(1, b'%09d' % k * 6000); os.write(2, b'e' * 1000)\nprint('ready now')"
    )

    def run(**limits: Any) -> TrialOutcome:
        words = (sys.executable, "-S", "-c", body)
        asked = {"pattern": r"^ready \w+", "end": False}
        return launcher.run(ReadyCommand(sys.executable, words, str(tmp_path), {}, 20.0, ready=asked, **limits))

    # The pattern stands at the beginning of a line, which no piece ends.
    body = body.replace("print('ready", "print('\\nready")
    outcome = run()
    whole = b"".join(b"%09d" % k * 6000 for k in range(200)) + b"\nready now\n"
    assert launcher.output.read_bytes() == whole
    assert launcher.errors.stat().st_size == 200_000
    assert 0 < outcome.readings["until_output"] < outcome.readings["until_ready"] <= outcome.readings["elapsed"]
    assert run(output_bytes=1_000_000).status is Status.FLOOD


@given(
    st.from_regex(r"(?s)[a-c ]{0,3}(\\.|\\[dws]|[.+*?^$]|[a-c]{1,4}|[bc]\{1,2\}|\[ab\]|a\|b){0,4}", fullmatch=True),
    st.data(),
)
@settings(max_examples=60, deadline=None)
def test_what_is_sure_to_stand_in_a_match_stands_in_it(pattern: str, data: st.DataObject) -> None:
    """Texts made from the pattern hold it: the quick look before the search misses nothing."""
    try:
        compiled = re.compile(pattern, re.MULTILINE)
    except re.error:
        return
    assert sure_part(pattern) in data.draw(st.from_regex(compiled))


STUDY = """
[arms.now]
folder = "."
settings.port = "70000"
[workloads.a]
command = "true"
{keys}
"""


@pytest.mark.parametrize(
    ("keys", "said"),
    [
        ("ready = '('", 'workloads.a.ready.pattern: "(" is no regular expression'),
        ("ready = 'a*'", '"a*" matches where nothing is printed'),
        ("end = 'at ready'", 'workloads.a.end: "at ready" needs to know when that is'),
        ("ready = {file = 'a', port = 1}", "workloads.a.ready: "), ("ready = 3", "workloads.a.ready: 3 is no way"),
        ("ready.port = 70000", "workloads.a.ready.port: 70000 is no port"),
        ("ready.pot = 1", 'there is no such key; did you mean "port"?'),
        ("ready = 'x'\nend = 'soon'", '"soon" is no end of a trial'),
    ],
)  # fmt: skip
def test_what_cannot_be_waited_for_is_refused(tmp_path: Path, keys: str, said: str) -> None:
    """One sentence each, with the key."""
    with pytest.raises(StudyError, match=re.escape(said)):
        read_study(STUDY.format(keys=keys), "bystander.toml", StudyFolder(tmp_path))


def test_servers_are_compared_by_when_they_are_up(tmp_path: Path, run: Run) -> None:
    """Without a study, by a pattern; the next command repeats it. With one, by a port that each arm sets."""
    (tmp_path / "serve.sh").write_text("sleep $1; echo listening on 80; exec sleep 40\n", encoding="utf-8")
    words = ("--ready", "listening on", "--end-at-ready")
    arms = ("--arm", "old=sh serve.sh 0.03", "--arm", "new=sh serve.sh 0.2")
    shown = run("observe", "--fixed", "6", "--quiet", *words, *arms).stdout
    assert "new against old, by time until ready" in shown
    assert "slower" in shown
    run("report", "--to", "review.md")
    assert "--ready 'listening on' --end-at-ready" in (tmp_path / "review.md").read_text(encoding="utf-8")

    (tmp_path / "bystander.toml").write_text(STUDY.format(keys="ready.port = '{port}'"), encoding="utf-8")
    assert 'workloads.a.ready.port: "70000" is no port under arm now' in run("check", code=2).stderr
