"""Runs of experiments: reading what they measured, and comparing them."""

from everyshelf.core.runs.comparing import RunRow, answer_so_far, compare_runs
from everyshelf.core.runs.measured import Measured, read_measured
from everyshelf.core.runs.thinning import thinned

__all__ = ["Measured", "RunRow", "answer_so_far", "compare_runs", "read_measured", "thinned"]
