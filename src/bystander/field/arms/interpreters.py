"""Which interpreter really runs: a name on the PATH may be a small script that starts another one."""

from __future__ import annotations

import json
import re
import subprocess
from collections.abc import Mapping
from functools import lru_cache
from pathlib import Path

from bystander.design import InterpreterFacts

__all__ = ["interpreter_facts"]

_PYTHON = re.compile(r"python[0-9.]*")
_ASK = (
    "import json, platform, sys, sysconfig;"
    "flags = ' '.join(str(sysconfig.get_config_var(name) or '') for name in ('OPT', 'PY_CFLAGS', 'CONFIGURE_CFLAGS'));"
    "print(json.dumps([sys.executable, platform.python_implementation(), platform.python_version(),"
    " hasattr(sys, 'gettotalrefcount'), ('-O0' in flags or '-Og' in flags) and '-O3' not in flags,"
    " sys.gettrace() is not None or sys.getprofile() is not None]))"
)
_DOUBTS = ("it is a debug build", "it is compiled without optimisation", "it starts with a trace function set")


def interpreter_facts(path: str, environment: Mapping[str, str], folder: str) -> InterpreterFacts:
    """Return what is known of an interpreter: its path, what it runs in the end, and its version.

    Nothing is known of a program that is no Python interpreter, or does not answer in ten seconds.
    """
    if not _PYTHON.fullmatch(Path(path).name):
        return InterpreterFacts()
    return _asked(path, tuple(sorted(environment.items())), folder)


@lru_cache(maxsize=64)
def _asked(path: str, environment: tuple[tuple[str, str], ...], folder: str) -> InterpreterFacts:
    try:
        done = subprocess.run(
            [path, "-c", _ASK], env=dict(environment), cwd=folder, stdin=subprocess.DEVNULL,
            capture_output=True, text=True, timeout=10, check=True,
        )  # fmt: skip
        program, kind, version, *doubtful = json.loads(done.stdout)
    except (OSError, ValueError, subprocess.SubprocessError):
        return InterpreterFacts()
    doubts = " and ".join(clause for clause, is_so in zip(_DOUBTS, doubtful, strict=True) if is_so)
    with Path(path).open("rb") as file:
        through_script = "yes" if file.read(2) == b"#!" else ""
    return InterpreterFacts(path, program, f"{kind} {version}", doubts, through_script)
