"""YAML 1.2 to a tree, through libyaml's composer with the core schema (YAML 1.2.2, chapter 10.3) resolved here.

libyaml's own resolver follows YAML 1.1, which reads ``on`` and ``no`` as booleans and ``1:30`` as a number.
Several documents give a list of trees. Aliases are expanded by sharing, and their expanded size is bounded.
"""

from __future__ import annotations

import re
from typing import Any

import yaml

from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.text import decode
from everyshelf.core.formats.yaml_depth import MOST_LEVELS, check_depth

_INT = re.compile(r"[-+]?[0-9]+\Z")
_PLAIN_INT = re.compile(r"(0|[1-9][0-9]*)\Z")
_OCTAL = re.compile(r"0o[0-7]+\Z")
_HEX = re.compile(r"0x[0-9a-fA-F]+\Z")
_FLOAT = re.compile(r"[-+]?(\.[0-9]+|[0-9]+(\.[0-9]*)?)([eE][-+]?[0-9]+)?\Z")
_INFINITY = re.compile(r"([-+]?)\.(inf|Inf|INF)\Z")
_WORDS = {
    **dict.fromkeys(("", "~", "null", "Null", "NULL")),
    **dict.fromkeys(("true", "True", "TRUE"), True),
    **dict.fromkeys(("false", "False", "FALSE"), False),
    **dict.fromkeys((".nan", ".NaN", ".NAN"), float("nan")),
}
_LIMIT_NODES = 5_000_000
_Loader = getattr(yaml, "CLoader", yaml.Loader)


def parse_yaml(data: bytes) -> Any:
    """The tree of ``data`` (a list of trees for several documents); raises ``UnreadableError`` with the line."""
    text = decode(data).text
    check_depth(text)
    loader = _Loader(text)
    try:
        documents = []
        while loader.check_node():
            documents.append(_Builder().build(loader.get_node(), 0))
    except yaml.MarkedYAMLError as error:
        mark = error.problem_mark or error.context_mark
        where = f"line {mark.line + 1}: " if mark else ""
        raise UnreadableError(f"{where}{error.problem or error.context}") from error
    except (yaml.YAMLError, RecursionError, ValueError) as error:
        raise UnreadableError(f"not readable as YAML: {str(error).splitlines()[0]}") from error
    finally:
        loader.dispose()
    if not documents:
        return None
    return documents[0] if len(documents) == 1 else documents


class _Builder:
    """Builds one document; counts nodes as if aliases were written out, so that a bomb is refused early."""

    def __init__(self) -> None:
        self._done: dict[int, tuple[Any, int]] = {}
        self._open: set[int] = set()

    def build(self, node: Any, depth: int) -> Any:
        value, _weight = self._build(node, depth)
        return value

    def _build(self, node: Any, depth: int) -> tuple[Any, int]:
        if depth > MOST_LEVELS:
            raise UnreadableError(f"line {node.start_mark.line + 1}: nested over {MOST_LEVELS} levels deep")
        if isinstance(node, yaml.ScalarNode):
            return scalar_value(node), 1
        known = self._done.get(id(node))
        if known is not None:
            return known
        if id(node) in self._open:
            raise UnreadableError(f"line {node.start_mark.line + 1}: an alias refers to what contains it")
        self._open.add(id(node))
        result = self._sequence(node, depth) if isinstance(node, yaml.SequenceNode) else self._mapping(node, depth)
        self._open.discard(id(node))
        if result[1] > _LIMIT_NODES:
            raise UnreadableError(f"aliases expand to over {_LIMIT_NODES:,} values")
        self._done[id(node)] = result
        return result

    def _sequence(self, node: Any, depth: int) -> tuple[Any, int]:
        values, total = [], 1
        for child in node.value:
            value, weight = self._build(child, depth + 1)
            values.append(value)
            total += weight
        return values, total

    def _mapping(self, node: Any, depth: int) -> tuple[Any, int]:
        result: dict[str, Any] = {}
        total = 1
        merged: dict[str, Any] = {}
        for key_node, value_node in node.value:
            key = key_node.value if isinstance(key_node, yaml.ScalarNode) else repr(self._build(key_node, depth + 1)[0])
            value, weight = self._build(value_node, depth + 1)
            total += weight
            if key == "<<" and isinstance(key_node, yaml.ScalarNode) and not key_node.style:
                for part in value if isinstance(value, list) else [value]:
                    merged = {**part, **merged} if isinstance(part, dict) else merged
                continue
            if key in result:
                raise UnreadableError(f"line {key_node.start_mark.line + 1}: the key “{key}” appears twice")
            result[key] = value
        return ({**merged, **result} if merged else result), total


def scalar_value(node: Any) -> Any:
    """What a scalar of the composer means in the core schema."""
    text = node.value
    # libyaml gives an empty style for plain scalars, the Python reader None.
    plain = not node.style and node.tag.startswith("tag:yaml.org,2002:")
    if not plain:
        # An explicit tag of one's own belongs to the value; quoted and block texts are texts.
        own = not node.tag.startswith("tag:yaml.org,2002:") and node.tag != "!"
        return f"{node.tag} {text}" if own else text
    if node.tag.endswith(":str") and (text in _WORDS or _PLAIN_INT.match(text)):
        return text  # tagged !!str: without the tag libyaml would have resolved it to something else
    if text in _WORDS:
        return _WORDS[text]
    if not text[:1].isdigit() and text[:1] not in "-+.":
        return text
    return _numeric(text)


def _numeric(text: str) -> Any:
    if _INT.match(text):
        return int(text) if len(text) < 4000 else text
    if _OCTAL.match(text):
        return int(text[2:], 8)
    if _HEX.match(text):
        return int(text[2:], 16)
    if _FLOAT.match(text):
        return float(text)
    infinite = _INFINITY.match(text)
    return float(f"{infinite[1]}inf") if infinite else text
