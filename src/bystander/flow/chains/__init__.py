"""Chains: states that follow each other, made and observed in the same blocks, and what becomes of each edit."""
