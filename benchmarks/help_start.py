"""`bystander --help` against a bare Typer program with as many commands and the same help style: CPU time."""

from __future__ import annotations

import sys
import tempfile
from pathlib import Path

from common import median_cpu, tell

BARE = """
import typer
app = typer.Typer(add_completion=False, pretty_exceptions_enable=False, rich_markup_mode=None, no_args_is_help=True)
def command(name: str = typer.Option("", help="A name."), count: int = typer.Option(1, help="A count.")) -> None:
    "Do something."
for name in ("demo", "new", "check", "observe", "decide", "report", "records"):
    app.command(name)(command)
app()
"""


def main() -> None:
    """Run both in turn and print the ratio."""
    with tempfile.TemporaryDirectory() as scratch:
        bare = Path(scratch, "bare.py")
        bare.write_text(BARE, encoding="utf-8")
        ours = str(Path(sys.executable).with_name("bystander"))
        seen = median_cpu({"bare": [sys.executable, str(bare), "--help"], "ours": [ours, "--help"]}, 25)
    tell("a bare Typer program, CPU", seen["bare"] * 1e3, "ms", "-")
    tell("bystander --help, CPU", seen["ours"] * 1e3, "ms", "-")
    tell("ratio", seen["ours"] / seen["bare"], "times", "under 1.5")


if __name__ == "__main__":
    main()
