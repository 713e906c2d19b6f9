"""Facts that were read of arms and machines, as frozen types; what could not be read is None, or "".

Facts may come from a file: what is not of its type is taken as not read, and what is not known is left out.
"""

from __future__ import annotations

import types
import typing
from collections.abc import Mapping
from dataclasses import dataclass, field, fields
from functools import cache
from typing import Any, TypeVar

__all__ = ["ArmFacts", "InterpreterFacts", "MachineFacts", "MachineState"]

T = TypeVar("T")


@cache
def _wanted(kind: Any) -> dict[str, tuple[type, ...]]:
    """Return the types of each field; a number may be whole where a real one is meant."""
    found = {}
    for name, hint in typing.get_type_hints(kind).items():
        inner = typing.get_args(hint) if isinstance(hint, types.UnionType) else (hint,)
        known = tuple(one for one in inner if isinstance(one, type))
        found[name] = (*known, int) if float in known else known
    return found


def _of(kind: type[T], facts: Mapping[str, Any]) -> T:
    wanted = _wanted(typing.cast(typing.Hashable, kind))
    fit = {
        name: value
        for name, value in facts.items()
        if name in wanted and isinstance(value, wanted[name]) and (bool in wanted[name] or not isinstance(value, bool))
    }
    return kind(**fit)


def _known(value: Any) -> dict[str, Any]:
    """Return the facts that were read, by name."""
    return {f.name: fact for f in fields(value) if (fact := getattr(value, f.name)) is not None}


@dataclass(frozen=True)
class MachineFacts:
    """A machine, and its state when it was looked at; sizes in bytes.

    Attributes
    ----------
    virtual : bool or None
        Whether it runs under a hypervisor.
    governor : str or None
        By which rule its processor changes speed.
    pressure : str or None
        The kernel's account of programs that waited for a processor.
    boot_id : str or None
        What tells one boot of it from another.
    load : float or None
        How many programs wanted to run, on average over a minute.
    heat_slowdowns : int or None
        How often a processor was slowed down for heat since it was started.
    """

    host: str | None = None
    system: str | None = None
    kernel: str | None = None
    architecture: str | None = None
    processor: str | None = None
    cores: int | None = None
    memory_bytes: int | None = None
    memory_free_bytes: int | None = None
    virtual: bool | None = None
    governor: str | None = None
    pressure: str | None = None
    boot_id: str | None = None
    cores_allowed: int | None = None
    load: float | None = None
    disk_free_bytes: int | None = None
    disk_bytes: int | None = None
    on_mains: bool | None = None
    heat_slowdowns: int | None = None
    frequency_hz: float | None = None

    @classmethod
    def of(cls, facts: Mapping[str, Any]) -> MachineFacts:
        """Return the facts of a table."""
        return _of(cls, facts)

    @property
    def known(self) -> dict[str, Any]:
        """What was read, by name."""
        return _known(self)


@dataclass(frozen=True)
class MachineState:
    """Counters and state of a machine that change from moment to moment.

    Attributes
    ----------
    monotonic_s : float or None
        When it was read.
    stalled_s, disk_stalled_s : float or None
        Seconds in which some program waited for a processor, or for the disk, since the start.
    stolen_s, processors_s : float or None
        What other virtual machines took, of the time of all processors.
    session : int or None
        Readings of one session are of one stretch of observing on one machine.
    first_block, last_block : int or None
        The blocks that ran since the reading before.
    """

    session: int | None = None
    monotonic_s: float | None = None
    stalled_s: float | None = None
    disk_stalled_s: float | None = None
    memory_free_bytes: int | None = None
    frequency_hz: float | None = None
    heat_slowdowns: int | None = None
    on_mains: bool | None = None
    stolen_s: float | None = None
    processors_s: float | None = None
    first_block: int | None = None
    last_block: int | None = None

    @classmethod
    def of(cls, facts: Mapping[str, Any]) -> MachineState:
        """Return the state of a table."""
        return _of(cls, facts)

    @property
    def known(self) -> dict[str, Any]:
        """What was read, by name."""
        return _known(self)


@dataclass(frozen=True)
class InterpreterFacts:
    """The Python interpreter that an arm's first Python command runs; all "" where there is none.

    Attributes
    ----------
    path, program : str
        What is started, and what that runs in the end.
    version : str
        With its implementation.
    doubts : str
        What speaks against timing it, as a clause.
    through_script : str
        "yes" where the path is a script that starts the program.
    """

    path: str = ""
    program: str = ""
    version: str = ""
    doubts: str = ""
    through_script: str = ""

    @property
    def known(self) -> dict[str, Any]:
        """What was read, by name; empty where there is no interpreter."""
        if not self.path:
            return {}
        table = {"path": self.path, "program": self.program, "version": self.version}
        return {**table, **({"doubts": self.doubts} if self.doubts else {}), "through_script": self.through_script}


@dataclass(frozen=True)
class ArmFacts:
    """How an arm was made.

    Attributes
    ----------
    commit, subject : str
        Of a revision.
    digest : str
        Of a folder that is used where it lies.
    tree : str
        The files: a tree in git, or the folder's digest.
    environment : mapping
        The variables of its trials and build steps.
    """

    commit: str = ""
    subject: str = ""
    digest: str = ""
    tree: str = ""
    interpreter: InterpreterFacts = field(default_factory=InterpreterFacts)
    environment: Mapping[str, str] = field(default_factory=dict)

    @classmethod
    def of(cls, facts: Mapping[str, Any]) -> ArmFacts:
        """Return the facts of a table."""
        texts = {name: facts[name] for name in ("commit", "subject", "digest", "tree") if name in facts}
        interpreter, environment = facts.get("interpreter", {}), facts.get("environment", {})
        if not isinstance(interpreter, Mapping) or not isinstance(environment, Mapping):
            raise ValueError("facts: interpreter or environment is no table")
        variables = {str(name): str(value) for name, value in environment.items()}
        return cls(
            **{name: str(value) for name, value in texts.items()},
            interpreter=_of(InterpreterFacts, interpreter),
            environment=variables,
        )

    @property
    def known(self) -> dict[str, Any]:
        """What was read, by name."""
        texts = {name: getattr(self, name) for name in ("commit", "subject", "digest")}
        table = {name: text for name, text in texts.items() if text}
        if not (self.tree or self.interpreter.path or self.environment):  # an arm that was only named in a file
            return table
        rest = {"tree": self.tree, "interpreter": self.interpreter.known, "environment": dict(self.environment)}
        return {**table, **rest}
