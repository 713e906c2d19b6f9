"""The second step: rows are tested, where the stopping rule ended them, and adjusted together."""
