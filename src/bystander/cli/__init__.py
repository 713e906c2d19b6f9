"""The command line: parse, one call, print. The only room that prints or exits."""

from bystander.cli.app import run

__all__ = ["run"]
