"""A record for other eyes: who, where and what exactly is left out, and every number and key stays."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import replace
from typing import Any

from bystander.design.records.evidence import TIMELINE
from bystander.design.records.facts import ArmFacts, InterpreterFacts
from bystander.design.records.runs import SEARCH
from bystander.design.records.trials import ArmState, Record, RecordHead
from bystander.design.studies.arms import Arm
from bystander.design.studies.chain import Chain
from bystander.design.studies.study import Study
from bystander.design.studies.workloads import Command, Ready, TimedCallable, Workload

__all__ = ["LEFT_OUT", "redacted", "scrubber"]

LEFT_OUT = "(left out)"
_PATH = re.compile(r"(?<![\w.:/])~?/(?:[^\s/\"'`,;:()]+/)*[^\s/\"'`,;:()]+")
_LEAST_NAME = 3  # letters of a host or user: shorter ones are found in words


def scrubber(head: RecordHead) -> Callable[[str], str]:
    """Return what takes paths, and the names of hosts and users of a record, out of a sentence."""
    users = {arm.facts.environment.get(name, "") for arm in head.arms for name in ("USER", "LOGNAME")}
    hosts = {machine.host or "" for machine in head.machines}
    names = sorted((name for name in users | hosts if len(name) >= _LEAST_NAME), key=len, reverse=True)
    known = re.compile(rf"\b(?:{'|'.join(map(re.escape, names))})\b") if names else None

    def scrubbed(text: str) -> str:
        text = _PATH.sub(LEFT_OUT, text)
        return known.sub(LEFT_OUT, text) if known else text

    return scrubbed


def redacted(record: Record) -> Record:
    """Return a record without host, user, paths, values of commands and variables, and what trials printed.

    What edits say of themselves is left out too, which functions they change, and why a state could not be built.
    Names of arms, workloads, inputs and measures stay, and so do digests and keys: two redacted records are compared
    like whole ones. Of evidence the phases stay, which the program named itself.
    """
    head = record.head
    scrubbed = scrubber(head)
    pieces = {arm.name for arm in head.study.arms if arm.kept and arm.kept.made}  # made of another state by an edit
    safe = replace(
        head,
        study=_study(head.study, scrubbed),
        study_folder="",
        study_file="",
        arms=tuple(_arm(state, state.name in pieces, scrubbed) for state in head.arms),
        machines=tuple(replace(machine, host=None) for machine in head.machines),
        notes=tuple(map(scrubbed, head.notes)),
        runs=tuple(replace(run, options=_options(run.options)) for run in head.runs),
    )
    phases = {row: tuple(p for p in packets if p.kind == TIMELINE) for row, packets in record.evidence.items()}
    evidence = {row: packets for row, packets in phases.items() if packets}
    return replace(record, head=safe, excerpts={}, evidence=evidence, of_runs={})


def _options(options: Mapping[str, Any]) -> dict[str, Any]:
    """Return a run's options without what the commits of a search say, and why some could not be built."""
    told = options.get(SEARCH)
    if not isinstance(told, Mapping):
        return dict(options)
    commits, broken = told.get("commits"), told.get("broken")
    more: dict[str, Any] = {}
    if isinstance(commits, list):
        more["commits"] = [[*one[:2], LEFT_OUT] for one in commits if isinstance(one, list)]
    if isinstance(broken, Mapping):
        more["broken"] = dict.fromkeys(broken, LEFT_OUT)
    return {**options, SEARCH: {**told, **more}}


def _hidden(values: Mapping[str, str]) -> dict[str, str]:
    return dict.fromkeys(values, LEFT_OUT)


def _arm(state: ArmState, made: bool, scrubbed: Callable[[str], str]) -> ArmState:
    facts = state.facts
    interpreter = InterpreterFacts(version=facts.interpreter.version)
    kept = ArmFacts(facts.commit, "", facts.digest, facts.tree, interpreter, _hidden(facts.environment))
    return ArmState(state.name, state.key, "", LEFT_OUT if made else scrubbed(state.identity), kept)


def _study(study: Study, scrubbed: Callable[[str], str]) -> Study:
    return replace(
        study,
        arms=tuple(map(_described, study.arms)),
        workloads=tuple(map(_workload, study.workloads)),
        shared_files=(),
        written_files=(),
        chain=study.chain and _chain(study.chain, scrubbed),
        states=study.states and replace(study.states, patches=LEFT_OUT if study.states.patches else ""),
    )


def _chain(chain: Chain, scrubbed: Callable[[str], str]) -> Chain:
    links = (
        replace(
            link, subject=LEFT_OUT if link.subject else "", functions=(),
            joined=tuple(replace(one, why=LEFT_OUT) for one in link.joined),
        )
        for link in chain.links
    )  # fmt: skip
    return replace(chain, links=tuple(links), what=scrubbed(chain.what))


def _described(arm: Arm) -> Arm:
    return replace(
        arm, folder=".", environment=_hidden(arm.environment), settings=_hidden(arm.settings),
        build=(LEFT_OUT,) * len(arm.build), before_all=(LEFT_OUT,) * len(arm.before_all),
        kept=arm.kept and replace(arm.kept, inside="", made=LEFT_OUT if arm.kept.made else ""),
        command=_hidden(arm.command), weigh=LEFT_OUT if arm.weigh else "",
    )  # fmt: skip


def _ready(ready: Ready) -> Ready:
    return replace(ready, pattern=LEFT_OUT if ready.pattern else "", file=LEFT_OUT if ready.file else "")


def _workload(workload: Workload) -> Workload:
    what = workload.what
    if isinstance(what, Command):
        what = replace(what, template=LEFT_OUT)
    elif isinstance(what, TimedCallable):
        what = replace(what, given="", values="", python=LEFT_OUT)
    before_all, before_each, after_each = (
        LEFT_OUT if step else None for step in (workload.before_all, workload.before_each, workload.after_each)
    )
    file, compare = (LEFT_OUT if one else "" for one in (workload.answer_rule.file, workload.answer_rule.compare))
    rule = replace(workload.answer_rule, file=file, mask=(), compare=compare)
    numbers = {name: replace(number, pattern=LEFT_OUT) for name, number in workload.numbers.items()}
    return replace(
        workload, what=what, settings=_hidden(workload.settings), answer_rule=rule, files=(), numbers=numbers,
        ready=_ready(workload.ready), spans=LEFT_OUT if workload.spans else "",
        before_all=before_all, before_each=before_each, after_each=after_each,
    )  # fmt: skip
