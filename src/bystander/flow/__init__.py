"""What each command does from start to end; tells an observer what happens, prints nothing."""
