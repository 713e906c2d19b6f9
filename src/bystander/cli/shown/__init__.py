"""How things look in a terminal."""
