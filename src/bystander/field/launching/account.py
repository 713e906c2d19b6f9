"""From the launcher's account of a trial to readings in SI units."""

from __future__ import annotations

import math
from typing import Any

__all__ = ["account_readings", "checked_account"]

_STARTED = ("detail", "started_wall_ns", "started_ns")
_ENDED = (
    "elapsed_ns", "user_s", "system_s", "on_cpu_ns", "run_queue_ns", "peak_bytes", "floor_bytes", "minor_faults",
    "major_faults", "voluntary_switches", "involuntary_switches", "left_behind",
)  # fmt: skip
_SOMETIMES = ("until_ready_ns", "until_output_ns")
_ALL, _NUMBERS = (*_STARTED, *_ENDED), {int, float}
_QUEUE_AGREEMENT = (0.02, 0.002)  # share and seconds within which both CPU times must agree


def account_readings(account: dict[str, Any]) -> dict[str, float]:
    """Return the readings of an account in SI units; nothing was read of a trial that never started."""
    if "elapsed_ns" not in account:
        return {}
    elapsed = account["elapsed_ns"] / 1e9
    cpu = account["user_s"] + account["system_s"]
    delay = _run_queue_delay(account, cpu)
    return {
        "elapsed": elapsed,
        "unqueued": elapsed - delay if delay < elapsed else math.nan,
        "cpu": cpu,
        "user_cpu": account["user_s"],
        "system_cpu": account["system_s"],
        "waiting": max(0.0, elapsed - cpu),
        "run_queue_delay": delay,
        "peak_memory": float(account["peak_bytes"]),
        "peak_memory_floor": float(account["floor_bytes"]) if account["floor_bytes"] > 0 else math.nan,
        "minor_faults": float(account["minor_faults"]),
        "major_faults": float(account["major_faults"]),
        "voluntary_switches": float(account["voluntary_switches"]),
        "involuntary_switches": float(account["involuntary_switches"]),
        **{name: account[f"{name}_ns"] / 1e9 for name in ("until_ready", "until_output") if f"{name}_ns" in account},
    }


def _run_queue_delay(account: dict[str, Any], cpu: float) -> float:
    """Return the delay in seconds, NaN unless one thread of one process did all the work.

    The kernel keeps it per thread; only where that thread's CPU time is the whole trial's does it
    speak of the whole trial.
    """
    on_cpu = account["on_cpu_ns"] / 1e9
    share, seconds = _QUEUE_AGREEMENT
    if on_cpu < 0 or abs(on_cpu - cpu) > max(share * cpu, seconds):
        return math.nan
    return float(account["run_queue_ns"]) / 1e9


def checked_account(account: dict[str, Any]) -> dict[str, Any]:
    """Return an account with all that it must hold; raise ValueError for what is none."""
    try:
        numbers = [account[name] for name in (_ALL if "elapsed_ns" in account else _STARTED)]
        numbers += [account[name] for name in _SOMETIMES if name in account]
        if type(account["status"]) is str and {*map(type, numbers)} <= _NUMBERS and abs(max(numbers, key=abs)) < 2**63:
            return account
    except KeyError:
        pass
    raise ValueError("it is no account of a trial")
