"""Processes that work out parts: a real cluster on loopback."""
