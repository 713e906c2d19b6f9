"""Nothing that a repository's own configuration names is run, unless its owner is trusted and the study says so."""

from __future__ import annotations

import os
import shutil
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest
from conftest import Run

from bystander.archive import Archive
from bystander.errors import ArmError, UntrustedRepositoryError
from bystander.field import Git

GitRun = Callable[..., str]
STUDY = """
blocks = 7
[arms.before]
revision = "HEAD"
[arms.after]
folder = "."
[workloads.show]
command = "cat f"
answer = "output"
"""


@pytest.fixture
def filtered(tmp_path: Path, git: GitRun) -> Path:
    """A repository whose configuration names programs in every way that git knows here; `ran` tells which ran."""
    git("init", "-q", "-b", "main")
    (tmp_path / "f").write_text("tide\n", encoding="utf-8")
    (tmp_path / ".gitattributes").write_text("f filter=tides diff=tides\n", encoding="utf-8")
    (tmp_path / ".gitignore").write_text("ran*\n", encoding="utf-8")
    git("add", "-A")
    git("commit", "-q", "-m", "one")
    (tmp_path / "f").write_text("tide, again\n", encoding="utf-8")
    touch = f"touch {tmp_path}/ran"
    for key in ("clean", "smudge", "process"):
        git("config", f"filter.tides.{key}", f"{touch}-{key}; cat")
    git("config", "core.fsmonitor", f"{touch}-monitor")
    git("config", "diff.external", f"{touch}-diff")
    git("config", "diff.tides.textconv", f"{touch}-text")
    git("config", "log.showSignature", "true")
    git("config", "gpg.program", f"{tmp_path}/ran-gpg")
    (tmp_path / "bystander.toml").write_text(STUDY, encoding="utf-8")
    return tmp_path


def ran(folder: Path) -> list[str]:
    return sorted(path.name for path in folder.glob("ran*"))


def test_filters_of_a_repository_are_refused_and_nothing_ran(filtered: Path, run: Run) -> None:
    """The sentence names the arm, the filter, the file and the key that allows it."""
    refused = run("check", code=1).stderr

    assert 'arm before: the repository\'s configuration runs a program, filter "tides", on f' in refused
    assert "filters = true" in refused
    assert ran(filtered) == []


def test_filters_run_where_the_study_says_so(filtered: Path, run: Run) -> None:
    """Then they are applied, and nothing else of the configuration is run."""
    text = STUDY.replace("[arms.before]", "[arms.before]\nfilters = true")
    text = text.replace("[arms.after]", "[arms.after]\nfilters = true")
    (filtered / "bystander.toml").write_text(text, encoding="utf-8")
    Git(filtered).run("config", "--unset", "filter.tides.process")
    said = run("check").stdout

    assert ran(filtered) == ["ran-clean", "ran-smudge"]
    assert "tide, again" in said


def test_a_filter_that_no_file_asks_for_stands_in_nobodys_way(filtered: Path, run: Run) -> None:
    """A driver in the configuration alone is no reason to refuse."""
    (filtered / ".gitattributes").write_text("other filter=tides\n", encoding="utf-8")
    Git(filtered).run("-c", "user.name=a", "-c", "user.email=a@b", "commit", "-q", "-am", "two")
    run("check")

    assert ran(filtered) == []


def test_an_arm_has_the_attributes_of_its_own_revision(filtered: Path, run: Run) -> None:
    """What the working tree says of a file now is not asked for an older state of it."""
    (filtered / ".gitattributes").write_text("", encoding="utf-8")
    refused = run("check", code=1).stderr

    assert "arm before: the repository's configuration runs a program" in refused


def test_a_submodules_filters_are_not_run(filtered: Path, git: GitRun) -> None:
    """Its state is not asked for, under a configuration that nobody looked at."""
    (filtered / ".gitattributes").unlink()
    inner = filtered / "inner"
    shutil.copytree(filtered, inner, ignore=shutil.ignore_patterns("inner"))
    (inner / ".gitattributes").write_text("f filter=tides\n", encoding="utf-8")
    git("config", "--unset", "core.fsmonitor")
    git("add", "inner", ".gitattributes")
    for path in filtered.glob("ran*"):
        path.unlink()
    os.utime(inner / "f", (1, 1))

    assert Git(filtered).snapshot(filtered / "objects")
    assert ran(filtered) == []


def test_missing_objects_are_not_fetched(filtered: Path, git: GitRun) -> None:
    """A transport of the configuration is a program too."""
    blob = git("rev-parse", "HEAD:f").strip()
    (filtered / ".git" / "objects" / blob[:2] / blob[2:]).unlink()
    git("config", "remote.origin.url", f"ext::touch {filtered}/ran-transport")
    git("config", "remote.origin.promisor", "true")
    git("config", "extensions.partialClone", "origin")
    git("config", "protocol.ext.allow", "always")
    git("config", "--remove-section", "filter.tides")
    (filtered / "out").mkdir()

    with pytest.raises(ArmError):
        Git(filtered).export_tree("HEAD", filtered / "out")
    assert ran(filtered) == []


@pytest.mark.skipif(os.getuid() != 0, reason="only root can give a folder away")
def test_a_repository_of_another_user_is_refused_until_it_is_trusted(
    filtered: Path, run: Run, monkeypatch: pytest.MonkeyPatch, tmp_path_factory: pytest.TempPathFactory
) -> None:
    """The sentence names the command that allows it; the user's own configuration is asked, and no other."""
    home = tmp_path_factory.mktemp("home")
    monkeypatch.setenv("HOME", str(home))
    monkeypatch.delenv("GIT_CONFIG_GLOBAL", raising=False)
    monkeypatch.delenv("XDG_CONFIG_HOME", raising=False)
    for place in (filtered, filtered / ".git"):
        os.chown(place, 65534, -1)
    with (filtered / ".git" / "config").open("a") as file:
        file.write(f'[safe]\n\tdirectory = "{filtered}"\n')  # nobody's word but its own

    refused = run("check", code=1).stderr.strip()
    with pytest.raises(UntrustedRepositoryError):
        Git.around(filtered)
    words = refused[refused.index("git config") :]
    in_place = run("observe", "--", "true")
    subprocess.run(words, shell=True, check=True)
    allowed = run("check", code=1).stderr

    assert f"the repository {filtered} belongs to nobody" in refused
    assert words == f"git config --global --add safe.directory {filtered}"
    assert "belongs to" not in in_place.stderr
    assert "filters = true" in allowed
    assert ran(filtered) == []


def test_git_is_not_taken_from_a_relative_place(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, git: GitRun) -> None:
    """A place on the path that begins in the folder that is looked into could be anybody's."""
    git("init", "-q")
    (tmp_path / "git").write_text(f"#!/bin/sh\ntouch {tmp_path}/ran\n", encoding="utf-8")
    (tmp_path / "git").chmod(0o755)
    monkeypatch.setenv("PATH", f".:{os.environ['PATH']}")

    assert Git.around(tmp_path)
    assert ran(tmp_path) == []


@pytest.fixture
def behind(tmp_path: Path, git: GitRun, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A repository with a large file that the user's own configuration keeps elsewhere; git has what points to it."""
    home = tmp_path / "project"
    home.mkdir()
    (tmp_path / "own").write_text("")
    monkeypatch.setenv("GIT_CONFIG_GLOBAL", str(tmp_path / "own"))
    for way, line in (("clean", f"tee {tmp_path}/large | sha256sum | head -c 8"), ("smudge", f"cat {tmp_path}/large")):
        (tmp_path / way).write_text(f"#!/bin/sh\necho {way} >> {tmp_path}/ran\n{line}\n")
        (tmp_path / way).chmod(0o755)
        own(tmp_path, f"filter.big.{way}", str(tmp_path / way))
    git("init", "-q", "-b", "main", cwd=home)
    (home / ".gitattributes").write_text("*.dat filter=big\n")
    (home / "charts.dat").write_bytes(b"tide" * 5000)
    settings = [word for way in ("clean", "smudge") for word in ("-c", f"filter.big.{way}={tmp_path / way}")]
    git(*settings, "add", "-A", cwd=home)
    git("commit", "-q", "-m", "one", cwd=home)
    (home / "bystander.toml").write_text(STUDY.replace("cat f", "wc -c charts.dat"))
    return home


def own(folder: Path, name: str, value: str) -> None:
    """Set a key of the user's own configuration."""
    subprocess.run(["git", "config", "--file", str(folder / "own"), name, value], check=True)


def test_the_users_own_filters_run_when_an_arm_is_laid_out(behind: Path, run: Run, git: GitRun) -> None:
    """Both arms hold the file, not its pointer, also when it was touched; the repository's own value does not count."""
    os.utime(behind / "charts.dat", (1, 1))
    git("config", "filter.big.smudge", f"touch {behind.parent}/theirs", cwd=behind)
    before = [(behind / ".git" / "index").read_bytes(), git("status", "--porcelain=v2", "--branch", cwd=behind)]
    said = run("observe", "--fixed", "6", cwd=behind).stdout

    with Archive(behind / ".bystander" / "archive.sqlite") as archive:
        arms = archive.heads()[0].arms
    assert [(Path(arm.folder) / "charts.dat").read_bytes() for arm in arms] == [b"tide" * 5000] * 2
    assert "faster" not in said.partition("< faster")[0].replace("slower", "")
    assert not (behind.parent / "theirs").exists()
    assert [(behind / ".git" / "index").read_bytes(), git("status", "--porcelain=v2", "--branch", cwd=behind)] == before
    own(behind.parent, "filter.big.smudge", f"{behind.parent / 'smudge'} anew")
    run("check", cwd=behind)
    assert len(list((behind / ".bystander" / "arms").glob("*.ready"))) == 2 * len(arms)


def test_a_key_that_only_the_repository_gives_is_refused(behind: Path, run: Run, git: GitRun) -> None:
    """Also for a filter that the user's configuration names otherwise."""
    git("config", "filter.big.process", f"touch {behind.parent}/theirs", cwd=behind)
    refused = run("check", cwd=behind, code=1).stderr

    assert 'runs a program, filter "big", on charts.dat' in refused
    assert not (behind.parent / "theirs").exists()


def test_a_filter_that_fails_or_is_missing_is_told(behind: Path, run: Run) -> None:
    """With the file, the filter and its last line; never is what stands for a file taken for it."""
    (behind.parent / "smudge").write_text("#!/bin/sh\necho 'no such chart' >&2\nexit 3\n")
    failed = run("check", cwd=behind, code=1).stderr
    (behind.parent / "own").write_text("")
    (behind / "charts.dat").touch()
    missing = " ".join(run("check", cwd=behind, code=1).stderr.split())

    assert 'arm before: filter "big" of your configuration of git failed on charts.dat (smudge): no such' in failed
    assert 'charts.dat differs between the arms, and is meant for filter "big"' in missing
    assert "set filter.big.clean and .smudge" in missing
