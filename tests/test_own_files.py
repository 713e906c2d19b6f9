"""Each arm runs its own files, or is refused; what is no part of an arm does not count as one."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest
from conftest import PROGRAM, Run

from bystander.field import CannotWatchError, Git, Openings, source_of

LOOP = """
def turn():
    total = 0
    for step in range({count}):
        total += step % 7
    return total

def main():
    print(turn() > 0)
"""
STUDY = """
blocks = 7
seed = 5
margin = "20 %"
[arms.before]
revision = "HEAD"
{before}
[arms.after]
folder = "."
{after}
[workloads.turn]
command = "{python} {words}"
"""

IMPORT = "-c 'import sluice; sluice.main()'"


@pytest.fixture
def package(tmp_path: Path, git: Callable[..., str]) -> Callable[..., Path]:
    """A repository with a package in `src`, installed in editable form; HEAD against an edit that loops four times."""

    def lay(before: str = "", after: str = "", python: str = "", words: str = IMPORT) -> Path:
        (tmp_path / "src" / "sluice").mkdir(parents=True, exist_ok=True)
        core = tmp_path / "src" / "sluice" / "__init__.py"
        core.write_text(LOOP.format(count=300_000), encoding="utf-8")
        (tmp_path / "pyproject.toml").write_text('[project]\nname = "sluice"\nversion = "1"\n', encoding="utf-8")
        if not (tmp_path / ".git").exists():
            for line in (("init", "-q"), ("add", "-A"), ("commit", "-q", "-m", "x")):
                git(*line)
        core.write_text(LOOP.format(count=2_400_000), encoding="utf-8")
        interpreter = tmp_path.with_name(tmp_path.name + "-python")
        # An interpreter whose site holds the editable installation, as the user's own environment does.
        interpreter.write_text(
            f"#!/bin/sh\nexport PYTHONPATH=\"$PYTHONPATH${{PYTHONPATH:+:}}{tmp_path / 'src'}\"\n"
            f"exec {sys.executable} \"$@\"\n", encoding="utf-8",
        )  # fmt: skip
        interpreter.chmod(0o755)
        text = STUDY.format(before=before, after=after, python=python or interpreter, words=words)
        (tmp_path / "bystander.toml").write_text(text, encoding="utf-8")
        return tmp_path

    return lay


def verdict(run: Run) -> tuple[str, float]:
    """Observe, and return the verdict and ratio of the only row."""
    run("observe", "--quiet")
    (row,) = [row for row in json.loads(run("decide", "--json").stdout)["results"] if row["primary"]]
    return row["verdict"], row["ratio"]


def test_an_editable_installation_is_refused(run: Run, package: Callable[..., Path]) -> None:
    """Both arms would run the user's folder: check and observe end with 2, with the file and how to mend it."""
    folder = package()
    for words in (("check",), ("observe", "--quiet")):
        said = run(*words, code=2).stderr
        assert "arm before opens src/sluice/__init__.py outside its own folder" in said
        assert "(build)" in said
        assert 'arms.before.environment.PYTHONPATH = "src"' in said
        assert 'shared_files = ["src/sluice/__init__.py"]' in said
    run("observe", "--quiet", code=2)  # byte-code is there now, and the source is not even opened
    assert list((folder / "src" / "sluice" / "__pycache__").glob("*.pyc"))
    assert json.loads(run("records", "list", "--json").stdout) == []


PATH = 'environment.PYTHONPATH = "src"'
BUILD = f'build = ["{sys.executable} -m zipapp src -o turn.pyz -m sluice:main"]'
SITE = f"own/lib/python{sys.version_info[0]}.{sys.version_info[1]}/site-packages"
OWN = f'build = ["{sys.executable} -m venv --without-pip own", "sh -c \'echo $PWD/src > {SITE}/x.pth\'"]'


def test_a_path_variable_mends_it(run: Run, package: Callable[..., Path]) -> None:
    """Each arm's own `src` comes first: the edit is found to be slower."""
    package(PATH, PATH)
    word, ratio = verdict(run)

    assert word == "slower"
    assert ratio > 1.5


def test_a_build_mends_it(run: Run, package: Callable[..., Path]) -> None:
    """Each arm is put together in its own folder, and runs what was."""
    package(BUILD, BUILD, words="turn.pyz")
    word, ratio = verdict(run)

    assert word == "slower"
    assert ratio > 1.5


def test_an_environment_of_its_own_mends_it(run: Run, package: Callable[..., Path]) -> None:
    """Each arm makes a virtual environment, into which it is installed, and runs that one's interpreter."""
    package(OWN, OWN, python="own/bin/python")
    word, ratio = verdict(run)

    assert word == "slower"
    assert ratio > 1.5


def test_an_absolute_path_is_refused_and_data_may_be_shared(run: Run, tmp_path: Path, git: Callable[..., str]) -> None:
    """A program by its full path is the user's own in both arms; data that is named may be."""
    (tmp_path / "data").mkdir()
    (tmp_path / "data" / "tides.csv").write_text("1\n2\n", encoding="utf-8")
    for words in (("init", "-q"), ("add", "-A"), ("commit", "-q", "-m", "x")):
        git(*words)
    text = (
        '{top}\nblocks = 2\n[arms.before]\nrevision = "HEAD"\n[arms.after]\nenvironment.N = "2"\n'
        f'[workloads.w]\ncommand = "cat {tmp_path}/data/tides.csv"\n'
    )
    (tmp_path / "bystander.toml").write_text(text.format(top=""), encoding="utf-8")
    assert "opens data/tides.csv outside its own folder" in run("check", code=2).stderr
    (tmp_path / "bystander.toml").write_text(text.format(top='shared_files = ["data/*.csv"]'), encoding="utf-8")
    run("check", "--placebo-blocks", "0")
    (tmp_path / "bystander.toml").write_text(text.format(top='shared_files = ["/etc/*"]'), encoding="utf-8")
    assert "leads out of the folder" in run("check", code=2).stderr


def test_another_arms_folder_is_not_its_own_either(run: Run, tmp_path: Path) -> None:
    """Of two folders used where they lie, one arm that opens the other's file is refused."""
    for name in ("old", "new"):
        (tmp_path / name).mkdir()
        (tmp_path / name / "go.sh").write_text(f"echo {name}\n", encoding="utf-8")
    text = '[arms.before]\nfolder = "old"\n[arms.after]\nfolder = "new"\n[workloads.w]\ncommand = "sh {path}go.sh"\n'
    (tmp_path / "bystander.toml").write_text(text.replace("{path}", "../old/"), encoding="utf-8")
    assert "arm after opens go.sh outside its own folder" in run("check", code=2).stderr
    (tmp_path / "bystander.toml").write_text(text.replace("{path}", ""), encoding="utf-8")
    run("check", "--placebo-blocks", "0")


def test_where_nothing_can_be_watched_that_is_said(run: Run, package: Callable[..., Path]) -> None:
    """The kernel gives no more instances: the check goes on, and says what it could not see."""
    package(PATH, PATH)
    limit = Path("/proc/sys/fs/inotify/max_user_instances")
    before = limit.read_text(encoding="ascii")
    try:
        limit.write_text("0", encoding="ascii")
    except OSError:
        pytest.skip("the limit cannot be set here")
    try:
        said = run("check", "--placebo-blocks", "0").stdout
    finally:
        limit.write_text(before, encoding="ascii")

    assert "Whether each arm opens its own files only could not be watched" in " ".join(said.split())


def test_openings_are_those_of_files_in_the_folders(tmp_path: Path) -> None:
    """Reading, writing and running count, directories do not; byte-code stands for its source."""
    (tmp_path / "sub").mkdir()
    (tmp_path / "a.py").write_text("", encoding="utf-8")
    with Openings([tmp_path]) as openings:
        list((tmp_path / "sub").iterdir())
        assert openings.seen() == set()
        (tmp_path / "a.py").read_bytes()
        (tmp_path / "sub" / "b").write_bytes(b"")
        assert openings.seen() == {tmp_path / "a.py"}
        assert openings.seen() == set()
    with pytest.raises(CannotWatchError, match="too many"), Openings([tmp_path] * 20_001):
        pass
    cached = tmp_path / "__pycache__" / "a.cpython-311.pyc"
    assert source_of(cached) == tmp_path / "a.py"
    assert source_of(tmp_path / "__pycache__" / "gone.cpython-311.pyc").suffix == ".pyc"


# ---- what is no part of an arm -------------------------------------------------------------------------------------


def test_what_bystander_writes_is_no_change_of_the_arm(tmp_path: Path) -> None:
    """Output and errors led into a folder that is used where it lies: nothing changed, and it can be resumed."""
    (tmp_path / "bystander.toml").write_text(
        'blocks = 3\n[arms.a]\n[arms.b]\nsettings.n = 2\n[workloads.w]\ncommand = "true"\n', encoding="utf-8"
    )
    for _ in range(2):
        done = subprocess.run(
            f"'{PROGRAM}' observe --archive kept.sqlite > said.txt 2> errors.txt", shell=True, cwd=tmp_path,
            check=False, env={**os.environ, "NO_COLOR": "1"},
        )  # fmt: skip
        said = (tmp_path / "said.txt").read_text(encoding="utf-8")
        assert done.returncode == 0
        assert "changed during the observation" not in said


def test_what_changed_is_named_file_by_file_and_can_be_left_out(run: Run, tmp_path: Path) -> None:
    """Each file by its name; with the key that is printed, the next observation says nothing of them."""
    text = (
        "{top}\nblocks = 2\n[arms.a]\n[arms.b]\nsettings.n = 2\n"
        "[workloads.w]\nshell = true\ncommand = 'date +%N > log-1; date +%N > log-2'\n"
    )
    (tmp_path / "bystander.toml").write_text(text.format(top=""), encoding="utf-8")
    said = " ".join(run("observe", "--quiet").stdout.split())
    key = said[said.index("written_files") : said.index("]", said.index("written_files")) + 1]
    (tmp_path / "bystander.toml").write_text(text.format(top=key), encoding="utf-8")
    again = run("observe", "--quiet").stdout

    assert "changed during the observation (log-1, log-2)" in said
    assert key == 'written_files = ["log-1", "log-2"]'
    assert "changed during" not in again


def test_arms_that_are_the_same_thing_are_told_loudly(run: Run, tmp_path: Path, git: Callable[..., str]) -> None:
    """By check and observe; a new study in a clean tree says that there is nothing to compare yet."""
    (tmp_path / "a.txt").write_text("x", encoding="utf-8")
    for words in (("init", "-q"), ("add", "-A"), ("commit", "-q", "-m", "x")):
        git(*words)
    assert "There is nothing to compare yet" in run("new").stdout
    text = '[arms.before]\nrevision = "HEAD"\n[arms.after]\nfolder = "."\n[workloads.w]\ncommand = "true"\n'
    (tmp_path / "bystander.toml").write_text(text, encoding="utf-8")
    git("add", "-A")
    git("commit", "-q", "-m", "study")
    told = "THE ARMS before AND after ARE THE SAME THING"
    assert told in " ".join(run("check", "--placebo-blocks", "0").stdout.split())
    assert told in " ".join(run("observe", "--blocks", "2").stderr.split())
    (tmp_path / "a.txt").write_text("y", encoding="utf-8")
    assert "THE SAME THING" not in run("check", "--placebo-blocks", "0").stdout
    assert "nothing to compare" not in run("new", "--force").stdout
    quick = ("observe", "--arm", "one=true", "--arm", "two=true", "--blocks", "2")
    assert "THE ARMS one AND two ARE THE SAME THING" in run(*quick).stderr


def test_an_edit_within_the_second_of_the_last_commit_is_seen(tmp_path: Path, git: Callable[..., str]) -> None:
    """Of the same size and the same second: only the time of git's index tells that the file must be read."""
    then = (1_700_000_000, 1_700_000_000)
    file = tmp_path / "a.txt"
    file.write_text("x", encoding="utf-8")
    os.utime(file, then)
    for words in (("init", "-q"), ("config", "core.trustctime", "false"), ("add", "-A"), ("commit", "-q", "-m", "x")):
        git(*words)
    file.write_text("y", encoding="utf-8")
    os.utime(file, then)
    os.utime(tmp_path / ".git" / "index", then)
    repository = Git(tmp_path)

    assert repository.snapshot(tmp_path / "objects") != repository.tree_of("HEAD")


def test_a_floor_goes_with_its_workload(run: Run, tmp_path: Path) -> None:
    """Chosen by --only, a workload keeps what it stands on."""
    (tmp_path / "bystander.toml").write_text(
        'blocks = 2\n[arms.a]\n[arms.b]\nsettings.n = 2\n[workloads.w]\ncommand = "sleep 0.01"\nfloor = "start"\n'
        '[workloads.start]\ncommand = "true"\n[workloads.other]\ncommand = "true"\n',
        encoding="utf-8",
    )
    run("observe", "--quiet", "--only", "w")
    document = json.loads(run("decide", "--json").stdout)

    assert {row["workload"] for row in document["results"] if row["primary"]} == {"w", "start"}
    assert any(row["measure"] == "above_floor" for row in document["results"])


@pytest.mark.skipif(os.geteuid() != 0, reason="mounting needs root")
def test_a_read_only_folder_is_observed_into_an_archive_elsewhere(
    run: Run, tmp_path: Path, git: Callable[..., str]
) -> None:
    """Arms are laid out beside that archive; check and decide work there too, and nothing is written to the folder."""
    locked, kept = tmp_path / "locked", tmp_path / "kept"
    for folder in (locked, kept):
        folder.mkdir()
    (locked / "go.sh").write_text("sleep 0.01\n", encoding="utf-8")
    (locked / "bystander.toml").write_text(
        'blocks = 2\n[arms.a]\nrevision = "HEAD"\n[arms.b]\nsettings.n = 2\n[workloads.w]\ncommand = "sh go.sh"\n',
        "utf-8",
    )
    for words in (("init", "-q"), ("add", "-A"), ("commit", "-q", "-m", "x")):
        git(*words, cwd=locked)
    before = sorted(locked.rglob("*"))
    if subprocess.run(["mount", "--bind", str(locked), str(locked)], check=False).returncode:
        pytest.skip("nothing can be mounted here")
    archive = ("--archive", str(kept / "a.sqlite"))
    try:
        subprocess.run(["mount", "-o", "remount,bind,ro", str(locked)], check=True)
        run("check", "--placebo-blocks", "0", *archive, cwd=locked)
        run("observe", "--quiet", *archive, cwd=locked)
        document = json.loads(run("decide", "--json", *archive, cwd=locked).stdout)
    finally:
        subprocess.run(["umount", str(locked)], check=True)

    assert document["complete"]
    assert not document["failures"]
    assert sorted(locked.rglob("*")) == before
    assert (kept / ".bystander" / "arms").is_dir()
    shutil.rmtree(kept)
