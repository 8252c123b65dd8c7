"""Meanings: which kind a file is, how its tree becomes an outline, what is layout and what breaks whom."""
