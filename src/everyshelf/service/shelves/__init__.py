"""Shelves, branches, commits, tags, contents and comparison."""
