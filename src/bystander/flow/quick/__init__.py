"""Observations without a study: what is typed becomes one, and what was edited since is held against it."""
