"""XML 1.0 to a tree of ``Element`` tuples, compared in C by ``==``.

Names are resolved to their namespaces, so prefixes play no part. Comments, processing instructions and blank text
between elements are layout. No entity is expanded, no other file or address is read. A file that uses a prefix it
does not declare is read all the same, because the program it belongs to opens it every day.
"""

from __future__ import annotations

from typing import NamedTuple

from lxml import etree

from everyshelf.core.errors import UnreadableError

_LIMIT_DEPTH = 250


class Element(NamedTuple):
    """One element: ``tag`` as ``{namespace}name`` or ``name``; ``text`` stripped; ``children`` in document order."""

    tag: str
    attributes: dict[str, str]
    text: str
    children: tuple[Element, ...]

    @property
    def name(self) -> str:
        """The tag without its namespace."""
        return self.tag.rpartition("}")[2]


def parse_xml(data: bytes) -> Element:
    """The root element; raises ``UnreadableError`` with the line where it stops being XML."""
    if b"<!ENTITY" in data:
        raise UnreadableError("it declares entities, which are never expanded here")
    root = _parse(data, recover=False)
    return _element(root, 0)


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


def _element(node: etree._Element, depth: int) -> Element:
    if depth > _LIMIT_DEPTH:
        raise UnreadableError(f"line {node.sourceline}: nested over {_LIMIT_DEPTH} levels deep")
    children: list[Element] = []
    for child in node:
        if not isinstance(child.tag, str):
            continue
        children.append(_element(child, depth + 1))
        if child.tail and not child.tail.isspace():
            children.append(Element("#text", {}, child.tail.strip(), ()))
    text = (node.text or "").strip()
    return Element(str(node.tag), {str(k): str(v) for k, v in node.attrib.items()}, text, tuple(children))
