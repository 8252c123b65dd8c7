"""Shelves as a file system for data tools: one address for any artifact at any ref.

``shelf://HOST/SHELF@REF/PATH``; see ``docs/data-tools.md``. The file system is known to fsspec by its entry point.
"""

from everyshelf.client.files.filesystem import ShelfFileSystem
from everyshelf.client.files.writing import Writing, writing

__all__ = ["ShelfFileSystem", "Writing", "writing"]
