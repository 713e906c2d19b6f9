"""How reports look: one palette, so that they look like one hand."""

from __future__ import annotations

__all__ = ["COLOURS", "MARKS", "PHASE_TINTS"]

# Phases are no verdicts: neither blue nor orange, and told apart by their names as well.
PHASE_TINTS = ("#4d7c6f", "#8a6fa8", "#b08d3c", "#5f6f8c", "#a0566b", "#6d8a3f", "#7a6a5a", "#4a8aa0")

# Blue and orange are told apart by people who do not see red and green.
COLOURS = {
    "faster": "#1f6feb",
    "less": "#1f6feb",
    "higher": "#1f6feb",
    "slower": "#d9730d",
    "more": "#d9730d",
    "lower": "#d9730d",
    "failed": "#a8430a",
    "same": "#6b7280",
    "unclear": "#6b7280",
    "broken": "#d9730d",
    "holds": "#6b7280",
}
MARKS = {
    "slower": "▲", "more": "▲", "higher": "▲", "faster": "▼", "less": "▼", "lower": "▼", "same": "=", "unclear": "○",
    "failed": "✕", "broken": "▲", "holds": "=",
}  # fmt: skip
