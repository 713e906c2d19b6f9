"""Which files of a folder make its state: what is not ignored, what the command names, and what the user adds."""

from __future__ import annotations

import os
import shlex
import stat
from collections.abc import Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import NamedTuple

from bystander.errors import ArmError, NotKeptError
from bystander.field.arms.folders import CACHE_TAG, EVERYTHING, NotOfTheArm, fits
from bystander.field.arms.git import Git
from bystander.field.launching.scratch import scratch_folder
from bystander.files import mode_at
from bystander.units import size_text

__all__ = ["DEFAULT_KEPT_BYTES", "Listing", "Wanted", "is_byte_code", "listed_files", "named_files", "refuse_large"]

DEFAULT_KEPT_BYTES = 64 * 2**20
_MOST_FILES = 100_000
_NOT_CODE = {".bystander", ".git", ".hg", ".svn", "__pycache__"}
_ENVIRONMENT = "pyvenv.cfg"  # in the top folder of an environment of Python, which works in its own place only


@dataclass(frozen=True)
class Wanted:
    """What is taken of a folder besides what is not ignored, and what is not.

    Attributes
    ----------
    words : tuple of str
        Of the commands that run there: files that they name are taken though they are ignored.
    also : tuple of str
        Patterns of paths relative to the folder; * stands for any letters, slashes too.
    most : int
        The most bytes that are kept of what git does not keep already.
    plainly : bool
        In git, what is tracked or not ignored and nothing else: as the arms of a study are made.
    left_out : NotOfTheArm
        What Bystander itself writes, and what trials write.
    without : tuple of str
        Environments of Python that are not there in the copy, rather than a link to each.
    """

    words: tuple[str, ...] = ()
    also: tuple[str, ...] = ()
    most: int = DEFAULT_KEPT_BYTES
    left_out: NotOfTheArm = field(default=EVERYTHING)
    plainly: bool = False
    without: tuple[str, ...] = ()


def _parts(words: Sequence[str]) -> Iterator[str]:
    """Yield every part of a command that may be a path, also those of a line for a shell."""
    for word in words:
        yield word
        if "=" in word:
            yield word.partition("=")[2]
        if " " in word:
            try:
                yield from (part for one in shlex.split(word) for part in (one, one.partition("=")[2]) if part)
            except ValueError:
                continue


def named_files(words: Sequence[str], folder: Path, top: Path) -> tuple[list[str], dict[str, str]]:
    """Return the files that a command names, relative to the top, and environments of Python that it names.

    Parameters
    ----------
    folder : Path
        Where the command runs, in `top`.

    Returns
    -------
    files : list of str
        Of a folder that is named, all that lie in it.
    links : dict
        Where an environment lies, relative to the top, and its absolute path: a copy of it would not work.
    """
    files: dict[str, None] = {}
    links: dict[str, str] = {}
    for part in _parts(words):
        path = Path(os.path.normpath(folder / part))
        if "\0" in part or path in (top, folder) or not path.is_relative_to(top) or path.name in _NOT_CODE:
            continue
        if environment := next((above for above in (path, *path.parents) if _is_environment(above, top)), None):
            links[str(environment.relative_to(top))] = str(environment)
        elif stat.S_ISDIR(mode := mode_at(path)) and not stat.S_ISLNK(mode_at(path, follow=False)):
            for name in walked(path, "a folder that the command names"):
                files[str((path / name).relative_to(top))] = None
        elif stat.S_ISREG(mode) or stat.S_ISLNK(mode_at(path, follow=False)):
            files[str(path.relative_to(top))] = None
    return list(files), links


def _is_environment(folder: Path, top: Path) -> bool:
    return folder != top and folder.is_relative_to(top) and stat.S_ISREG(mode_at(folder / _ENVIRONMENT))


def is_byte_code(name: str) -> bool:
    """Whether a file is one that an interpreter writes beside a program when it runs it: no edit."""
    return name.endswith(".pyc") or "__pycache__" in name.split("/")


def walked(folder: Path, what: str) -> list[str]:
    """Return all files and links below a folder, relative to it; but what tools keep there for themselves."""
    found = []
    for place, folders, names in os.walk(folder):
        inside = Path(place)
        if inside != folder and (CACHE_TAG in names or _ENVIRONMENT in names):
            folders.clear()
            continue
        links = [name for name in folders if (inside / name).is_symlink()]
        folders[:] = sorted(name for name in folders if name not in _NOT_CODE and name not in links)
        above = "" if inside == folder else f"{inside.relative_to(folder)}{os.sep}"
        found += [above + name for name in (*names, *links) if not is_byte_code(name)]
        if len(found) > _MOST_FILES:
            raise NotKeptError(f"{what} holds more than {_MOST_FILES:,} files".replace(",", "\u202f"))
    return found


class Listing(NamedTuple):
    """The files of a folder that make its state, links instead of environments, and what is neither: pipes, sockets."""

    files: list[str]
    links: dict[str, str]
    no_files: tuple[str, ...]


def listed_files(folder: Path, wanted: Wanted) -> Listing:
    """Return the files of a folder outside git that make its state.

    Raises
    ------
    NotKeptError
        When there are too many of them, or the folder is the user's home.
    """
    if folder == Path(folder.anchor):
        raise NotKeptError("it is the root of all files")
    with suppress(RuntimeError):  # nobody's home is known
        if folder == Path.home().resolve():
            raise NotKeptError("it is the home folder")
    named, links = named_files(wanted.words, folder, folder)
    links = {link: target for link, target in links.items() if link not in wanted.without}
    names = [name for name in walked(folder, "it") if not any(Path(name).is_relative_to(link) for link in links)]
    named_too = set(named)
    ignored = _ignored(folder, names) if any(Path(name).name == ".gitignore" for name in names) else set()
    kept = [name for name in names if name not in ignored or name in named_too or fits(name, wanted.also)]
    found = {name: _state(f"{folder}/{name}") for name in dict.fromkeys([*kept, *named])}
    states = {name: state for name, state in found.items() if state and not wanted.left_out.holds(name, state)}
    files = [name for name, state in states.items() if stat.S_ISREG(state.st_mode) or stat.S_ISLNK(state.st_mode)]
    _refuse_size(sum(states[name].st_size for name in files), wanted, "it holds {size}")
    set_of_files = set(files)
    return Listing(files, links, tuple(name for name in states if name not in set_of_files))


def _state(path: str) -> os.stat_result | None:
    try:
        return os.lstat(path)
    except OSError:  # it is gone
        return None


def refuse_large(files: Sequence[Path], wanted: Wanted, words: str) -> None:
    """Raise NotKeptError where files take more than may be kept; {size} stands for that in the words."""
    _refuse_size(sum(path.lstat().st_size for path in files if path.is_file() or path.is_symlink()), wanted, words)


def _refuse_size(size: int, wanted: Wanted, words: str) -> None:
    if size > wanted.most:
        raise NotKeptError(
            f'{words.format(size=size_text(size))}, more than {size_text(wanted.most)} (--keep "1 GiB" keeps more)'
        )


def _ignored(folder: Path, names: Sequence[str]) -> set[str]:
    """Return the files that a .gitignore in a folder outside git ignores; none where there is no git to ask."""
    with scratch_folder() as scratch:
        variables = {"GIT_DIR": str(scratch / "none"), "GIT_WORK_TREE": str(folder)}
        given = "".join(f"{name}\0" for name in names)
        git = Git(folder, ())
        try:
            git.run_plainly("init", "--quiet", "--bare", str(scratch / "none"))
            said = git.run_plainly(
                "check-ignore", "--no-index", "-z", "--stdin", variables=variables, given=given, empty=True
            )
        except ArmError:
            return set()
    return set(said.split("\0"))
