"""The program with a kind of evidence, a kind of workload, a plan of comparisons and a format that it does not have.

Run as a program: `python growth.py observe` observes the study in the current folder, its arms compared as a chain; all
else is what `bystander` does; "then" parts several commands. Each of the four is added by one call.
"""

from __future__ import annotations

import json
import os
import sys
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import groupby
from pathlib import Path
from typing import Any, ClassVar

from bystander.__main__ import run
from bystander.design import Arm, Comparison, Start, Workload, WorkloadKind, compared_by, register_plan, told_measure
from bystander.evidence import Collected, EvidenceKind, TrialFiles, register_evidence_kind
from bystander.field import KindInField, ReadyCommand, Site
from bystander.flow.commands.observe import observe
from bystander.flow.commands.report import Asked, register_format
from bystander.flow.observer import Silent
from bystander.flow.places import load_study, new_archive
from bystander.flow.trials.kinds import JoinedKind, register_kind
from bystander.verdicts import row_sentence


@dataclass(frozen=True)
class Bell:
    """A bell that is rung so often, as an arm's setting says."""

    kind: ClassVar[str] = "bell"

    ring: str


def read_bell(reader: Any, table: Mapping[str, Any], path: str) -> Bell | None:
    """Return the bell of a workload's table."""
    if "ring" not in table:
        return None
    if not isinstance(table["ring"], str):
        reader.wrong(f"{path}.ring", "it names the setting that says how often")
    return Bell(str(table["ring"]))


def ready_bell(workload: Workload, site: Site) -> ReadyCommand:
    """Return a command that rings: each stroke is a line, and takes a while."""
    assert isinstance(workload.what, Bell)
    strokes = int(site.arm.settings[workload.what.ring])
    words = ("sh", "-c", f"i=0; while [ $i -lt {strokes} ]; do i=$((i+1)); echo stroke $i; sleep 0.004; done")
    return ReadyCommand("/bin/sh", words, site.folder, site.environment, workload.limit_s)


BELL = JoinedKind(
    WorkloadKind(
        type=Bell, key="ring", keys=("ring",), read=read_bell, check=lambda *_: None,
        digested=lambda bell: {"ring": bell.ring}, starts=(Start.FROM_MEMORY,), answers=("exit code",), floored=False,
        page="study.md",
    ),
    KindInField(ready=ready_bell, program=lambda *_: "sh", text=lambda workload, _: f"the bell of {workload.name}"),
)  # fmt: skip


def heard(_outcome: object, files: TrialFiles) -> Collected | None:
    """Collect the strokes of a trial from what it printed."""
    lines = files.output.read_text(encoding="utf-8").splitlines()
    strokes = [int(line.split()[1]) for line in lines if line.startswith("stroke ")]
    if not strokes:
        return None
    name = "items:strokes"
    return Collected(strokes, {"last": strokes[-1]}, {name: float(len(strokes))}, {name: told_measure(name)})


STROKES = EvidenceKind(
    "strokes", 1, pack=lambda strokes: json.dumps(strokes).encode(), unpack=lambda data, _: json.loads(data),
    table=list, of_table=lambda table: [int(stroke) for stroke in table], collect=heard,
)  # fmt: skip


def chain(arms: Sequence[Arm]) -> tuple[Comparison, ...]:
    """Return each arm against the one before it, and the last against the first."""
    links = [Comparison(place, place + 1) for place in range(len(arms) - 1)]
    return (*links, Comparison(0, len(arms) - 1))


def plain_lines(asked: Asked) -> str:
    """Return a line for each row."""
    decision = asked.decision
    return "".join(f"{decision.name_of(row)}: {row_sentence(row)}\n" for row in decision.primary)


def main() -> None:
    """Add the four, then do what the words say."""
    register_kind(BELL)
    register_evidence_kind(STROKES)
    register_plan("chain", chain)
    register_format(".lines", plain_lines)
    commands = [list(words) for then, words in groupby(sys.argv[1:], key="then".__eq__) if not then]
    for words in commands[:-1]:  # loaded once, as loading takes longer than any of them
        child = os.fork()
        if not child:
            one_command(words)
        if os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]):
            sys.exit(f"{words} failed")
    one_command(commands[-1])


def one_command(words: list[str]) -> None:
    """Do what some words say, and end."""
    if words == ["observe"]:
        study, home = load_study(None, Path.cwd())
        done = observe(compared_by(study, "chain"), home, new_archive(None, {}, home), os.environ, Silent())
        sys.exit(0 if done.complete else 1)
    sys.argv[1:] = words
    run()
    sys.exit(0)


if __name__ == "__main__":
    main()
