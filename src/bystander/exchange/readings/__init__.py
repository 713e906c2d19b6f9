"""Readings of trials as tables: ours, and those of others."""
