"""Lineage: which versions a version was made from, and what was made from it."""
