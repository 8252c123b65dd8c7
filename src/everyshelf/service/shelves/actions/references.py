"""Who uses what on a shelf: what each artifact names, kept by its content, joined over one state."""

from __future__ import annotations

import time
from typing import Any

from everyshelf.core.errors import MissingError
from everyshelf.core.history import Entry
from everyshelf.core.kinds.naming import Targets, is_missed
from everyshelf.core.kinds.references import NAMING_KINDS
from everyshelf.core.kinds.rules import Rules
from everyshelf.service.base.context import get_trees, reader
from everyshelf.service.shelves.actions.comparison import remembered
from everyshelf.service.shelves.actions.contents import as_file
from everyshelf.service.shelves.actions.recording import rules_at
from everyshelf.service.shelves.actions.refs import Resolved
from everyshelf.service.shelves.actions.seen import versions_at
from everyshelf.service.shelves.models import Commit, Shelf

_MOST_BYTES = 1024 * 1024
_BUDGET_SECONDS = 2.0
_MOST_TOLD = 200
_MOST_ARTIFACTS = 20_000


def references_of(shelf: Shelf, at: Resolved, path: str) -> dict[str, Any]:
    """What the artifact uses, who uses it, and what it names that is not there.

    ``complete`` is False where some artifacts could not be looked through in two seconds (ask again, what was read is
    kept), and on shelves of over 20,000 artifacts, where only this one is looked through.
    """
    rules = rules_at(at.root)
    entries = dict(get_trees().walk(at.root))
    if path not in entries:
        raise MissingError(f"{path} is not there", code="artifact.missing", hint="See everyshelf browse.")
    end, complete = time.monotonic() + _BUDGET_SECONDS, len(entries) <= _MOST_ARTIFACTS
    wanted = entries if complete else {path: entries[path]}
    versions = versions_at(shelf, at.commit, {p: e.id for p, e in wanted.items()}) if at.commit else {}
    kinds = {p: v.kind for p, v in versions.items()}
    told: dict[str, dict[str, Any]] = {}
    # The artifact itself first; of a very large shelf, it alone.
    for one in sorted(wanted, key=lambda p: p != path):
        if kinds.get(one) in NAMING_KINDS and entries[one].type == "artifact" and entries[one].size <= _MOST_BYTES:
            found = names_of(one, entries[one], rules, allowed=one == path or time.monotonic() < end)
            complete = complete and found is not None
            told[one] = found or {"names": [], "offers": []}
    offers: dict[str, list[str]] = {}
    for one, found in told.items():
        for offered in found["offers"]:
            offers.setdefault(offered, []).append(one)
    targets = Targets(entries, offers)
    uses, missing = _uses(path, told.get(path, {"names": []})["names"], targets)
    used_by = [
        _use(one, kinds, named)
        for one, found in sorted(told.items())
        if one != path
        for named in found["names"]
        if targets.may_mean(named, path) and path in targets.of(named, one)
    ]
    return {
        "uses": [_use(target, kinds, named) for target, named in uses][:_MOST_TOLD],
        "used_by": used_by[:_MOST_TOLD],
        "missing": [{"name": n["text"], "place": n["place"], "label": n["label"]} for n in missing][:_MOST_TOLD],
        "complete": complete,
    }


def _uses(
    path: str, names: list[dict[str, Any]], targets: Targets
) -> tuple[list[tuple[str, dict[str, Any]]], list[dict[str, Any]]]:
    found: list[tuple[str, dict[str, Any]]] = []
    missing = []
    for named in names:
        meant = targets.of(named, path)
        found += [(target, named) for target in meant]
        own = targets.may_mean(named, path)
        if not meant and not own and is_missed(named):
            missing.append(named)
    return found, missing


def _use(artifact: str, kinds: dict[str, str], named: dict[str, Any]) -> dict[str, Any]:
    told = {k: named[k] for k in ("place", "label", "exact")}
    return {"artifact": artifact, "kind": kinds.get(artifact, "opaque"), **told}


def names_of(path: str, entry: Entry, rules: Rules, *, allowed: bool = True) -> dict[str, Any] | None:
    """What one artifact names and offers, from the records or read now; None if that is not allowed."""

    def work() -> dict[str, Any]:
        with as_file(entry.id) as file, reader() as worker:
            return worker.names(path, file, rules_text=rules.source)

    return remembered(("names", path, entry.id, rules.source), work if allowed else None)


def read_names(commit: Commit) -> None:
    """Read what the artifacts of a commit name, so that nobody has to wait for it (the work of a job)."""
    rules = rules_at(commit.root)
    for version in commit.versions.filter(content__gt="", kind__in=NAMING_KINDS, size__lte=_MOST_BYTES)[:2000]:
        names_of(version.path, Entry(version.path, "artifact", version.content, version.size), rules)
