"""Documents: paragraphs, headings, list items and rows of tables in order; slides; script modules; what is embedded."""

from __future__ import annotations

import posixpath
import re
from collections.abc import Iterable
from typing import Any

from lxml import etree

from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.archives import Member
from everyshelf.core.formats.modules import modules_of_member, modules_of_open_document
from everyshelf.core.formats.open_document import refuse_encrypted
from everyshelf.core.formats.open_document import text_of as open_text
from everyshelf.core.formats.xml import local_name
from everyshelf.core.kinds.cosmetic import Cosmetic, prose
from everyshelf.core.kinds.maker import Maker
from everyshelf.core.kinds.modules import module_part
from everyshelf.core.kinds.table import KindTable
from everyshelf.core.outline.model import Part

TABLE = KindTable(
    id="document",
    cosmetic_types=(Cosmetic(frozenset({"properties"}), "kept by the program beside the text", made=True),),
    cosmetic_fields=(Cosmetic(frozenset({"style"}), "how it looks"), prose("docstring", "comment")),
    unordered=frozenset({"module", "properties", "procedure", "part", "stream"}),
    breaks=frozenset({("removed", "procedure")}),
)
_MOST_TEXT = 64 * 1024 * 1024
_NOTES = re.compile(r"word/(header|footer|footnotes|endnotes|comments)\d*\.xml$")
_SLIDES = re.compile(r"ppt/slides/slide(\d+)\.xml$")


def read_document(members: dict[str, Member], form: str, table: KindTable) -> Part:
    """The text of a document and its modules; raises ``UnreadableError``."""
    maker = Maker(table)
    if form == "odt":
        parts = _open_document(members, maker)
        modules, problem = modules_of_open_document(members), ""
    else:
        parts = _slides(members, maker) if form == "pptx" else _word(members, maker)
        project = next((n for n in members if n.lower().endswith("vbaproject.bin")), None)
        modules, problem = modules_of_member(members[project].read()) if project is not None else ({}, "")
    parts += [module_part(maker, name, code) for name, code in modules.items()]
    if problem:
        parts.append(maker.part("module", "project", "script project", {"problem": problem}))
    return maker.part("document", "document", "", {}, parts)


def text_members(members: Iterable[str], form: str) -> set[str]:
    """Members whose text the outline holds: comparing them once more would say everything twice."""
    if form == "odt":
        return {"content.xml"}
    if form == "pptx":
        return {n for n in members if _SLIDES.search(n)}
    return {n for n in members if n.endswith("word/document.xml") or _NOTES.search(n)}


def _tree(members: dict[str, Member], name: str) -> Any:
    if name not in members:
        raise UnreadableError(f"there is no {name} in it")
    parser = etree.XMLParser(resolve_entities=False, no_network=True, load_dtd=False, recover=True, huge_tree=False)
    try:
        root = etree.fromstring(members[name].read(_MOST_TEXT), parser)
    except (etree.XMLSyntaxError, ValueError) as error:
        raise UnreadableError(f"{name} is not XML: {error}") from error
    if root is None:
        raise UnreadableError(f"{name} is empty")
    return root


def _own(element: Any, name: str) -> str:
    return next((str(v) for k, v in element.attrib.items() if local_name(str(k)) == name), "")


class _Sections:
    """Blocks under the headings they follow."""

    def __init__(self, maker: Maker) -> None:
        self._maker = maker
        self._parts: list[tuple[int, str, list[Part]]] = [(0, "", [])]

    def heading(self, level: int, text: str) -> None:
        self._parts.append((level, text, []))

    def block(self, part_type: str, text: str, style: str) -> None:
        if text.strip():
            fields = {"text": text, "style": style or None}
            self._parts[-1][2].append(self._maker.part(part_type, text, None, fields, anonymous=True))

    def all(self) -> list[Part]:
        first, *rest = self._parts
        sections = [
            self._maker.part("section", text or "untitled", text or "untitled", {"level": level}, blocks)
            for level, text, blocks in rest
        ]
        return [*first[2], *sections]


# --- Office Open XML (ECMA-376, part 1, 17) ---------------------------------------


def _word(members: dict[str, Member], maker: Maker) -> list[Part]:
    main = next((n for n in members if posixpath.basename(n) == "document.xml" and "word/" in n), "word/document.xml")
    root = _tree(members, main)
    sections = _Sections(maker)
    for body in (e for e in root if isinstance(e.tag, str) and local_name(e.tag) == "body"):
        _word_blocks(body, sections)
    parts = sections.all()
    for name in sorted(n for n in members if _NOTES.search(n)):
        inner = _Sections(maker)
        for element in _tree(members, name).iter("{*}p"):
            inner.block("paragraph", _word_text(element), "")
        kind = local_name(name.rpartition("/")[2].removesuffix(".xml"))
        if below := inner.all():
            parts.append(maker.part("part", kind, kind, {}, below))
    return parts


def _word_blocks(holder: Any, sections: _Sections) -> None:
    for element in holder:
        name = local_name(element.tag) if isinstance(element.tag, str) else ""
        if name == "p":
            style = next((_own(s, "val") for s in element.iter("{*}pStyle")), "")
            text = _word_text(element)
            level = re.fullmatch(r"heading\s*(\d)", style.lower())
            if level and text.strip():
                sections.heading(int(level[1]), text.strip())
            elif style.lower() == "title" and text.strip():
                sections.heading(0, text.strip())
            else:
                is_item = next(element.iter("{*}numPr"), None) is not None
                sections.block("item" if is_item else "paragraph", text, style)
        elif name == "tbl":
            for row in element.iter("{*}tr"):
                cells = [
                    " ".join(_word_text(p) for p in cell.iter("{*}p")).strip() for cell in row.iterchildren("{*}tc")
                ]
                sections.block("row", " | ".join(cells), "")
        elif name in ("sdt", "sdtContent", "customXml", "ins", "smartTag"):
            _word_blocks(element, sections)


def _word_text(paragraph: Any) -> str:
    """The text that stands there: what was struck out while changes were tracked is gone."""
    pieces: list[str] = []
    for element in paragraph.iter():
        name = local_name(element.tag) if isinstance(element.tag, str) else ""
        if name == "t":
            pieces.append(element.text or "")
        elif name == "tab" and local_name(element.getparent().tag) == "r":
            pieces.append("\t")
        elif name in ("br", "cr"):
            pieces.append("\n")
    return "".join(pieces)


def _slides(members: dict[str, Member], maker: Maker) -> list[Part]:
    if not any(n.startswith("ppt/") for n in members):
        raise UnreadableError("there is no presentation in it")
    names = sorted((int(found[1]), n) for n in members if (found := _SLIDES.search(n)))
    parts = []
    for _, name in names:
        texts = ["".join(t.text or "" for t in p.iter("{*}t")) for p in _tree(members, name).iter("{*}p")]
        below = [maker.part("paragraph", t, None, {"text": t}, anonymous=True) for t in texts if t.strip()]
        label = next((t for t in texts if t.strip()), "slide")
        parts.append(maker.part("slide", label, None, {}, below, anonymous=True))
    return parts


# --- OpenDocument (OASIS ODF 1.3, part 3, 5) --------------------------------------


def _open_document(members: dict[str, Member], maker: Maker) -> list[Part]:
    refuse_encrypted(members)
    root = _tree(members, "content.xml")
    sections = _Sections(maker)
    for body in root.iterchildren("{*}body"):
        for holder in body:
            _open_blocks(holder, sections, "paragraph")
    return sections.all()


def _open_blocks(holder: Any, sections: _Sections, part_type: str) -> None:
    for element in holder:
        name = local_name(element.tag) if isinstance(element.tag, str) else ""
        if name == "h":
            sections.heading(int(_own(element, "outline-level") or 1), open_text(element).strip() or "untitled")
        elif name == "p":
            sections.block(part_type, open_text(element), _own(element, "style-name"))
        elif name == "table-row":
            cells = [" ".join(open_text(p) for p in cell.iter("{*}p", "{*}h")) for cell in element if _is_cell(cell)]
            sections.block("row", " | ".join(cells), "")
        elif name == "list":
            _open_blocks(element, sections, "item")
        elif name == "page":
            sections.heading(1, _own(element, "name") or "slide")
            _open_blocks(element, sections, part_type)
        elif name not in ("tracked-changes", "sequence-decls", "forms", "annotation"):
            _open_blocks(element, sections, part_type)


def _is_cell(element: Any) -> bool:
    return isinstance(element.tag, str) and local_name(element.tag) in ("table-cell", "covered-table-cell")
