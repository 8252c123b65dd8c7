"""Archive against archive, member by member, each member as what it is; documents by their text, then their members.

Order, time stamps and compression of members are nothing. A member is unpacked only where sizes or checksums do not say
that it is equal.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from everyshelf.core.compare.outlines import compare_outlines
from everyshelf.core.compare.result import Comparison
from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.archives import Member, open_archive
from everyshelf.core.kinds.archive import in_workbook, looks_only
from everyshelf.core.kinds.document import read_document, text_members
from everyshelf.core.kinds.table import KindTable
from everyshelf.core.outline.model import Effect, Finding, Outline

# Name and bytes of both versions of a member -> what changed in it.
Inside = Callable[[str, bytes, bytes], Comparison]
_MOST_INSIDE = 2_000  # members looked into; of the rest it is said that they differ


def compare_archives(before: bytes, after: bytes, inside: Inside) -> Comparison:
    """Findings on members, those inside of members below them; raises ``UnreadableError``."""
    return compare_members(open_archive(before), open_archive(after), inside)


def compare_members(before: dict[str, Member], after: dict[str, Member], inside: Inside) -> Comparison:
    """As ``compare_archives``, of members wherever they lie."""
    findings, notes = _Members(before, after, inside).all()
    return Comparison("archive", findings, note=notes)


def compare_documents(
    before: bytes, after: bytes, forms: tuple[str, str], table: KindTable, inside: Inside
) -> Comparison:
    """Findings on the text, then on everything else; raises ``UnreadableError``."""
    old, new = open_archive(before), open_archive(after)
    roots = [read_document(m, form, table) for m, form in zip((old, new), forms, strict=True)]
    one, other = (Outline("document", "document", root) for root in roots)
    findings, identity = compare_outlines(one, other, table)
    told = [text_members(m, form) for m, form in zip((old, new), forms, strict=True)]
    said = bool(findings)
    if forms[0] != forms[1]:
        findings.append(Finding("changed", "/", "document", "format", "cosmetic", "format", *forms))
        return Comparison("document", findings, identity=identity)
    rest = [{n: m for n, m in side.items() if n not in known} for side, known in zip((old, new), told, strict=True)]
    more, notes = _Members(rest[0], rest[1], inside, is_document=True).all()
    if not said and any(_differ(old.get(n), new.get(n)) for n in told[0] | told[1]):
        findings += _formatting(old, new, told[0] & told[1], inside)
    return Comparison("document", [*findings, *more], note=notes, identity=identity)


def other_members(
    before: dict[str, Member], after: dict[str, Member], inside: Inside, unread: set[str]
) -> list[Finding]:
    """What changed in charts, pictures and whatever else lies in a workbook beside its sheets, or is ``unread``."""
    rest = [{n: m for n, m in side.items() if n.lower() in unread or not in_workbook(n)} for side in (before, after)]
    return _Members(rest[0], rest[1], inside, is_document=True).all()[0]


def _formatting(old: dict[str, Member], new: dict[str, Member], names: set[str], inside: Inside) -> list[Finding]:
    """The text is equal and the member is not: its looks changed, or it was merely written anew."""
    for name in sorted(names):
        if _differ(old[name], new[name]) and inside(name, old[name].read(), new[name].read()).findings:
            return [Finding("changed", "/", "document", "formatting", "cosmetic", "formatting")]
    return []


def _differ(old: Member | None, new: Member | None) -> bool:
    if old is None or new is None:
        return old is not new
    return old.size != new.size or old.checksum is None or old.checksum != new.checksum


class _Members:
    def __init__(
        self, before: dict[str, Member], after: dict[str, Member], inside: Inside, *, is_document: bool = False
    ) -> None:
        self._before, self._after, self._inside = before, after, inside
        self._is_document = is_document
        self._findings: list[Finding] = []
        self._notes: list[str] = []

    def all(self) -> tuple[list[Finding], str]:
        gone = [n for n in self._before if n not in self._after]
        come = [n for n in self._after if n not in self._before]
        looked = 0
        for name, new in self._after.items():
            old = self._before.get(name)
            if old is not None and _differ(old, new):
                looked += 1
                self._member(name, old, new, look=looked <= _MOST_INSIDE)
        renamed = self._renamed(gone, come)
        for old_name, new_name in renamed.items():
            self._say("renamed", new_name, "alters", before=old_name, after=new_name)
        for name in gone:
            if name not in renamed:
                self._say("removed", name, "alters", before=self._before[name].size)
        for name in come:
            if name not in renamed.values():
                self._say("added", name, "alters", after=self._after[name].size)
        return self._findings, "; ".join(self._notes)

    def _renamed(self, gone: list[str], come: list[str]) -> dict[str, str]:
        """Equal bytes under another name; equal checksum and size are looked at once more."""
        found: dict[str, str] = {}
        by_content: dict[tuple[int, int | None], list[str]] = {}
        for name in come:
            member = self._after[name]
            by_content.setdefault((member.size, member.checksum), []).append(name)
        for name in gone:
            member = self._before[name]
            for other in by_content.get((member.size, member.checksum), []):
                if member.size and other not in found.values() and self._equal(member, self._after[other]):
                    found[name] = other
                    break
        return found

    def _equal(self, old: Member, new: Member) -> bool:
        try:
            return old.read() == new.read()
        except UnreadableError:
            return False

    def _member(self, name: str, old: Member, new: Member, *, look: bool) -> None:
        try:
            before, after = old.read(), new.read()
        except UnreadableError as error:
            self._say("changed", name, None, field="content", before=old.size, after=new.size, detail=str(error))
            return
        if before == after:
            return
        if not look:
            self._say("changed", name, None, field="content", before=old.size, after=new.size)
            return
        found = self._inside(name, before, after)
        if self._is_document and looks_only(name):
            if found.findings:
                self._say("changed", name, "cosmetic", field="content")
            return
        path = _path(name)
        if found.read_as == "bytes":
            self._say("changed", name, None, field="content", before=len(before), after=len(after))
        else:
            self._findings += [
                replace(f, part=path + (f.part if f.part != "/" else ""), label=_label(name, f)) for f in found.findings
            ]

    def _say(
        self,
        action: str,
        name: str,
        effect: Effect | None,
        *,
        field: str | None = None,
        before: object = None,
        after: object = None,
        detail: str = "",
    ) -> None:
        if self._is_document and looks_only(name):
            effect = "cosmetic"
        found = Finding(action, _path(name), "member", name, effect, field, before, after, detail)  # type: ignore[arg-type]
        self._findings.append(found)


def _path(name: str) -> str:
    return f"/member:{name.replace('/', '%2F')}"


def _label(name: str, finding: Finding) -> str:
    short = name if len(name) <= 40 else f"…{name[-39:]}"
    return f"{finding.label} in {short}"
