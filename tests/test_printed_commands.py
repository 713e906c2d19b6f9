"""Every command that Bystander prints does what it says, as it stands, in the folder where it was printed."""

from __future__ import annotations

import html
import os
import re
import shlex
import subprocess
from pathlib import Path

import pytest
from conftest import PROGRAM, Run
from program import Program

from bystander.design import Given, command_line

PRINTED = re.compile(r"^ *(bystander .+?)$", re.M)


def printed(*texts: str) -> list[str]:
    """Return the command lines in outputs, each once."""
    return list(dict.fromkeys(line for text in texts for line in PRINTED.findall(text)))


def outputs(run: Run, folder: Path, *archive: str, record: str = "") -> list[str]:
    """Return what every command that reads a record prints of it."""
    name = [record] if record else []
    told = [
        run("decide", *name, *archive, cwd=folder).stdout, run("records", "show", *name, *archive, cwd=folder).stdout,
        run("records", "list", *archive, cwd=folder).stdout,
        run("records", "levels", *name, *archive, cwd=folder).stdout,
    ]  # fmt: skip
    for end in ("md", "html"):
        told.append(run("report", *name, "--to", f"r.{end}", *archive, cwd=folder).stdout)
        text = (folder / f"r.{end}").read_text(encoding="utf-8")
        told.append(html.unescape(re.sub(r"<[^>]+>", "\n", text)) if end == "html" else text)
    return told


def run_all(lines: list[str], folder: Path, loaded: Program) -> None:
    """Run each line as a shell would; none is wrong use, and none fails."""
    assert lines
    for line in lines:
        environment = {**os.environ, "NO_COLOR": "1", "PYTHONIOENCODING": "utf-8"}
        done = loaded.run(shlex.split(line)[1:], folder, environment, 120)
        assert done.returncode == 0, f"{line}\n{done.stdout}\n{done.stderr}"


def study(folder: Path, text: str, name: str = "bystander.toml") -> None:
    (folder / name).write_text(text, encoding="utf-8")


def test_of_the_recorded_demo(run: Run, tmp_path: Path, loaded: Program) -> None:
    """It was imported: nothing of it is to be observed, and all else works in its folder."""
    run("demo", "office", "--recorded")
    office = tmp_path / "office"
    lines = printed(*outputs(run, office))

    assert any("--trial" in line for line in lines)
    assert not any(" observe" in line or " check" in line for line in lines)
    run_all(lines, office, loaded)


def test_of_a_study_with_a_name_of_its_own(run: Run, tmp_path: Path, loaded: Program) -> None:
    """Its file, the archive and the chosen workloads are carried on, odd names quoted; also from another folder."""
    text = (
        'blocks = 4\nmargin = "90 %"\n[arms.before]\n[arms.after]\nsettings.n = 2\n'
        '[workloads."say it"]\ncommand = "echo {word} {n}"\nsettings.n = 1\ninputs.word = ["a b", "c/d"]\n'
        '[workloads.other]\ncommand = "false"\n'
    )
    study(tmp_path, text, "my study.toml")
    words = ("--study", "my study.toml", "--archive", "kept here.sqlite")
    said = run("observe", "--quiet", *words, "--only", "say it").stdout
    checked = run("check", *words, "--only", "say it", "--placebo-blocks", "0").stdout
    lines = printed(said, checked, *outputs(run, tmp_path, *words[2:]))

    assert any("observe" in line and "'my study.toml'" in line and "'kept here.sqlite'" in line for line in lines)
    assert "bystander observe --study 'my study.toml' --archive 'kept here.sqlite' --only 'say it'" in lines
    run_all([line for line in lines if "blocks" not in line or int(line.split("blocks ")[1].split()[0]) < 50],
            tmp_path, loaded)  # fmt: skip
    other = tmp_path / "elsewhere"
    other.mkdir()
    again = printed(*outputs(run, other, "--archive", "../kept here.sqlite", record="unnamed-study-1"))
    assert any("--study '../my study.toml'" in line for line in again)
    run_all([line for line in again if "blocks" not in line or int(line.split("blocks ")[1].split()[0]) < 50],
            other, loaded)  # fmt: skip


def test_of_two_commands_without_a_study(run: Run, tmp_path: Path, loaded: Program) -> None:
    """They are observed again as they were given, not as a study that is not there."""
    said = run("observe", "--quiet", "--arm", "one=sh -c 'echo {x}; sleep 0.01'", "--arm", "two=sleep 0.01", "--blocks",
               "3", "--margin", "40 %").stdout  # fmt: skip
    lines = printed(said, *outputs(run, tmp_path))
    (again, *_) = [line for line in lines if "observe" in line]

    assert "--arm 'one=sh -c '\"'\"'echo {x}; sleep 0.01'\"'\"''" in again
    run_all([re.sub(r"--blocks \d+", "--blocks 2", line) for line in lines], tmp_path, loaded)


def test_of_one_command(run: Run, tmp_path: Path, loaded: Program) -> None:
    """It is compared with another by a line that runs as it stands, and repeated as it was given."""
    said = run("observe", "--quiet", "--", "sh", "-c", "echo 'a b'").stdout
    lines = printed(said, *outputs(run, tmp_path))

    assert any("--arm 'before=sh -c " in line for line in lines)
    assert any(line.endswith("-- sh -c 'echo '\"'\"'a b'\"'\"''") for line in lines)
    few = [re.sub(r"--(fixed|blocks) \d+", r"--\1 2", line) for line in lines if "before=" not in line]
    run_all(few, tmp_path, loaded)
    run_all([line.replace(" --arm", " --blocks 2 --arm", 1) for line in lines if "before=" in line], tmp_path, loaded)


def test_an_interrupted_record_is_finished_by_what_is_printed(run: Run, tmp_path: Path) -> None:
    """With its archive, where that was given."""
    study(
        tmp_path,
        'blocks = 20\nstopping = "fixed"\n[arms.a]\n[arms.b]\nsettings.n=2\n[workloads.w]\ncommand="sleep 0.1"\n',
    )
    process = subprocess.Popen(
        [str(PROGRAM), "observe", "--archive", "k.sqlite"], cwd=tmp_path, stderr=subprocess.PIPE, text=True,
        stdout=subprocess.DEVNULL,
    )  # fmt: skip
    with process:
        assert process.stderr
        for line in process.stderr:
            if line.startswith("record "):
                break
        process.send_signal(2)
        said = process.stderr.read()
    assert process.returncode == 130
    (line,) = printed(said)
    assert line == "bystander observe --resume unnamed-study-1 --archive k.sqlite"
    assert line in run("decide", "--archive", "k.sqlite").stdout
    run(*shlex.split(line)[1:], "--quiet")


def test_nothing_is_printed_that_cannot_work(run: Run, tmp_path: Path) -> None:
    """Of an imported record nothing is observed, checked or resumed, whatever its verdicts."""
    lines = ["workload,arm,block,order,measure,value,unit,start"]
    for block in range(7):
        for arm, place in (("old", block % 2), ("new", 1 - block % 2)):
            lines.append(f"w,{arm},{block},{place},elapsed,{1 + (block * 7 % 5) / 9},s,{10 * block + 3 * place}")
    (tmp_path / "t.csv").write_text("\n".join(lines), encoding="utf-8")
    run("records", "import", "t.csv")
    told = printed(*outputs(run, tmp_path))

    assert told
    assert not any(word in line for line in told for word in (" observe", " check", "--resume"))


@pytest.mark.parametrize(
    ("words", "given", "line"),
    [
        (("decide", "r-1"), Given(), "bystander decide r-1"),
        (("decide", "r-1"), Given("s", "a b", ("x*",)), "bystander decide r-1 --archive 'a b' --only 'x*'"),
        (("observe",), Given("s.t", "k", ("x", "y")), "bystander observe --study s.t --archive k --only x --only y"),
        (("observe", "--only", "z"), Given(only=("x",)), "bystander observe --only z"),
        (("records", "list", "--archive", "m"), Given(archive="a"), "bystander records list --archive m"),
        (("new",), Given("s", "a", ("o",)), "bystander new"),
    ],
)  # fmt: skip
def test_a_command_takes_what_was_given_and_no_more(words: tuple[str, ...], given: Given, line: str) -> None:
    """Each option where its command has it, once."""
    assert command_line(*words, given=given) == line
