"""Arms as they are laid out in `.bystander/arms/KEY`: made once, by one process at a time, and used as they were.

Keys are of one length, and so are the paths: a longer path is a slower one for some programs.
"""

from __future__ import annotations

import json
import shutil
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from bystander.field.arms.folders import EVERYTHING, NotOfTheArm, folder_state
from bystander.field.depths import deeper
from bystander.files import copy_tree, held_lock, make_private_folder, write_whole

__all__ = ["Checkouts"]


class Checkouts:
    """The folder of laid-out arms.

    An arm is ready once its file `KEY.ready` is there; that file holds a digest, so that what a trial
    changed in its own checkout is not taken for the arm the next time.
    """

    def __init__(self, folder: Path, left_out: NotOfTheArm = EVERYTHING) -> None:
        self.folder = folder
        self._left_out = left_out

    def home(self, key: str) -> Path:
        """Return where an arm is laid out."""
        return self.folder / key

    def log(self, key: str) -> Path:
        """Return the file of an arm's build output."""
        return self.folder / f"{key}.build.log"

    def _ready(self, key: str) -> Path:
        return self.folder / f"{key}.ready"

    def is_ready(self, key: str) -> bool:
        """Whether an arm was laid out and built."""
        return self._ready(key).exists()

    def lay_out(self, key: str, fill: Callable[[Path], None], build: Callable[[Path], None]) -> Path:
        """Return the arm's folder: the one that is ready and unchanged, else filled and built anew."""
        home, ready = self.home(key), self._ready(key)
        with self._locked(key):
            if ready.exists() and home.is_dir() and folder_state(home, self._left_out).digest == _digest_in(ready):
                return home
            ready.unlink(missing_ok=True)
            shutil.rmtree(home, ignore_errors=True)
            home.mkdir()
            fill(home)
            build(home)
            write_whole(ready, json.dumps({"digest": folder_state(home, self._left_out).digest}))
        return home

    def deepen(self, key: str, depths: int) -> None:
        """Copy a laid-out arm to deeper folders, files with their times, so that it can run at any of these depths."""
        with self._locked(key):
            for depth in range(1, depths):
                copy = Path(deeper(str(self.home(key)), depth))
                shutil.rmtree(copy, ignore_errors=True)
                copy_tree(self.home(key), copy)

    def build_once(self, key: str, build: Callable[[], None]) -> None:
        """Build an arm that lies elsewhere, unless that was done before."""
        with self._locked(key):
            if not self.is_ready(key):
                build()
                write_whole(self._ready(key), "{}")

    def build_anew(self, key: str, build: Callable[[], None]) -> None:
        """Build an arm that lies elsewhere, whether that was done before or not."""
        with self._locked(key):
            self.log(key).unlink(missing_ok=True)
            build()

    def remove_half_made(self) -> None:
        """Remove arms whose making was cut short by a kill; what another process makes just now stays."""
        for lock in self.folder.glob("*.lock"):
            key = lock.stem
            if self.home(key).is_dir() and not self.is_ready(key):
                with self._locked(key, wait=False) as mine:
                    if mine and not self.is_ready(key):
                        shutil.rmtree(self.home(key), ignore_errors=True)

    @contextmanager
    def _locked(self, key: str, wait: bool = True) -> Iterator[bool]:
        """Hold an arm's lock: other processes that make it wait here and then find it ready."""
        make_private_folder(self.folder)
        with held_lock(self.folder / f"{key}.lock", wait) as mine:
            yield mine


def _digest_in(ready: Path) -> str | None:
    try:
        kept = json.loads(ready.read_text(encoding="utf-8"))
    except ValueError:
        return None
    return kept.get("digest") if isinstance(kept, dict) else None
