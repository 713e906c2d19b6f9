"""What holds of arms by themselves: distributions, failures, trials that are worth seeing."""
