"""Arms are made apart; the user's checkout is never touched."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

import pytest
from conftest import Run

from bystander.design import Arm, ArmState, Command, Study, Workload
from bystander.errors import ArmError
from bystander.field import ArmMaker, Git, StudyFolder, folder_state

GitRun = Callable[..., str]


@pytest.fixture
def repository(tmp_path: Path, git: GitRun) -> Path:
    """A repository with a revision v1, a later change, an edit, a new file and an ignored one."""
    git("init", "-q", "-b", "main")
    (tmp_path / "program.txt").write_text("one", encoding="utf-8")
    (tmp_path / ".gitignore").write_text("ignored.txt\n", encoding="utf-8")
    (tmp_path / "run.sh").write_text("#!/bin/sh\ncat program.txt\n", encoding="utf-8")
    (tmp_path / "run.sh").chmod(0o755)
    git("add", "-A")
    git("commit", "-q", "-m", "first state")
    git("tag", "v1")
    (tmp_path / "program.txt").write_text("two", encoding="utf-8")
    git("commit", "-q", "-am", "second state")
    (tmp_path / "program.txt").write_text("three", encoding="utf-8")
    (tmp_path / "new.txt").write_text("new", encoding="utf-8")
    (tmp_path / "ignored.txt").write_text("no", encoding="utf-8")
    return tmp_path


def made(folder: Path, *arms: Arm) -> list[ArmState]:
    study = Study("s", arms, (Workload("w", "w", Command("true")),))
    maker = ArmMaker(StudyFolder(folder), os.environ)
    return [maker.make(study, arm) for arm in arms]


def test_revision_and_working_tree_are_laid_out_side_by_side(repository: Path) -> None:
    """The revision has its files, the snapshot has edits and new files but nothing ignored; paths are equally long."""
    before, after = made(repository, Arm("before", revision="v1"), Arm("after"))
    old, new = Path(before.folder), Path(after.folder)

    assert (old / "program.txt").read_text(encoding="utf-8") == "one"
    assert (new / "program.txt").read_text(encoding="utf-8") == "three"
    assert (new / "new.txt").exists()
    assert not (new / "ignored.txt").exists()
    assert not (new / ".bystander").exists()
    assert os.access(old / "run.sh", os.X_OK)
    assert len(before.folder) == len(after.folder)
    assert before.facts.subject == "first state"


def test_the_users_checkout_is_not_touched(repository: Path, git: GitRun) -> None:
    """Index, branches, stashes, worktrees, object store and status are the same before and after; hooks do not run."""

    def state() -> tuple[object, ...]:
        tree = repository / ".git"
        index = (tree / "index").read_bytes()
        objects = sorted(str(p) for p in (tree / "objects").rglob("*"))
        return index, objects, git("status", "--porcelain"), git("for-each-ref"), git("worktree", "list")

    for hook in ("post-checkout", "post-index-change", "pre-commit", "reference-transaction"):
        file = repository / ".git" / "hooks" / hook
        file.parent.mkdir(exist_ok=True)
        file.write_text(f"#!/bin/sh\ntouch '{repository}/hook-ran'\n", encoding="utf-8")
        file.chmod(0o755)
    before = state()
    made(repository, Arm("before", revision="v1"), Arm("after"))

    assert state() == before
    assert not (repository / "hook-ran").exists()


def test_a_later_edit_does_not_reach_a_snapshot(repository: Path) -> None:
    """The same state has the same key and folder; an edit makes a new one beside it."""
    (first,) = made(repository, Arm("after"))
    (again,) = made(repository, Arm("after"))
    (repository / "program.txt").write_text("four", encoding="utf-8")
    (edited,) = made(repository, Arm("after"))

    assert (first.key, first.folder) == (again.key, again.folder)
    assert edited.folder != first.folder
    assert (Path(first.folder) / "program.txt").read_text(encoding="utf-8") == "three"


def test_a_study_in_a_subfolder_runs_there(repository: Path, git: GitRun) -> None:
    """The arm's working directory is the study's folder within the checkout."""
    inner = repository / "inner"
    inner.mkdir()
    (inner / "f").write_text("x", encoding="utf-8")
    git("add", "-A")
    git("commit", "-q", "-m", "inner")
    before, after = made(inner, Arm("before", revision="HEAD"), Arm("after"))

    assert Path(before.folder).name == Path(after.folder).name == "inner"
    with pytest.raises(ArmError, match="has no folder inner"):
        made(inner, Arm("old", revision="v1"))


def test_builds_run_once_and_their_output_is_kept(repository: Path) -> None:
    """A build step runs in the arm's folder, once per key, with the arm's environment and settings."""
    arm = Arm(
        "after", build=("sh -c 'echo built {how} $FLAVOUR; date +%N >> stamps'",), settings={"how": "well"},
        environment={"FLAVOUR": "salt"},
    )  # fmt: skip
    (first,) = made(repository, arm)
    made(repository, arm)
    log = repository / ".bystander" / "arms" / f"{first.key}.build.log"

    assert len((Path(first.folder) / "stamps").read_text(encoding="utf-8").splitlines()) == 1
    assert "built well salt" in log.read_text(encoding="utf-8")


def test_a_failing_build_shows_its_last_lines_and_is_tried_again(repository: Path) -> None:
    """The message names arm, step, exit code and log; nothing half-built is used later."""
    arm = Arm("after", build=("sh -c 'echo this is why; exit 4'",))
    for _ in range(2):
        with pytest.raises(ArmError, match=r"arm after: build step .* exit code 4") as caught:
            made(repository, arm)
        assert "this is why" in str(caught.value)
    with pytest.raises(ArmError, match="exit code 127"):
        made(repository, Arm("after", build=("no-such-program",)))


def test_several_processes_make_an_arm_once(repository: Path) -> None:
    """Four processes at once: one builds, all find it ready."""
    script = (
        "import os\nfrom pathlib import Path\nfrom bystander.design import Arm, Command, Study, Workload\n"
        "from bystander.field import ArmMaker, StudyFolder\n"
        "arm = Arm('after', build=(\"sh -c 'sleep 0.2; echo x >> stamps'\",))\n"
        f"maker = ArmMaker(StudyFolder(Path({str(repository)!r})), os.environ)\n"
        "print(maker.make(Study('s', (arm,), (Workload('w', 'w', Command('true')),)), arm).folder)\n"
    )
    started = [subprocess.Popen([sys.executable, "-c", script], stdout=subprocess.PIPE, text=True) for _ in range(4)]
    folders = {process.communicate(timeout=60)[0].strip() for process in started}

    assert [process.returncode for process in started] == [0] * 4
    (folder,) = folders
    assert (Path(folder) / "stamps").read_text(encoding="utf-8") == "x\n"


def test_other_folders_are_used_where_they_lie(tmp_path: Path) -> None:
    """A folder that is not the study's own is not copied; its digest tells whether it changed."""
    (tmp_path / "old").mkdir()
    file = tmp_path / "old" / "f"
    file.write_text("x", encoding="utf-8")
    (state,) = made(tmp_path, Arm("before", folder="old"))
    file.write_text("y", encoding="utf-8")
    time.sleep(0.01)

    assert state.folder == str((tmp_path / "old").resolve())
    assert folder_state(tmp_path / "old").digest != state.facts.digest


def test_git_says_what_is_wrong(repository: Path, tmp_path_factory: pytest.TempPathFactory) -> None:
    """Unknown revisions and folders outside any repository are told, not crashed on."""
    place = StudyFolder(repository)

    assert place.revision_problem("v1") is None
    assert 'there is no revision "v7"' in (place.revision_problem("v7") or "")
    assert place.revision_problem("--upload-pack=x")
    assert Git.around(tmp_path_factory.mktemp("plain")) is None
    assert "no git repository" in (StudyFolder(tmp_path_factory.mktemp("plain2")).revision_problem("v1") or "")


def test_bystanders_folder_ignores_itself(repository: Path, git: GitRun) -> None:
    """Nothing of it shows in git status."""
    made(repository, Arm("after"))

    assert ".bystander" not in git("status", "--porcelain")


def test_an_arm_that_a_trial_changed_is_laid_out_afresh(repository: Path, run: Run) -> None:
    """A workload that writes into its own checkout is found out; the next record starts from the arm as it was."""
    seen = repository.parent / "seen"
    (repository / "bystander.toml").write_text(
        'blocks = 3\n[arms.before]\nrevision = "v1"\n[arms.after]\n'
        f'[workloads.w]\ncommand = "sh -c \'wc -l < program.txt >> {seen}; echo more >> program.txt\'"\n',
        encoding="utf-8",
    )
    said = run("observe", "--quiet").stdout
    run("check", "--plan-only")
    first = seen.read_text(encoding="utf-8").split()
    run("check")

    assert "The files of arm before changed during the observation (program.txt)" in " ".join(said.split())
    assert "The files of arm after changed" in " ".join(said.split())
    assert sorted(first)[:3] == ["0", "0", "1"]
    assert seen.read_text(encoding="utf-8").split().count("0") == 4  # laid out anew, each arm once


def test_a_workload_that_fills_its_folder_is_cut_and_told(tmp_path: Path, run: Run) -> None:
    """It ends at its limit, the other workload's readings are whole, and the files are named."""
    fill = "i=0; while :; do i=$((i+1)); head -c 100000 /dev/zero > big$i; done"
    (tmp_path / "bystander.toml").write_text(
        f"""
blocks = 2
[arms.before]
[arms.after]
settings.n = 2
[workloads.fill]
command = "sh -c '{fill}'"
limit = "200 ms"
[workloads.well]
command = "true"
""",
        encoding="utf-8",
    )
    said = run("observe", "--quiet").stdout
    rows = {row["workload"]: row for row in json.loads(run("decide", "--json").stdout)["results"] if row["primary"]}

    assert rows["fill"]["reference"] == dict.fromkeys(("median", "least", "greatest")) | {"trials": 2, "failed": 2}
    assert rows["well"]["reference"]["failed"] == rows["well"]["candidate"]["failed"] == 0
    assert "big1" in said


def test_what_may_not_be_read_or_is_gone_stands_in_nobodys_way(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """An unreadable file stands with its size and time; one that is removed while we look is not there."""
    for name in ("gone", "closed", "plain"):
        (tmp_path / name).write_text(name, encoding="utf-8")
    whole, real = folder_state(tmp_path), Path.open

    def opened(self: Path, *words: object, **named: object) -> object:
        if self.name == "gone":
            raise FileNotFoundError(2, "No such file", str(self))
        if self.name == "closed":
            raise PermissionError(13, "Permission denied", str(self))
        return real(self, *words, **named)  # type: ignore[call-overload]

    monkeypatch.setattr(Path, "open", opened)
    first = folder_state(tmp_path)
    os.utime(tmp_path / "closed", (1e9, 1e9))

    assert set(first.files) == {"closed", "plain"}
    assert first.files["plain"] == whole.files["plain"]
    assert folder_state(tmp_path).changed(first) == ("closed",)


def test_an_arm_is_filled_once_before_its_first_trial_and_again_when_resumed(run: Run, tmp_path: Path) -> None:
    """A command or a list; {arm} tells arms apart; what fails stops everything, with what it said."""
    text = (
        'blocks = 3\nstopping = "fixed"\n[arms.one]\nfolder = "."\nbefore_all = "sh fill.sh {{arm}}"\n[arms.two]\n'
        'folder = "."\nbefore_all = {two}\n[workloads.w]\ncommand = "cat ../{{arm}}.base"\nanswer = "output"\n'
    )
    (folder := tmp_path / "office").mkdir()
    (folder / "bystander.toml").write_text(text.format(two='["sh fill.sh {arm}", "sh fill.sh also"]'), encoding="utf-8")
    (folder / "fill.sh").write_text("echo filled >> ../$1.base\n", encoding="utf-8")
    run("observe", "--quiet", cwd=folder)
    filled = {name: (tmp_path / f"{name}.base").read_text("utf-8").count("filled") for name in ("one", "two", "also")}
    assert filled == {"one": 1, "two": 1, "also": 1}
    assert json.loads(run("decide", "--json", cwd=folder).stdout)["failures"] == []
    for two, said in (
        ('"sh -c \'echo no base >&2; exit 3\'"', "echo no base >&2; exit 3'\" failed (exit 3)"),
        ('"createdb-of-nobody {arm}"', 'arms.two.before_all: there is no program "createdb-of-nobody"'),
        ('"sh {base}"', "{base} is no setting"), ("3", "3 is no command"),
    ):  # fmt: skip
        (folder / "bystander.toml").write_text(text.format(two=two), encoding="utf-8")
        done = run("check", code=1 if "exit 3" in said else 2, cwd=folder)
        assert said in done.stderr
        assert ("no base" in done.stderr) == ("exit 3" in said)


def test_a_setting_called_arm_is_what_it_says(run: Run, tmp_path: Path) -> None:
    """An arm's name stands for {arm} only where nobody gave that name to something else; {reference} is none."""
    (tmp_path / "bystander.toml").write_text(
        "blocks = 1\n[arms.one]\n[arms.two]\nsettings.arm = 'of two'\n[workloads.w]\ncommand = 'echo {arm} {reach}'\n"
        "settings.reach = '1'\nsettings.arm = 'of w'\nanswer = 'output'\n[workloads.v]\ncommand = 'echo {arm}'\n",
        encoding="utf-8",
    )
    planned = " ".join(run("check", "--plan-only").stdout.split())
    assert "echo 'of w' 1" in planned
    assert "echo 'of two' 1" in planned
    assert "echo one" in planned
    (tmp_path / "bystander.toml").write_text("[arms.one]\n[workloads.w]\ncommand = 'echo {reference}'\n", "utf-8")
    assert "{reference} is no setting or input" in run("check", code=2).stderr


def test_a_file_to_wait_for_has_a_name_under_each_arm(run: Run, tmp_path: Path) -> None:
    """A setting that is empty there leaves none, which is said."""
    (tmp_path / "bystander.toml").write_text(
        "[arms.one]\nsettings.file = ''\n[workloads.w]\ncommand = 'true'\nready.file = '{file}'\n", encoding="utf-8"
    )
    assert "workloads.w.ready.file: it names no file under arm one" in run("check", code=2).stderr
