"""What inspections found, on a terminal."""
