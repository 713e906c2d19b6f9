"""The worked examples run as they stand; signs of a build that nobody runs in real life are told."""

from __future__ import annotations

import json
import shutil
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest
from conftest import Run

from bystander.field import build_signs, command_signs, environment_signs, program_signs

EXAMPLES = Path(__file__).parents[1] / "examples"
STUDIES = sorted(str(path.relative_to(EXAMPLES)) for path in EXAMPLES.glob("[!p]*/*.toml"))  # not pipeline/
C = "#ifdef CHECK\n#include <assert.h>\n#else\n#define assert(x)\n#endif\n" + (
    "int main(int n, char **v) { int s = 0; for (int i = 0; i < n * 100; i++) s += i; assert(s >= 0); return s > 1e9; }"
)


@pytest.mark.parametrize("study", STUDIES)
def test_an_example_runs_as_it_stands(run: Run, git: Callable[..., str], tmp_path: Path, study: str) -> None:
    """Arms are built, every trial ends well, and no arm answers otherwise."""
    if study.startswith("c-builds") and not shutil.which("make"):
        pytest.skip("make and a C compiler are not here")
    shutil.copytree((EXAMPLES / study).parent, tmp_path, dirs_exist_ok=True)
    for words in (("init", "-q"), ("add", "-A"), ("commit", "-q", "-m", "x")):
        git(*words)
    name = Path(study).name
    checked = json.loads(run("check", "--study", name, "--placebo-blocks", "0", "--json").stdout)
    run("observe", "--quiet", "--study", name, "--blocks", "1")
    document = json.loads(run("decide", "--json").stdout)

    assert {trial["status"] for trial in checked["trials"]} == {"ok"}
    assert checked["other_answers"] == []
    assert not any("optimis" in remark for remark in checked["remarks"])
    assert document["complete"]
    assert document["failures"] == []
    assert len(STUDIES) == 5


def test_a_build_is_made_once(run: Run, git: Callable[..., str], tmp_path: Path) -> None:
    """The second command takes what the first one built; another step is another build."""
    study = tmp_path / "bystander.toml"
    log = tmp_path.with_suffix(".built")
    text = f'[arms.a]\nbuild = ["sh -c \'echo built >> {log}\'"]\n[workloads.w]\ncommand = "true"\n'
    study.write_text(text, encoding="utf-8")
    for words in (("init", "-q"), ("add", "-A"), ("commit", "-q", "-m", "x")):
        git(*words)
    for _ in range(2):
        run("observe", "--quiet", "--blocks", "3")
    assert log.read_text(encoding="utf-8").count("built") == 1

    study.write_text(text.replace("'\"]", " '\"]"), encoding="utf-8")
    run("observe", "--quiet", "--blocks", "3")
    assert log.read_text(encoding="utf-8").count("built") == 2


@pytest.mark.parametrize(
    ("options", "clause"),
    [
        (["-g", "-O0"], "without optimisation"),
        (["-g"], "without optimisation"),
        (["-g", "-O2"], ""),
        (["-O2"], ""),
        (["-O2", "--coverage"], "coverage"),
        (["-O2", "-DCHECK"], "assertions"),
        (["-O2", "-DCHECK", "-DNDEBUG"], ""),
    ],
)
def test_compiled_programs_are_looked_at(tmp_path: Path, options: list[str], clause: str) -> None:
    """What the compiler wrote down is found, and an optimised program is not accused."""
    compiler = shutil.which("gcc")
    if compiler is None:
        pytest.skip("gcc is not here")
    (tmp_path / "p.c").write_text(C, encoding="ascii")
    subprocess.run([compiler, *options, "-o", "p", "p.c"], cwd=tmp_path, check=True)
    found = " ".join(program_signs(str(tmp_path / "p")))

    assert bool(found) == bool(clause)
    assert clause in found


def test_sanitizers_are_found_by_their_names(tmp_path: Path) -> None:
    """A script and a missing file say nothing."""
    (tmp_path / "p").write_bytes(b"\x7fELF....__asan_init....")
    (tmp_path / "s").write_text("#!/bin/sh\n# __asan_init\n", encoding="ascii")

    assert "sanitizer" in program_signs(str(tmp_path / "p"))[0]
    assert program_signs(str(tmp_path / "s")) == program_signs(str(tmp_path / "none")) == ()
    assert program_signs(sys.executable) == ()


@pytest.mark.parametrize(
    ("step", "doubtful"),
    [
        ("make CFLAGS='-g -O0'", True), ("cmake -DCMAKE_BUILD_TYPE=Debug .", True), ("cargo build", True),
        ("cc -fsanitize=address x.c", True), ("cc --coverage x.c", True), ("./configure --with-pydebug", True),
        ("cargo build --release", False), ("cmake -DCMAKE_BUILD_TYPE=Release .", False), ("make -O", False),
        ("make", False), ("cc -O2 x-O0.c", False), ("make OPT=-O0", True), ("make X='-O0 -g'", True),
        ("make OPT=-O2", False), ("rustc x.rs", True), ("rustc -C opt-level=0 x.rs", True), ("rustc -O x.rs", False),
        ("rustc -C opt-level=3 x.rs", False), ("cargo b", True), ("cargo b -r", False), ("make debug", True),
        ("make -C debug-tools all", False), ("make BUILD=debug", True), ("npm run build -- --mode development", True),
        ("dotnet build -c Debug", True), ("dotnet build -c Release", False), ("gcc -o p p.c", True),
        ("gcc -o p p.o", False), ("g++ -Ofast -o p p.cpp", False), ("rustc --version", False),
        ("python debug.py", False),
    ],
)  # fmt: skip
def test_build_steps_are_looked_at(step: str, doubtful: bool) -> None:
    """Only what is a debug build by its words."""
    assert bool(build_signs([step])) == doubtful


def test_commands_and_environments_are_looked_at() -> None:
    """Watchers and switches, not look-alikes."""
    assert "-X dev" in command_signs(["python3", "-X", "dev", "x.py"])[0]
    assert "-m trace" in command_signs(["python3", "-m", "trace", "x.py"])[0]
    assert command_signs(["python3", "-m", "tracebook"]) == []
    assert environment_signs({"PYTHONDEVMODE": "1", "LD_PRELOAD": "", "PYTHONMALLOC": "pymalloc"}) == [
        "PYTHONDEVMODE is set: the interpreter runs in development mode"
    ]
    assert command_signs(["python3", "-X", "utf8", "x.py"]) == []
    assert "watches itself" in environment_signs({"PYTHONTRACEALL": "5"})[0]
    assert environment_signs({"PYTHONMALLOC": "debug"}) == ["PYTHONMALLOC asks for the debugging allocator"]


def test_doubts_name_the_arm_that_is_meant(run: Run, tmp_path: Path) -> None:
    """In check and before an observation; what holds for all arms is said once."""
    (tmp_path / "bystander.toml").write_text(
        f'[arms.before]\n[arms.after]\nenvironment.PYTHONASYNCIODEBUG = "1"\n'
        f'[workloads.w]\ncommand = "{sys.executable} -X dev -c pass"\n',
        encoding="utf-8",
    )
    told = " ".join(run("check", "--placebo-blocks", "0").stdout.split())

    assert "Under arm after only: PYTHONASYNCIODEBUG is set: event loops run in debug mode." in told
    assert told.count("w: -X dev changes what the interpreter does.") == 1
