"""Proposals: asking that one branch be merged into another, and what others say about it."""
