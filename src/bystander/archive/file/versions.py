"""The newest schema, known without loading what builds it; a test holds it against the steps."""

__all__ = ["SCHEMA"]

SCHEMA = 6
