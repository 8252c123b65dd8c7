"""The opcodes of pickles, protocols 0 to 5, each as what it does to a machine of symbols (see ``pickles``)."""

from __future__ import annotations

import struct
from collections.abc import Callable
from typing import Any, Protocol

from everyshelf.core.formats.pickle_symbols import Bag, Made, Map, Stored

MARK = object()


class Machine(Protocol):
    """What an opcode acts on: a stack of symbols, a memo, and the bytes that follow."""

    stack: list[Any]
    memo: dict[int, Any]
    protocol: int

    def take(self, count: int) -> memoryview:
        """The next bytes."""

    def number(self, form: struct.Struct) -> Any:
        """The next number of that form."""

    def line(self) -> str:
        """The next line as text."""

    def raw_line(self) -> bytes:
        """The next line."""

    def marked(self) -> list[Any]:
        """What was pushed since the last mark, taken off the stack with it."""

    def name(self, module: str, name: str) -> None:
        """Push what a module holds by a name."""

    def call(self, what: Any, arguments: Any, *, is_new: bool = False) -> None:
        """Push what calling something gives."""

    def build(self) -> None:
        """Give the topmost thing its state."""


_U1, _U2, _U4, _U8 = struct.Struct("<B"), struct.Struct("<H"), struct.Struct("<I"), struct.Struct("<Q")
_I4, _F8 = struct.Struct("<i"), struct.Struct(">d")
_Step = Callable[["Machine"], None]


def _push(value: Any) -> _Step:
    def step(m: Machine) -> None:
        m.stack.append(value)

    return step


def _make(factory: Callable[[], Any]) -> _Step:
    def step(m: Machine) -> None:
        m.stack.append(factory())

    return step


def _counted(form: struct.Struct, read: Callable[[memoryview], Any]) -> _Step:
    def step(m: Machine) -> None:
        m.stack.append(read(m.take(m.number(form))))

    return step


def _plain(form: struct.Struct) -> _Step:
    def step(m: Machine) -> None:
        m.stack.append(m.number(form))

    return step


def _of_line(read: Callable[[str], Any]) -> _Step:
    def step(m: Machine) -> None:
        m.stack.append(read(m.line()))

    return step


def _text(raw: memoryview) -> str:
    return bytes(raw).decode("utf-8", "surrogatepass")


def _old_text(raw: memoryview) -> str:
    return bytes(raw).decode("latin-1")


def _long(raw: memoryview) -> int:
    return int.from_bytes(raw, "little", signed=True)


def _int_line(line: str) -> int | bool:
    return {"00": False, "01": True}.get(line) if line in ("00", "01") else int(line)  # type: ignore[return-value]


def _quoted(line: str) -> str:
    body = line[1:-1] if len(line) > 1 and line[0] == line[-1] and line[0] in "'\"" else line
    return body.encode("utf-8", "surrogateescape").decode("unicode_escape", "replace")


def _tuple_of(count: int) -> _Step:
    def step(m: Machine) -> None:
        found = tuple(m.stack[-count:])
        if len(found) < count:
            raise IndexError
        del m.stack[-count:]
        m.stack.append(found)

    return step


def _collected(make: Callable[[list[Any]], Any]) -> _Step:
    def step(m: Machine) -> None:
        m.stack.append(make(m.marked()))

    return step


def _paired(flat: list[Any]) -> list[tuple[Any, Any]]:
    return list(zip(flat[::2], flat[1::2], strict=True))


def _into_list(m: Machine, found: list[Any]) -> None:
    held = m.stack[-1]
    (held.items if isinstance(held, Made | Bag) else held).extend(found)


def _into_map(m: Machine, pairs: list[tuple[Any, Any]]) -> None:
    m.stack[-1].pairs.extend(pairs)


def _append(m: Machine) -> None:
    value = m.stack.pop()
    _into_list(m, [value])


def _set_item(m: Machine) -> None:
    value, key = m.stack.pop(), m.stack.pop()
    _into_map(m, [(key, value)])


def _put(form: struct.Struct | None) -> _Step:
    def step(m: Machine) -> None:
        m.memo[int(m.line()) if form is None else m.number(form)] = m.stack[-1]

    return step


def _get(form: struct.Struct | None) -> _Step:
    def step(m: Machine) -> None:
        m.stack.append(m.memo[int(m.line()) if form is None else m.number(form)])

    return step


def _memoize(m: Machine) -> None:
    m.memo[len(m.memo)] = m.stack[-1]


def _global(m: Machine) -> None:
    module = m.line()
    m.name(module, m.line())


def _stack_global(m: Machine) -> None:
    name, module = m.stack.pop(), m.stack.pop()
    m.name(str(module), str(name))


def _reduce(m: Machine) -> None:
    arguments, what = m.stack.pop(), m.stack.pop()
    m.call(what, arguments)


def _new(m: Machine) -> None:
    arguments, what = m.stack.pop(), m.stack.pop()
    m.call(what, arguments, is_new=True)


def _new_with_names(m: Machine) -> None:
    names, arguments, what = m.stack.pop(), m.stack.pop(), m.stack.pop()
    named = names.pairs if isinstance(names, Map) else []
    m.call(what, (*arguments, *(v for _, v in named)) if named else arguments, is_new=True)


def _inst(m: Machine) -> None:
    module = m.line()
    name = m.line()
    arguments = tuple(m.marked())
    m.name(module, name)
    m.call(m.stack.pop(), arguments)


def _obj(m: Machine) -> None:
    what, *arguments = m.marked()
    m.call(what, tuple(arguments))


def _extension(form: struct.Struct) -> _Step:
    def step(m: Machine) -> None:
        m.name("copyreg", f"extension {m.number(form)}")

    return step


def _persistent(m: Machine) -> None:
    m.stack.append(Stored(m.stack.pop()))


def _protocol(m: Machine) -> None:
    m.protocol = m.number(_U1)


def _pop(m: Machine) -> None:
    m.stack.pop()


def _duplicate(m: Machine) -> None:
    m.stack.append(m.stack[-1])


def _pop_mark(m: Machine) -> None:
    m.marked()


def _nothing(m: Machine) -> None:
    pass


def _frame(m: Machine) -> None:
    m.number(_U8)


STEPS: dict[int, _Step] = {
    ord("("): _push(MARK),
    ord("0"): _pop,
    ord("1"): _pop_mark,
    ord("2"): _duplicate,
    ord("F"): _of_line(float),
    ord("I"): _of_line(_int_line),
    ord("L"): _of_line(lambda line: int(line.rstrip("L"))),
    ord("J"): _plain(_I4),
    ord("K"): _plain(_U1),
    ord("M"): _plain(_U2),
    ord("G"): _plain(_F8),
    ord("N"): _push(None),
    0x88: _push(True),
    0x89: _push(False),
    0x8A: _counted(_U1, _long),
    0x8B: _counted(_U4, _long),
    ord("S"): _of_line(_quoted),
    ord("T"): _counted(_U4, _old_text),
    ord("U"): _counted(_U1, _old_text),
    ord("V"): lambda m: m.stack.append(m.raw_line().decode("raw_unicode_escape", "replace")),
    ord("X"): _counted(_U4, _text),
    0x8C: _counted(_U1, _text),
    0x8D: _counted(_U8, _text),
    ord("B"): _counted(_U4, lambda raw: raw),
    ord("C"): _counted(_U1, lambda raw: raw),
    0x8E: _counted(_U8, lambda raw: raw),
    0x96: _counted(_U8, lambda raw: raw),
    0x97: _push(Stored("buffer")),
    0x98: _nothing,
    ord("]"): _make(list),
    ord("l"): _collected(list),
    ord("a"): _append,
    ord("e"): lambda m: _into_list(m, m.marked()),
    ord(")"): _push(()),
    ord("t"): _collected(tuple),
    0x85: _tuple_of(1),
    0x86: _tuple_of(2),
    0x87: _tuple_of(3),
    ord("}"): _make(Map),
    ord("d"): _collected(lambda flat: Map(_paired(flat))),
    ord("s"): _set_item,
    ord("u"): lambda m: _into_map(m, _paired(m.marked())),
    0x8F: _make(Bag),
    0x90: lambda m: _into_list(m, m.marked()),
    0x91: _collected(Bag),
    ord("c"): _global,
    0x93: _stack_global,
    ord("R"): _reduce,
    ord("b"): lambda m: m.build(),
    ord("i"): _inst,
    ord("o"): _obj,
    0x81: _new,
    0x92: _new_with_names,
    0x82: _extension(_U1),
    0x83: _extension(_U2),
    0x84: _extension(_I4),
    ord("P"): _of_line(Stored),
    ord("Q"): _persistent,
    ord("p"): _put(None),
    ord("q"): _put(_U1),
    ord("r"): _put(_U4),
    ord("g"): _get(None),
    ord("h"): _get(_U1),
    ord("j"): _get(_U4),
    0x94: _memoize,
    0x80: _protocol,
    0x95: _frame,
}
