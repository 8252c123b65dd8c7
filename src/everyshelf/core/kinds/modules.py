"""A module of a script inside a file, as a part."""

from __future__ import annotations

from everyshelf.core.errors import UnreadableError
from everyshelf.core.kinds.maker import Maker
from everyshelf.core.kinds.script import read_basic, read_python
from everyshelf.core.outline.model import Part


def module_part(maker: Maker, name: str, code: str) -> Part:
    """A module by its procedures; what cannot be read as such by its text."""
    read = read_python if name.endswith(".py") else read_basic
    try:
        return maker.part("module", name, name, {}, read(code, maker.table).children())
    except UnreadableError:
        return maker.part("module", name, name, {"code": code.strip() or None})
