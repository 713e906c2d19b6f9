"""The source of what was watched or counted, as it lies there now, and whether it was edited since."""

from __future__ import annotations

from pathlib import Path

from bystander.design import KeptState, RecordHead, Run
from bystander.field import KeptStates, StudyFolder, source_text

__all__ = ["source_now"]

_OWN = ".bystander"


def source_now(head: RecordHead, run: Run, arm: int, file: str, what: str) -> tuple[str | None, str]:
    """Return a file's text as it lies there now, None where it does not, and what speaks against it.

    Parameters
    ----------
    what : str
        What stands beside lines: "seconds", or "counts".
    """
    if not file or file.startswith("<") or not head.observed_here:
        return None, f"Its source is not here: {what} by line without text."
    text = source_text(file)
    if text is None:
        return None, f"{file} is not there any more, or is no text: {what} by line without it."
    done = "watched" if what == "seconds" else "counted"
    edited = _edited_since(head, run, arm, Path(file))
    return text, f"The file was written to after it was {done}: its lines may not be those that ran." if edited else ""


def _edited_since(head: RecordHead, run: Run, arm: int, file: Path) -> bool:
    """Whether a file holds something else than when a run ended, as far as that can be told.

    Its time may have been set back by whoever copied it; when the inode changed cannot be set. What was only touched
    holds what the state that the record kept holds.
    """
    try:
        state = file.stat()
        if run.ended_wall_s is None or max(state.st_mtime, state.st_ctime) <= run.ended_wall_s:
            return False
        return _kept_content(head, arm, file) != file.read_bytes()
    except OSError:
        return False


def _kept_content(head: RecordHead, arm: int, file: Path) -> bytes | None:
    """Return what the copy holds that a record keeps of an arm's folder; None where it keeps none."""
    folder = Path(head.study_folder)
    if not (folder / _OWN).is_dir() or not file.is_relative_to(head.arms[arm].folder):
        return None
    states = KeptStates(StudyFolder(folder))
    kept = states.of(head.uuid)
    state = kept.arms.get(head.study.arms[arm].name) if kept else None
    if not isinstance(state, KeptState):
        return None
    return states.content(state, file.relative_to(head.arms[arm].folder))
