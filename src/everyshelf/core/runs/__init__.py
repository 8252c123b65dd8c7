"""Runs of experiments: reading what they measured, and comparing them."""

from everyshelf.core.runs.comparing import RunRow, answer_so_far, compare_runs
from everyshelf.core.runs.metrics import Measured
from everyshelf.core.runs.thinning import thinned

__all__ = ["Measured", "RunRow", "answer_so_far", "compare_runs", "thinned"]
