"""Experiments: a question, branches, and runs with parameters and metrics."""
