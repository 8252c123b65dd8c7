"""The use cases of proposals."""
