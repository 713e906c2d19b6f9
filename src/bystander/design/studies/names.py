"""Names of workloads: the base and one part for each input, as in "year:port=north:days=80".

Names are compared and never taken apart: what a workload's inputs are stands in the workload. What would be
ambiguous within a value is percent-written, so that a name can be part of a path and of WORKLOAD/BLOCK/ARM.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from bystander.design.studies.study import Study

__all__ = ["renamed", "workload_name"]

_WRITTEN = str.maketrans({character: f"%{ord(character):02X}" for character in "%:=/"})


def workload_name(base: str, inputs: Mapping[str, str]) -> str:
    """Return the name of a workload for one value of each of its inputs."""
    return "".join([base, *(f":{name}={value.translate(_WRITTEN)}" for name, value in inputs.items())])


def _earlier_name(base: str, inputs: Mapping[str, str]) -> str:
    """Return the name that records of before gave: "year[port=north,days=80]"."""
    return f"{base}[{','.join(f'{name}={value}' for name, value in inputs.items())}]"


def renamed(study: Study) -> Study:
    """Return a study of an earlier record with the names of today, floors included."""
    names = {
        workload.name: workload_name(workload.base, workload.inputs)
        for workload in study.workloads
        if workload.inputs and workload.name == _earlier_name(workload.base, workload.inputs)
    }
    if not names:
        return study
    workloads = tuple(
        replace(workload, name=names.get(workload.name, workload.name), floor=names.get(workload.floor, workload.floor))
        for workload in study.workloads
    )
    return replace(study, workloads=workloads)
