"""Bystander: a controlled trial for every change to a program."""

__version__ = "0.1.0"
