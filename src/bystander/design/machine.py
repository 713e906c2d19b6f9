"""The machine in plain words, from facts that were read and kept."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any

from bystander.units import size_text

__all__ = ["machine_sentences", "machine_title"]


def _number(facts: Mapping[str, Any], name: str) -> float | None:
    """Return a fact that is a number; facts may come from a file."""
    value = facts.get(name)
    return value if isinstance(value, int | float) and not isinstance(value, bool) else None


def machine_title(facts: Mapping[str, Any]) -> str:
    """Return one line: name, processor, cores, memory, system; only what is known."""
    cores, memory = _number(facts, "cores"), _number(facts, "memory_bytes")
    parts = [
        facts.get("processor"),
        f"{cores:g} core{'s' if cores != 1 else ''}" if cores else None,
        size_text(memory, 2) if memory else None,
        facts.get("system"),
    ]
    told = ", ".join(str(part) for part in parts if part) or "not known"
    return f"{facts['host']} ({told})" if facts.get("host") else told


def machine_sentences(facts: Mapping[str, Any]) -> list[str]:
    """Return what about the machine's state could matter, one sentence each."""
    found = []
    load, cores = _number(facts, "load"), _number(facts, "cores") or 1
    if load is not None:
        state = "busy" if load > 0.5 * cores else "quiet" if load < 0.2 * cores else "somewhat busy"
        found.append(f"It is {state}: {load:.1f} programs want to run on {cores:g} core{'s' if cores != 1 else ''}.")
    if facts.get("virtual"):
        found.append("It is a virtual machine: others may share its processor.")
    if (governor := facts.get("governor")) and governor != "performance":
        found.append(f'Its processor changes speed by the rule "{governor}".')
    free, total = _number(facts, "memory_free_bytes"), _number(facts, "memory_bytes")
    if free is not None and total and free < 0.1 * total:
        found.append(f"Only {size_text(free, 2)} of memory is free.")
    room, disk = _number(facts, "disk_free_bytes"), _number(facts, "disk_bytes")
    if room is not None and room < min(2**30, 0.05 * (disk or math.inf)):
        found.append(f"Only {size_text(room, 2)} of the disk is free.")
    if facts.get("on_mains") is False:
        found.append("It runs on its battery: its speed may change.")
    if (slowdowns := _number(facts, "heat_slowdowns") or 0) > 0:
        found.append(f"Its processor was slowed down for heat {slowdowns:g} times since it was started.")
    return found
