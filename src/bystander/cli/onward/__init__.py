"""Commands that go on from a verdict: what was settled, one change after another, and which of them did it."""
