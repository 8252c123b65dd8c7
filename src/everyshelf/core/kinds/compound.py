"""Compound files (MS-CFB), the older binary form of office files: streams and script modules; the text is not read.

A package that is encrypted (MS-OFFCRYPTO) lies in such a file too.
"""

from __future__ import annotations

import io

from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.modules import modules_of_project
from everyshelf.core.kinds.maker import Maker
from everyshelf.core.kinds.modules import module_part
from everyshelf.core.kinds.table import KindTable
from everyshelf.core.outline.model import Part

_MOST_STREAMS = 5_000
_MOST_BYTES = 64 * 1024 * 1024


def read_compound(data: bytes, table: KindTable) -> Part:
    """Streams by name with what tells their bytes from others, and modules; raises ``UnreadableError``."""
    import olefile
    from blake3 import blake3

    maker = Maker(table)
    parts: list[Part] = []
    try:
        with olefile.OleFileIO(io.BytesIO(data)) as file:
            if file.exists("EncryptedPackage"):
                raise UnreadableError("it is encrypted with a password")
            for path in file.listdir()[:_MOST_STREAMS]:
                size = file.get_size(path)
                held = file.openstream(path).read(_MOST_BYTES)
                name = "/".join(path).replace("\x01", "").replace("\x05", "")
                parts.append(maker.part("stream", name, name, {"bytes": size, "content": blake3(held).hexdigest(8)}))
    except UnreadableError:
        raise
    except Exception as error:  # the library raises whatever a broken file leads it to
        raise UnreadableError(f"its compound file is damaged ({type(error).__name__})") from error
    modules, problem = modules_of_project(data)
    parts += [module_part(maker, name, code) for name, code in modules.items()]
    if problem:
        parts.append(maker.part("module", "project", "script project", {"problem": problem}))
    return maker.part("document", "document", "", {}, parts)
