"""Tools for plain repositories: Git compares and merges by meaning, and content notes become files."""
