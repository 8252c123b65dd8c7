"""Editing one field of a part, one cell of a table, or a text, so that nothing else in the file moves."""

from everyshelf.core.editing.cells import CellEdit, cells_of, set_cells
from everyshelf.core.editing.fields import FieldEdit, set_fields
from everyshelf.core.editing.texts import set_text

__all__ = ["CellEdit", "FieldEdit", "cells_of", "set_cells", "set_fields", "set_text"]
