"""Copies share nothing with what they copy, and nobody's files are written through a link."""

from __future__ import annotations

import os
import socket
import stat
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from unittest.mock import patch

import pytest
from conftest import Run
from hypothesis import given, settings
from hypothesis import strategies as st

from bystander.field import KeptStates, StudyFolder, Wanted, folder_state
from bystander.field.kept import seen
from bystander.files import copy_tree

NAMES = st.sampled_from(["a", "b", "lib", "lib/a", "lib/deep", "lib/deep/b"])
KINDS = st.sampled_from(["file", "hard", "pipe", "socket", "out", "out folder", "up", "self", "in", "absolute", "gone"])


def laid_out(root: Path, things: dict[str, str]) -> Path:
    """Lay out a folder beside another one that it must leave alone; return it."""
    outside, folder = root / "outside", root / "project"
    (outside / "lib").mkdir(parents=True)
    folder.mkdir()
    for name in ("v2.py", "lib/v3.py"):
        (outside / name).write_text(f"x = {name!r}\n")
    os.utime(outside / "v2.py", (1, 1))
    (outside / "lib" / "back").symlink_to("../../project/a")
    led = {"out": "../outside/v2.py", "out folder": str(outside / "lib"), "up": "..", "self": ".", "in": "a",
           "absolute": str(folder / "a"), "gone": "nowhere"}  # fmt: skip
    for name, kind in things.items():
        path = folder / name
        with suppress(OSError):  # what stands there already is left, and circles of links are not entered
            if not path.parent.exists() and not path.parent.is_symlink():
                path.parent.mkdir(parents=True)
            if not Path(os.path.realpath(path.parent)).is_relative_to(folder) or path.is_symlink() or path.exists():
                continue
            if kind == "file":
                path.write_text("y = 1\n")
            elif kind == "hard":
                os.link(outside / "v2.py", path)
            elif kind == "pipe":
                os.mkfifo(path)
            elif kind == "socket":
                with socket.socket(socket.AF_UNIX) as one:
                    one.bind(str(path))
            elif name != led[kind]:
                path.symlink_to(led[kind])
    return folder


def told(root: Path) -> dict[str, tuple[object, ...]]:
    """Return what lies in a folder: type, mode, time, names of each file, and its content."""
    found: dict[str, tuple[object, ...]] = {}
    for path in [root, *root.rglob("*")]:
        state = path.lstat()
        content = path.read_bytes() if stat.S_ISREG(state.st_mode) else b""
        found[str(path)] = state.st_mode, state.st_mtime_ns, state.st_nlink, state.st_ino, content
    return found


@given(st.dictionaries(NAMES, KINDS, max_size=6))
@settings(max_examples=40)
def test_nothing_outside_changes_and_nothing_is_shared(things: dict[str, str]) -> None:
    """However files, links, circles of links, pipes and sockets lie there; also where the copy is written to."""
    with tempfile.TemporaryDirectory() as name:
        root = Path(os.path.realpath(name))
        folder, copy = laid_out(root, things), root / "copy"
        before = told(root / "outside") | told(folder)

        left = copy_tree(folder, copy, resolved=True)
        for path in copy.rglob("*"):
            if path.is_file():
                path.write_text("z = 3\n")
        again = root / "again"
        copy_tree(folder, again)
        copy_tree(folder, again)  # over what is there already

        assert told(root / "outside") | told(folder) == before
        for path in [*copy.rglob("*"), *again.rglob("*")]:
            mode = path.lstat().st_mode
            assert stat.S_ISREG(mode) or stat.S_ISDIR(mode) or stat.S_ISLNK(mode)
            assert not stat.S_ISREG(mode) or path.lstat().st_nlink == 1
        for path in copy.rglob("*"):
            assert not path.exists() or Path(os.path.realpath(path)).is_relative_to(copy), "a link that leads out"
        no_files = (stat.S_IFIFO, stat.S_IFSOCK)
        pipes = [path for path in folder.rglob("*") if stat.S_IFMT(path.lstat().st_mode) in no_files]
        assert {str(path.relative_to(folder)) for path in pipes} <= set(left)


def test_files_keep_mode_time_and_content(tmp_path: Path) -> None:
    """A copy is built like the original: make and the interpreter go by times."""
    (tmp_path / "a" / "deep").mkdir(parents=True)
    (tmp_path / "a" / "deep" / "run").write_text("1")
    (tmp_path / "a" / "deep" / "run").chmod(0o751)
    for path, at in ((tmp_path / "a" / "deep" / "run", 10**9), (tmp_path / "a" / "deep", 2 * 10**9)):
        os.utime(path, (at, at))

    copy_tree(tmp_path / "a", tmp_path / "b")

    state = (tmp_path / "b" / "deep" / "run").stat()
    assert (state.st_mode & 0o777, state.st_mtime) == (0o751, 10**9)
    assert (tmp_path / "b" / "deep").stat().st_mtime == 2 * 10**9


WORK = "import time\ndef wait():\n    time.sleep({seconds})\nwait()\n"


def test_a_lead_is_tried_without_a_write_through_a_link(run: Run, tmp_path: Path) -> None:
    """The arm's file is a link to shared source, with a pipe beside it: neither is harmed, and the pipe is told."""
    (tmp_path / "shared").mkdir()
    for arm, seconds in (("old", 0.01), ("new", 0.06)):
        (tmp_path / arm).mkdir()
        (tmp_path / "shared" / f"{arm}.py").write_text(WORK.format(seconds=seconds))
        (tmp_path / arm / "work.py").symlink_to(f"../shared/{arm}.py")
    os.mkfifo(tmp_path / "new" / "orders")
    (tmp_path / "bystander.toml").write_text(
        'name = "quays"\nblocks = 6\n[arms.before]\nfolder = "old"\n[arms.after]\nfolder = "new"\n'
        '[workloads.plan]\ncommand = "python3 work.py"\n'
    )
    assert "orders: no file, folder or link, and left out" in " ".join(run("observe").stderr.split())
    run("inspect", "--only", "plan", "--trials", "6", "--no-counts", "--quiet")
    before = told(tmp_path / "shared")

    said = " ".join(run("leads", "--try", "1").stdout.split())

    assert "Left out, as they are no files, folders or links: orders." in said
    assert told(tmp_path / "shared") == before
    assert not (tmp_path / "try-1" / "work.py").is_symlink()
    assert (tmp_path / ".bystander" / "states").stat().st_mode & 0o77 == 0


def program(folder: Path, rows: int) -> Path:
    """Write a program that prints how many rows it works on, always of one size and time; return its file."""
    file = folder / "work.py"
    text = f"print({rows})\n"
    (folder / "new.py").write_text(text)
    (folder / "new.py").replace(file)
    os.utime(file, (10**9, 10**9))
    return file


def test_an_edit_that_keeps_size_and_time_is_an_edit(run: Run, tmp_path: Path) -> None:
    """As `cp -p` and `rsync -t` leave files; of two that were edited no mixture is measured."""
    program(tmp_path, 1)
    (tmp_path / "data").write_text("x")
    run("observe", "--blocks", "6", "--quiet", "--", "python3", "work.py")
    program(tmp_path, 2)
    (tmp_path / "data").write_text("y")

    run("observe", "--again", "--blocks", "6", "--quiet")

    laid_out = [file.read_text() for file in (tmp_path / ".bystander" / "arms").glob("*/work.py")]
    assert sorted(laid_out) == ["print(1)\n", "print(2)\n"]
    assert "nothing was edited" in run("observe", "--again", code=1).stderr


def test_above_the_limit_what_is_known_again_is_not_read(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """By device, inode, size and both times; an edit that sets size and time back is read all the same."""
    monkeypatch.setattr(seen, "HASHED_BYTES", 10)
    file = program(tmp_path, 1)
    (tmp_path / "data").write_text("x" * 50)
    states, home = KeptStates(StudyFolder(tmp_path)), tmp_path
    later = time.time_ns() + 10**10
    with patch("time.time_ns", lambda: later):  # so that nothing is young
        first = states.take(home, Wanted())
        with patch.object(seen, "file_digest") as reading:
            assert states.take(home, Wanted()) == first
        assert not reading.called
        program(tmp_path, 2)

        second = states.take(home, Wanted())

    assert states.differing(first, second) == (file.name,)
    program(tmp_path, 3)
    states.take(home, Wanted())
    with patch.object(seen, "file_digest", wraps=seen.file_digest) as reading:
        states.take(home, Wanted())
    assert reading.called, "what is younger than two seconds is read"


@pytest.fixture
def settled(tmp_path: Path, run: Run) -> Iterator[Path]:
    """A project with a record whose one workload is slower."""
    home = tmp_path / "project"
    home.mkdir()
    (home / "bystander.toml").write_text(
        "name = 'the office'\nblocks = 8\nstopping = 'fixed'\n[arms.a]\nsettings.t = '0'\n[arms.b]\n"
        "settings.t = '0.2'\n[workloads.gauge]\ncommand = 'sleep {t}'\n"
    )
    run("observe", "--quiet", cwd=home)
    return home


ENTRY = (
    "from datetime import date\nfrom pathlib import Path\nimport sys\n"
    "from bystander.archive import Archive\nfrom bystander.design import SettledPlace\n"
    "from bystander.exchange import settled_place_text\nfrom bystander.flow.records.settled import add_settled\n"
    "archive = Path('.bystander/archive.sqlite')\nhead = Archive(archive).heads()[0]\n"
    "for n in range(int(sys.argv[2])):\n"
    "    place = f'{sys.argv[1]}-{n}'\n"
    "    entry = SettledPlace('s', 'w', place, 'f', 'try', 'x', date.min.replace(year=2026), '', '', 0.1)\n"
    "    add_settled(head, archive, lambda text: settled_place_text(text, entry))\n"
)
ROUNDS = int(os.environ.get("BYSTANDER_ROUNDS", "3"))


def test_no_entry_is_lost_where_many_settle_at_once(settled: Path) -> None:
    """Also where one of them is killed while it holds the lock."""
    (settled / "bystander.settled.toml").write_text("".join(
        f"[[place]]\nstudy = 's'\nworkload = 'w'\nplace = 'p{n}'\nfate = 'try'\nbecause = 'x'\nday = 2026-01-01\n"
        "cost = '1 ms'\n" for n in range(400)
    ))  # fmt: skip
    started = [
        subprocess.Popen([sys.executable, "-c", ENTRY, str(who), str(ROUNDS)], cwd=settled)
        for who in range(5 if ROUNDS < 10 else 20)
    ]
    doomed = subprocess.Popen(
        [sys.executable, "-c", "import sys,time\nfrom pathlib import Path\nfrom bystander.files import held_lock\n"
         "with held_lock(Path('.bystander/settled.lock')):\n    print('held', flush=True)\n    time.sleep(60)\n"],
        cwd=settled, stdout=subprocess.PIPE,
    )  # fmt: skip
    assert doomed.stdout
    assert doomed.stdout.readline() == b"held\n"
    doomed.kill()
    doomed.communicate()

    assert [one.wait(240) for one in started] == [0] * len(started)
    text = (settled / "bystander.settled.toml").read_text()
    assert text.count("[[place]]") == 400 + ROUNDS * len(started)


def test_a_copied_project_settles_beside_its_own_archive(settled: Path, run: Run) -> None:
    """And where its study was edited since, it is refused rather than guessed."""
    copy = settled.with_name("copy")
    copy_tree(settled, copy)
    words = ("settle", "gauge", "accepted", "--because", "it is meant")
    assert str(copy / "bystander.settled.toml") in run(*words, cwd=copy).stdout
    assert not (settled / "bystander.settled.toml").exists()
    assert "accepted" in run("decide", cwd=copy).stdout
    assert str(settled) not in run("decide", cwd=copy).stdout.replace(str(copy), "")
    (copy / "bystander.toml").write_text((copy / "bystander.toml").read_text() + "# edited\n")
    said = run(*words, code=2, cwd=copy).stderr
    assert f"{copy / 'bystander.toml'}, beside the archive in use, is another study" in " ".join(said.split())


def test_what_a_test_runner_caches_is_no_file_of_the_arm(tmp_path: Path) -> None:
    """It says itself that it can be made again: its folder is no change of the arm, and no part of a state."""
    program(tmp_path, 1)
    before = folder_state(tmp_path)
    (tmp_path / ".cache").mkdir()
    (tmp_path / ".cache" / "CACHEDIR.TAG").write_text("Signature: 8a477f597d28d172789f06886806bc55\n")
    (tmp_path / ".cache" / "last").write_text("x")

    assert before.changed(folder_state(tmp_path)) == ()
