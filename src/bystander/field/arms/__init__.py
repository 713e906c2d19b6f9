"""Arms are made ready: checked out, built, described."""
