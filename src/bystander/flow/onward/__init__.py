"""What commands do that go on from verdicts: chains, the search for a commit, and records held against earlier ones."""
