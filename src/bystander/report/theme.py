"""How reports look: one palette, so that they look like one hand."""

from __future__ import annotations

__all__ = ["COLOURS", "MARKS"]

# Blue and orange are told apart by people who do not see red and green.
COLOURS = {
    "faster": "#1f6feb",
    "less": "#1f6feb",
    "slower": "#d9730d",
    "more": "#d9730d",
    "failed": "#a8430a",
    "same": "#6b7280",
    "unclear": "#6b7280",
}
MARKS = {
    "slower": "▲", "more": "▲", "faster": "▼", "less": "▼", "same": "=", "unclear": "○", "failed": "✕",
}  # fmt: skip
