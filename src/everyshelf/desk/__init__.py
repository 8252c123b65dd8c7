"""A desk: a local working folder that remembers the version each artifact came from."""
