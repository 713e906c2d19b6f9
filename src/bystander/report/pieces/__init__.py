"""The parts of pages, each by itself: what it draws as numbers, for the template of its name."""
