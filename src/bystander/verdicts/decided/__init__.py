"""The third step: what the tests say becomes verdicts, intervals and findings."""
