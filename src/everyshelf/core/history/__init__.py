"""Folders as trees, commits, ancestry: the state of a shelf and how it came to be."""
