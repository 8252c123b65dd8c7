"""Reading the compact protocol of Apache Thrift, in which Parquet says what its files hold.

Source: ``doc/specs/thrift-compact-protocol.md`` of Apache Thrift. A structure becomes its fields by number; what the
fields are called is for whoever asks.
"""

from __future__ import annotations

import struct
from typing import Any

from everyshelf.core.errors import UnreadableError

Fields = dict[int, Any]
_STOP, _TRUE, _FALSE, _BYTE, _DOUBLE, _BINARY, _LIST, _SET, _MAP, _STRUCT = 0, 1, 2, 3, 7, 8, 9, 10, 11, 12
_WHOLE_NUMBERS = (4, 5, 6)
_DEEPEST = 12
_NUMBER = struct.Struct("<d")
_LONGEST_NUMBER = 10  # bytes of 64 bits, seven in each
_MOST_VALUES = 1_000_000  # of one structure: what is made of few bytes may take many in memory


class NotThriftError(UnreadableError):
    """These bytes are not a structure in this protocol."""


def read_struct(data: bytes, at: int, stop: int) -> tuple[Fields, int]:
    """The fields of the structure that begins at ``at``, and where it ends. Raises ``NotThriftError``."""
    reader = _Reader(data, at, stop)
    return reader.fields(0), reader.at


class _Reader:
    def __init__(self, data: bytes, at: int, stop: int) -> None:
        self._data, self.at, self._stop = data, at, min(stop, len(data))
        self._left = _MOST_VALUES

    def fields(self, depth: int) -> Fields:
        found: Fields = {}
        number = 0
        while (head := self._byte()) != _STOP:
            number = number + (head >> 4) if head >> 4 else self._signed()
            kind = head & 15
            found[number] = kind == _TRUE if kind in (_TRUE, _FALSE) else self._value(kind, depth)
        return found

    def _value(self, kind: int, depth: int) -> Any:
        self._left -= 1
        if self._left < 0:
            raise NotThriftError("a structure has too many values")
        if kind in _WHOLE_NUMBERS:
            return self._signed()
        if kind == _BINARY:
            return self._bytes(self._number())
        if kind in (_TRUE, _FALSE, _BYTE):  # of a list, a byte each
            return self._byte()
        if kind == _DOUBLE:
            return _NUMBER.unpack(self._bytes(8))[0]
        if depth == _DEEPEST:
            raise NotThriftError("structures lie too deep in one another")
        if kind == _STRUCT:
            return self.fields(depth + 1)
        if kind in (_LIST, _SET):
            head = self._byte()
            count = head >> 4 if head >> 4 < 15 else self._number()
            return [self._value(head & 15, depth + 1) for _ in range(self._fitting(count))]
        if kind == _MAP:
            count = self._fitting(self._number())
            kinds = self._byte() if count else 0
            return [(self._value(kinds >> 4, depth + 1), self._value(kinds & 15, depth + 1)) for _ in range(count)]
        raise NotThriftError(f"a value is of the unknown type {kind}")

    def _fitting(self, count: int) -> int:
        if count > self._stop - self.at:
            raise NotThriftError("a list has more values than bytes follow")
        return count

    def _byte(self) -> int:
        if self.at >= self._stop:
            raise NotThriftError("it ends within a structure")
        self.at += 1
        return self._data[self.at - 1]

    def _bytes(self, count: int) -> bytes:
        self._fitting(count)
        self.at += count
        return self._data[self.at - count : self.at]

    def _number(self) -> int:
        found = 0
        for place in range(_LONGEST_NUMBER):
            byte = self._byte()
            found |= (byte & 0x7F) << (7 * place)
            if not byte & 0x80:
                return found
        raise NotThriftError("a number has too many bytes")

    def _signed(self) -> int:
        number = self._number()
        return (number >> 1) ^ -(number & 1)
