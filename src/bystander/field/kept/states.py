"""The states that records keep: files as trees of git or as copies, and which record keeps which."""

from __future__ import annotations

import hashlib
import json
import os
import re
import secrets
import shutil
import stat
import time
from collections.abc import Iterator, Mapping
from contextlib import suppress
from dataclasses import asdict, dataclass, field
from pathlib import Path

from bystander.design import Arm, KeptState, from_plain, plain
from bystander.errors import ArmError, NotKeptError, UntrustedRepositoryError
from bystander.field.arms.folders import FolderState, fits, folder_state, link_digest, state_of
from bystander.field.arms.git import ChosenFiles, Git
from bystander.field.arms.study_folder import StudyFolder
from bystander.field.kept.chosen import Wanted, is_byte_code, listed_files, named_files, refuse_large
from bystander.field.kept.seen import FileSeen, Seen, read_seen, seen_files, still, write_seen
from bystander.files import copy_file, copy_tree, make_private_folder, write_whole

__all__ = ["KeptOfRecord", "KeptStates"]

_FORMAT = "bystander-states/1"
_TREE, _COPY = "tree", "copy"
_UUID = re.compile(r"[\w-]{1,64}", re.ASCII)
_DIGEST = re.compile(r"(times-)?[0-9a-f]{12,64}")


@dataclass(frozen=True)
class KeptOfRecord:
    """What a record keeps.

    Attributes
    ----------
    arms : mapping
        By the name of an arm: its state, or why there is none, as a clause about the folder.
    first : Arm or None
        The arm with which a chain of observations began, its state with it; None at the beginning.
    also : tuple of str
        What was taken besides, see `Wanted`.
    most : int
        The most bytes that are kept.
    """

    arms: Mapping[str, KeptState | str] = field(default_factory=dict)
    first: Arm | None = None
    also: tuple[str, ...] = ()
    most: int = 0

    def states(self) -> Iterator[KeptState]:
        """Yield all that must stay for it."""
        yield from (state for state in self.arms.values() if isinstance(state, KeptState))
        if self.first and self.first.kept:
            yield self.first.kept


class KeptStates:
    """The states kept in Bystander's folder of one study."""

    def __init__(self, home: StudyFolder) -> None:
        self._home = home
        self._folder = home.own / "states"
        self._objects = home.own / "objects"
        self.no_files: tuple[str, ...] = ()  # of all folders that were taken: pipes and their like, which are left out

    def take(self, folder: Path, wanted: Wanted, filters: bool = False) -> KeptState:
        """Keep the state of a folder as it is now.

        Raises
        ------
        NotKeptError
            When it is too large, or cannot be read.
        """
        try:
            git = self._home.git if folder == self._home.path else None
            return self._tree(git, folder, wanted, filters) if git else self._copy(folder, wanted)
        except NotKeptError:
            raise
        except UntrustedRepositoryError:
            raise NotKeptError("git is not told to trust the repository around it") from None
        except ArmError as error:
            raise NotKeptError(str(error)) from None
        except OSError as error:
            name = f" ({error.filename})" if error.filename else ""
            raise NotKeptError(f"it cannot be read or written: {error.strerror}{name}") from None

    def _tree(self, git: Git, folder: Path, wanted: Wanted, filters: bool) -> KeptState:
        top = git.top.resolve()
        inside = str(folder.relative_to(top)).removeprefix(".")
        if wanted.plainly:
            return KeptState(_TREE, git.snapshot(self._objects, filters), inside)
        besides, links = named_files(wanted.words, folder, top)
        others = git.names("--others", "--exclude-standard")
        if wanted.also:
            ignored = git.names("--others", "--ignored", "--exclude-standard")
            besides += [name for name in ignored if fits(os.path.relpath(top / name, folder), wanted.also)]
        listed = set(git.names("--cached"))
        left_out = {name for name in others if is_byte_code(name) or _holds(top / name, name, wanted)}
        left_out |= {name for name in others if any(Path(name).is_relative_to(link) for link in links)}
        besides = [name for name in dict.fromkeys(besides) if name not in listed]
        new = [top / name for name in dict.fromkeys([*others, *besides]) if name not in left_out]
        refuse_large(new, wanted, "{size} of it are not in git")
        links = {link: target for link, target in links.items() if not any(n.startswith(f"{link}/") for n in listed)}
        chosen = ChosenFiles(tuple(besides), frozenset(left_out), links)
        return KeptState(_TREE, git.snapshot(self._objects, filters, chosen), inside)

    def _copy(self, folder: Path, wanted: Wanted) -> KeptState:
        listing = listed_files(folder, wanted)
        self.no_files += listing.no_files
        make_private_folder(self._folder)
        # By a time that no copying sets: the newest is the one that this folder most likely was.
        earlier = max(self._copies(), key=lambda copy: copy.lstat().st_ctime_ns, default=None)
        before = read_seen(self._seen(earlier.name)) if earlier else None
        now = seen_files(folder, listing.files, before, time.time_ns())
        digest = _digest(now, listing.links)
        if not (self._folder / digest).is_dir():
            digest, now = self._copied(folder, now, listing.links, earlier, before)
        if not (before and earlier and digest == earlier.name and before.files == now.files):
            write_seen(self._seen(digest), now)
        return KeptState(_COPY, digest)

    def _copied(
        self, folder: Path, now: Seen, links: Mapping[str, str], earlier: Path | None, before: Seen | None
    ) -> tuple[str, Seen]:
        """Copy what was seen; return the digest and what was copied, which may have changed since."""
        part = self._folder / f".part-{secrets.token_hex(6)}"
        known = before.files if earlier and before else {}
        files: dict[str, FileSeen] = {}
        try:
            part.mkdir(0o700)
            for name, seen in now.files.items():
                same = name in known and known[name].digest == seen.digest
                if _copied(folder / name, part / name, earlier / name if earlier and same else None):
                    files[name] = still(folder / name, part / name, seen)
            for link, target in links.items():
                (part / link).parent.mkdir(parents=True, exist_ok=True)
                (part / link).symlink_to(target)
            digest = _digest(now := Seen(files, now.at_ns), links)
            try:
                part.rename(self._folder / digest)
            except OSError:
                if not (self._folder / digest).is_dir():
                    raise
                shutil.rmtree(part)  # it is kept already, or another Bystander was quicker
        except BaseException:
            shutil.rmtree(part, ignore_errors=True)
            raise
        return digest, now

    def lay_out(self, state: KeptState, folder: Path, filters: bool = False) -> None:
        """Write the files of a state into a folder; raise ArmError where it is no longer kept."""
        gone = f"the state {state.identity} is no longer kept"
        if not _is_sound(state):
            raise ArmError(gone)
        if state.how == _COPY:
            if not self._place(state).is_dir():
                raise ArmError(gone)
            copy_tree(self._place(state), folder)
            return
        git = self._home.git
        if git is None:
            raise ArmError(f"{gone}: {self._home.path} lies in no git repository any more")
        objects = self._objects if self._objects.is_dir() else None
        try:
            git.export_tree(state.digest, folder, objects, filters)
        except ArmError:
            if git.has_tree(state.digest, objects):
                raise
            raise ArmError(gone) from None

    def differing(self, before: KeptState, after: KeptState) -> tuple[str, ...]:
        """Return the files in which two states differ, relative to their tops; none where that cannot be told."""
        if before.how == after.how == _COPY:
            return self._files_of(before).changed(self._files_of(after))
        if before.how == after.how and self._home.git:
            with suppress(ArmError):
                objects = self._objects if self._objects.is_dir() else None
                return self._home.git.differing(before.digest, after.digest, objects)
        return ()

    def content(self, state: KeptState, file: Path) -> bytes | None:
        """Return what a file of a copy holds; None where it is no copy, or holds no such file."""
        if state.how != _COPY or not _is_sound(state):
            return None
        try:
            return (self._place(state) / file).read_bytes()
        except OSError:
            return None

    def _files_of(self, state: KeptState) -> FolderState:
        seen = read_seen(self._seen(state.digest))
        return state_of({n: one.digest for n, one in seen.files.items()}) if seen else folder_state(self._place(state))

    def write(self, record: str, kept: KeptOfRecord) -> None:
        """Write down what a record keeps, by its UUID."""
        make_private_folder(self._folder)
        arms = {name: asdict(s) if isinstance(s, KeptState) else {"not_kept": s} for name, s in kept.arms.items()}
        document = {"format": _FORMAT, "record": record, "arms": arms, "also": kept.also, "most": kept.most}
        document["first"] = plain(kept.first) if kept.first else None
        write_whole(self._told(record), json.dumps(document))

    def of(self, record: str) -> KeptOfRecord | None:
        """Return what a record keeps, by its UUID; None where nothing was ever written down."""
        return _read(self._told(record))

    def forget(self, record: str) -> None:
        """Let go of what a record keeps; `prune` gives the room back."""
        self._told(record).unlink(missing_ok=True)

    def size(self) -> int:
        """Return what the states take on the disk, in bytes; files that several share count once."""
        files = [file for folder in (self._folder, self._objects) if folder.is_dir() for file in folder.rglob("*")]
        seen = {(state.st_dev, state.st_ino): state.st_size for file in files if (state := _state(file))}
        return sum(seen.values())

    def prune(self) -> None:
        """Remove every state that no record keeps; nothing may be observed meanwhile."""
        states = [state for file in self._folder.glob("*.json") if (kept := _read(file)) for state in kept.states()]
        digests = {state.digest for state in states if state.how == _COPY}
        for folder in [*self._copies(), *self._folder.glob(".part-*")]:
            if folder.name not in digests:
                shutil.rmtree(folder, ignore_errors=True)
                self._seen(folder.name).unlink(missing_ok=True)
        if (git := self._home.git) and self._objects.is_dir():
            trees = {state.digest for state in states if state.how == _TREE}
            held = set()
            for tree in trees:
                with suppress(ArmError):  # it is gone already
                    held |= git.held(tree, self._objects)
            for file in self._objects.glob("??/*"):
                if file.parent.name + file.name not in held:
                    file.unlink(missing_ok=True)

    def _told(self, record: str) -> Path:
        """Return where it is written down what a record keeps; its UUID may come from elsewhere, and becomes a path."""
        name = record if _UUID.fullmatch(record) else hashlib.sha256(record.encode("utf-8", "replace")).hexdigest()
        return self._folder / f"{name}.json"

    def _place(self, state: KeptState) -> Path:
        return self._folder / state.digest

    def _seen(self, digest: str) -> Path:
        return self._folder / f"{digest}.seen"

    def _copies(self) -> list[Path]:
        if not self._folder.is_dir():
            return []
        return [one for one in self._folder.iterdir() if one.is_dir() and not one.name.startswith(".")]


def _holds(path: Path, name: str, wanted: Wanted) -> bool:
    try:
        return wanted.left_out.holds(name, path.lstat())
    except OSError:
        return True


def _is_sound(state: KeptState) -> bool:
    """Whether a state names what it could have been kept as: its digest becomes a path, and a word for git."""
    return bool(_DIGEST.fullmatch(state.digest)) and ".." not in Path(state.inside).parts


def _state(file: Path) -> os.stat_result | None:
    with suppress(OSError):
        state = file.lstat()
        return state if stat.S_ISREG(state.st_mode) else None
    return None


def _digest(now: Seen, links: Mapping[str, str]) -> str:
    """Return the digest of a state, as `folder_state` gives it for the folder that holds it."""
    digests = {name: one.digest for name, one in now.files.items() if not is_byte_code(name)}
    digests |= {name: link_digest(target) for name, target in links.items()}
    return state_of({name: digests[name] for name in sorted(digests, key=lambda name: name.split("/"))}).digest


def _copied(source: Path, target: Path, earlier: Path | None) -> bool:
    """Copy a file with its mode and time; what did not change since an earlier copy shares its room.

    Return False where it is gone, or has become something else.
    """
    target.parent.mkdir(parents=True, exist_ok=True)
    try:
        if source.is_symlink():
            target.symlink_to(source.readlink())
            return True
        if earlier is not None and earlier.lstat().st_mtime_ns == source.lstat().st_mtime_ns:
            os.link(earlier, target, follow_symlinks=False)
            return True
    except FileNotFoundError:
        pass
    try:
        return copy_file(source, target)
    except FileNotFoundError:
        return False


def _read(file: Path) -> KeptOfRecord | None:
    """Return what a file says that a record keeps; None where there is none, or it says something else."""
    try:
        document = json.loads(file.read_text(encoding="utf-8"))
        if document["format"] != _FORMAT:
            return None
        arms = {
            str(name): str(told["not_kept"]) if "not_kept" in told else from_plain(KeptState, told)
            for name, told in document["arms"].items()
        }
        first = from_plain(Arm, document["first"]) if document["first"] else None
        kept = KeptOfRecord(arms, first, tuple(map(str, document["also"])), int(document["most"]))
        return kept if all(_is_sound(state) for state in kept.states()) else None
    except (OSError, ValueError, KeyError, TypeError, AttributeError):
        return None
