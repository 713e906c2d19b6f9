"""What can be read of the machine, without privileges; what cannot be read is left out."""

from __future__ import annotations

import os
import platform
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

from bystander.design import MachineFacts, MachineState

__all__ = ["boot_id", "machine_facts", "machine_state"]


_ROOT = Path("/")


def _line(root: Path, path: str) -> str | None:
    try:
        return (root / path).read_text(encoding="utf-8", errors="replace").strip() or None
    except OSError:
        return None


def _field(text: str | None, name: str) -> str | None:
    for line in (text or "").splitlines():
        key, _, value = line.partition(":")
        if key.strip() == name:
            return value.strip()
    return None


def boot_id(root: Path = _ROOT) -> str | None:
    """Return what tells one boot of the machine from another."""
    return _line(root, "proc/sys/kernel/random/boot_id")


def machine_facts(root: Path = _ROOT, clock: Callable[[], float] = time.monotonic) -> MachineFacts:
    """Return facts and state of this machine, in SI units; None where something could not be read.

    Parameters
    ----------
    root : Path
        Where `proc` and `sys` are.
    clock : callable
        Returns seconds.
    """
    cpuinfo, meminfo = _line(root, "proc/cpuinfo"), _line(root, "proc/meminfo")
    state, load, disk = machine_state(root, clock), None, None
    with suppress(OSError):
        load = round(os.getloadavg()[0], 2)
    with suppress(OSError):
        disk = os.statvfs(".")
    return MachineFacts(
        host=platform.node(),
        system=_system(),
        kernel=platform.release(),
        architecture=platform.machine(),
        processor=_field(cpuinfo, "model name") or platform.processor() or None,
        cores=os.cpu_count(),
        memory_bytes=_kib(_field(meminfo, "MemTotal")),
        memory_free_bytes=_kib(_field(meminfo, "MemAvailable")),
        virtual=True if " hypervisor" in (cpuinfo or "") else None,
        governor=_line(root, "sys/devices/system/cpu/cpu0/cpufreq/scaling_governor"),
        pressure=_line(root, "proc/pressure/cpu"),
        boot_id=boot_id(root),
        cores_allowed=len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else None,
        load=load,
        disk_free_bytes=disk.f_bavail * disk.f_frsize if disk else None,
        disk_bytes=disk.f_blocks * disk.f_frsize if disk else None,
        on_mains=state.on_mains,
        heat_slowdowns=state.heat_slowdowns,
        frequency_hz=state.frequency_hz,
    )


def machine_state(root: Path = _ROOT, clock: Callable[[], float] = time.monotonic) -> MachineState:
    """Return counters and state that change from moment to moment, in a fraction of a millisecond.

    `stalled_s` and `disk_stalled_s` count the time in which some program waited (pressure stall
    information), `stolen_s` what other virtual machines took of `processors_s`, the time of all
    processors, in kernel ticks.
    """
    stolen, processors = _ticks(root)
    return MachineState(
        monotonic_s=clock(),
        stalled_s=_stalled(root, "proc/pressure/cpu"),
        disk_stalled_s=_stalled(root, "proc/pressure/io"),
        memory_free_bytes=_kib(_field(_line(root, "proc/meminfo"), "MemAvailable")),
        frequency_hz=_mean(_numbers(root, "cpu[0-9]*/cpufreq/scaling_cur_freq"), 1e3),
        heat_slowdowns=_total(_numbers(root, "cpu[0-9]*/thermal_throttle/core_throttle_count")),
        on_mains=_on_mains(root),
        stolen_s=stolen,
        processors_s=processors,
    )


def _stalled(root: Path, path: str) -> float | None:
    """Return the seconds in which at least one program waited, since the start."""
    words = (_line(root, path) or "").partition("\n")[0].split()
    total = next((word[6:] for word in words if word.startswith("total=")), "")
    return int(total) / 1e6 if total.isdigit() else None


def _ticks(root: Path) -> tuple[float | None, float | None]:
    """Return the seconds that other virtual machines took, and those of all processors, since the start."""
    words = (_line(root, "proc/stat") or "").partition("\n")[0].split()
    if len(words) < 9 or words[0] != "cpu":
        return None, None
    ticks, per_second = [int(word) for word in words[1:9]], os.sysconf("SC_CLK_TCK")
    return ticks[7] / per_second, sum(ticks) / per_second


def _numbers(root: Path, pattern: str) -> list[int]:
    texts = [_line(path.parent, path.name) or "" for path in (root / "sys/devices/system/cpu").glob(pattern)]
    return [int(text) for text in texts if text.isdigit()]


def _mean(values: list[int], factor: float) -> float | None:
    return factor * sum(values) / len(values) if values else None


def _total(values: list[int]) -> int | None:
    return sum(values) if values else None


def _on_mains(root: Path) -> bool | None:
    """Whether the machine is fed from outside; None where it cannot tell, as most machines without a battery."""
    supplies = (root / "sys/class/power_supply").glob("*")
    found = [(_line(supply, "type"), _line(supply, "online")) for supply in supplies]
    online = [state for kind, state in found if kind in ("Mains", "USB") and state]
    return any(state == "1" for state in online) if online else None


def _system() -> str:
    with suppress(OSError):
        return platform.freedesktop_os_release().get("PRETTY_NAME", platform.system())
    return f"{platform.system()} {platform.release()}"


def _kib(text: str | None) -> int | None:
    return int(text.split()[0]) * 1024 if text else None
