"""Use cases of finding."""
