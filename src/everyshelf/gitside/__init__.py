"""A shelf's history as a Git repository's, and back: the mapping, and the plumbing of the ``git`` program below it."""
