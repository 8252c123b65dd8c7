"""XML 1.0 to a tree of ``Element`` tuples, compared in C by ``==``.

Names are resolved to their namespaces, so prefixes play no part. Comments, processing instructions and blank text
between elements are layout. No entity is expanded, no other file or address is read. A file that uses a prefix it
does not declare is read all the same, because the program it belongs to opens it every day.
"""

from __future__ import annotations

import xml.etree.ElementTree as ET
import zipfile
import zlib
from collections.abc import Iterator
from functools import lru_cache
from typing import Any, NamedTuple

from lxml import etree

from everyshelf.core.errors import UnreadableError

_LIMIT_DEPTH = 250


@lru_cache(4096)
def local_name(tag: str) -> str:
    """A tag without its namespace or prefix."""
    return tag.rpartition("}")[2].rpartition(":")[2]


class Element(NamedTuple):
    """One element: ``tag`` as ``{namespace}name`` or ``name``; ``text`` stripped; ``children`` in document order."""

    tag: str
    attributes: dict[str, str]
    text: str
    children: tuple[Element, ...]

    @property
    def name(self) -> str:
        """The tag without its namespace, or without its prefix where that is declared nowhere."""
        return local_name(self.tag)


def parse_xml(data: bytes, flat: tuple[str, ...] = (), skipped: tuple[str, ...] = ()) -> Element:
    """The root element; raises ``UnreadableError`` with the line where it stops being XML.

    What lies below elements whose tag ends with one of ``flat`` comes as one list of plain (tag, attributes, text, ())
    without nesting: enough to say that it differs, at a fraction of the time. Elements whose tag ends with one of
    ``skipped`` are left out.
    """
    if b"<!ENTITY" in data:
        raise UnreadableError("it declares entities, which are never expanded here")
    try:
        # The quick way; what it cannot read, lxml reads (undeclared prefixes, more encodings) or refuses in words.
        root = ET.fromstring(data)  # noqa: S314
    except (ET.ParseError, ValueError, LookupError):
        root = _parse(data, recover=False)
    return _element(root, 0, flat, skipped)


def _parse(data: bytes, *, recover: bool) -> etree._Element:
    parser = etree.XMLParser(
        resolve_entities=False,
        no_network=True,
        load_dtd=False,
        huge_tree=False,
        remove_comments=True,
        remove_pis=True,
        recover=recover,
    )
    try:
        root = etree.fromstring(data, parser)
    except etree.XMLSyntaxError as error:
        if not recover and "prefix" in str(error) and "not defined" in str(error):
            return _parse(data, recover=True)
        raise UnreadableError(f"line {error.lineno}: {error.msg}") from error
    except ValueError as error:
        raise UnreadableError(str(error)) from error
    if root is None:
        raise UnreadableError("there is no element in it")
    return root


def _element(node: Any, depth: int, flat: tuple[str, ...], skipped: tuple[str, ...]) -> Element:
    if depth > _LIMIT_DEPTH:
        line = getattr(node, "sourceline", None)
        raise UnreadableError((f"line {line}: " if line else "") + f"nested over {_LIMIT_DEPTH} levels deep")
    children: list[Element] = []
    for child in node:
        if not isinstance(child.tag, str):
            continue
        if skipped and child.tag.endswith(skipped):
            continue
        if flat and child.tag.endswith(flat):
            plain = type(child.attrib) is dict  # one parser's elements hold a dict, the other's something like one
            below = tuple(
                (e.tag, e.attrib if plain else dict(e.attrib), e.text.strip() if e.text else "", ())
                for e in child.iter()
            )
            children.append(Element(child.tag, {}, "", below))  # type: ignore[arg-type]
            continue
        children.append(_element(child, depth + 1, flat, skipped))
        tail = child.tail
        if tail and not tail.isspace():
            children.append(Element("#text", {}, tail.strip(), ()))
    text = node.text
    attributes = node.attrib
    if type(attributes) is not dict:
        attributes = {str(k): str(v) for k, v in attributes.items()}
    return Element(node.tag, attributes, text.strip() if text else "", tuple(children))


def pulled(member: Any, names: tuple[str, ...], *, open_too: tuple[str, ...] = ()) -> Iterator[Any]:
    """Elements of the given local names of an archive's member, each whole when it comes and cleared afterwards.

    Those in ``open_too`` come when they begin, too. Raises ``UnreadableError``.
    """
    tags = [f"{{*}}{name}" for name in names]
    try:
        with member.open() as source:
            events = ("start", "end") if open_too else ("end",)
            options: dict[str, Any] = {"resolve_entities": False, "no_network": True, "load_dtd": False}
            context = etree.iterparse(source, events=events, tag=tags, recover=True, **options)
            for event, element in context:
                if event == "start" and local_name(element.tag) not in open_too:
                    continue
                yield element
                if event == "end":
                    element.clear()
                    while (earlier := element.getprevious()) is not None:
                        element.getparent().remove(earlier)
            if any(entry.type_name in _CUT_OFF for entry in context.error_log):
                raise UnreadableError(f"{member.name[:80]} ends in the middle")
    except (etree.XMLSyntaxError, *_STREAM_ERRORS) as error:
        raise UnreadableError(f"{member.name[:80]} cannot be read: {error}") from error


_CUT_OFF = ("ERR_DOCUMENT_END", "ERR_TAG_NOT_FINISHED", "ERR_GT_REQUIRED", "ERR_LTSLASH_REQUIRED")
_STREAM_ERRORS = (EOFError, OSError, ValueError, RuntimeError, NotImplementedError, zlib.error, zipfile.BadZipFile)
