"""The interpreters that tests of watching and counting run on: of each version the first that works here.

A name on the PATH may be a script that starts another one, or none; the installations behind such scripts are tried
too.  Run as a program it prints what is used, and fails where a version that is to be read is missing.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from functools import lru_cache
from pathlib import Path

READ = ("3.11", "3.12", "3.13")  # their frames are read from outside
COUNTED = ("3.8", "3.9", "3.10", *READ)
_ASK = "import sys; print('%d.%d' % sys.version_info[:2], sys.executable)"


@lru_cache(maxsize=16)
def interpreter(version: str) -> str:
    """Return the path of an interpreter of a version; "" where there is none."""
    places = [Path(folder, f"python{version}") for folder in os.environ.get("PATH", "").split(os.pathsep)]
    places += sorted(Path.home().glob(f".pyenv/versions/{version}.*/bin/python{version}"))
    places += [Path(sys.executable)]
    for place in places:
        if not shutil.which(str(place)):
            continue
        done = subprocess.run([str(place), "-c", _ASK], capture_output=True, text=True, check=False)
        found, _, path = done.stdout.strip().partition(" ")
        if done.returncode == 0 and found == version:
            return path
    return ""


if __name__ == "__main__":
    for one in COUNTED:
        sys.stdout.write(f"Python {one}: {interpreter(one) or 'none'}\n")
    sys.exit(not all(interpreter(one) for one in READ))
