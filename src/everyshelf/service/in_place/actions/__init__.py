"""The use cases of data in place."""
