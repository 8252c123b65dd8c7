"""``shelf.toml``: what a team says about its own files. Validated with messages that name the place.

::

    [ignore]
    patterns = ["*.log", "out/"]

    [kinds]
    "feeds/*.dat" = "dataset"

    [keys]
    "tables/fares.csv" = ["zone", "class"]

    [fields]
    ignore = ["exported_at"]

    [identity]
    "plans/*.json" = {berths = ["quay", "number"], "*" = ["code"]}

    [tables]
    "tables/*.csv" = {ignore = ["exported_at"], tolerance = {fare = 0.005}, shift = {delay_min = 0.2}}

    [folders]
    whole = ["feeds/passages/"]
    apart = ["plans/"]

    [experiments]
    metrics = ["results/*.json"]

    [metrics]
    "mean error" = {better = "lower", unit = "min"}

    [order]
    "plans/*.json" = {berths = "means nothing", stops = "counts"}

    [bindings]
    HARBOUR_ROLE = {in = "workflows/*.bpmn"}
    FEED_ADDRESS = {in = "settings/feeds.toml", part = "/group:tides", field = "address"}
    FEED_TOKEN = {in = "settings/feeds.toml", secret = true}
"""

from __future__ import annotations

import re
import tomllib
from dataclasses import dataclass, field, replace
from fnmatch import fnmatchcase
from functools import cached_property
from typing import Any

from everyshelf.core.errors import InvalidError
from everyshelf.core.kinds.plurals import singular
from everyshelf.core.kinds.table import KIND_IDS, KindTable

FILE_NAME = "shelf.toml"
_SECTIONS = {
    "ignore": {"patterns"},
    "kinds": None,
    "keys": None,
    "fields": {"ignore"},
    "identity": None,
    "order": None,
    "tables": None,
    "folders": {"whole", "apart"},
    "experiments": {"metrics"},
    "metrics": None,
    "bindings": None,
}
_BINDING_NAME = re.compile(r"[A-Z][A-Z0-9_]{0,59}\Z")
_ORDER_WORDS = {"counts": True, "means nothing": False}


@dataclass(frozen=True)
class BindingRule:
    """A value that differs per environment, in the artifacts that match ``patterns``: where ``${NAME}`` stands in them,
    or, if ``part`` or ``field`` is given, what that field of that part says."""

    name: str
    patterns: tuple[str, ...]
    part: str = ""
    field: str = ""
    secret: bool = False

    @staticmethod
    def is_name(text: str) -> bool:
        """Whether a binding may be called so."""
        return bool(_BINDING_NAME.match(text))

    def is_for(self, path: str) -> bool:
        """Whether the artifact at ``path`` may need it."""
        return any(fnmatchcase(path, pattern) for pattern in self.patterns)


@dataclass(frozen=True)
class Rules:
    """The parsed settings of a shelf; an empty one ignores nothing and declares nothing."""

    ignore_patterns: tuple[str, ...] = ()
    kinds: tuple[tuple[str, str], ...] = ()
    keys: tuple[tuple[str, tuple[str, ...]], ...] = ()
    ignored_fields: frozenset[str] = frozenset()
    identities: tuple[tuple[str, dict[str, tuple[str, ...]]], ...] = ()
    orders: tuple[tuple[str, dict[str, bool]], ...] = ()
    tables: tuple[tuple[str, dict[str, Any]], ...] = ()
    whole: tuple[str, ...] = ()
    apart: tuple[str, ...] = ()
    measured: tuple[str, ...] = ()
    metrics: tuple[tuple[str, dict[str, str]], ...] = ()
    bindings: tuple[BindingRule, ...] = ()
    source: str = field(default="", compare=False)

    @cached_property
    def _ignore_spec(self) -> Any:
        from pathspec import GitIgnoreSpec

        return GitIgnoreSpec.from_lines(self.ignore_patterns)

    def is_ignored(self, path: str) -> bool:
        """True if a pattern leaves ``path`` out; folders end with a slash."""
        return bool(self.ignore_patterns) and bool(self._ignore_spec.match_file(path))

    def leaves_out(self, path: str) -> bool:
        """True if a pattern leaves out the file at ``path`` or a folder above it."""
        if not self.ignore_patterns:
            return False
        parts = path.split("/")
        above = ("/".join(parts[:depth]) for depth in range(1, len(parts)))
        return self.is_ignored(path) or any(self.is_ignored(f"{folder}/") for folder in above)

    def is_whole(self, path: str) -> bool | None:
        """True for a folder that is one artifact, False for one whose files are; None if nothing is said of it."""
        for patterns, said in ((self.apart, False), (self.whole, True)):
            if any(fnmatchcase(path, pattern.rstrip("/")) for pattern in patterns):
                return said
        return None

    def kind_for(self, path: str) -> str | None:
        """The kind declared for ``path``, or None."""
        return next((kind for pattern, kind in self.kinds if fnmatchcase(path, pattern)), None)

    def key_for(self, path: str) -> tuple[str, ...] | None:
        """The key declared for ``path``, or None."""
        return next((key for pattern, key in self.keys if fnmatchcase(path, pattern)), None)

    def table_for(self, path: str) -> dict[str, Any]:
        """What is said of the table at ``path``: ``ignore`` (names or patterns of columns), ``tolerance`` and ``shift``
        (numbers by name or pattern)."""
        return _for_path(self.tables, path)

    def is_measured(self, path: str) -> bool:
        """True for a file in which runs of experiments leave their metrics."""
        return any(fnmatchcase(path, pattern) for pattern in self.measured)

    def applied(self, table: KindTable, path: str) -> KindTable:
        """``table`` with what these rules say about the file at ``path``: list or part names may be used for parts."""
        changed: dict[str, Any] = {}
        if self.ignored_fields:
            changed["ignored"] = self.ignored_fields
        identities = _for_path(self.identities, path)
        if identities:
            named = {table.types.get(name) or singular(name): fields for name, fields in identities.items()}
            changed["identity"] = {**table.identity, **named, **identities}
        orders = _for_path(self.orders, path)
        if orders:
            named_orders = {
                part: counts for n, counts in orders.items() for part in (n, table.types.get(n) or singular(n))
            }
            free = {part for part, counts in named_orders.items() if not counts}
            kept = {part for part, counts in named_orders.items() if counts}
            changed["unordered"] = (table.unordered | free) - kept
            changed["in_order"] = table.in_order | kept
        return replace(table, **changed) if changed else table


def _for_path(rules: tuple[tuple[str, dict[str, Any]], ...], path: str) -> dict[str, Any]:
    """What all patterns that match say together; the earlier pattern wins."""
    found: dict[str, Any] = {}
    for pattern, said in rules:
        if fnmatchcase(path, pattern):
            found = {**said, **found}
    return found


def _check_kinds(name: str, kinds: tuple[tuple[str, str], ...]) -> None:
    unknown = [(pattern, kind) for pattern, kind in kinds if kind not in KIND_IDS]
    if not unknown:
        return
    # Other packages may bring it; asking them loads every kind there is, with all their libraries.
    from everyshelf.core.kinds.registry import kind_ids

    known = kind_ids()
    for pattern, kind in unknown:
        if kind not in known:
            raise _wrong(name, f"kinds.{pattern!r}", f"{kind!r} is not a kind; the kinds are {', '.join(known)}")


def parse_rules(text: str, *, name: str = FILE_NAME) -> Rules:
    """Rules from TOML; raises ``InvalidError`` that says which section and why."""
    try:
        data = tomllib.loads(text)
    except (tomllib.TOMLDecodeError, RecursionError) as error:
        raise InvalidError(f"{name}: {error}", code="rules.syntax", hint=f"Fix {name}; see docs/rules.md.") from error
    for section, content in data.items():
        _check_section(name, section, content)
    kinds = tuple(data.get("kinds", {}).items())
    _check_kinds(name, kinds)
    keys = tuple((p, tuple(_texts(name, f"keys.{p!r}", c))) for p, c in data.get("keys", {}).items())
    folders = data.get("folders", {})
    return Rules(
        ignore_patterns=tuple(_texts(name, "ignore.patterns", data.get("ignore", {}).get("patterns", []))),
        kinds=kinds,
        keys=keys,
        ignored_fields=frozenset(_texts(name, "fields.ignore", data.get("fields", {}).get("ignore", []))),
        identities=tuple((p, _identity(name, p, said)) for p, said in data.get("identity", {}).items()),
        orders=tuple((p, _order(name, p, said)) for p, said in data.get("order", {}).items()),
        tables=tuple((p, _table(name, p, said)) for p, said in data.get("tables", {}).items()),
        whole=tuple(_texts(name, "folders.whole", folders.get("whole", []))),
        apart=tuple(_texts(name, "folders.apart", folders.get("apart", []))),
        measured=tuple(_texts(name, "experiments.metrics", data.get("experiments", {}).get("metrics", []))),
        metrics=tuple((metric, _metric(name, metric, said)) for metric, said in data.get("metrics", {}).items()),
        bindings=tuple(_binding(name, binding, said) for binding, said in data.get("bindings", {}).items()),
        source=text,
    )


def _identity(name: str, pattern: str, said: Any) -> dict[str, tuple[str, ...]]:
    where = f"identity.{pattern!r}"
    if not isinstance(said, dict) or not said:
        raise _wrong(name, where, 'it must say which fields identify the items of which list: {items = ["code"]}')
    found = {part: tuple(_texts(name, f"{where}.{part}", fields)) for part, fields in said.items()}
    empty = next((part for part, fields in found.items() if not fields), None)
    if empty is not None:
        raise _wrong(name, f"{where}.{empty}", "it must name at least one field")
    return found


def _order(name: str, pattern: str, said: Any) -> dict[str, bool]:
    where = f"order.{pattern!r}"
    if not isinstance(said, dict) or not said:
        raise _wrong(name, where, 'it must say of which list: {stops = "counts"} or {tags = "means nothing"}')
    for part, word in said.items():
        if not isinstance(word, str) or word not in _ORDER_WORDS:
            raise _wrong(name, f"{where}.{part}", 'it must be "counts" or "means nothing"')
    return {part: _ORDER_WORDS[word] for part, word in said.items()}


def _table(name: str, pattern: str, said: Any) -> dict[str, Any]:
    where = f"tables.{pattern!r}"
    known = {"ignore", "tolerance", "shift"}
    if not isinstance(said, dict) or not said or set(said) - known:
        raise _wrong(
            name, where, 'it may say {ignore = ["column"], tolerance = {column = 0.01}, shift = {column = 0.2}}'
        )
    found: dict[str, Any] = {}
    if "ignore" in said:
        found["ignore"] = _texts(name, f"{where}.ignore", said["ignore"])
    for word in ("tolerance", "shift"):
        numbers = said.get(word, {})
        if not isinstance(numbers, dict):
            raise _wrong(name, f"{where}.{word}", "it must say which column may differ by how much: {fare = 0.01}")
        for column, number in numbers.items():
            if isinstance(number, bool) or not isinstance(number, int | float) or not 0 <= number < float("inf"):
                raise _wrong(name, f"{where}.{word}.{column}", "it must be a number that is not negative")
        found[word] = {column: float(number) for column, number in numbers.items()}
    return found


def _metric(name: str, metric: str, said: Any) -> dict[str, str]:
    where = f"metrics.{metric!r}"
    if not isinstance(said, dict) or not said or set(said) - {"better", "unit"}:
        raise _wrong(name, where, 'it may say {better = "lower", unit = "min"}')
    if said.get("better", "lower") not in ("lower", "higher"):
        raise _wrong(name, f"{where}.better", 'it must be "lower" or "higher"')
    if not isinstance(said.get("unit", ""), str):
        raise _wrong(name, f"{where}.unit", "it must be a text")
    return dict(said)


def _binding(name: str, binding: str, said: Any) -> BindingRule:
    where = f"bindings.{binding}"
    if not BindingRule.is_name(binding):
        raise _wrong(name, where, "a binding is named in capitals, digits and _: HARBOUR_ROLE")
    if not isinstance(said, dict) or "in" not in said or set(said) - {"in", "part", "field", "secret"}:
        raise _wrong(name, where, 'it must say in which artifacts it stands: {in = "workflows/*.bpmn"}')
    for word in ("part", "field"):
        if not isinstance(said.get(word, ""), str):
            raise _wrong(name, f"{where}.{word}", "it must be a text")
    if said.get("part") and not said.get("field"):
        raise _wrong(name, where, "it must say which field of that part it sets")
    if not isinstance(said.get("secret", False), bool):
        raise _wrong(name, f"{where}.secret", "it must be true or false")
    patterns = tuple(_texts(name, f"{where}.in", said["in"]))
    return BindingRule(binding, patterns, said.get("part", ""), said.get("field", ""), said.get("secret", False))


def _check_section(name: str, section: str, content: Any) -> None:
    if section not in _SECTIONS:
        raise _wrong(name, section, f"there is no such section; there are {', '.join(_SECTIONS)}")
    if not isinstance(content, dict):
        raise _wrong(name, section, "it must be a section in square brackets")
    known = _SECTIONS[section]
    unknown = sorted(set(content) - known) if known is not None else []
    if unknown:
        raise _wrong(name, f"{section}.{unknown[0]}", f"there is no such setting; there is {', '.join(known or ())}")


def _texts(name: str, where: str, value: Any) -> list[str]:
    if isinstance(value, str):
        return [value]
    if not isinstance(value, list) or not all(isinstance(v, str) for v in value):
        raise _wrong(name, where, "it must be a list of texts")
    return value


def _wrong(name: str, where: str, why: str) -> InvalidError:
    return InvalidError(f"{name}, {where}: {why}", code="rules.invalid", hint=f"Fix {name}; see docs/rules.md.")
