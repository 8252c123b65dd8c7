"""What the opcodes of a pickle are read into: things that stand for classes, calls and arrays, and are none."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any


@dataclass(frozen=True)
class Name:
    """What a pickle would import: ``module.name``."""

    module: str
    name: str

    def __str__(self) -> str:
        return f"{self.module}.{self.name}"


@dataclass(eq=False)
class Made:
    """What a call would give: the callable, its arguments, and what was put into the result afterwards."""

    what: Any
    arguments: Any
    state: Any = None
    items: list[Any] = field(default_factory=list)
    pairs: list[tuple[Any, Any]] = field(default_factory=list)


@dataclass(eq=False)
class Map:
    """A dictionary; keys need not be hashable here."""

    pairs: list[tuple[Any, Any]] = field(default_factory=list)

    def get(self, key: str) -> Any:
        """The last value under a text, or None."""
        return next((v for k, v in reversed(self.pairs) if k == key), None)


@dataclass(eq=False)
class Bag:
    """A set or a frozen set."""

    items: list[Any] = field(default_factory=list)


@dataclass(eq=False)
class Array:
    """Numbers of one type: ``shape``, ``dtype`` as numpy spells it (``<f8``), and the bytes if they are here."""

    shape: tuple[int, ...]
    dtype: str
    data: memoryview | None
    stored_in: str = ""  # the key of a store outside of the pickle
    first: int = 0  # where in that store it begins, in values


@dataclass(eq=False)
class Stored:
    """A reference to something the program keeps outside of the pickle."""

    identity: Any


@dataclass
class Pickled:
    """The value at the end, all names it would import, and all it would call with the number of calls."""

    value: Any
    protocol: int
    imports: dict[str, None]
    calls: dict[str, int]
