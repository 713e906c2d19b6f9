"""Arms are made ready: checked out apart, or snapshot, and built, once per arm key."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from pathlib import Path

from bystander.design import (
    DEPTHS,
    Arm,
    ArmFacts,
    ArmState,
    Condition,
    InterpreterFacts,
    KeptState,
    Study,
    arm_key,
    filled_words,
)
from bystander.errors import ArmError, BystanderError
from bystander.field.arms.apart import built_apart, copied_apart
from bystander.field.arms.checkouts import Checkouts
from bystander.field.arms.folders import NOT_CODE, NotOfTheArm, folder_state
from bystander.field.arms.git import Git
from bystander.field.arms.interpreters import interpreter_facts
from bystander.field.arms.study_folder import StudyFolder, own_outputs
from bystander.field.arms.variables import trial_environment, unsealed
from bystander.field.kept.states import KeptStates
from bystander.field.launching.masking import masked
from bystander.field.trials.commands import Site
from bystander.field.trials.kinds import kind_in_field, ready_workload
from bystander.files import copy_tree

__all__ = ["ArmMaker", "left_out_of"]

_LOG_LINES = 15
_APPENDED = os.O_WRONLY | os.O_APPEND | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC


@dataclass(frozen=True)
class _Source:
    """Where an arm's files come from: what writes them into a folder, or a folder used where it is.

    Attributes
    ----------
    tree : str
        What tells the files from others.
    inside : Path
        Where the study's folder lies in what is written.
    filters : mapping
        The user's filters that files pass on the way, with their commands.
    """

    tree: str
    identity: str
    facts: ArmFacts = field(default_factory=ArmFacts)
    fill: Callable[[Path], None] | None = None
    inside: Path = Path()
    folder: Path | None = None
    filters: Mapping[str, Mapping[str, str]] = field(default_factory=dict)


def left_out_of(study: Study, archive: Path | None) -> NotOfTheArm:
    """Return what is no part of any arm: what trials write by the study, and what Bystander writes just now.

    Where a study's folder is used where it lies, `bystander observe > said.txt` writes into the arm.
    """
    return NotOfTheArm(study.written_files, own_outputs(archive))


class ArmMaker:
    """Makes the arms of one study ready.

    Parameters
    ----------
    home : StudyFolder
    caller : mapping
        The environment from which trials take their stated list of variables.
    archive : Path or None
        Where the record will be, which may be in an arm's folder.
    """

    def __init__(self, home: StudyFolder, caller: Mapping[str, str], archive: Path | None = None) -> None:
        self.home = home
        self.caller = caller
        self._archive = archive
        self._trees: dict[str, str] = {}  # by arm, of those that were made

    def left_out(self, study: Study) -> NotOfTheArm:
        """Return what is no part of any arm."""
        return left_out_of(study, self._archive)

    def environment(self, study: Study, arm: Arm) -> dict[str, str]:
        """Return the variables of an arm's trials and build steps."""
        return trial_environment(self.caller, study.taken_over, arm.environment)

    def make(self, study: Study, arm: Arm) -> ArmState:
        """Return the arm, ready to run; raise ArmError when git or a build step fails."""
        environment = self.environment(study, arm)
        source = self._source(study, arm)
        interpreter = self._interpreter(study, arm, environment, source)
        key = arm_key(arm, source.tree, interpreter.version, source.filters)
        facts = replace(source.facts, tree=source.tree, interpreter=interpreter, environment=environment)
        if source.folder and arm.placebo and not arm.in_place:
            folder = self._copied(study, arm, key, source.folder, environment)
            facts = replace(facts, digest="")
        elif source.folder:
            folder = source.folder
            if arm.build:  # in place what was edited since is built again
                build = self._checkouts.build_anew if arm.in_place else self._checkouts.build_once
                build(key, lambda: self._build(arm, key, folder, environment))
            if facts.digest and arm.build:  # taken again: building may have changed the folder
                facts = replace(facts, digest=folder_state(folder, self.left_out(study)).digest)
        else:
            folder = self._laid_out(study, arm, key, source, environment)
        if Condition.FOLDER_DEPTH in study.vary:
            self._deepen(arm, key, folder)
        return ArmState(arm.name, key, str(folder), _identity(study, arm, source), facts)

    def _deepen(self, arm: Arm, key: str, folder: Path) -> None:
        if not folder.is_relative_to(self._checkouts.home(key)):
            raise ArmError(f'arm {arm.name} is used where it lies; vary = ["folder depth"] needs a git repository')
        self._checkouts.deepen(key, DEPTHS)

    def again(self, study: Study, arm: Arm, state: ArmState) -> ArmState:
        """Return an arm of an earlier record, in the very state that it had then.

        What was laid out then is used as it is, however the working tree or a tag has moved since.

        Raises
        ------
        ArmError
            When that state is gone or another interpreter would run it.
        """
        try:
            environment = unsealed(
                state.facts.environment, study.keep_environment, study.secret_environment, self.caller
            )
        except ArmError as error:
            raise ArmError(f"arm {arm.name}: {error}; set it as it was, or begin a new record") from None
        state = replace(state, facts=replace(state.facts, environment=environment))
        laid_out = not state.facts.digest and not arm.in_place
        if laid_out and self._checkouts.is_ready(state.key) and Path(state.folder).is_dir():
            folder = _Source("", "", folder=Path(state.folder))
            then = state.facts.interpreter.version
            now = self._interpreter(study, arm, environment, folder).version
            if then != now:
                sentence = f"arm {arm.name} ran under {then or None} and would now run under {now or None}"
                raise ArmError(f"{sentence}; begin a new record")
            if Condition.FOLDER_DEPTH in study.vary:
                self._deepen(arm, state.key, Path(state.folder))
            return state
        commit = state.facts.commit
        made = self.make(study, replace(arm, revision=commit) if commit else arm)
        if made.key != state.key:
            raise ArmError(
                f"arm {arm.name} is not what it was: {state.identity} then, {made.identity} now; begin a new record"
            )
        return replace(made, identity=state.identity, facts=replace(made.facts, environment=environment))

    def _interpreter(self, study: Study, arm: Arm, environment: Mapping[str, str], source: _Source) -> InterpreterFacts:
        """Return facts of the Python interpreter that the arm's first Python command would run, if any."""
        site = Site(arm, str(source.folder or self.home.path), environment)
        for workload in study.workloads:
            program = kind_in_field(workload.kind).program(workload, site)
            if "/" in program and not Path(program).is_absolute():
                continue  # inside the arm, which is not laid out yet
            try:
                path = ready_workload(workload, site).command.path
            except BystanderError:  # told properly once the arm is ready
                continue
            facts = interpreter_facts(path, environment, site.folder)
            if facts.path:
                return facts
        return InterpreterFacts()

    def _source(self, study: Study, arm: Arm) -> _Source:
        if arm.in_place:
            folder = (self.home.path / arm.folder).resolve()
            return _Source("", f"folder {folder}", folder=folder)
        if arm.kept is not None:
            return self._kept(arm, arm.kept)
        git = self.home.git
        if arm.revision is not None:
            if git is None:
                raise ArmError(f"arm {arm.name}: {self.home.path} lies in no git repository")
            commit = git.commit(arm.revision)
            facts = ArmFacts(commit=commit, subject=git.subject(commit))
            return self._of_tree(arm, git, git.tree_of(commit), f"{arm.revision} ({commit[:10]})", facts)
        folder = (self.home.path / arm.folder).resolve()
        if folder == self.home.path and git is not None:
            with _of_arm(arm):
                tree = git.snapshot(self._objects, arm.filters)
            return self._of_tree(arm, git, tree, f"working tree ({tree[:10]})", ArmFacts())
        if built_apart(study, arm, self.home):
            with _of_arm(arm):
                state = copied_apart(study, arm, self.home, self.left_out(study))
            return replace(self._kept(arm, state), identity=f"copy of folder {arm.folder} ({state.digest[:10]})")
        digest = folder_state(folder, self.left_out(study)).digest
        return _Source(digest, f"folder {arm.folder} ({digest[:10]})", ArmFacts(digest=digest), folder=folder)

    def _of_tree(self, arm: Arm, git: Git, tree: str, identity: str, facts: ArmFacts) -> _Source:
        def fill(home: Path) -> None:
            git.export_tree(tree, home, self._objects if self._objects.is_dir() else None, arm.filters)

        inside = self.home.path.relative_to(git.top.resolve())
        return _Source(tree, identity, facts, fill, inside, filters=self._filters(arm, git, tree))

    def _filters(self, arm: Arm, git: Git, tree: str) -> dict[str, dict[str, str]]:
        """Return the filters that an arm's files pass; raise ArmError where one is missing that made files differ."""
        objects = self._objects if self._objects.is_dir() else None
        try:
            meant = git.filters_of(tree, objects)
        except ArmError:  # it is gone, which whoever lays it out says
            return {}
        for other in list(self._trees.values())[-1:]:
            lost = git.filters.undefined(meant) if other != tree else []
            apart = set(git.differing(other, tree, objects)) if lost else set()
            for file, driver in lost:
                if file in apart:
                    raise ArmError(
                        f'arm {arm.name}: {file} differs between the arms, and is meant for filter "{driver}" of '
                        f".gitattributes, which no configuration of git defines: one may be what the other stands for. "
                        f"Install what defines it, or set filter.{driver}.clean and .smudge with git config --global"
                    )
        self._trees[arm.name] = tree
        return git.filters.commands(meant)

    def _kept(self, arm: Arm, state: KeptState) -> _Source:
        def fill(home: Path) -> None:
            KeptStates(self.home).lay_out(state, home, arm.filters)

        git = self.home.git if state.how == "tree" else None
        filters = self._filters(arm, git, state.digest) if git else {}
        return _Source(state.digest, state.identity, fill=fill, inside=Path(state.inside), filters=filters)

    @property
    def _objects(self) -> Path:
        return self.home.own / "objects"

    @property
    def _checkouts(self) -> Checkouts:
        return Checkouts(self.home.own / "arms")

    def remove_half_made(self) -> None:
        """Remove what an earlier command began to lay out and could not finish."""
        self._checkouts.remove_half_made()

    def stands_for(self, arm: Arm, state: ArmState) -> tuple[Path, Path] | None:
        """Return the folder of an arm's own files and the user's folder that it was made from; None in place.

        Both are the same where a folder is used where it lies.
        """
        own = self.folder_of(arm, state)
        if own is None:
            return None
        if own != self._checkouts.home(state.key):
            return own, own
        if arm.revision is None and (other := (self.home.path / arm.folder).resolve()) != self.home.path:
            return own, other  # a placebo's copy
        return own, self.home.git.top.resolve() if self.home.git else self.home.path

    def folder_of(self, arm: Arm, state: ArmState) -> Path | None:
        """Return the folder whose files must stay what they are while trials run; None for an arm run in place."""
        if arm.in_place:
            return None
        home = self._checkouts.home(state.key)
        return home if Path(state.folder).is_relative_to(home) else Path(state.folder)

    def _laid_out(self, study: Study, arm: Arm, key: str, source: _Source, environment: Mapping[str, str]) -> Path:
        """Lay out and build, unless that was done before; return the study's folder in it."""
        written, inside = source.fill, source.inside
        assert written

        def fill(home: Path) -> None:
            with _of_arm(arm):
                written(home)
            if not (home / inside).is_dir():
                raise ArmError(f"arm {arm.name}: {source.identity} has no folder {inside}")

        made = Checkouts(self._checkouts.folder, self.left_out(study))
        return made.lay_out(key, fill, lambda home: self._build(arm, key, home / inside, environment)) / inside

    def _copied(self, study: Study, arm: Arm, key: str, folder: Path, environment: Mapping[str, str]) -> Path:
        """Lay out a placebo of an arm that is used where it lies: a copy with a build of its own."""

        def fill(home: Path) -> None:
            copy_tree(folder, home, NOT_CODE.__contains__)

        made = Checkouts(self._checkouts.folder, self.left_out(study))
        return made.lay_out(key, fill, lambda home: self._build(arm, key, home, environment))

    def _build(self, arm: Arm, key: str, folder: Path, environment: Mapping[str, str]) -> None:
        """Run the build steps; their output is kept beside the arm, and shown when one fails."""
        log = self._checkouts.log(key)
        for step in arm.build:
            words = filled_words(step, arm.filled)
            with os.fdopen(os.open(log, _APPENDED, 0o600), "a", encoding="utf-8") as output:
                output.write(f"$ {step}\n")
                output.flush()
                try:
                    code = subprocess.run(
                        words, cwd=folder, env=dict(environment), stdin=subprocess.DEVNULL, stdout=output,
                        stderr=subprocess.STDOUT, check=False,
                    ).returncode  # fmt: skip
                except OSError as error:
                    output.write(f"{words[0]}: {error.strerror}\n")
                    code = 127
            if code:
                last = log.read_text(encoding="utf-8", errors="replace").splitlines()[-_LOG_LINES:]
                ended = f"exit code {code}" if code > 0 else f"signal {-code}"
                raise ArmError(
                    f'arm {arm.name}: build step "{step}" ended with {ended}; its output is kept in {log}:\n'
                    + masked("\n".join(f"  {line}" for line in last))
                )


@contextmanager
def _of_arm(arm: Arm) -> Iterator[None]:
    """Name the arm in what git refuses."""
    try:
        yield
    except ArmError as error:
        raise ArmError(f"arm {arm.name}: {error}") from None


def _identity(study: Study, arm: Arm, source: _Source) -> str:
    """Return what a reader should know an arm by; of a placebo, how far it is apart from the reference."""
    if not arm.placebo:
        return source.identity
    how = "run again in the same folder" if arm.in_place else "made a second time, apart"
    return f"{study.reference.name} {how}: {source.identity}"
