"""Checks: test results recorded against a commit."""
