"""The machine in plain words, from facts that were read and kept."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from bystander.units import size_text

__all__ = ["machine_sentences", "machine_title"]


def machine_title(facts: Mapping[str, Any]) -> str:
    """Return one line: name, processor, cores, memory, system; only what is known."""
    cores = facts.get("cores")
    parts = [
        facts.get("processor"),
        f"{cores} core{'s' if cores != 1 else ''}" if cores else None,
        size_text(facts["memory_bytes"], 2) if facts.get("memory_bytes") else None,
        facts.get("system"),
    ]
    told = ", ".join(str(part) for part in parts if part) or "not known"
    return f"{facts['host']} ({told})" if facts.get("host") else told


def machine_sentences(facts: Mapping[str, Any]) -> list[str]:
    """Return what about the machine's state could matter, one sentence each."""
    found = []
    load, cores = facts.get("load"), facts.get("cores") or 1
    if load is not None:
        state = "busy" if load > 0.5 * cores else "quiet" if load < 0.2 * cores else "somewhat busy"
        found.append(f"It is {state}: {load:.1f} programs want to run on {cores} core{'s' if cores != 1 else ''}.")
    if facts.get("virtual"):
        found.append("It is a virtual machine: others may share its processor.")
    if (governor := facts.get("governor")) and governor != "performance":
        found.append(f'Its processor changes speed by the rule "{governor}".')
    free, total = facts.get("memory_free_bytes"), facts.get("memory_bytes")
    if free is not None and total and free < 0.1 * total:
        found.append(f"Only {size_text(free, 2)} of memory is free.")
    return found
