"""The kinds of workloads: what each says in a study, and what of it makes one workload another.

A kind is a frozen dataclass (see `workloads`) and one entry of this table; how it is made ready and run stands in a
table of `field`, and both are joined in `flow`.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from bystander.design.readers.key_reader import KeyReader
from bystander.design.studies.arms import Arm
from bystander.design.studies.words import Start
from bystander.design.studies.workloads import What, Workload

__all__ = ["WorkloadKind", "kind_of", "kinds", "register_workload_kind"]


def _as_it_is(_reader: KeyReader, _path: str, what: What, _inputs: Mapping[str, Any]) -> What:
    return what


@dataclass(frozen=True)
class WorkloadKind:
    """One kind.

    Attributes
    ----------
    type : type
        The frozen dataclass; its `kind` is the name.
    key : str
        The key of a workload's table that marks it.
    keys : tuple of str
        All keys that only go with it.
    read : callable
        From the reader, the workload's table and its path to the value, None where the key is missing.
    check : callable
        Checks a workload against the arms, once both are read.
    digested : callable
        What of the value makes it another workload, as plain values.
    starts : tuple of Start
        Where its files may be told to be.
    answers : tuple of str
        What its arms may have to agree on, the usual one first.
    floored : bool
        Whether it may have a floor or be one: something that every process pays before it begins.
    page : str
        The page of the documentation that explains it and all its keys.
    with_inputs : callable
        From the reader, the workload's path, the value and one value of each input, as they stand in the study, to
        the value for them; a command names inputs in its template, and is filled later.
    """

    type: type[What]
    key: str
    keys: tuple[str, ...]
    read: Callable[[KeyReader, Mapping[str, Any], str], What | None]
    check: Callable[[KeyReader, str, Workload, tuple[Arm, ...]], None]
    digested: Callable[[Any], dict[str, Any]]
    starts: tuple[Start, ...]
    answers: tuple[str, ...]
    floored: bool
    page: str
    with_inputs: Callable[[KeyReader, str, What, Mapping[str, Any]], What] = _as_it_is

    @property
    def name(self) -> str:
        """Its name."""
        return self.type.kind


_KINDS: dict[str, WorkloadKind] = {}


def register_workload_kind(kind: WorkloadKind) -> None:
    """Add a kind; the name of its type and its key must be its own."""
    _KINDS[kind.name] = kind


def kinds() -> Mapping[str, WorkloadKind]:
    """Return all kinds by their names."""
    return _KINDS


def kind_of(what: What) -> WorkloadKind:
    """Return the kind of what a workload runs."""
    return kinds()[what.kind]
