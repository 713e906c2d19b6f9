"""Inputs of a workload: crossed, or in tables of values that belong together."""

from __future__ import annotations

from pathlib import Path

import pytest
from conftest import Run

from bystander.design import Study, read_study
from bystander.errors import StudyError


class Nowhere:
    """A place in which everything is there."""

    def has_folder(self, path: str) -> bool:
        """Say yes."""
        return True

    def revision_problem(self, revision: str) -> str | None:
        """Find nothing wrong."""
        return None


def study(inputs: str, command: str = "echo {keys} {rounds}") -> Study:
    text = f'[arms.now]\nfolder = "."\n[workloads.sort]\ncommand = "{command}"\ninputs = {inputs}\n'
    return read_study(text, "study", Nowhere())


def test_tables_give_values_that_belong_together() -> None:
    """One workload a table, in their order; crossed lists give one for each combination."""
    listed = study("[{ keys = 1000, rounds = 3000 }, { rounds = 200, keys = 100000 }]")
    crossed = study("{ keys = [1, 2], rounds = [3, 4] }")

    assert [one.name for one in listed.workloads] == ["sort:keys=1000:rounds=3000", "sort:keys=100000:rounds=200"]
    assert [dict(one.inputs) for one in listed.workloads][1] == {"keys": "100000", "rounds": "200"}
    assert [one.name for one in crossed.workloads] == [
        "sort:keys=1:rounds=3", "sort:keys=1:rounds=4", "sort:keys=2:rounds=3", "sort:keys=2:rounds=4"
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("inputs", "path", "problem"),
    [
        ("[]", "inputs", "an empty list"), ("[3]", "inputs[0]", "is no table of values"),
        ("[{}]", "inputs[0]", "no table"),
        ("[{ keys = 1, rounds = 2 }, { keys = 1 }]", "inputs[1]", "not those of the first table (keys, rounds)"),
        ("[{ keys = [1], rounds = 2 }]", "inputs[0].keys", "is no value"),
        ("[{ keys = 1, rounds = 2 }, { keys = 1, rounds = 2 }]", "inputs[1]", "stand in an earlier table"),
        ("[{ 'a b' = 1, keys = 1, rounds = 1 }]", "inputs[0].a b", "letters, digits and _"),
        ("[{ keys = true, rounds = 2 }]", "inputs[0].keys", "is no value"), ("3", "inputs", "table"),
    ],
)  # fmt: skip
def test_wrong_inputs_are_told_with_their_place(inputs: str, path: str, problem: str) -> None:
    """The table, the key, the value, and what would be right."""
    with pytest.raises(StudyError) as told:
        study(inputs)

    assert any(f"workloads.sort.{path}" in one and problem in one for one in told.value.problems), told.value.problems


def test_a_filled_value_with_a_space_is_told(tmp_path: Path, run: Run) -> None:
    """It is one word of its command; in a shell, and in double braces, there is nothing to say."""
    (tmp_path / "bystander.toml").write_text(
        'blocks = 7\n[arms.now]\nfolder = "."\n[workloads.say]\ncommand = "echo {port} {{quay}}"\n'
        'inputs = [{ port = "north quay" }, { port = "south" }]\nsettings.quay = "a b"\n'
        '[workloads.shell]\ncommand = "echo {port}"\nshell = true\nsettings.port = "a b"\n',
        encoding="utf-8",
    )
    said = " ".join(run("check").stdout.split())

    assert '{port} of say is filled with "north quay", one word of its command.' in said
    assert said.count("one word of its command") == 1
