"""Looking inside: what was watched and counted, what is kept of it, and places."""
