"""Pickled models as outlines: classes with their scalar parameters, arrays, and what loading them would import.

What a pickle would call is flagged where it has nothing to do with making data: such a file runs a program when loaded.
"""

from __future__ import annotations

from typing import Any

from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.archives import Member, open_archive
from everyshelf.core.formats.pickle_symbols import Array, Bag, Made, Map, Name, Pickled
from everyshelf.core.formats.pickles import read_pickle, text_of
from everyshelf.core.formats.tensors import Tensor
from everyshelf.core.kinds.maker import Maker
from everyshelf.core.kinds.models import ModelRead, Tensors, tensor_part
from everyshelf.core.kinds.table import KindTable
from everyshelf.core.outline.model import Part

_MOST_DEPTH = 40
_MOST_PARTS = 200_000
_SHORT_LIST = 16
_LONG_TEXT = 2_000
# Modules through which a program, a file, another machine or the interpreter is reached.
_REACHING = frozenset(
    """os posix nt subprocess sys socket shutil pty runpy importlib ctypes webbrowser code codeop commands popen2
    multiprocessing threading signal tempfile pathlib urllib requests http ftplib smtplib asyncio inspect types
    builtins __builtin__ pdb timeit platform pip pickle marshal shelve""".split()  # noqa: SIM905
)
# What such modules hold that only makes data.
_PLAIN = """set frozenset list dict tuple object int float complex bool str bytes bytearray slice range type long
    unicode Exception ValueError TypeError KeyError RuntimeError Ellipsis NotImplemented xrange buffer memoryview"""
_PATHS = ("pathlib.PosixPath", "pathlib.WindowsPath", "pathlib.Path", "pathlib.PurePosixPath", "types.SimpleNamespace")
_HARMLESS = frozenset((*(f"{m}.{n}" for m in ("builtins", "__builtin__") for n in _PLAIN.split()), *_PATHS))


def read_pickled(data: bytes, table: KindTable) -> ModelRead:
    """The outline of a pickle, or of a zip that holds one beside its stores; raises ``UnreadableError``."""
    stores: dict[str, Member] = {}
    if data[:2] == b"PK":
        members = open_archive(data)
        name = next((n for n in members if n == "data.pkl" or n.endswith("/data.pkl")), None)
        if name is None:
            raise UnreadableError("there is no data.pkl in it")
        folder = name.removesuffix("data.pkl")
        stores = {n.removeprefix(f"{folder}data/"): m for n, m in members.items() if n.startswith(f"{folder}data/")}
        data = members[name].read()
    pickled = read_pickle(data)
    outline = _Outline(Maker(table), stores)
    return ModelRead(outline.root(pickled), outline.tensors, "pickle", notes=_notes(pickled))


def unusual(name: str) -> bool:
    """True for what has nothing to do with making data."""
    return name.split(".", maxsplit=1)[0] in _REACHING and name not in _HARMLESS


def _notes(pickled: Pickled) -> list[str]:
    found = [name for name in pickled.imports if unusual(name)]
    return [f"loading it would reach {', '.join(found[:5])}; it was read without running anything"] if found else []


class _Outline:
    def __init__(self, maker: Maker, stores: dict[str, Member]) -> None:
        self._maker, self._stores = maker, stores
        self.tensors: Tensors = {}
        self._seen: dict[int, str] = {}
        self._left = _MOST_PARTS

    def root(self, pickled: Pickled) -> Part:
        fields, parts = self._inside(pickled.value, "", 0)
        for name in pickled.imports:
            said = {"unusual": True, "called": pickled.calls.get(name)} if unusual(name) else {}
            parts.append(self._maker.part("import", name, name, said))
        fields = {"protocol": pickled.protocol, **fields}
        return self._maker.part("model", str(fields.get("class") or "model"), "", fields, parts)

    def _inside(self, value: Any, path: str, depth: int) -> tuple[dict[str, Any], list[Part]]:
        """Scalars as fields, everything else as parts."""
        fields: dict[str, Any] = {}
        parts: list[Part] = []
        if isinstance(value, Made):
            fields["class"] = _called(value.what)
        if isinstance(value, Array):
            return fields, [self._array(value, "values", path)]
        for name, held in _named(value):
            if _is_scalar(held):
                fields[name] = _scalar(held)
            else:
                parts.append(self._part(name, held, f"{path}{name}", depth + 1))
        return fields, parts

    def _part(self, name: str, value: Any, path: str, depth: int) -> Part:
        self._left -= 1
        if self._left < 0:
            raise UnreadableError(f"it holds more than {_MOST_PARTS:,} things")
        if isinstance(value, Array):
            return self._array(value, name, path)
        if isinstance(value, Name):
            return self._maker.part("reference", name, name, {"to": str(value)})
        if isinstance(value, list | tuple | Bag) and (words := _short(value)) is not None:
            return self._maker.part("values", name, name, {"value": words})
        if depth > _MOST_DEPTH:
            return self._maker.part("object", name, name, {"value": "nested deeper than is shown"})
        earlier = self._seen.setdefault(id(value), path)
        if earlier != path:
            return self._maker.part("reference", name, name, {"to": earlier})
        fields, parts = self._inside(value, f"{path}.", depth)
        return self._maker.part("object", name, name, fields, parts)

    def _array(self, array: Array, name: str, path: str) -> Part:
        member = self._stores.get(array.stored_in) if array.stored_in else None

        def load() -> Any:
            if member is None:
                return array.data
            return member.read()[_bytes_before(array) :]

        tensor = Tensor(name, array.shape, array.dtype, load, f"data/{array.stored_in}" if array.stored_in else "")
        self.tensors[path] = tensor
        return tensor_part(self._maker, tensor)


def _bytes_before(array: Array) -> int:
    digits = array.dtype[-1:]
    return array.first * (2 if array.dtype == "bf16" else int(digits) if digits.isdigit() else 0)


def _called(what: Any) -> str:
    return str(what) if isinstance(what, Name) else _called(what.what) if isinstance(what, Made) else "value"


def _named(value: Any) -> list[tuple[str, Any]]:
    """What a thing holds, each under a name that is unique in it."""
    if isinstance(value, Map):
        return [(_key(k), v) for k, v in value.pairs]
    if isinstance(value, list | tuple):
        return [(str(k), v) for k, v in enumerate(value)]
    if isinstance(value, Bag):
        return [(str(k), v) for k, v in enumerate(value.items)]
    if not isinstance(value, Made):
        return [("value", value)]
    found: list[tuple[str, Any]] = []
    given = value.arguments if isinstance(value.arguments, tuple | list) else (value.arguments,)
    found += [(f"argument {k}", v) for k, v in enumerate(given, 1) if v is not None]
    states = value.state if isinstance(value.state, tuple) else (value.state,)
    for state in states:
        if isinstance(state, Map):
            found += _named(state)
        elif state is not None:
            found.append(("state", state))
    found += [(str(k), v) for k, v in enumerate(value.items)]
    found += [(_key(k), v) for k, v in value.pairs]
    return found


def _key(key: Any) -> str:
    return key if isinstance(key, str) else str(_scalar(key)) if _is_scalar(key) else type(key).__name__.lower()


def _is_scalar(value: Any) -> bool:
    return value is None or isinstance(value, bool | int | float | str | bytes | memoryview | bytearray)


def _scalar(value: Any) -> Any:
    if isinstance(value, bytes | memoryview | bytearray):
        text = text_of(value)
        return text if text is not None and len(value) <= 200 else f"{len(value):,} bytes, {_digest(value)}"
    return f"{value[:_LONG_TEXT]} …" if isinstance(value, str) and len(value) > _LONG_TEXT else value


def _digest(value: Any) -> str:
    from blake3 import blake3

    return blake3(bytes(value)).hexdigest(8)


def _short(value: Any) -> str | None:
    """A list of a few plain values in one line; a long one by its length and what tells it from others."""
    items = value.items if isinstance(value, Bag) else value
    if not all(_is_scalar(v) for v in items):
        return None
    words = [str(_scalar(v)) for v in items]
    if isinstance(value, Bag):
        words.sort()
    if len(words) <= _SHORT_LIST:
        return ", ".join(words)
    return f"{len(words):,} values, {_digest(chr(0).join(words).encode('utf-8', 'surrogatepass'))}"
