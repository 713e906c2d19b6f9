"""Edit, and observe again: the folder as it was beside the folder as it stands, without a commit or a study."""

from __future__ import annotations

import json
import shutil
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from conftest import Run

from bystander.archive import Archive
from bystander.design import KeptState
from bystander.errors import ArmError, NotKeptError
from bystander.field import KeptOfRecord, KeptStates, StudyFolder, Wanted
from bystander.field.kept import states as kept_states

Git = Callable[..., str]
FEW, SEVEN = ("--fixed", "6", "--quiet"), ("--fixed", "7", "--quiet")  # two rows need seven blocks


def program(folder: Path, pause: str = "0.01", said: str = "high water 4.2") -> None:
    (folder / "tide.sh").write_text(f"sleep {pause}; echo {said}; pwd >&2\n", encoding="utf-8")


def made(folder: Path) -> Path:
    folder.mkdir()
    return folder


def head(tmp_path: Path, name: str | None = None) -> Any:
    with Archive(tmp_path / ".bystander" / "archive.sqlite") as kept:
        return kept.load(name).head


@pytest.fixture(params=["no git", "git", "below git"])
def folder(request: pytest.FixtureRequest, tmp_path: Path, git: Git) -> Path:
    """A folder in no repository, at the top of one with a commit, or below."""
    place = tmp_path / "harbour" if request.param == "below git" else tmp_path
    place.mkdir(exist_ok=True)
    program(place)
    if request.param != "no git":
        (tmp_path / ".gitignore").write_text("*.table\n", encoding="utf-8")
        git("init", "-q")
        git("add", ".")
        git("commit", "-qm", "tides")
    return place


def test_an_edit_in_place_is_held_against_what_was_observed(folder: Path, run: Run) -> None:
    """Two commands and an edit; both states in copies, their paths equally long; once more, and from the first."""
    run("observe", "--quiet", "--", "sh", "tide.sh", cwd=folder)
    nothing = run("observe", "--again", code=1, cwd=folder).stderr
    program(folder, "0.3")  # pauses so far apart that no stall of a busy machine hides it
    shown = run("observe", "--again", "--fixed", "6", cwd=folder)
    first = head(folder)
    program(folder, "0.15")
    run("observe", "--again", "--from-first", *SEVEN, cwd=folder)
    second = head(folder)
    run("report", "--to", "review.md", cwd=folder)

    assert f"nothing was edited: {folder} stands as record sh-now-1 ran it" in nothing
    assert "they differ in " in shown.stderr
    assert "tide.sh" in shown.stderr
    assert "now against last" in shown.stdout
    assert "slower" in shown.stdout
    assert "another answer" not in shown.stdout
    assert len({len(arm.folder) for arm in first.arms}) == 1
    assert all(".bystander/arms/" in arm.folder for arm in first.arms)
    assert [arm.name for arm in second.arms] == ["last", "now", "first"]
    assert [second.study.names(one) for one in second.study.comparisons] == [("last", "now"), ("first", "now")]
    rows = {(row["against"], row["arm"]): row["verdict"] for row in decided(run, folder)}
    assert rows == {("last", "now"): "faster", ("first", "now"): "slower"}
    text = (folder / "review.md").read_text(encoding="utf-8")
    assert text.count("bystander observe --again sh-again-1 --from-first --seed") == 1


def decided(run: Run, folder: Path) -> list[dict[str, Any]]:
    rows = json.loads(run("decide", "--json", cwd=folder).stdout)["results"]
    return [row for row in rows if row["primary"]]


def test_an_answer_that_changed_is_told_where_it_was_always_the_same(tmp_path: Path, run: Run) -> None:
    """What a command prints is compared when all of its trials printed it; one that prints the time is not."""
    program(tmp_path)
    run("observe", "--quiet", "--", "sh", "tide.sh")
    program(tmp_path, said="high water 5.1")
    changed = run("observe", "--again", *FEW).stdout
    program(tmp_path, said="$(date +%N)")
    run("observe", "--again", *FEW)
    program(tmp_path, "0.02", said="$(date +%N)")
    varying = run("observe", "--again", *FEW)

    assert "sh gives another answer" in changed
    for words in ((), ("--redacted",)):
        again = run("decide", "sh-again-3", *words).stdout.rpartition("bystander ")[2]
        assert again.startswith(("observe --again sh-again-2 ", "report ", "inspect "))
    assert "another answer" not in varying.stdout


def test_files_that_are_ignored_count_where_the_command_names_them(tmp_path: Path, run: Run, git: Git) -> None:
    """Named files, files below a named folder and --also are kept; other ignored ones, and outputs of ours, are not."""
    (tmp_path / ".gitignore").write_text("*.table\nbuilt\n", encoding="utf-8")
    (tmp_path / "built").mkdir()
    for name in ("north.table", "south.table", "also.table", "built/tide.sh"):
        (tmp_path / name).write_text("echo 1\n", encoding="utf-8")
    for in_git in (False, True):
        if in_git:
            git("init", "-q")
        states = KeptStates(StudyFolder(tmp_path))
        wanted = Wanted(("sh", "-c", "sh built/tide.sh --at=north.table"), ("also*",))
        before = states.take(tmp_path, wanted)
        (tmp_path / "south.table").write_text(f"echo {in_git}\n", encoding="utf-8")
        (tmp_path / "__pycache__").mkdir(exist_ok=True)
        (tmp_path / "__pycache__" / f"tide-{in_git}.pyc").write_bytes(b"written by a run")
        assert states.take(tmp_path, wanted).same_files(before)
        states.lay_out(before, laid := made(tmp_path / ".bystander" / f"laid-{in_git}"))
        found = {str(file.relative_to(laid)) for file in laid.rglob("*") if file.is_file()}
        assert found == {".gitignore", "north.table", "also.table", "built/tide.sh"}
        for name in ("north.table", "also.table", "built/tide.sh"):
            (tmp_path / name).write_text(f"echo {name} {in_git}\n", encoding="utf-8")
            after = states.take(tmp_path, wanted)
            assert states.differing(before, after)[-1] == name
            assert not after.same_files(before)
            before = after


def test_an_environment_of_python_is_used_where_it_lies(tmp_path: Path, git: Git) -> None:
    """A copy of it would not work: a state has a link to it."""
    (tmp_path / "env" / "bin").mkdir(parents=True)
    (tmp_path / "env" / "pyvenv.cfg").write_text("home = /usr\n", encoding="utf-8")
    (tmp_path / "env" / "bin" / "python").symlink_to("/usr/bin/env")
    program(tmp_path)
    for in_git in (False, True):
        if in_git:
            git("init", "-q")
        states = KeptStates(StudyFolder(tmp_path))
        state = states.take(tmp_path, Wanted(("env/bin/python", "tide.sh")))
        states.lay_out(state, laid := made(tmp_path / ".bystander" / f"laid-{in_git}"))
        assert (laid / "env").readlink() == tmp_path / "env"
        assert (laid / "tide.sh").is_file()


def test_a_folder_that_is_too_large_is_told_and_kept_when_asked(tmp_path: Path, run: Run) -> None:
    """Nothing is kept beyond the size; the observation goes on, and --again says why it cannot."""
    program(tmp_path)
    (tmp_path / "charts").write_bytes(bytes(300_000))
    said = run("observe", "--fixed", "2", "--keep", "100 KiB", "--", "sh", "tide.sh").stderr
    refused = run("observe", "--again", code=2).stderr
    assert "the state of this folder is not kept" in said
    assert "it holds 293 KiB, more than 100 KiB" in said
    assert "record sh-now-1 did not keep the state" in refused
    assert "it holds 293 KiB, more than 100 KiB" in refused
    assert "not kept" not in run("observe", "--fixed", "2", "--keep", "0", "--", "sh", "tide.sh").stderr
    assert "--keep says so" in run("observe", "--again", code=2).stderr
    assert "is no size" in run("observe", "--keep", "much", "--", "true", code=2).stderr


def test_the_home_folder_is_not_copied(tmp_path: Path, run: Run) -> None:
    """Somebody may time a command wherever the shell begins."""
    said = run("observe", "--fixed", "2", "--", "true", HOME=str(tmp_path)).stderr
    assert "it is the home folder" in said


def test_a_build_runs_in_every_state(tmp_path: Path, run: Run) -> None:
    """In the folder before each observation, and in both copies."""
    (tmp_path / "tide.in").write_text("sleep 0.01\n", encoding="utf-8")
    (tmp_path / ".gitignore").write_text("made\n", encoding="utf-8")
    step = ("--build", "sh -c 'cp tide.in made; echo built >> ../count'")
    (here := tmp_path / "here").mkdir()
    for name in ("tide.in", ".gitignore"):
        (tmp_path / name).rename(here / name)
    run("observe", *FEW, *step, "--", "sh", "made", cwd=here)
    (here / "tide.in").write_text("sleep 0.2\n", encoding="utf-8")
    shown = run("observe", "--again", *FEW, cwd=here).stdout
    assert "slower" in shown
    assert "sh made" not in run("report", cwd=here).stdout.partition("bystander observe")[2].partition("\n")[0]
    assert (tmp_path / "count").read_text(encoding="utf-8") == "built\n"
    assert len(list((here / ".bystander" / "arms").glob("count"))) == 1


def test_a_study_gives_its_candidate_and_its_reference(tmp_path: Path, run: Run, git: Git) -> None:
    """The candidate becomes last, the reference first; settings stay as they were."""
    program(tmp_path)
    git("init", "-q")
    git("add", ".")
    git("commit", "-qm", "tides")
    program(tmp_path, "$1")
    (tmp_path / "bystander.toml").write_text(
        "blocks = 7\nstopping = 'fixed'\n[arms.before]\nrevision = 'HEAD'\n[arms.after]\nfolder = '.'\n"
        "settings.pause = '0.03'\n[workloads.tide]\ncommand = 'sh tide.sh 0.03'\n[arms.late]\nfolder = '.'\n"
        "environment.LATE = '1'\n",
        encoding="utf-8",
    )
    run("observe", "--quiet")
    several = run("observe", "--again", code=2).stderr
    program(tmp_path, "0.25")
    shown = run("observe", "--again", "--candidate", "after", "--from-first", "--quiet").stdout
    found = head(tmp_path)
    assert "has several candidates, after, late; --candidate chooses one" in several
    assert 'has no arm "soon"' in run("observe", "--again", "unnamed-study-1", "--candidate", "soon", code=2).stderr
    assert [arm.name for arm in found.arms] == ["last", "now", "first"]
    assert found.study.arms[1].settings == {"pause": "0.03"}
    assert [row["verdict"] for row in decided(run, tmp_path)] == ["slower", "slower"]
    assert "now against first" in shown


def test_a_record_that_came_from_elsewhere_or_timed_nothing_is_not_run_again(tmp_path: Path, run: Run) -> None:
    """The newest that may be is taken; one that is named is refused with its reason."""
    program(tmp_path)
    assert "there is no archive" in run("observe", "--again", code=2).stderr
    run("observe", *FEW, "--", "sh", "tide.sh")
    run("records", "export", "--to", "r.json")
    run("records", "remove", "sh-now-1", "--yes")
    run("records", "import", "r.json")
    assert "nothing was observed here yet" in run("observe", "--again", code=2).stderr
    assert "was imported" in run("observe", "--again", "sh-now-1", code=2).stderr
    (tmp_path / "r.json").unlink()
    run("observe", *FEW, "--", "sh", "tide.sh")
    for file in (tmp_path / ".bystander" / "states").glob("*.json"):
        file.write_text("{}", encoding="utf-8")
    assert "kept no state of its folder" in run("observe", "--again", code=2).stderr


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("--again", "--arm", "a=b"), "--again takes its command from a record; --arm does not apply"),
        (("--again", "a", "b"), "--again takes its command from a record; a command does not apply"),
        (("--again", "--resume"), "does not apply"), (("--from-first",), "--from-first goes with --again"),
        (("--candidate", "a"), "--candidate goes with --again"), (("--given", "1"), "--given goes with --call"),
        (("--again", "--fixed", "3", "--blocks", "4"), "--fixed and --blocks are both given"),
        (("--again", "--blocks", "4", "--budget", "9 s"), "--blocks and --budget are both given"),
        (("--call", "a:b", "--", "true"), "a command and --call are both given"),
        (("--build", "make"), "--build is for a command"), (("--again", "none-1"), "holds no record yet"),
    ],
)  # fmt: skip
def test_what_does_not_go_with_again_is_said(tmp_path: Path, run: Run, words: tuple[str, ...], said: str) -> None:
    """One sentence, exit code 2."""
    (tmp_path / ".bystander").mkdir()
    Archive(tmp_path / ".bystander" / "archive.sqlite", create=True).__enter__().__exit__(None, None, None)
    assert said in run("observe", *words, code=2).stderr


def test_states_are_counted_and_go_with_their_records(tmp_path: Path, run: Run, git: Git) -> None:
    """`size` tells them, `compact` gives back what no record keeps, and a chain keeps its first state."""
    (tmp_path / "charts").write_bytes(bytes(range(256)) * 400)
    for in_git in (False, True):
        if in_git:
            git("init", "-q")
        program(tmp_path)
        run("observe", *FEW, "--", "sh", "tide.sh")
        program(tmp_path, "0.02")
        run("observe", "--again", *FEW)
        program(tmp_path, "0.03")
        assert json.loads(run("records", "size", "--json").stdout)["states_bytes"] > 5_000
        run("records", "remove", "sh-now-1", "--yes")
        run("records", "compact")
        run("observe", "--again", "--from-first", *FEW)
        assert [arm.name for arm in head(tmp_path).arms] == ["last", "now", "first"]
        run("records", "remove", "sh-again-1", "sh-again-2", "--yes")
        said = run("records", "compact").stdout
        assert "the states that its records keep take" in said
        assert json.loads(run("records", "size", "--json").stdout)["states_bytes"] == 0


def test_a_program_that_reaches_back_into_the_folder_is_refused(tmp_path: Path, run: Run) -> None:
    """Both states would run the same; it is said how each comes to its own."""
    (tmp_path / "tides.py").write_text("print(4.2)\n", encoding="utf-8")
    (tmp_path / "run.py").write_text(f"import sys\nsys.path.insert(0, {str(tmp_path)!r})\nimport tides\n", "utf-8")
    run("observe", *FEW, "--", "python3", "run.py")
    (tmp_path / "tides.py").write_text("print(4.3)\n", encoding="utf-8")
    said = run("observe", "--again", code=2).stderr
    assert "arm last opens tides.py outside its own folder" in said
    assert "Put env PYTHONPATH=. before the command" in said


def test_what_did_not_change_takes_no_room_again(tmp_path: Path) -> None:
    """Copies share the files that are the same."""
    program(tmp_path)
    (tmp_path / "charts").write_bytes(bytes(100_000))
    states = KeptStates(StudyFolder(tmp_path))
    states.take(tmp_path, Wanted())
    program(tmp_path, "0.02")
    states.take(tmp_path, Wanted())
    assert 100_000 < states.size() < 110_000


def test_a_record_that_was_interrupted_is_finished_in_the_same_states(tmp_path: Path, run: Run) -> None:
    """Also where its copies were removed: they are laid out again from what is kept."""
    program(tmp_path)
    run("observe", *FEW, "--", "sh", "tide.sh")
    program(tmp_path, "0.02")
    run("observe", "--again", *FEW)
    with Archive(tmp_path / ".bystander" / "archive.sqlite") as kept:
        uuid = kept.head(None).uuid
        kept._connection.exec_driver_sql("UPDATE record SET state = 'interrupted' WHERE name = 'sh-again-1'")
        kept._connection.exec_driver_sql("DELETE FROM trial WHERE id = (SELECT max(id) FROM trial)")
        kept._connection.commit()
    shutil.rmtree(tmp_path / ".bystander" / "arms")
    program(tmp_path, "0.04")
    run("observe", "--resume", "--quiet")
    assert head(tmp_path, uuid).complete


def test_what_is_no_list_of_states_keeps_nothing(tmp_path: Path) -> None:
    """A file of another version, or half a file, is as good as none."""
    states = KeptStates(StudyFolder(tmp_path))
    (tmp_path / ".bystander" / "states").mkdir(parents=True)
    for text in ("", "{", "[]", '{"format": "bystander-states/9"}', '{"format": "bystander-states/1", "arms": 3}'):
        (tmp_path / ".bystander" / "states" / "x.json").write_text(text, encoding="utf-8")
        assert states.of("x") is None
    for digest, inside in (("../../elsewhere", ""), ("--all", ""), ("a" * 24, "../up")):
        states.write("x", KeptOfRecord({"now": KeptState("copy", digest, inside)}))
        assert states.of("x") is None
        with pytest.raises(ArmError, match="no longer kept"):
            states.lay_out(KeptState("copy", digest, inside), tmp_path)
    states.write("x", KeptOfRecord({"now": "why"}, None, ("a*",), 5))
    assert states.of("x") == KeptOfRecord({"now": "why"}, None, ("a*",), 5)


def test_a_folder_that_cannot_be_read_is_told(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """The first file that cannot be copied is named."""
    program(tmp_path)

    def refuse(source: Path, *_: object, **__: object) -> None:
        raise PermissionError(13, "Permission denied", str(source))

    monkeypatch.setattr(kept_states, "copy_file", refuse)
    with pytest.raises(NotKeptError, match=r"it cannot be read or written: Permission denied \(.*tide.sh\)"):
        KeptStates(StudyFolder(tmp_path)).take(tmp_path, Wanted())
    assert not list((tmp_path / ".bystander" / "states").glob(".part*"))


def test_words_that_could_be_no_file_are_none(tmp_path: Path, run: Run, monkeypatch: pytest.MonkeyPatch) -> None:
    """A word too long for a name, and nobody's home, stop nothing."""
    long = "x" * 5_000
    run("observe", *FEW, "--", "sh", "-c", f"exit 0 # {long}")
    assert "nothing was edited" in run("observe", "--again", code=1).stderr

    def nobody() -> Path:
        raise RuntimeError("Could not determine home directory.")

    monkeypatch.setattr(Path, "home", nobody)
    assert KeptStates(StudyFolder(tmp_path)).take(tmp_path, Wanted((long, f"/{long}"))).how == "copy"


def test_each_arm_keeps_what_its_own_command_names(tmp_path: Path, run: Run) -> None:
    """A file that only the other arm's command names is no part of its state, now or later."""
    (tmp_path / ".gitignore").write_text("*.table\n", encoding="utf-8")
    for name in ("old.table", "new.table"):
        (tmp_path / name).write_text("4.2\n", encoding="utf-8")
    run("observe", *FEW, "--arm", "old=cat old.table", "--arm", "new=cat new.table")
    (tmp_path / "old.table").write_text("4.3\n", encoding="utf-8")
    assert "nothing was edited" in run("observe", "--again", code=1).stderr
    (tmp_path / "new.table").write_text("4.4\n", encoding="utf-8")
    assert "they differ in new.table" in " ".join(run("observe", "--again", *FEW[:2]).stderr.split())


def test_the_arms_of_a_study_in_git_are_what_git_does_not_ignore(tmp_path: Path, run: Run, git: Git) -> None:
    """Byte code that a run left there is no edit; --also does not apply, and an ignored file that is named is none."""
    program(tmp_path)
    (tmp_path / ".gitignore").write_text("*.table\n", encoding="utf-8")
    (tmp_path / "depth.table").write_text("4.2\n", encoding="utf-8")
    (tmp_path / "bystander.toml").write_text(
        "[arms.a]\nrevision = 'HEAD'\n[arms.b]\n[workloads.tide]\ncommand = 'sh tide.sh depth.table'\n", "utf-8"
    )
    git("init", "-q")
    git("add", ".")
    git("commit", "-qm", "tides")
    said = run("observe", "--fixed", "6", "--also", "*.table").stderr
    (tmp_path / "__pycache__").mkdir()
    (tmp_path / "__pycache__" / "tide.cpython-311.pyc").write_bytes(b"written by a run")
    (tmp_path / "depth.table").write_text("4.3\n", encoding="utf-8")
    assert "--also does nothing here" in said
    assert "--also does not apply" in run("observe", "--again", "--also", "*.table", code=2).stderr
    states = tmp_path / ".bystander" / "states"
    for file in states.glob("*.json"):
        file.write_text(file.read_text("utf-8").replace('"also": ["*.table"]', '"also": []'), encoding="utf-8")
    assert "nothing was edited" in run("observe", "--again", code=1).stderr


def test_states_that_cannot_be_written_down_lose_no_trial(tmp_path: Path, run: Run) -> None:
    """The observation goes on and says so; a name that is no plain one stays in the folder of states."""
    states = KeptStates(StudyFolder(tmp_path))
    states.write("../up", KeptOfRecord({"now": "why"}))
    assert states.of("../up") == KeptOfRecord({"now": "why"})
    assert not (tmp_path / ".bystander" / "up.json").exists()
    shutil.rmtree(tmp_path / ".bystander" / "states")
    (tmp_path / ".bystander" / "states").write_text("in the way", encoding="utf-8")
    said = run("observe", *FEW[:2], "--", "true").stderr
    assert "what ran cannot be written down, and --again cannot compare with it" in " ".join(said.split())
    assert head(tmp_path).complete
