"""What each command does from start to end."""
