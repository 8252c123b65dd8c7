"""Use cases of tasks."""
