"""Pickles of protocols 0 to 5 (PEP 3154, PEP 574; opcodes as in CPython's ``pickletools``), read without running them.

The opcodes drive a stack of symbols: a class stays its name, a call stays "this, with these arguments". Nothing is ever
imported, looked up or called. Arrays of numpy are put together from what their call says; those that joblib writes
between the opcodes as raw bytes are skipped over and kept as views.
"""

from __future__ import annotations

import contextlib
import pickletools
import struct
import zlib
from typing import Any

from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.pickle_opcodes import MARK, STEPS
from everyshelf.core.formats.pickle_symbols import Array, Bag, Made, Map, Name, Pickled, Stored

_MOST_OPCODES = 30_000_000
_MOST_UNPACKED = 1 << 30
# A zlib stream (RFC 1950), or one behind a head of fixed length that tells its size, as joblib wrote until 0.9.
ZLIB_MARKS = (b"\x78\x01", b"\x78\x5e", b"\x78\x9c", b"\x78\xda", b"ZF0x")
_PROTOCOLS = (b"\2", b"\3", b"\4", b"\5")
_SIZE_HEAD = len(b"ZF" + hex(2**64).encode())


def looks_like_pickle(head: bytes) -> bool:
    """True if the first bytes are opcodes one after the other, as far as they go."""
    if head[:1] == b"\x80" and head[1:2] in _PROTOCOLS:
        return True  # what follows may be broken by arrays that lie between the opcodes
    seen = at = 0
    try:
        for _, _, place in pickletools.genops(head):
            seen, at = seen + 1, place or 0
            if seen > 200:
                return True
    except ValueError:
        return seen > 3 and at > len(head) - 4096 > 0
    except (IndexError, OverflowError, UnicodeDecodeError, struct.error):
        return False
    return seen > 1


def read_pickle(data: bytes | memoryview) -> Pickled:
    """What a pickle describes; raises ``UnreadableError`` with the byte where it stops being one."""
    if bytes(data[:4]).startswith(ZLIB_MARKS):
        data = _inflated(bytes(data))
    return Machine(memoryview(data)).run()


def inflated_head(head: bytes, most: int = 4096) -> bytes:
    """The first bytes of what a zlib stream holds; nothing if it is none."""
    try:
        return zlib.decompressobj().decompress(_stream(head), most)
    except zlib.error:
        return b""


def _stream(data: bytes) -> bytes:
    return data[_SIZE_HEAD:] if data.startswith(b"ZF") else data


def _inflated(data: bytes) -> bytes:
    unpacker = zlib.decompressobj()
    try:
        found = unpacker.decompress(_stream(data), min(_MOST_UNPACKED, max(1 << 24, 200 * len(data))))
    except zlib.error as error:
        raise UnreadableError(f"its compression is damaged: {error}") from error
    if unpacker.unconsumed_tail:
        raise UnreadableError("it unpacks to more than can be")
    return found


_RECONSTRUCT = ("numpy.core.multiarray._reconstruct", "numpy._core.multiarray._reconstruct")
_SCALAR = ("numpy.core.multiarray.scalar", "numpy._core.multiarray.scalar")
_FROM_BUFFER = ("numpy.core.numeric._frombuffer", "numpy._core.numeric._frombuffer")
_RAW_WRAPPER = "joblib.numpy_pickle.NumpyArrayWrapper"
_REBUILT = ("torch._utils._rebuild_tensor_v2", "torch._utils._rebuild_tensor")
_STORES = {
    "FloatStorage": "<f4",
    "DoubleStorage": "<f8",
    "HalfStorage": "<f2",
    "BFloat16Storage": "bf16",
    "LongStorage": "<i8",
    "IntStorage": "<i4",
    "ShortStorage": "<i2",
    "CharStorage": "|i1",
    "ByteStorage": "|u1",
    "BoolStorage": "|b1",
}
_CONTAINERS = {"collections.OrderedDict", "collections.defaultdict", "builtins.dict", "__builtin__.dict"}
_SETS = {"builtins.set", "builtins.frozenset", "__builtin__.set", "__builtin__.frozenset"}


class Machine:
    def __init__(self, data: memoryview, at: int = 0) -> None:
        self._data, self._at = data, at
        self.stack: list[Any] = []
        self.memo: dict[int, Any] = {}
        self._imports: dict[str, None] = {}
        self._calls: dict[str, int] = {}
        self.protocol = 0

    def run(self) -> Pickled:
        try:
            value = self._run()
        except (IndexError, KeyError, struct.error, ValueError, TypeError, AttributeError, OverflowError) as error:
            raise UnreadableError(f"byte {self._at}: no pickle goes on like this") from error
        except RecursionError as error:
            raise UnreadableError("nested too deeply to be read as a pickle") from error
        return Pickled(value, self.protocol, self._imports, self._calls)

    @property
    def at(self) -> int:
        """Where the pickle ended."""
        return self._at

    def _run(self) -> Any:
        data, stack = self._data, self.stack
        for _ in range(_MOST_OPCODES):
            code = data[self._at]
            self._at += 1
            if code == 0x2E:  # STOP
                return stack.pop()
            step = STEPS.get(code)
            if step is None:
                raise UnreadableError(f"byte {self._at - 1}: 0x{code:02x} is not an opcode of a pickle")
            step(self)
        raise UnreadableError(f"it has more than {_MOST_OPCODES:,} opcodes")

    # --- reading arguments ---------------------------------------------------

    def take(self, count: int) -> memoryview:
        start, end = self._at, self._at + count
        if count < 0 or end > len(self._data):
            raise UnreadableError(f"byte {start}: it ends in the middle")
        self._at = end
        return self._data[start:end]

    def number(self, form: struct.Struct) -> Any:
        found = form.unpack_from(self._data, self._at)[0]
        self._at += form.size
        return found

    def raw_line(self) -> bytes:
        data, start = self._data, self._at
        end = start
        while data[end] != 0x0A:
            end += 1
        self._at = end + 1
        return bytes(data[start:end])

    def line(self) -> str:
        return self.raw_line().decode("utf-8", "surrogateescape").rstrip("\r")

    def marked(self) -> list[Any]:
        stack = self.stack
        place = len(stack) - 1
        while stack[place] is not MARK:
            place -= 1
            if place < 0:
                raise UnreadableError(f"byte {self._at}: no mark to go back to")
        found = stack[place + 1 :]
        del stack[place:]
        return found

    # --- making things -------------------------------------------------------

    def name(self, module: str, name: str) -> None:
        """Push what would be imported."""
        found = Name(module, name)
        self._imports[str(found)] = None
        self.stack.append(found)

    def call(self, what: Any, arguments: Any, *, is_new: bool = False) -> None:
        """Push what a call would give; ``is_new``: the call only makes an empty thing of a class."""
        called = str(what) if isinstance(what, Name) else type(what).__name__
        if not is_new:
            self._calls[called] = self._calls.get(called, 0) + 1
        given = list(arguments) if isinstance(arguments, tuple | list) else [arguments]
        known = self._known(called, given)
        self.stack.append(Made(what, arguments) if known is None else known)

    def _known(self, called: str, given: list[Any]) -> Any:
        if called in _CONTAINERS:
            pairs = next((g for g in given if isinstance(g, list)), [])
            made = [(p[0], p[1]) for p in pairs if isinstance(p, list | tuple) and len(p) == 2]
            return next((g for g in given if isinstance(g, Map)), None) or Map(made)
        if called == "_codecs.encode" and given and isinstance(given[0], str):
            return given[0].encode("latin-1", "replace")  # how older protocols write bytes
        if called in ("__builtin__.bytes", "builtins.bytes") and not given:
            return b""
        if called in _SETS:
            return Bag(list(given[0]) if given and isinstance(given[0], list) else [])
        if called == "numpy.dtype" and given and isinstance(given[0], str):
            return Made("dtype", given[0])
        if called in _RECONSTRUCT:
            return Array((), "", None)
        if called in _SCALAR and len(given) > 1 and isinstance(given[1], bytes | memoryview):
            return _scalar(_dtype_of(given[0]), bytes(given[1]))
        if called in _FROM_BUFFER and len(given) > 2:
            buffer = given[0].arguments if isinstance(given[0], Made) else given[0]
            held = memoryview(buffer) if isinstance(buffer, bytes | bytearray | memoryview) else None
            return Array(_shape(given[2]), _dtype_of(given[1]), held)
        if called in _REBUILT and len(given) > 2 and isinstance(given[0], Stored):
            return _stored_array(given[0], given[1], _shape(given[2]))
        if called == "copyreg._reconstructor" or called == "copy_reg._reconstructor":
            return Made(given[0], ())
        return None

    def build(self) -> None:
        """What sets the state of the thing made last."""
        state = self.stack.pop()
        made = self.stack[-1]
        if isinstance(made, Array) and isinstance(state, tuple) and len(state) >= 5:
            made.shape, made.dtype = _shape(state[1]), _dtype_of(state[2])
            held = state[4]
            made.data = memoryview(held) if isinstance(held, bytes | memoryview) else None
            if isinstance(held, str):
                made.data = memoryview(held.encode("latin-1", "replace"))
        elif isinstance(made, Made) and made.what == "dtype":
            if isinstance(state, tuple) and len(state) > 1 and isinstance(state[1], str):
                made.arguments = _spelt(made.arguments, state)
        elif isinstance(made, Made):
            made.state = state
            if str(made.what) == _RAW_WRAPPER and isinstance(state, Map):
                self.stack[-1] = self._raw(state)
        elif isinstance(made, Map):
            made.pairs.append(("(state)", state))

    def _raw(self, state: Map) -> Any:
        """An array of which the bytes follow right here, after a pad that its own first byte tells."""
        shape, dtype = _shape(state.get("shape")), _dtype_of(state.get("dtype"))
        if dtype.lstrip("<>|=").startswith("O"):
            inner = Machine(self._data, self._at)
            value = inner.run()
            self._at = inner.at
            self._imports |= value.imports
            return value.value
        if state.get("numpy_array_alignment_bytes") is not None:
            pad = self._data[self._at]
            self._at += 1 + pad
        count = 1
        for length in shape:
            count *= length
        return Array(shape, dtype, self.take(count * _width(dtype)))


def _shape(value: Any) -> tuple[int, ...]:
    if isinstance(value, int):
        return (value,)
    if isinstance(value, Made):
        value = value.arguments
        value = value[0] if isinstance(value, tuple) and value else value
    if not isinstance(value, tuple | list) or not all(isinstance(v, int) and v >= 0 for v in value):
        raise ValueError("no shape")
    return tuple(value)


def _dtype_of(value: Any) -> str:
    if isinstance(value, Made) and value.what == "dtype":
        return str(value.arguments)
    if isinstance(value, Made) and isinstance(value.what, Name) and value.what.module == "numpy.dtypes":
        return value.what.name
    return str(value)


def _spelt(code: str, state: tuple[Any, ...]) -> str:
    """numpy's spelling with the byte order, or the fields of a record."""
    if len(state) > 4 and isinstance(state[3], tuple) and state[3]:
        width = state[5] if len(state) > 5 and isinstance(state[5], int) else 0
        return f"V{width}({', '.join(str(n) for n in state[3])})" if width else code
    order = state[1] if state[1] in "<>|=" else "|"
    return code if code[:1] in "<>|=" else f"{order}{code}"


def _width(dtype: str) -> int:
    digits = dtype.partition("(")[0].lstrip("<>|=")
    width = int(digits[1:] or 1) if digits[1:].isdigit() or not digits[1:] else 0
    if not width:
        raise ValueError("unknown type")
    return width * 4 if digits[0] == "U" else width


def _scalar(dtype: str, raw: bytes) -> Any:
    kind = dtype.lstrip("<>|=")[:1]
    order = ">" if dtype.startswith(">") else "<"
    form = {("f", 8): "d", ("f", 4): "f", ("f", 2): "e", ("b", 1): "?"}.get((kind, len(raw)))
    if form is not None:
        return struct.unpack(order + form, raw)[0]
    if kind in "iu" and 0 < len(raw) <= 8:
        return int.from_bytes(raw, "big" if order == ">" else "little", signed=kind == "i")
    return raw


def _stored_array(stored: Stored, first: Any, shape: tuple[int, ...]) -> Array | None:
    said = stored.identity
    if not isinstance(said, tuple) or len(said) < 3 or not isinstance(said[1], Name):
        return None
    return Array(shape, _STORES.get(said[1].name, said[1].name), None, str(said[2]), first if type(first) is int else 0)


def text_of(value: Any) -> str | None:
    """A text where bytes hold one that people wrote; None otherwise."""
    with contextlib.suppress(UnicodeDecodeError):
        text = bytes(value[:200]).decode("ascii")
        return text if text.isprintable() else None
    return None
