"""What a study says: arms, workloads, comparisons, its gate, and the keys that tell them apart."""
