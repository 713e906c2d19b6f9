"""A study is read strictly: everything that is wrong with it is told at once, one sentence each."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from bystander.design import Command, plain, read_study, study_from_plain
from bystander.design.studies.study import Study
from bystander.errors import StudyError

GOOD = """
name = "tide tables"
margin = "2 %"
risk = "1 %"
blocks = 12
measure = "cpu"
seed = 4
keep_environment = ["TERM"]
[arms.before]
revision = "v1"
environment.TZ = "UTC"
settings.table = "series"
build = ["make -j 2"]
[arms.after]
folder = "."
settings.table = "lookup"
command.year = "python new.py {port} {table}"
[workloads.year]
command = "python -m tidebook {port} {table}"
inputs.port = ["north", "south"]
settings.depth = 3
limit = "30 s"
output = "4 MiB"
memory = "1 GiB"
before_each = "prepare {port}"
answer = "output"
weight = 40
[workloads.start]
command = "python -m tidebook version"
answer = "exit code"
shell = true
"""


class Here:
    """A place with the folder "." and the revision v1."""

    def has_folder(self, path: str) -> bool:
        """Whether it is "."."""
        return path == "."

    def revision_problem(self, revision: str) -> str | None:
        """Anything but v1 is a problem."""
        return None if revision == "v1" else f'there is no revision "{revision}" here'


def read(text: str) -> Study:
    return read_study(text, "bystander.toml", Here())


def problems(text: str) -> tuple[str, ...]:
    with pytest.raises(StudyError) as caught:
        read(text)
    return caught.value.problems


def test_a_study_is_read_with_units_and_inputs() -> None:
    """Every key arrives, and inputs make one workload each."""
    study = read(GOOD)
    north, south, start = study.workloads

    assert (study.margin, study.risk, study.blocks, study.measure, study.seed) == (0.02, 0.01, 12, "cpu", 4)
    assert [w.name for w in study.workloads] == ["year:port=north", "year:port=south", "start"]
    assert (north.limit_s, north.answer, north.weight, dict(north.settings)) == (
        30,
        "output",
        40,
        {"depth": "3"},
    )
    assert (north.output_bytes, north.memory_bytes) == (4 * 2**20, 2**30)
    assert (start.output_bytes, start.memory_bytes) == (256 * 2**20, None)
    assert (north.steps, start.steps) == ({"before_each": "prepare {port}"}, {})
    arm = study.arms[1]
    assert arm.values_for(south) == {"arm": arm.name, "depth": "3", "table": "lookup", "port": "south"}
    assert study.arms[1].command_for(north).startswith("python new.py")
    assert study.arms[1].command_for(start) == "python -m tidebook version"
    assert study.planned_rows == 3
    assert isinstance(start.what, Command)
    assert start.what.shell


def test_a_study_survives_being_stored() -> None:
    """What the archive keeps becomes the same study again."""
    study = read(GOOD)

    assert study_from_plain(plain(study)) == study


def broken(old: str, new: str) -> str:
    assert old in GOOD
    return GOOD.replace(old, new, 1)


@pytest.mark.parametrize(
    ("text", "path", "clause"),
    [
        (broken("margin =", "margn ="), "margn", 'did you mean "margin"?'),
        (broken("blocks = 12", "zebra = 12"), "zebra", "known keys are"),
        (broken('"2 %"', '"2 mm"'), "margin", '"2 mm" is no share; write for example "3 %"'),
        (broken('"2 %"', "2"), "margin", "2 is no share"),
        (broken('"2 %"', '"0 %"'), "margin", "out of range"),
        (broken('"1 %"', '"90 %"'), "risk", "at most 50%"),
        (broken('"1 %"', "5e-324"), "risk", "above 1e-12"),
        (broken("blocks = 12", "blocks = 0"), "blocks", "0 is no whole number from 1"),
        (broken("blocks = 12", 'blocks = "many"'), "blocks", '"many" is no whole number'),
        (broken("blocks = 12", "blocks = true"), "blocks", "true is no whole number"),
        (broken("seed = 4", "seed = -1"), "seed", "-1 is no whole number"),
        (broken('"cpu"', '"cpuu"'), "measure", 'did you mean "cpu"?'),
        (broken('"tide tables"', "5"), "name", "5 is no text"),
        (broken('["TERM"]', '"TERM"'), "keep_environment", "is no list of texts"),
        (broken('folder = "."', 'folder = "old"'), "arms.after.folder", 'there is no folder "old"'),
        (broken('"v1"', '"v9"'), "arms.before.revision", 'there is no revision "v9"'),
        (broken('revision = "v1"', 'revision = "v1"\nfolder = "."'), "arms.before", "both given"),
        (broken('revision = "v1"', 'revison = "v1"'), "arms.before.revison", 'did you mean "revision"?'),
        (broken('["make -j 2"]', '"make"'), "arms.before.build", 'write for example ["make"]'),
        (broken('["make -j 2"]', '["make {jobs}"]'), "arms.before.build", "{jobs} is no setting"),
        (broken('["make -j 2"]', "['make \"x']"), "arms.before.build", "quote that is never closed"),
        (broken('environment.TZ = "UTC"', "environment.TZ = [1]"), "arms.before.environment.TZ", "is no value"),
        (broken("settings.table", '"settings"."a b"'), "arms.before.settings.a b", "letters, digits and _"),
        (broken("[arms.after]", "[arms.placebo]"), "arms.placebo", "keeps for itself"),
        (broken("[arms.after]", '[arms."a/b"]'), "arms.a/b", "is no name"),
        (broken("command.year", "command.yaer"), "arms.after.command.yaer", 'no workload "yaer"'),
        (broken('{port} {table}"\ninputs', '{prot} {table}"\ninputs'), "workloads.year.command", "mean {port}?"),
        (broken('["north", "south"]', "[]"), "workloads.year.inputs.port", "no list of values"),
        (broken('["north", "south"]', '["north", "north"]'), "workloads.year.inputs.port", '"north" stands twice'),
        (broken('inputs.port', "inputs.day = [1]\ninputs.port"), "workloads.year.inputs.day", "does not use it"),
        (broken('"30 s"', '"soon"'), "workloads.year.limit", '"soon" is no duration; write for example "30 s"'),
        (broken('"30 s"', "30"), "workloads.year.limit", "30 is no duration"),
        (broken('"30 s"', '"0 s"'), "workloads.year.limit", "out of range; it must be above 0 s"),
        (broken('"4 MiB"', '"4 megs"'), "workloads.year.output", '"4 megs" is no size; write for example "64 MiB"'),
        (broken("[arms.after]", "settings.here = 1\n[arms.after]").replace("prepare {port}", "prepare {here}"),
         "workloads.year.before_each", "no setting under arm after"),
        (broken("prepare {port}", "prepare {prot}"), "workloads.year.before_each", "did you mean {port}?"),
        (broken('"prepare {port}"', "3"), "workloads.year.before_each", "3 is no text"),
        (broken('"1 GiB"', "7"), "workloads.year.memory", "7 is no size"),
        (broken('"1 GiB"', '"0 B"'), "workloads.year.memory", "out of range"),
        (broken('answer = "output"', 'answer = "stdout"'), "workloads.year.answer", 'write "output" or "exit code"'),
        (broken("weight = 40", "weight = -4"), "workloads.year.weight", "-4 is no weight"),
        (broken("weight = 40", 'wieght = 40'), "workloads.year.wieght", 'did you mean "weight"?'),
        (broken("shell = true", 'shell = "yes"'), "workloads.start.shell", "neither true nor false"),
        (broken('command = "python -m tidebook version"', ""), "workloads.start", "no command is given"),
        (broken('"python -m tidebook version"', '""'), "workloads.start.command", "is no text"),
        (broken('"python -m tidebook version"', "7"), "workloads.start.command", "7 is no text"),
        (broken('"python -m tidebook version"', "\"say 'it\""), "workloads.start.command", "never closed"),
        ('name = "x"\n[workloads.a]\ncommand = "true"', "arms", "no arm is given"),
        ('name = "x"\n[arms.a]', "workloads", "no workload is given"),
        ('arms = 5\n[workloads.a]\ncommand = "true"', "arms", "5 is no table"),
        ('[arms.a]\n[workloads]\na = "true"', "workloads.a", '"true" is no table'),
        ("", "arms", "no arm is given"),
        (GOOD + "[arms.before]\n", "a name or key stands twice", ""),
        (GOOD + "name = ", "it is not valid TOML", ""),
        ("\x00", "it is not valid TOML", ""),
        ("[arms", "it is not valid TOML", ""),
    ],
)  # fmt: skip
def test_a_damaged_study_is_told_in_one_sentence(text: str, path: str, clause: str) -> None:
    """Each fault names the file, the key's path, the value, and what would be right."""
    matching = [p for p in problems(text) if p.startswith(f"bystander.toml: {path}") and clause in p]

    assert len(matching) == 1
    assert "\n" not in matching[0]


def test_all_faults_are_told_at_once() -> None:
    """Five faults, five sentences."""
    text = broken("margin =", "margn =").replace('"30 s"', '"soon"').replace('"v1"', '"v9"')

    assert len(problems(text.replace("blocks = 12", "blocks = 0").replace('"cpu"', '"x"'))) == 5


def test_braces_can_be_meant_as_such() -> None:
    """Doubled braces and braces around no name are left alone."""
    study = read("[arms.a]\n[workloads.w]\ncommand = \"awk '{{print}} { print $1 }' f\"")

    assert study.workloads[0].template.startswith("awk")


@given(st.text(max_size=300))
def test_no_text_makes_the_reader_stumble(text: str) -> None:
    """Any text is a study or a StudyError."""
    try:
        read(text)
    except StudyError as error:
        assert all("\n" not in problem for problem in error.problems)


tables = st.recursive(
    st.one_of(st.text(max_size=8), st.integers(-5, 5), st.booleans(), st.floats(allow_nan=False, allow_infinity=False)),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.sampled_from(
        ["arms", "workloads", "a", "command", "inputs", "settings", "margin", "limit", "build", "folder", "weight"]
    ), inner, max_size=4),
    max_leaves=14,
)  # fmt: skip


@given(tables)
def test_no_shape_of_values_makes_the_reader_stumble(value: object) -> None:
    """Values of any type in any place are told, not crashed on."""
    text = "\n".join(f"{key} = {toml(item)}" for key, item in value.items()) if isinstance(value, dict) else ""
    try:
        read(text)
    except StudyError as error:
        assert error.problems


def toml(value: object) -> str:
    """Return a value as inline TOML."""
    if isinstance(value, dict):
        return "{" + ", ".join(f"{key} = {toml(item)}" for key, item in value.items()) + "}"
    if isinstance(value, list):
        return "[" + ", ".join(map(toml, value)) + "]"
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, str):
        return '"' + "".join(c if c.isalnum() and c.isascii() else " " for c in value) + '"'
    return repr(value)


def test_the_shipped_study_of_the_demo_is_right() -> None:
    """The harbour office's study has no fault but for its tags, which are made when it is laid out."""
    import bystander.demo

    text = Path(bystander.demo.FILES, "bystander.toml").read_text(encoding="utf-8")

    assert all("revision" in p for p in problems(text))
