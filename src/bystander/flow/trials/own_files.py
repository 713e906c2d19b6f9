"""Each arm runs its own files: while arms are tried, the user's folder and the other arms' are watched.

A package that is installed in editable form, a `src` layout without a path or an absolute path let every arm run the
same files: a real change is then the same in both, and no statistics can tell.
"""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from pathlib import Path

from bystander.design import ArmState, Study
from bystander.errors import OwnFilesError
from bystander.field import ArmMaker, CannotWatchError, Openings, fits, source_of
from bystander.units import listed

__all__ = ["OwnFiles"]

_NOT_CODE = (".git", ".bystander")
_OURS = Path(__file__).parents[2] / "field" / "inside"  # what every trial is started through
_NAMED = 3


class OwnFiles:
    """Tells which files an arm opened elsewhere though it has copies of its own; use as a context.

    Attributes
    ----------
    blind : str
        Why nothing can be told, as a clause; "" where it can.
    """

    def __init__(self, study: Study, arms: Sequence[ArmState], maker: ArmMaker) -> None:
        self._study = study
        self._roots = [maker.stands_for(arm, state) for arm, state in zip(study.arms, arms, strict=True)]
        self._inside = maker.home.path
        self._openings: Openings | None = None
        self.blind = ""

    def __enter__(self) -> OwnFiles:
        folders = sorted({folder for a in range(len(self._roots)) for folder in self._to_watch(a)})
        if folders:
            try:
                self._openings = Openings(folders).__enter__()
            except CannotWatchError as error:
                self.blind = str(error)
        return self

    def __exit__(self, *_: object) -> None:
        if self._openings:
            self._openings.__exit__(None, None, None)

    def opened(self, arm: int) -> set[str]:
        """Return what was opened since the last call of which an arm has a copy, as paths relative to the arm."""
        if not self._openings:
            return set()
        try:
            seen = self._openings.seen()
            # A first import writes byte-code into a folder that was not there; a second one opens nothing but that.
            for cache in {path.parent / "__pycache__" for path in seen if path.suffix == ".py"}:
                if cache.is_dir():
                    self._openings.add(cache)
        except CannotWatchError as error:
            self.blind = str(error)
            return set()
        return {found for path in seen if (found := self._copied(arm, path))}

    def refusal(self, arm: int, files: set[str]) -> OwnFilesError:
        """Return the error of an arm that runs what others run too."""
        root, name = self._roots[arm], self._study.arms[arm].name
        assert root
        shown = sorted(files, key=lambda file: (not file.endswith((".py", ".so")), file))
        top = "src" if shown[0].startswith("src/") else "."
        text = (
            f"arm {name} opens {listed(shown, _NAMED)} outside its own folder, where every arm finds the same, though "
            "it has a copy of its own: what is compared would be one thing. "
        )
        if self._study.arms[arm].kept:
            return OwnFilesError(
                f"{text}Put env PYTHONPATH={top} before the command, or install each state for itself (--build), into "
                "an environment of its own, and observe that first"
            )
        return OwnFilesError(
            f"{text}Install each arm for itself (build), into an environment of its own, or set a path variable "
            f'(arms.{name}.environment.PYTHONPATH = "{top}"); what arms may share is data: '
            f'shared_files = ["{self._relative(shown[0])}"]'
        )

    def _relative(self, file: str) -> str:
        """Return a path inside an arm as the study writes it, relative to its own folder."""
        for root in self._roots:
            if root and self._inside.is_relative_to(root[1]):
                return os.path.relpath(root[1] / file, self._inside)
        return file

    def _places(self, arm: int) -> list[Path]:
        """Return the folders in which an arm must not open what it has itself."""
        own = self._roots[arm]
        if own is None:
            return []
        found = [place for root in self._roots if root for place in root]
        return [place for place in dict.fromkeys(found) if place != own[0]]

    def _to_watch(self, arm: int) -> Iterator[Path]:
        """Yield the folders elsewhere that an arm has too, with the byte-code that Python keeps beside them."""
        own, places = self._roots[arm], self._places(arm)
        if own is None or not places:
            return
        for folder, names, _ in os.walk(own[0]):
            names[:] = [name for name in names if name not in (*_NOT_CODE, "__pycache__")]
            inside = Path(folder).relative_to(own[0])
            for place in places:
                yield from (one for one in (place / inside, place / inside / "__pycache__") if one.is_dir())

    def _copied(self, arm: int, path: Path) -> str:
        """Return the path within the arm of a file opened elsewhere; "" where it is none of the arm's."""
        own, source = self._roots[arm], source_of(path)
        assert own
        if source.is_relative_to(own[0]) or source.is_relative_to(_OURS):
            return ""
        for place in sorted(self._places(arm), key=lambda place: -len(place.parts)):
            if source.is_relative_to(place):
                name = str(source.relative_to(place))
                copy = own[0] / name
                shared = fits(self._relative(name), self._study.shared_files)
                return name if copy.is_file() and not copy.is_symlink() and not shared else ""
        return ""
