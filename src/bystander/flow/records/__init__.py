"""What goes into an archive from elsewhere, and what is kept beside it."""
