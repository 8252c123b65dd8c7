"""Uncommitted work, kept on the server as it is made: one draft per person and branch, made of save points."""
