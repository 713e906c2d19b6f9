"""What a chain could see: the smallest gain of a link that so many blocks show, and what would do for a smaller one."""

from __future__ import annotations

import math
from collections.abc import Sequence

from bystander.design import ChainKind, Study
from bystander.errors import UsageError
from bystander.foresight.outlook import Outlook
from bystander.foresight.remarks import blocks_lacking
from bystander.units import counted, duration_text, listed, share_text

__all__ = ["links_sentences", "refuse_too_few", "unseen"]

_NAMED = 4
_MOST_BLOCKS = 100_000
_TINY = 0.001  # nobody asks for less


def links_sentences(study: Study, found: Sequence[Outlook], change: float) -> list[str]:
    """Say which gain of a link so many blocks show in 8 of 10 such chains, and where that is not what is asked for."""
    known = [one for one in found if not math.isnan(one.smallest)]
    if not study.links or not known:
        return []
    seen = max(one.smallest for one in known)
    pieces = study.chain is not None and study.chain.kind is ChainKind.PIECES
    word, such = ("comparison", "edits") if pieces else ("link", "chains")
    if seen < _TINY:
        text = f"gains of less than {share_text(_TINY)} of a {word} are shown in 8 of 10 such {such}."
    elif math.isfinite(seen):
        text = f"gains of {share_text(seen)} and more of a {word} are shown in 8 of 10 such {such}."
    else:
        text = f"no gain of a {word} could be shown, however large."
    text = f"{counted(len(study.links), word)}, {study.counted_blocks}: {text}"
    return [text, *([f"{problem}."] if (problem := unseen(study, known, change)) else [])]


def refuse_too_few(study: Study) -> None:
    """Raise UsageError where so few blocks show nothing, however little trials scatter: before states are made."""
    if needed := blocks_lacking(study):
        least, rows = counted(min(study.planned_blocks), "block"), counted(study.planned_rows, "comparison")
        raise UsageError(f"{least} can show nothing of {rows}: it takes {needed} at least; --blocks {needed}")


def unseen(study: Study, found: Sequence[Outlook], change: float) -> str:
    """Return what cannot be seen and what would do, as a sentence without its stop; "" where all can."""
    blind = [one for one in found if one.smallest > change]
    if not blind:
        return ""
    worst = max(blind, key=lambda one: one.smallest)
    names = listed([study.workloads[one.workload].name for one in blind], _NAMED)
    shows = f"show {share_text(worst.smallest)} of a link at best" if math.isfinite(worst.smallest) else "show nothing"
    text = f"{study.counted_blocks} {shows} in {names}, and {share_text(change)} is asked for"
    ways = []
    blocks = max(one.blocks_for_change for one in blind)
    if blocks <= _MOST_BLOCKS:
        wanted = _rounded(blocks)
        times = [one.seconds_for_change / one.blocks_for_change for one in found if one.blocks_for_change > 0]
        takes = wanted * sum(times)
        ways.append(f"--blocks {wanted} would do" + (f" ({duration_text(takes, 2)})" if math.isfinite(takes) else ""))
    cpu = max(one.by_cpu for one in blind)
    if study.measure == "elapsed" and cpu <= change and min(one.computing for one in blind) > 0.5:
        ways.append('measure = "cpu" would do, where waiting does not matter')
    if math.isfinite(worst.smallest):
        ways.append(f'--change "{_up(worst.smallest)} %" asks for less')
    return f"{text}; {'; or '.join(ways)}" if ways else text


def _rounded(blocks: float) -> int:
    step: int = 10 ** max(0, math.floor(math.log10(max(1.0, blocks))) - 1)
    return math.ceil(blocks / step) * step


def _up(share: float) -> str:
    """Return percent with two digits, not below the share."""
    step = 10.0 ** (math.floor(math.log10(100 * share)) - 1)
    return f"{math.ceil(100 * share / step - 1e-9) * step:.12g}"  # never as "3e+02", which no option takes
