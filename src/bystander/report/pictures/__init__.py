"""What Matplotlib draws: one file each kind, and how all of them look."""
