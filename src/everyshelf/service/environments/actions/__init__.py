"""The use cases of environments."""
