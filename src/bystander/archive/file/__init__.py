"""The file itself: where it may lie, connections, versions, private copies, large evidence beside it."""
