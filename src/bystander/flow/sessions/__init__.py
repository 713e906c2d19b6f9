"""What happens while trials run: looks, pace, interrupts, the machine from time to time."""
