"""Docs name every command, option, study key, measure and note; links and pictures are there."""

from __future__ import annotations

import re
import tomllib
from pathlib import Path

import pytest
import typer.main

from bystander.cli.app import app
from bystander.design import (
    ANSWER_KEYS,
    ARM_KEYS,
    CALLABLE_KEYS,
    CHAIN_KEYS,
    COMMAND_KEYS,
    GATE_KEYS,
    MEASURES,
    SHARED_KEYS,
    STUDY_KEYS,
    checked,
    workload_keys,
)
from bystander.design.readers.study_keys import READY_KEYS
from bystander.design.readers.values import Type

ROOT = Path(__file__).parents[1]
COMMANDS = (ROOT / "docs" / "commands.md").read_text(encoding="utf-8")
STUDY = "".join((ROOT / "docs" / name).read_text(encoding="utf-8") for name in ("study.md", "callables.md"))
VERDICTS = (ROOT / "docs" / "verdicts.md").read_text(encoding="utf-8")
README = (ROOT / "README.md").read_text(encoding="utf-8")
TEXTS = [*sorted((ROOT / "docs").glob("*.md")), *sorted(ROOT.glob("*.md")), ROOT / "benchmarks" / "RESULTS.md"]


def leaves() -> list[tuple[str, object]]:
    """Return every command with its name."""
    found = []
    for name, command in typer.main.get_command(app).commands.items():  # type: ignore[attr-defined]
        inner = getattr(command, "commands", None)
        found += [(f"{name} {word}", one) for word, one in inner.items()] if inner else [(name, command)]
    return found


@pytest.mark.parametrize(("name", "command"), leaves(), ids=lambda value: value if isinstance(value, str) else "")
def test_every_command_and_option_is_documented(name: str, command: object) -> None:
    """The command has a heading or a row, and each of its options stands in the page; its help has an example."""
    top, _, word = name.partition(" ")
    heading = re.search(rf"^## bystander {top}\b(.*?)(?=^## |\Z)", COMMANDS, re.M | re.S)
    assert heading, name
    section = heading[0]
    assert re.search(rf"^## bystander {top}\b.*\b{word}\b", section) if word else (command.help or "") != ""  # type: ignore[attr-defined]
    for parameter in command.params:  # type: ignore[attr-defined]
        for option in parameter.opts:
            if option.startswith("--") and option != "--help":
                assert f"`{option}" in section or f" {option}" in section, f"{name} {option}"
    assert "xample" in (command.epilog or "")  # type: ignore[attr-defined]


def test_every_study_key_and_measure_is_documented() -> None:
    """Each key has a row of its own in the page about the study."""
    inner = [*(f"answer.{key}" for key in ANSWER_KEYS), *(f"gate.{key}" for key in GATE_KEYS)]
    inner += [*(f"ready.{key}" for key in READY_KEYS), *(f"chain.{key}" for key in CHAIN_KEYS)]
    for key in (*STUDY_KEYS, *ARM_KEYS, *workload_keys(), *inner):
        assert re.search(rf"^\|[^|]*`{key}`[^|]*\|", STUDY, re.M), key
    for measure in MEASURES.values():
        if measure.better:
            assert f"`{measure.name}`" in STUDY


def test_documented_defaults_are_those_of_the_keys() -> None:
    """What a page names as a default is read, by the key's own rules, as the value that the key has without it."""
    known = [*STUDY_KEYS.values(), *SHARED_KEYS.values(), *COMMAND_KEYS.values(), *CALLABLE_KEYS.values()]
    compared = 0
    for key in known:
        cells = re.findall(rf"^\| `{key.name}` \|([^|]*)\|[^|]*\|", STUDY, re.M)
        if key.default not in (None, "") and key.type is not Type.OWN and cells[0].strip() not in ("", "found"):
            assert checked(key, tomllib.loads(f"default = {cells[0]}")["default"]) == key.default, key.name
            compared += 1
    assert compared >= 18


def test_every_note_is_documented() -> None:
    """Each code that the source gives to a note stands in the page about verdicts."""
    source = "".join(p.read_text(encoding="utf-8") for p in (ROOT / "src" / "bystander" / "verdicts").rglob("*.py"))
    codes = set(re.findall(r'(?:Note\(|,)\s*"([a-z]+(?:-[a-z]+)+)",', source))
    codes -= {"record-note", "other-answer", "other-work"}

    assert len(codes) > 12
    for code in codes:
        assert f"`{code}`" in VERDICTS, code


@pytest.mark.parametrize("file", TEXTS, ids=lambda f: f.name)
def test_links_lead_somewhere(file: Path) -> None:
    """Every relative link in a text names a file that is there."""
    text = re.sub(r"```.*?```", "", file.read_text(encoding="utf-8"), flags=re.S)
    for target in re.findall(r"\]\(([^)#]+)", text):
        assert (file.parent / target).exists(), f"{file.name}: {target}"


def test_pictures_are_few_and_all_shown() -> None:
    """Fewer than twenty, each linked from the README."""
    pictures = sorted((ROOT / "docs" / "screenshots").glob("*.png"))

    assert 5 <= len(pictures) < 20
    for picture in pictures:
        assert f"docs/screenshots/{picture.name}" in README


def test_the_readmes_study_is_a_right_one() -> None:
    """TOML blocks of the docs are read without an error, but for revisions that only their readers have."""
    from bystander.design import read_study
    from bystander.errors import StudyError
    from bystander.exchange import read_settled, read_settled_places

    class Anywhere:
        def has_folder(self, path: str) -> bool:
            return True

        def revision_problem(self, revision: str) -> str | None:
            return None

    blocks = [b for file in TEXTS for b in re.findall(r"```toml\n(.*?)```", file.read_text(encoding="utf-8"), re.S)]
    assert blocks
    for block in blocks:
        if block.startswith(("[[row]]", "[[place]]")):
            assert read_settled(block, "docs") or read_settled_places(block, "docs")
            continue
        try:
            read_study(block, "docs", Anywhere())
        except StudyError as error:
            raise AssertionError(str(error)) from None
