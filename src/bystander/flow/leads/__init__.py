"""What inspections left, read again: chosen, narrowed, told, judged. Nothing is run here."""
