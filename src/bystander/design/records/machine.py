"""The machine in plain words, from facts that were read and kept."""

from __future__ import annotations

import math

from bystander.design.records.facts import MachineFacts
from bystander.units import size_text

__all__ = ["machine_sentences", "machine_title"]


def machine_title(facts: MachineFacts) -> str:
    """Return one line: name, processor, cores, memory, system; only what is known."""
    cores, memory = facts.cores, facts.memory_bytes
    parts = [
        facts.processor,
        f"{cores:g} core{'s' if cores != 1 else ''}" if cores else None,
        size_text(memory, 2) if memory else None,
        facts.system,
    ]
    text = ", ".join(str(part) for part in parts if part) or "not known"
    return f"{facts.host} ({text})" if facts.host else text


def machine_sentences(facts: MachineFacts) -> list[str]:
    """Return what about the machine's state could matter, one sentence each."""
    found = []
    load, cores = facts.load, facts.cores or 1
    if load is not None:
        state = "busy" if load > 0.5 * cores else "quiet" if load < 0.2 * cores else "somewhat busy"
        found.append(f"It is {state}: {load:.1f} programs want to run on {cores:g} core{'s' if cores != 1 else ''}.")
    if facts.virtual:
        found.append("It is a virtual machine: others may share its processor.")
    if (governor := facts.governor) and governor != "performance":
        found.append(f'Its processor changes speed by the rule "{governor}".')
    free, total = facts.memory_free_bytes, facts.memory_bytes
    if free is not None and total and free < 0.1 * total:
        found.append(f"Only {size_text(free, 2)} of memory is free.")
    room, disk = facts.disk_free_bytes, facts.disk_bytes
    if room is not None and room < min(2**30, 0.05 * (disk or math.inf)):
        found.append(f"Only {size_text(room, 2)} of the disk is free.")
    if facts.on_mains is False:
        found.append("It runs on its battery: its speed may change.")
    if (slowdowns := facts.heat_slowdowns or 0) > 0:
        found.append(f"Its processor was slowed down for heat {slowdowns:g} times since it was started.")
    return found
