"""Editing one field of a part, one cell of a table, or a text, so that nothing else in the file moves."""
