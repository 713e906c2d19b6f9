"""Two states of a workload, held side by side."""
