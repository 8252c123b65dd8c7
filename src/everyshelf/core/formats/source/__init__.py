"""Texts taken apart without losing a byte: every value, and all that stands around it, with its place in the text.

What is put together again from the parts of one text is that text. Merging picks the parts from three.
"""

from everyshelf.core.formats.source.model import Group, Item, Node, written

__all__ = ["Group", "Item", "Node", "written"]
