"""What is printed without a console: sentences, and documents for other programs."""

from __future__ import annotations

import typer

from bystander.units import plain_text

__all__ = ["hand_over", "say"]


def say(text: str, err: bool = False) -> None:
    """Print a text as it is, whatever the terminal's width; control characters in it are replaced."""
    typer.echo(plain_text(text), err=err)


def hand_over(document: str, newline: bool = True) -> None:
    """Print a document for another program, letter by letter; its format escapes what a terminal must not get."""
    typer.echo(document, nl=newline)
