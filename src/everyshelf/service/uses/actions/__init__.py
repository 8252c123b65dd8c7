"""Use cases of uses."""
