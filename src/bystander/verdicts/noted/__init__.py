"""What is to be said of rows: every code and its sentence, and when it holds."""
