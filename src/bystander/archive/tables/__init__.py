"""The tables as they are today, and the steps that lead to them from older files."""
