"""Figures: each a ratio against a limit or a general-purpose engine, interleaved in one run."""
