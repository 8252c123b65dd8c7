"""Archives: members by name. What changed inside of a member is told as that member's own kind."""

from __future__ import annotations

import re

from everyshelf.core.formats.archives import Member
from everyshelf.core.kinds.maker import Maker
from everyshelf.core.kinds.table import KindTable
from everyshelf.core.outline.model import Part

TABLE = KindTable(id="archive", unordered=frozenset({"member", "folder"}))
# Members of documents and workbooks that hold nothing but looks, lists of the others, or what a program noted down.
_LOOKS = re.compile(
    r"(^|/)(styles|theme\d*|settings|webSettings|fontTable|numbering|stylesWithEffects|app|core|custom|meta|manifest"
    r"|presProps|viewProps|tableStyles|printerSettings\d*)\.(xml|bin|rdf)$|\.rels$|^\[Content_Types\]\.xml$"
    r"|(^|/)(thumbnail\.(png|jpeg|wmf|emf)|layout-cache|mimetype)$|^Thumbnails/|^Configurations2/|^META-INF/"
    r"|(^|/)(slideLayouts|slideMasters|theme|notesMasters|glossary)/"
)


_IN_WORKBOOK = re.compile(
    r"(^|/)xl/(workbook\.xml|sharedStrings\.xml|calcChain\.xml|vbaProject\.bin|worksheets/[^/]+\.xml|metadata\.xml)$"
    r"|^content\.xml$|^(Basic|Scripts)/"
)


def in_workbook(name: str) -> bool:
    """True for members of a workbook that are read as its sheets, texts and modules."""
    return _IN_WORKBOOK.search(name) is not None


def looks_only(name: str) -> bool:
    """True for members of an office file whose change nobody who reads it would call a change of content."""
    return _LOOKS.search(name) is not None


def read_archive(members: dict[str, Member], table: KindTable) -> Part:
    """Members in folders, each with its size."""
    maker = Maker(table)
    return maker.part("archive", "archive", "", {"members": len(members)}, _folder(maker, members, ""))


def _folder(maker: Maker, members: dict[str, Member], prefix: str) -> list[Part]:
    below: dict[str, dict[str, Member]] = {}
    parts: list[Part] = []
    for name, member in members.items():
        folder, slash, _ = name[len(prefix) :].partition("/")
        if slash and folder and len(prefix) < 500:
            below.setdefault(folder, {})[name] = member
        else:
            label = name[len(prefix) :] or name
            fields = {"bytes": member.size, "encrypted": True if member.is_encrypted else None}
            parts.append(maker.part("member", label, label, fields))
    folders = [maker.part("folder", f, f, {}, _folder(maker, held, f"{prefix}{f}/")) for f, held in below.items()]
    return [*folders, *parts]
