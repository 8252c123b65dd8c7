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
"""

from __future__ import annotations

import tomllib
from dataclasses import dataclass, field
from fnmatch import fnmatchcase
from functools import cached_property
from typing import Any

from everyshelf.core.errors import InvalidError
from everyshelf.core.kinds.table import KIND_IDS

FILE_NAME = "shelf.toml"
_SECTIONS = {"ignore": {"patterns"}, "kinds": None, "keys": None, "fields": {"ignore"}}


@dataclass(frozen=True)
class Rules:
    """The parsed settings of a shelf; an empty one ignores nothing and declares nothing."""

    ignore_patterns: tuple[str, ...] = ()
    kinds: tuple[tuple[str, str], ...] = ()
    keys: tuple[tuple[str, tuple[str, ...]], ...] = ()
    ignored_fields: frozenset[str] = frozenset()
    source: str = field(default="", compare=False)

    @cached_property
    def _ignore_spec(self) -> Any:
        from pathspec import GitIgnoreSpec

        return GitIgnoreSpec.from_lines(self.ignore_patterns)

    def is_ignored(self, path: str) -> bool:
        """True if a pattern leaves ``path`` out; folders end with a slash."""
        return bool(self.ignore_patterns) and bool(self._ignore_spec.match_file(path))

    def kind_for(self, path: str) -> str | None:
        """The kind declared for ``path``, or None."""
        return next((kind for pattern, kind in self.kinds if fnmatchcase(path, pattern)), None)

    def key_for(self, path: str) -> tuple[str, ...] | None:
        """The key declared for ``path``, or None."""
        return next((key for pattern, key in self.keys if fnmatchcase(path, pattern)), None)


def parse_rules(text: str, *, name: str = FILE_NAME) -> Rules:
    """Rules from TOML; raises ``InvalidError`` that says which section and why."""
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise InvalidError(f"{name}: {error}", code="rules.syntax", hint=f"Mend {name}; see docs/rules.md.") from error
    for section, content in data.items():
        _check_section(name, section, content)
    kinds = tuple(data.get("kinds", {}).items())
    for pattern, kind in kinds:
        if kind not in KIND_IDS:
            raise _wrong(name, f"kinds.{pattern!r}", f"{kind!r} is no kind; the kinds are {', '.join(KIND_IDS)}")
    keys = tuple((p, tuple(_texts(name, f"keys.{p!r}", c))) for p, c in data.get("keys", {}).items())
    return Rules(
        tuple(_texts(name, "ignore.patterns", data.get("ignore", {}).get("patterns", []))),
        kinds,
        keys,
        frozenset(_texts(name, "fields.ignore", data.get("fields", {}).get("ignore", []))),
        text,
    )


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
    return InvalidError(f"{name}, {where}: {why}", code="rules.invalid", hint=f"Mend {name}; see docs/rules.md.")
