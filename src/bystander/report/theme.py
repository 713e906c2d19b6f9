"""How reports look: one palette, light and dark, so that pages and pictures look like one hand."""

from __future__ import annotations

__all__ = ["DARK", "LIGHT", "MARKS", "PHASE_TINTS", "SHAPES", "TONES"]

# Phases are no verdicts: neither blue nor orange, and told apart by their names as well.
PHASE_TINTS = ("#4d7c6f", "#8a6fa8", "#b08d3c", "#5f6f8c", "#a0566b", "#6d8a3f", "#7a6a5a", "#4a8aa0")

# Blue and orange are told apart by people who do not see red and green; a shape and a word always say it too.
LIGHT = {
    "ink": "#1c2430", "soft": "#566170", "line": "#d9dee5", "paper": "#fbfaf7", "card": "#ffffff", "band": "#e8e4d8",
    "worse": "#a84f06", "better": "#175cd3", "plain": "#566170", "failed": "#8f2d04",
}  # fmt: skip
DARK = {
    "ink": "#e8ecf2", "soft": "#a8b2bf", "line": "#39434f", "paper": "#14181f", "card": "#1b212b", "band": "#333b35",
    "worse": "#ffab61", "better": "#86b9ff", "plain": "#a8b2bf", "failed": "#ff8f6b",
}  # fmt: skip
TONES = {
    "slower": "worse", "more": "worse", "lower": "worse", "broken": "worse", "faster": "better", "less": "better",
    "higher": "better", "same": "plain", "unclear": "plain", "holds": "plain", "failed": "failed",
}  # fmt: skip
MARKS = {
    "slower": "▲", "more": "▲", "higher": "▲", "faster": "▼", "less": "▼", "lower": "▼", "same": "=", "unclear": "○",
    "failed": "✕", "broken": "▲", "holds": "=",
}  # fmt: skip
# The same as drawn: the names of shapes that pages and pictures share.
SHAPES = {
    "slower": "up", "more": "up", "higher": "up", "broken": "up", "faster": "down", "less": "down", "lower": "down",
    "same": "square", "holds": "square", "unclear": "ring", "failed": "cross",
}  # fmt: skip
