"""Looking inside: states of workloads are watched, one alone or two side by side."""
