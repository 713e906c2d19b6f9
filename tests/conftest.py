"""What tests share: the installed program, a folder of its own, and studies that are quick to run."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from hypothesis import settings
from program import Program

settings.register_profile("bystander", deadline=None, max_examples=60)
settings.load_profile("bystander")

# Their outcome hangs on clocks: a machine in use may fail them, and they run again. What is wrong fails each time.
CLOCKED = {
    "test_again", "test_beyond", "test_browser", "test_callables", "test_campaign", "test_changes", "test_closely",
    "test_commands", "test_conditions", "test_counting", "test_examples", "test_first_hour", "test_formats",
    "test_gate", "test_growing", "test_hostile", "test_inspect", "test_interrupts", "test_kills", "test_launcher",
    "test_levels", "test_machine_states", "test_marks", "test_outlook", "test_own_files", "test_pipelines",
    "test_placebo", "test_plan", "test_ready", "test_resume", "test_settled", "test_slow", "test_starts",
    "test_together", "test_watching",
}  # fmt: skip
_AGAIN, _PAUSE_S = 3, 2.0  # times, and how long others are waited for

PROGRAM = Path(sys.executable).with_name("bystander")
Run = Callable[..., subprocess.CompletedProcess[str]]
Running = Callable[[], subprocess.Popen[str]]


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Mark what runs again where it fails."""
    for item in items:
        if item.path.stem in CLOCKED:
            item.add_marker(pytest.mark.flaky(reruns=_AGAIN, reruns_delay=_PAUSE_S))


@pytest.fixture(autouse=True)
def _own_lock(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Give every test a machine lock of its own, so that nobody's observation stands in the way."""
    monkeypatch.setenv("BYSTANDER_LOCK", str(tmp_path.with_suffix(".lock")))
    monkeypatch.setenv("BYSTANDER_TRACEBACK", "1")
    for name in ("BYSTANDER_ARCHIVE", "FORCE_COLOR", "COLUMNS", "PYTHONDONTWRITEBYTECODE"):
        monkeypatch.delenv(name, raising=False)


@pytest.fixture(scope="session")
def loaded() -> Iterator[Program]:
    """The program, loaded once for many commands."""
    program = Program()
    yield program
    program.close()


def _checked(done: subprocess.CompletedProcess[str], code: int) -> subprocess.CompletedProcess[str]:
    assert done.returncode == code, f"{done.args} ended with {done.returncode}\n{done.stdout}\n{done.stderr}"
    assert "Traceback" not in done.stderr
    return done


def _environment(variables: dict[str, str]) -> dict[str, str]:
    return {**os.environ, "PYTHONIOENCODING": "utf-8", "NO_COLOR": "1", **variables}


@pytest.fixture
def run(tmp_path: Path, loaded: Program) -> Run:
    """Run the program in the test's folder; `code` is the exit code that is right."""

    def start(
        *words: str, code: int = 0, cwd: Path | None = None, **variables: str
    ) -> subprocess.CompletedProcess[str]:
        return _checked(loaded.run(words, cwd or tmp_path, _environment(variables), 240), code)

    return start


@pytest.fixture
def installed(tmp_path: Path) -> Run:
    """Run the installed script itself, loading and all; for the main ways of use, and where the start is tested."""

    def start(
        *words: str, code: int = 0, cwd: Path | None = None, **variables: str
    ) -> subprocess.CompletedProcess[str]:
        done = subprocess.run(
            [str(PROGRAM), *words], cwd=cwd or tmp_path, env=_environment(variables), capture_output=True, text=True,
            stdin=subprocess.DEVNULL, check=False, timeout=240,
        )  # fmt: skip
        return _checked(done, code)

    return start


@pytest.fixture
def running(tmp_path: Path) -> Iterator[Running]:
    """Start an observation in the test's folder and return it once its record is begun."""
    started: list[subprocess.Popen[str]] = []

    def start() -> subprocess.Popen[str]:
        process = subprocess.Popen(
            [str(PROGRAM), "observe"], cwd=tmp_path, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
        )
        started.append(process)
        assert process.stderr
        for line in process.stderr:
            if line.startswith("record "):
                return process
        raise AssertionError("the observation did not begin")

    yield start
    for process in started:
        process.kill()
        process.communicate()


@pytest.fixture
def git(tmp_path: Path) -> Callable[..., str]:
    """Run git in the test's folder, as a user without any configuration."""

    def start(*words: str, cwd: Path | None = None) -> str:
        environment = {
            **os.environ, "GIT_CONFIG_GLOBAL": os.devnull, "GIT_CONFIG_NOSYSTEM": "1",
            "GIT_AUTHOR_NAME": "A", "GIT_AUTHOR_EMAIL": "a@b.example", "GIT_COMMITTER_NAME": "A",
            "GIT_COMMITTER_EMAIL": "a@b.example",
        }  # fmt: skip
        done = subprocess.run(
            ["git", "-c", "core.hooksPath=/dev/null", *words],
            cwd=cwd or tmp_path,
            env=environment,
            capture_output=True,
            text=True,
            check=True,
        )
        return done.stdout

    return start


@pytest.fixture
def study(tmp_path: Path) -> Path:
    """A study of two shell commands that end at once, in no repository."""
    file = tmp_path / "bystander.toml"
    file.write_text(
        """
name = "two commands"
blocks = 7
seed = 11
[arms.before]
folder = "."
settings.word = "ebb"
[arms.after]
folder = "."
settings.word = "flood"
[workloads.say]
command = "echo {word}"
answer = "output"
[workloads.wait]
command = "sleep 0.01"
answer = "output"
""",
        encoding="utf-8",
    )
    return file


def pytest_runtest_makereport(item: pytest.Item, call: pytest.CallInfo[None]) -> None:
    """Fail instead of skipping where everything that tests need is meant to be there (.ci/run)."""
    if os.environ.get("BYSTANDER_SKIP_NOTHING") and call.excinfo and call.excinfo.errisinstance(pytest.skip.Exception):
        raise AssertionError(f"{item.nodeid} was skipped: {call.excinfo.value}")
