"""What can be read of the machine, without privileges; what cannot be read is left out."""

from __future__ import annotations

import os
import platform
from contextlib import suppress
from pathlib import Path
from typing import Any

__all__ = ["boot_id", "machine_facts"]


def _line(path: str) -> str | None:
    try:
        return Path(path).read_text(encoding="utf-8", errors="replace").strip() or None
    except OSError:
        return None


def _field(text: str | None, name: str) -> str | None:
    for line in (text or "").splitlines():
        key, _, value = line.partition(":")
        if key.strip() == name:
            return value.strip()
    return None


def boot_id() -> str | None:
    """Return what tells one boot of the machine from another."""
    return _line("/proc/sys/kernel/random/boot_id")


def machine_facts() -> dict[str, Any]:
    """Return facts and state of this machine, in SI units; keys are only there where they could be read."""
    cpuinfo, meminfo = _line("/proc/cpuinfo"), _line("/proc/meminfo")
    facts: dict[str, Any] = {
        "host": platform.node(),
        "system": _system(),
        "kernel": platform.release(),
        "architecture": platform.machine(),
        "processor": _field(cpuinfo, "model name") or platform.processor() or None,
        "cores": os.cpu_count(),
        "memory_bytes": _kib(_field(meminfo, "MemTotal")),
        "memory_free_bytes": _kib(_field(meminfo, "MemAvailable")),
        "virtual": True if " hypervisor" in (cpuinfo or "") else None,
        "governor": _line("/sys/devices/system/cpu/cpu0/cpufreq/scaling_governor"),
        "pressure": _line("/proc/pressure/cpu"),
        "boot_id": boot_id(),
    }
    if hasattr(os, "sched_getaffinity"):
        facts["cores_allowed"] = len(os.sched_getaffinity(0))
    with suppress(OSError):
        facts["load"] = round(os.getloadavg()[0], 2)
    return {name: value for name, value in facts.items() if value is not None}


def _system() -> str:
    with suppress(OSError):
        return platform.freedesktop_os_release().get("PRETTY_NAME", platform.system())
    return f"{platform.system()} {platform.release()}"


def _kib(text: str | None) -> int | None:
    return int(text.split()[0]) * 1024 if text else None
