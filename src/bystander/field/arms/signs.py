"""Signs that a program is not the one that runs in real life: a debug build, no optimisation, tracing, coverage.

As far as it can be told from outside; silence proves nothing.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from functools import lru_cache
from pathlib import Path

__all__ = ["build_signs", "command_signs", "environment_signs", "program_signs"]

_MOST_BYTES = 256 * 2**20
# What compilers and linkers leave in a program, by what it means.
_IN_PROGRAM = (
    (rb"__asan_init|__tsan_init|__msan_init|__ubsan_handle", "it is built with a sanitizer, which slows it down"),
    (rb"__gcov_|__llvm_profile_", "it counts how often each line runs (coverage)"),
    (rb"__assert_fail", "its assertions are compiled in, which may be meant (-DNDEBUG leaves them out)"),
)
# GCC writes its options beside debugging information: "GNU C17 12.2.0 -mtune=generic -g -O2".
_PRODUCER = re.compile(rb"GNU (?:C|C\+\+|Fortran)[0-9]* [0-9][^\0]{3,500}")
_IN_BUILD = (
    (r"(?<![^\s=\"'])-O0\b|\bopt-level\s*=\s*0\b", "{0} switches optimisation off"),
    (r"-fsanitize=", "-fsanitize slows the program down"),
    (r"--coverage\b|-fprofile-arcs|-fprofile-instr-generate", "coverage is switched on"),
    (
        r"CMAKE_BUILD_TYPE=Debug|--buildtype[= ]debug\b|--with-pydebug|--enable-debug\b|"
        r"--config(?:uration)?[= ]Debug\b|"
        r"\b(?:BUILD|BUILD_TYPE|CONFIG|CONFIGURATION|MODE|VARIANT|PROFILE)=[Dd](?:ebug|ev)(?![\w-])|"
        r"\b(?:make|ninja)\s(?:.*\s)?debug(?![\w-])|--profile[= ]dev\b|--mode[= ]development\b|(?:^|\s)-c\s+[Dd]ebug\b",
        "{0} asks for a debug build",
    ),
    (
        r"\bcargo\s+(?:build|b)\b(?!.*(?:--release|\s-r\b|--profile))",
        "cargo builds without optimisation unless --release is given",
    ),
    (
        r"\brustc\s(?!.*(?:(?<!\S)-O\b|opt-level|--version|-vV|--print))",
        "rustc compiles without optimisation unless -O or -C opt-level is given",
    ),
    (
        r"(?:^|[\s/])(?:cc|gcc|g\+\+|c\+\+|clang|clang\+\+)(?:-\d+)?\s(?!.*(?<!\S)-O)(?=.*\.(?:c|cc|cpp|cxx)\b)",
        "the compiler does not optimise unless -O2 or the like is given",
    ),
)
_IN_COMMAND = (
    (r"-X\s*(?!utf8|pycache_prefix|frozen_modules|faulthandler)(\w+)", "-X {0} changes what the interpreter does"),
    (r"-m\s+(trace|pdb|coverage)\b", "-m {0} runs the program under a watcher"),
)
_WATCHING = ("PYTHONTRACE", "PYTHONPROFILE")
_IN_ENVIRONMENT = {
    "PYTHONDEVMODE": "the interpreter runs in development mode",
    "PYTHONASYNCIODEBUG": "event loops run in debug mode",
    "COVERAGE_PROCESS_START": "coverage is measured",
    "COVERAGE_PROCESS_CONFIG": "coverage is measured",
    "MALLOC_CHECK_": "the C library checks its heap",
    "MALLOC_PERTURB_": "the C library fills what is freed",
    "LD_PRELOAD": "a library is loaded into every program",
    "LD_AUDIT": "the loader is audited",
}


@lru_cache(maxsize=256)
def program_signs(path: str) -> tuple[str, ...]:
    """Return what speaks against a compiled program; nothing for scripts and what cannot be read."""
    try:
        with Path(path).open("rb") as file:
            if file.read(4) != b"\x7fELF":
                return ()
            data = file.read(_MOST_BYTES)
    except OSError:
        return ()
    found = [meaning for pattern, meaning in _IN_PROGRAM if re.search(pattern, data)]
    if re.search(r"/(?:target/debug|cmake-build-debug|bin/Debug)/", path):
        found.append("it lies where debug builds lie, by its path")
    options = [match.group() for match in _PRODUCER.finditer(data)]
    plain = [one for one in options if not re.search(rb" -O[1-9sf]", one)]
    if options and 2 * len(plain) > len(options):
        found.append("it is compiled without optimisation, by what the compiler wrote down")
    return tuple(found)


def build_signs(steps: Sequence[str]) -> list[str]:
    """Return what speaks against the build steps of an arm."""
    found = ((step, meaning, re.search(pattern, step)) for step in steps for pattern, meaning in _IN_BUILD)
    return [f'"{step}": {meaning.format(match.group().strip())}' for step, meaning, match in found if match]


def command_signs(words: Sequence[str]) -> list[str]:
    """Return what speaks against a command."""
    text = " ".join(words[:8])
    return [meaning.format(*match.groups()) for pattern, meaning in _IN_COMMAND if (match := re.search(pattern, text))]


def environment_signs(environment: Mapping[str, str]) -> list[str]:
    """Return what speaks against the environment of trials."""
    signs = [
        f"{name} is set: {meaning}"
        for name, meaning in _IN_ENVIRONMENT.items()
        if environment.get(name, "") not in ("", "0")
    ]
    signs += [
        f"{name} is set: the interpreter watches itself"
        for name, value in environment.items()
        if name.startswith(_WATCHING) and value not in ("", "0")
    ]
    if environment.get("PYTHONMALLOC", "").endswith("debug"):
        signs.append("PYTHONMALLOC asks for the debugging allocator")
    return signs
