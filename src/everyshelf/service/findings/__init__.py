"""Findings of every version against the one it was made from, kept for queries."""
