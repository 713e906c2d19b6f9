"""One trial runs: its command, its conditions, the launcher."""
