"""A shelf as a Git repository, and shelves joined to other repositories."""
