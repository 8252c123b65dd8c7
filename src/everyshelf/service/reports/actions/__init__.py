"""Use cases of reports."""
