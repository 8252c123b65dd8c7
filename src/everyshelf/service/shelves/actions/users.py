"""Whom a breaking finding breaks: artifacts of the newer state that use exactly the part in question."""

from __future__ import annotations

import time

from everyshelf.core.answers.findings import FindingAnswer, Use
from everyshelf.core.answers.uses import WantedPart
from everyshelf.core.history.trees import Entry
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.reading.messages import FileAt
from everyshelf.core.uses.places import NAMING_KINDS, may_name
from everyshelf.service.base.context import get_store, get_trees, reader
from everyshelf.service.shelves.actions.contents import as_file
from everyshelf.service.shelves.actions.refs import Resolved
from everyshelf.service.shelves.actions.seen import versions_at
from everyshelf.service.shelves.models import Shelf

_MOST_BYTES = 1024 * 1024
_BUDGET_SECONDS = 2.0
_MOST_FINDINGS = 50
_MOST_USES = 20


def add_users(shelf: Shelf, after: Resolved, rules: Rules, findings: dict[str, list[FindingAnswer]]) -> None:
    """Give each breaking finding (by path of its artifact) a list ``used_by``; absent where nobody is known to use it.

    Looks at artifacts of up to 1 MB that can name others, for at most two seconds.
    """
    wanted = {path: _breaking(own) for path, own in findings.items()}
    wanted = {path: own for path, own in wanted.items() if own}
    if not wanted or after.commit is None:
        return
    end = time.monotonic() + _BUDGET_SECONDS
    for path, entry in _readable(shelf, after):
        data: bytes | None = None
        for target, broken in wanted.items():
            if target == path or time.monotonic() > end:
                continue
            data = data if data is not None else get_store().read(entry.id)
            if may_name(data, target):
                _ask(path, entry, target, broken, rules)


def _breaking(findings: list[FindingAnswer]) -> list[FindingAnswer]:
    """Findings that break, and an artifact that is gone: who still names it is told either way."""
    gone = {("removed", "artifact")}
    told = [f for f in findings if f.effect == "breaks" or (f.action, f.type) in gone]
    return told[:_MOST_FINDINGS]


def _readable(shelf: Shelf, after: Resolved) -> list[tuple[str, Entry]]:
    entries = {path: entry for path, entry in get_trees().walk(after.root) if _is_small(entry)}
    versions = versions_at(shelf, after.commit, {path: entry.id for path, entry in entries.items()})
    return [(p, e) for p, e in sorted(entries.items()) if p in versions and versions[p].kind in NAMING_KINDS]


def _is_small(entry: Entry) -> bool:
    return entry.type == "artifact" and entry.size <= _MOST_BYTES


def _ask(path: str, entry: Entry, target: str, broken: list[FindingAnswer], rules: Rules) -> None:
    wanted = [
        WantedPart(
            target=target,
            type=finding.type,
            name=str(finding.before) if finding.action == "renamed" else _name(finding),
            came=(finding.action == "added" and finding.field is None) or finding.type == "artifact",
        )
        for finding in broken
    ]
    with as_file(entry.id) as file, reader() as worker:
        found = worker.uses(FileAt(path, str(file)), wanted, rules=rules.source)
    for finding, places in zip(broken, found, strict=True):
        more = [Use(artifact=path, place=p.place, label=p.label, exact=p.exact) for p in places]
        finding.used_by = (finding.used_by + more)[:_MOST_USES]


def _name(finding: FindingAnswer) -> str:
    """The key of the part, as others would write it."""
    key = finding.part.rpartition("/")[2].partition(":")[2]
    return key.replace("%2F", "/") or finding.label
