"""What is shown while an observation runs: how far, how long still, how precise; never who is ahead."""

from __future__ import annotations

import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager

from rich.console import Console, Group
from rich.live import Live
from rich.table import Table
from rich.text import Text

from bystander.cli.shown.console import errors
from bystander.design import ArmState, Status, Study, TrialOutcome
from bystander.foresight import Progress
from bystander.units import duration_text, listed, numbered, share_text

__all__ = ["Display"]

_MOST_ROWS = 14
_MOST_NAMED = 6
_BAR = 30
_LINES_S = 2.0
_WATCHED_LINES_S = 8.0
_PAUSE_S = 0.25  # a display that is redrawn more often would disturb the trials


class Display:
    """Tells people on standard error what happens; a live table on a terminal, plain lines elsewhere."""

    def __init__(self, quiet: bool = False, trying: bool = False) -> None:
        self.console: Console = errors()
        self.quiet = quiet or (trying and not self.console.is_terminal)
        self._only_trying = trying
        self.study: Study | None = None
        self._live: Live | None = None
        self._drawn = 0.0
        self._tenth = 0

    def __enter__(self) -> Display:
        return self

    def __exit__(self, *_: object) -> None:
        if self._live:
            with self._while_somebody_watches():
                self._live.stop()

    @contextmanager
    def _while_somebody_watches(self) -> Iterator[None]:
        """Fall silent when the terminal is closed: that must not disturb the observation's own ending."""
        try:
            yield
        except OSError:
            self.quiet, self._live = True, None

    def _line(self, text: str) -> None:
        if not self.quiet:
            with self._while_somebody_watches():
                self.console.print(text, soft_wrap=not self.console.is_terminal)

    def making(self, arm: str) -> None:
        """Say nothing: most arms are ready at once."""

    def made(self, arm: ArmState) -> None:
        """Name the arm as it was found or made."""
        if self._only_trying:
            return
        self._line(f"arm {arm.name}: {arm.identity}")

    def tried(self, workload: str, arm: str, outcome: TrialOutcome) -> None:
        """Tell of a trial that failed before anything is recorded."""
        if outcome.status is not Status.OK and not self._only_trying:
            self._line(f"{workload} fails under arm {arm} ({outcome.how})")

    def trying(self, workload: str, block: int, blocks: int) -> None:
        """Show which trial block runs, on a line that is written over."""
        if self.quiet or not self.console.is_terminal:
            return
        if self._live is None:
            self._live = Live(console=self.console, auto_refresh=False, transient=True)
            with self._while_somebody_watches():
                self._live.start()
        if self._live and self._quiet_for(_PAUSE_S):
            with self._while_somebody_watches():
                self._live.update(
                    Text(f"trying, block {block + 1} of {blocks}: {workload}", style="quiet"), refresh=True
                )
            self._drawn = time.monotonic()

    def begun(self, study: Study, record: str, expected_s: float) -> None:
        """Name the record and say how long it will take."""
        self.study = study
        trials = study.total_blocks * len(study.arms)
        most, at_most = ("up to ", "at most") if self._early else ("", "about")
        took = f"{at_most} {duration_text(expected_s, 2)}"
        self._line(f"record {record}: {most}{trials} trials, {took}; Ctrl-C ends it tidily")
        if self.console.is_terminal and not self.quiet and self._live is None:
            self._live = Live(console=self.console, auto_refresh=False, transient=True)
            with self._while_somebody_watches():
                self._live.start()

    def progressed(self, progress: Progress) -> None:
        """Redraw, at most four times a second, or print a line at every tenth."""
        last = progress.done == progress.planned
        if self._live:
            if self._quiet_for(_PAUSE_S) or last:
                with self._while_somebody_watches():
                    self._live.update(self._picture(progress), refresh=True)
                self._drawn = time.monotonic()
        elif self._tenth < 10 * progress.done // progress.planned and (self._quiet_for(_LINES_S) or last):
            self._tenth, self._drawn = 10 * progress.done // progress.planned, time.monotonic()
            left = "" if last else f", {self._left(progress)}"
            self._line(f"{progress.done} of {progress.planned} blocks{left}")

    @property
    def _early(self) -> bool:
        return self.study is not None and self.study.stops_early

    def _left(self, progress: Progress) -> str:
        return f"{'at most' if self._early else 'about'} {duration_text(progress.left_s, 2)} left"

    def looked(self, blocks: int, decided: Sequence[str], live: int) -> None:
        """Name the workloads that leave, but not how they were decided: that comes at the end, for all at once."""
        planned = zip(self.study.workloads, self.study.planned_blocks, strict=True) if self.study else ()
        most = {workload.name: count for workload, count in planned}
        decided = [name for name in decided if blocks < most.get(name, 0)]  # at the last one all do
        if decided:
            go_on = f"{live} go{'es' if live == 1 else ''} on" if live else "none is left"
            self._line(f"look after {blocks} blocks: done with {listed(decided, _MOST_NAMED)}; {go_on}")

    def _quiet_for(self, seconds: float) -> bool:
        return time.monotonic() - self._drawn > seconds

    def pause(self) -> None:
        """Take the live line away, so that something else can be printed."""
        if self._live:
            with self._while_somebody_watches():
                self._live.stop()
            self._live = None

    def watched(self, workload: str, blocks: int, most: int, left_s: float) -> None:
        """Show how many blocks were watched: on a line that is written over, or one now and then."""
        last = blocks >= most
        left = "" if last else f", at most {duration_text(left_s, 2)} left"
        text = f"watching {workload}: {blocks} of at most {most} blocks{left}"
        if self.quiet or not self.console.is_terminal:
            if self._quiet_for(_WATCHED_LINES_S):
                self._drawn = time.monotonic()
                self._line(text)
            return
        if self._live is None:
            self._live = Live(console=self.console, auto_refresh=False, transient=True)
            with self._while_somebody_watches():
                self._live.start()
        if self._live and (self._quiet_for(_PAUSE_S) or last):
            with self._while_somebody_watches():
                self._live.update(Text("" if last else text, style="quiet"), refresh=True)
            self._drawn = time.monotonic()

    def doing(self, what: str) -> None:
        """Print a line."""
        self._line(what)

    def remark(self, sentence: str) -> None:
        """Print a sentence above the display."""
        self._line(f"note: {sentence}")

    def _picture(self, progress: Progress) -> Group:
        assert self.study
        share = progress.done / progress.planned
        head = Text(f"{progress.done} of {progress.planned} blocks, {self._left(progress)}  ")
        head.append("━" * round(share * _BAR), style="faster").append("─" * (_BAR - round(share * _BAR)), style="quiet")
        table = Table(box=None, padding=(0, 2, 0, 0), pad_edge=False, header_style="quiet")
        for title in ("workload", "blocks", "precision"):
            table.add_column(title, no_wrap=True)
        names = [workload.name for workload in self.study.workloads]
        forms = numbered(names, max(12, self.console.width - 32))
        # Those that go on come first: they are what the time is for.
        for w in sorted(range(len(names)), key=lambda w: w in progress.decided)[:_MOST_ROWS]:
            decided, precision = w in progress.decided, progress.precision[w]
            blocks = (
                f"{progress.blocks[w]}, decided" if decided else f"{progress.blocks[w]}/{self.study.planned_blocks[w]}"
            )
            style = "quiet" if decided else ""
            table.add_row(forms[names[w]], blocks, f"± {share_text(precision)}" if precision else "", style=style)
        rest = len(names) - _MOST_ROWS
        return Group(head, table, Text(f"and {rest} more", style="quiet") if rest > 0 else Text(""))
