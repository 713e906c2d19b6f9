"""tidebook: the day of a small harbour."""

__version__ = "1"
