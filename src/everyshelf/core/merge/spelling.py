"""How values and texts are written in the formats that are merged by their structure."""

from __future__ import annotations

import json
import re
from typing import Any
from xml.sax.saxutils import escape, quoteattr

from everyshelf.core.errors import InvalidError
from everyshelf.core.formats.source import Group, Item, Node
from everyshelf.core.formats.source.xml import text_of
from everyshelf.core.formats.xml import Element

_SEGMENT = re.compile(r"((?:[^\\]|\\[^n])*?)\\n", re.DOTALL)
_PLAIN_YAML = re.compile(r"[A-Za-z_/][\w ./-]*[\w/]|[A-Za-z]")
# YAML 1.2, 5.1: these are no printable characters, or break a line; JSON writes them as they are.
_NOT_PLAIN = re.compile("[\x7f-\x9f\u2028\u2029\ufeff\ufffe\uffff\ud800-\udfff]")
_YAML_WORDS = re.compile(r"(?i)(true|false|null|yes|no|on|off|~|\.nan|[-+]?\.inf)\Z")


class Speller:
    """JSON, YAML or XML."""

    def __init__(self, form: str) -> None:
        self.form = form

    def value(self, value: Any, like: Node, indent: str) -> str:
        """``value`` written where ``like`` stood; lines after the first begin with ``indent``."""
        if self.form == "xml":
            return self._xml(value, like)
        if self.form == "yaml" and isinstance(value, str) and like.text[:1] not in ('"', "'", "|", ">"):
            plain = _PLAIN_YAML.fullmatch(value) and not _YAML_WORDS.match(value)
            return value if plain else _yaml_quoted(value)
        if self.form == "yaml" and isinstance(value, str):
            return _yaml_quoted(value)
        try:
            pretty = isinstance(value, dict | list) and "\n" in like.text and self.form == "json"
            said = json.dumps(value, ensure_ascii=like.text.isascii(), indent=2 if pretty else None)
        except (TypeError, ValueError) as error:
            raise InvalidError(f"this value cannot be written as {self.form.upper()}", code="merge.value") from error
        return said.replace("\n", f"\n{indent}")

    def _xml(self, value: Any, like: Node) -> str:
        if isinstance(value, dict | list | tuple):
            raise InvalidError(
                "a whole element cannot be given as a value; take one side",
                code="merge.value",
                hint="Settle it with target or source.",
            )
        text = "" if value is None else str(value).lower() if isinstance(value, bool) else str(value)
        if like.text[:1] in ('"', "'"):
            return quoteattr(text)
        if like.shape == "element":
            opening = like.groups[0].opening
            return f"{opening}>{escape(text)}</{opening[1:]}>"
        return escape(text)

    def segments(self, node: Node) -> tuple[str, list[str], str, str] | None:
        """A text value as what stands before it, its lines as they are written, what separates them and what stands
        behind; None where it cannot be told apart by lines."""
        text = node.text
        if not isinstance(node.value, str):
            return None
        if self.form == "xml":
            return ("", text.split("\n"), "\n", "") if "\n" in text else None
        if text[:1] == '"' and text[-1:] == '"' and len(text) > 1:
            inner = text[1:-1]
            if "\\n" not in inner:
                return None
            pieces, at = [], 0
            for match in _SEGMENT.finditer(inner):
                pieces.append(match[1])
                at = match.end()
            return '"', [*pieces, inner[at:]], "\\n", '"'
        if self.form == "yaml" and text[:1] in ("|", ">") and "\n" in text:
            header, _, body = text.partition("\n")
            return f"{header}\n", body.split("\n"), "\n", ""
        return None

    def empty(self, node: Node) -> str:
        """What is written for a collection of which nothing is left."""
        return "{}" if node.shape == "map" else "[]"


def _yaml_quoted(text: str) -> str:
    """A text between double quotes. Not with JSON's pairs of surrogates, which YAML takes for two characters."""
    return _NOT_PLAIN.sub(lambda found: f"\\u{ord(found[0]):04x}", json.dumps(text, ensure_ascii=False))


def is_line_list(node: Node) -> bool:
    """True for a text that is written as a list of its lines, each but the last with its end."""
    value = node.value
    if node.shape != "list" or not value or set(map(type, value)) != {str}:
        return node.shape == "list" and value == []
    return all(line.endswith("\n") and line.count("\n") == 1 for line in value[:-1]) and "\n" not in value[-1][:-1]


def line_list(lines: list[str], groups: list[Group], ascii_only: bool) -> tuple[str, list[str]]:
    """A list of lines written as ``groups`` (versions of it) write theirs, and its value."""
    known: dict[str, str] = {}
    for group in groups:
        for item in group.items:
            known.setdefault(item.node.value, item.node.text)
    frame = max(groups, key=lambda g: len(g.items))
    leads = [i.lead for i in frame.items]
    first, rest = (leads[0] if leads else ""), (leads[-1] if len(leads) > 1 else (leads[0] if leads else " "))
    said = [known.get(line) or json.dumps(line, ensure_ascii=ascii_only) for line in lines]
    body = ",".join((first if n == 0 else rest) + text for n, text in enumerate(said))
    return f"{frame.opening}{body}{frame.closing}", lines


def value_of_group(node: Node, pairs: list[tuple[Item, Any]]) -> Any:
    """The value of a map or list whose items have these values."""
    if node.shape == "map":
        return {item.name: value for item, value in pairs}
    return [value for _, value in pairs]


def element_value(tag: str, attributes: dict[str, str], children: list[tuple[str | None, Any]]) -> Element:
    """The value of an element with these attributes and these children, texts among them."""
    said, below = "", []
    for place, (name, value) in enumerate(children):
        if name != "#text":
            below.append(value)
        elif place == 0:
            said = value
        else:
            below.append(Element("#text", {}, value, ()))
    return Element(tag, attributes, said, tuple(below))


def value_of_text(text: str, form: str) -> Any:
    """What a merged text in that format means; checked when the whole is read again."""
    if form == "json":
        return json.loads(text, strict=False)
    if form == "xml":
        return text_of(text)
    import yaml

    return yaml.safe_load(text) if text[:1] == '"' else yaml.safe_load(f"x: {text}\n")["x"]
