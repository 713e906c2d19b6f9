"""The first step: trials of a record become rows of readings that can be compared."""
