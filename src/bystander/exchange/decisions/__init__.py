"""A decision as files for programs: one format a file."""
