"""Pipelines and workflows as drawings: what stands where and what leads to what, of one version or of two at once."""

from everyshelf.core.drawing.files import draw_file, draw_files
from everyshelf.core.drawing.overlay import NOTHING

__all__ = ["NOTHING", "draw_file", "draw_files"]
