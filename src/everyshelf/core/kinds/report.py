"""Reports: Markdown (CommonMark 0.31 with tables) and HTML as sections and blocks; SVG as XML."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.tables import unique_names
from everyshelf.core.kinds.cosmetic import Cosmetic
from everyshelf.core.kinds.maker import Maker
from everyshelf.core.kinds.table import KindTable
from everyshelf.core.outline.model import Part

# Attributes of an element in HTML.
_LOOKS = ("class", "style", "id", "width", "height", "align", "valign", "bgcolor", "border")

TABLE = KindTable(
    id="report",
    cosmetic_types=(Cosmetic(frozenset({"metadata", "style"}), "about the page, not on it"),),
    cosmetic_fields=(Cosmetic(frozenset(_LOOKS), "how it looks"),),
)
_BLOCKS = frozenset(
    [
        "p",
        "li",
        "td",
        "th",
        "dt",
        "dd",
        "pre",
        "blockquote",
        "figcaption",
        "caption",
        "summary",
        "address",
        "legend",
        "label",
        "button",
    ]
)
_CALLED = {
    "p": "paragraph",
    "li": "item",
    "td": "cell",
    "th": "cell",
    "dt": "term",
    "dd": "item",
    "pre": "code",
    "blockquote": "quote",
    "figcaption": "caption",
}
_HEADINGS = {f"h{n}": n for n in range(1, 7)}
_MAX_HTML_DEPTH = 300


@dataclass
class _Section:
    """A heading and what stands below it, while it is being read."""

    level: int
    title: str
    blocks: list[tuple[str, str, dict[str, Any]]] = field(default_factory=list)
    below: list[_Section] = field(default_factory=list)

    def part(self, maker: Maker, part_type: str = "section", *, is_named: bool = True) -> Part:
        blocks = [
            _table_part(maker, extra["rows"])
            if kind == "table"
            else maker.part(kind, text or kind, None, {"text": text or None, **extra}, anonymous=True)
            for kind, text, extra in self.blocks
        ]
        titles = Counter(s.title for s in self.below)
        # Headings that come again are no names: such sections are told apart by what stands in them.
        named = not titles or max(titles.values()) == 1
        below = [s.part(maker, is_named=named) for s in self.below]
        key = "" if part_type != "section" else (self.title or "untitled") if is_named else None
        fields = {} if is_named else {"title": self.title or "untitled"}
        return maker.part(part_type, self.title or part_type, key, fields, [*blocks, *below], anonymous=not is_named)


def _table_part(maker: Maker, rows: list[list[str]]) -> Part:
    """A table by the names of its columns, its rows below it."""
    names = unique_names(rows[0])
    children = [maker.part("row", " | ".join(row), None, dict(zip(names, row, strict=False))) for row in rows[1:]]
    header = " | ".join(names)
    return maker.part("table", header, None, {"columns": header}, children, anonymous=True)


class _Stack:
    def __init__(self) -> None:
        self.root = _Section(0, "")
        self._open = [self.root]
        self.rows: list[list[str]] = []

    def heading(self, level: int, title: str) -> None:
        while self._open[-1].level >= level:
            self._open.pop()
        section = _Section(level, title)
        self._open[-1].below.append(section)
        self._open.append(section)

    def table(self, mark: str) -> None:
        """A row of a table begins, or the table ends."""
        if mark == "tr_open":
            self.rows.append([])
        else:
            self.block("table", "", rows=self.rows)
            self.rows = []

    def block(self, kind: str, text: str, **extra: Any) -> None:
        self._open[-1].blocks.append((kind, text, {k: v for k, v in extra.items() if v}))


def read_markdown(text: str, table: KindTable) -> Part:
    """Sections by their headings, blocks in order; wrapping, markers and escapes mean nothing."""
    from markdown_it import MarkdownIt

    stack = _Stack()
    if text.startswith("---\n") and (end := text.find("\n---", 4)) > 0:
        stack.block("front matter", text[4:end].strip())
        text = text[end + 4 :]
    try:
        seen: dict[str, Any] = {}
        tokens = MarkdownIt("commonmark").enable("table").parse(text, seen)
    except RecursionError as error:
        raise UnreadableError("nested too deeply to be read as Markdown") from error
    kind, level = "paragraph", 0
    for token in tokens:
        if token.type in ("tr_open", "table_close"):
            stack.table(token.type)
            kind = "paragraph"
        elif token.type == "inline" and kind == "cell":
            stack.rows[-1].append(" ".join(token.content.split()))
        elif token.type == "heading_open":
            kind, level = "heading", int(token.tag[1])
        elif token.type in ("list_item_open", "paragraph_open", "td_open", "th_open"):
            if not (token.type == "paragraph_open" and kind == "item"):
                kind = {"list_item_open": "item", "paragraph_open": "paragraph"}.get(token.type, "cell")
        elif token.type == "inline":
            words = " ".join(token.content.split())
            stack.heading(level, words) if kind == "heading" else stack.block(kind, words)
            kind = "paragraph"
        elif token.type in ("fence", "code_block"):
            stack.block("code", token.content, language=token.info.strip())
        elif token.type == "html_block":
            stack.block("markup", " ".join(token.content.split()))
    root = stack.root
    for label, given in seen.get("references", {}).items():
        root.blocks.append(("link", label, {"href": given.get("href"), "title": given.get("title")}))
    return root.part(Maker(table), "report")


def read_html(text: str, table: KindTable) -> Part:
    """Sections by headings, blocks with their words; links, pictures and scripts by where they lead."""
    from lxml import etree, html

    try:
        document = html.document_fromstring(text.encode(), parser=html.HTMLParser(encoding="utf-8", huge_tree=False))
    except (etree.ParserError, etree.XMLSyntaxError, ValueError) as error:
        raise UnreadableError(str(error)) from error
    stack = _Stack()
    for kind, words, extra in _html_blocks(document):
        if kind in _HEADINGS:
            stack.heading(_HEADINGS[kind], words)
        else:
            stack.block(kind, words, **extra)
    return stack.root.part(Maker(table), "report")


def _html_blocks(root: Any) -> Iterator[tuple[str, str, dict[str, Any]]]:
    waiting: list[tuple[Any, int]] = [(root, 0)]
    while waiting:
        node, depth = waiting.pop()
        if depth > _MAX_HTML_DEPTH:
            raise UnreadableError(f"nested over {_MAX_HTML_DEPTH} levels deep")
        tag = node.tag
        if not isinstance(tag, str):
            continue
        if tag in ("script", "style"):
            yield tag, (node.text or "").strip(), _attributes(node)
            yield from _after(node)
            continue
        if tag in _HEADINGS or (
            tag in _BLOCKS and not any(c.tag in _BLOCKS or c.tag in _HEADINGS for c in node.iterdescendants())
        ):
            yield _CALLED.get(tag, tag), " ".join(node.text_content().split()), {}
            for element in node.iter():
                yield from _element(element)
            yield from _after(node)
            continue
        if node.text and node.text.strip() and tag != "title":
            yield "text", " ".join(node.text.split()), {}
        elif tag == "title":
            yield "title", " ".join((node.text or "").split()), {}
        yield from _element(node)
        waiting += [(child, depth + 1) for child in reversed(node)]
        yield from _after(node)


def _after(node: Any) -> Iterator[tuple[str, str, dict[str, Any]]]:
    if node.tail and node.tail.strip():
        yield "text", " ".join(node.tail.split()), {}


def _attributes(node: Any) -> dict[str, Any]:
    # Two attributes are called as what a block has of its own.
    own = ("text", "kind")
    given = node.attrib.items()
    return {f"{n} attribute" if n in own else str(n): value for n, value in given if n not in _LOOKS}


def _element(node: Any) -> Iterator[tuple[str, str, dict[str, Any]]]:
    """An element by what its attributes say, where they say more than how it looks: links, pictures, fields."""
    if isinstance(node.tag, str) and (found := _attributes(node)):
        yield {"a": "link", "img": "picture", "table": "table element"}.get(node.tag, node.tag), "", found
