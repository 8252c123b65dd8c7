"""Runs of experiments: reading what they measured, and comparing them."""
