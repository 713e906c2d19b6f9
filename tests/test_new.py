"""`new` writes a study that is right: for what lies there, and for a function."""

from __future__ import annotations

import tomllib
from collections.abc import Callable
from pathlib import Path

import pytest
from conftest import Run

from bystander.flow.quick.found import Found, Runnable, found_in

Git = Callable[..., str]
CMAKE = "project(tide C)\nenable_testing()\nadd_executable(tide tide.c)\nadd_executable( moon moon.c)\n"
MAKE = (
    "CC = cc\nCFLAGS := -O2\n.PHONY: all test\nall: tide\ntide: tide.c\n\t$(CC) -o tide tide.c\ntest: all\n\t./tide\n"
)


@pytest.mark.parametrize(
    ("files", "found"),
    [
        ({"CMakeLists.txt": CMAKE}, Found(
            ("cmake -S . -B built -DCMAKE_BUILD_TYPE=Release", "cmake --build built"), "CMakeLists.txt", True,
            (Runnable("tide", "built/tide", "CMakeLists.txt"), Runnable("moon", "built/moon", "CMakeLists.txt")),
            (Runnable("tests", "ctest --test-dir built", "CMakeLists.txt"),))),
        ({"Makefile": MAKE}, Found(("make",), "Makefile", True, (), (Runnable("tests", "make test", "Makefile"),))),
        ({"Makefile": ".PHONY: deploy\ndeploy:\n\tscp tide harbour:\n"}, Found(("make",), "Makefile", False)),
        ({"Makefile": "clean:\n\trm -rf tide\n"}, Found(("make",), "Makefile", False)),
        ({"Makefile": "CC = cc\nX := 3\nY ::= 4\n"}, Found()),
        ({"Cargo.toml": "bin = 3\n"}, Found(
            ("cargo build --release",), "Cargo.toml", True, (),
            (Runnable("tests", "cargo test --release", "Cargo.toml"),))),
        ({"Cargo.toml": '[package]\nname = "tide"\n', "src/main.rs": ""}, Found(
            ("cargo build --release",), "Cargo.toml", True, (Runnable("tide", "target/release/tide", "Cargo.toml"),),
            (Runnable("tests", "cargo test --release", "Cargo.toml"),))),
        ({"go.mod": "module harbour.example/office/tide\n", "main.go": ""}, Found(
            ("go build -o built/tide .",), "go.mod", True, (Runnable("tide", "built/tide", "go.mod"),),
            (Runnable("tests", "go test -count=1 ./...", "go.mod"),))),
        ({"meson.build": "project('t', 'c')\nt = executable('tide', 'tide.c')\ntest('t', t)\n"}, Found(
            ("meson setup built --buildtype release", "meson compile -C built"), "meson.build", True,
            (Runnable("tide", "built/tide", "meson.build"),),
            (Runnable("tests", "meson test -C built", "meson.build"),))),
        ({"package.json": '{"name": "@port/tide", "bin": "cli.js", "scripts": {"build": "x", "test": "y"}}'}, Found(
            ("npm ci", "npm run build"), "package.json", False, (Runnable("tide", "node cli.js", "package.json"),),
            (Runnable("tests", "npm test", "package.json"),))),
        ({"pyproject.toml": '[project.scripts]\ntide = "tide.cli:run"\n[tool.pytest.ini_options]\n', "tests/t": ""},
         Found(programs=(Runnable("tide", "python3 -c 'from tide.cli import run; run()' --help", "pyproject.toml"),),
               tests=(Runnable("tests", "python3 -m pytest -q tests", "pyproject.toml"),))),
        ({"tests/test_a.py": "", "src/a.py": ""}, Found(tests=(
            Runnable("tests", "env PYTHONPATH=src python3 -m unittest discover -s tests", "tests"),))),
        ({"package.json": "[", "Cargo.toml": "=", "pyproject.toml": "[[", "go.mod": ""}, Found(
            ("cargo build --release",), "Cargo.toml", True, (),
            (Runnable("tests", "cargo test --release", "Cargo.toml"),))),
    ],
)  # fmt: skip
def test_build_files_tell_how_it_is_built_and_what_can_be_run(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, files: dict[str, str], found: Found
) -> None:
    """Nothing is run, and nonsense is read over; what is not committed is under one arm only, and does not count."""
    monkeypatch.setattr("shutil.which", lambda name: f"/usr/bin/{name}")
    for name, text in files.items():
        (tmp_path / name).parent.mkdir(exist_ok=True)
        (tmp_path / name).write_text(text, encoding="utf-8")
    assert found_in(tmp_path, lambda file: file.exists()) == found
    assert found_in(tmp_path, lambda _: False).build == ()


def test_a_study_builds_both_arms_and_passes_its_check(tmp_path: Path, run: Run, git: Git) -> None:
    """In git, where the steps only build; what else was found stands below, as comments."""
    (tmp_path / "Makefile").write_text("all:\n\tcp tide.in tide\ntest: all\n\ttrue\n", encoding="utf-8")
    (tmp_path / "tide.in").write_text("echo 4.2\n", encoding="utf-8")
    run("new")
    alone = (tmp_path / "bystander.toml").read_text(encoding="utf-8")
    for words in (("init", "-q"), ("add", "Makefile", "tide.in"), ("commit", "-qm", "x")):
        git(*words)
    run("new", "--force")
    text = (tmp_path / "bystander.toml").read_text(encoding="utf-8")
    study = tomllib.loads(text)

    assert '# build = ["make"]' in alone
    assert [arm.get("build") for arm in study["arms"].values()] == [["make"], ["make"]]
    assert '# [workloads.tests]\n# command = "make test"' in text
    run("check", "--placebo-blocks", "0")


def test_a_study_of_a_function_runs(tmp_path: Path, run: Run) -> None:
    """With its arguments, or what makes them; a package in `src` is found by both arms."""
    (tmp_path / "src").mkdir()
    (tmp_path / "src" / "tides.py").write_text(
        "def heights(port, days):\n    return [port] * days\ndef example():\n    return 'north', 3\n", encoding="utf-8"
    )
    run("new", "--call", "tides:heights", "--given", "port='north', days=3")
    study = tomllib.loads((tmp_path / "bystander.toml").read_text(encoding="utf-8"))
    assert study["workloads"]["heights"]["given"] == {"port": "north", "days": 3}
    assert study["arms"]["before"]["environment"]["PYTHONPATH"] == "src"
    run("check", "--placebo-blocks", "0")
    run("new", "--force", "--call", "tides:heights", "--make-input", "tides:example")
    run("check", "--placebo-blocks", "0")
    for words, said in (
        (("--given", "1"), "go with --call"), (("--call", "a"), 'names no callable'),
        (("--call", "a:b", "--given", "None"), "None cannot stand in a study"),
        (("--call", "a:b", "--given", "1", "--make-input", "a:c"), "are both given"),
    ):  # fmt: skip
        assert said in run("new", "--force", *words, code=2).stderr
