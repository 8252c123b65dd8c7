"""Comparing two states of a shelf: which artifacts differ, then each by what it means.

What is not known yet is worked out within a budget of time; the rest is left to a job, and the answer says so.
"""

from __future__ import annotations

import functools
import time
from collections.abc import Callable

import msgspec

from everyshelf.core.answers.comparisons import Compared, ComparisonAnswer
from everyshelf.core.answers.states import ArtifactState, ComparedArtifact, Side, StateComparison
from everyshelf.core.answers.tables import TableAnswer
from everyshelf.core.compare.sentences import effect_of, headline, rank_of, states_sentence
from everyshelf.core.history.names import distinct_names, file_name
from everyshelf.core.history.trees import Entry
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.outline.model import EFFECTS
from everyshelf.service.base.context import get_trees
from everyshelf.service.base.working import WorkingError
from everyshelf.service.jobs.actions import start_job
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.actions.comparing import Effort, compare_pair, nothing_changed
from everyshelf.service.shelves.actions.pairs import Pairing, pair_changes
from everyshelf.service.shelves.actions.recognising import kinds_of
from everyshelf.service.shelves.actions.recording import rules_at
from everyshelf.service.shelves.actions.refs import Resolved
from everyshelf.service.shelves.actions.seen import versions_at
from everyshelf.service.shelves.actions.seen_shapes import SeenVersion
from everyshelf.service.shelves.models import Shelf

Progress = Callable[[int, int, str], None]
BUDGET_SECONDS = 0.8
SHOWN_FINDINGS = 50


class ComparePendingError(WorkingError):
    """A job is comparing."""

    code = "compare.pending"

    def __init__(self, job: str) -> None:
        super().__init__("comparing takes longer than an answer may: a job does it", job)


def compare_whole(caller: Caller, shelf: Shelf, before: Resolved, after: Resolved, *, shown: int) -> StateComparison:
    """The comparison of two states with nothing left out; raises ``ComparePendingError`` where a job has to do it."""
    for_a_job = before.commit is not None and after.commit is not None and "draft" not in (before.kind, after.kind)
    compared = compare_states(shelf, before, after, budget=BUDGET_SECONDS if for_a_job else None, shown=shown)
    if compared.pending and before.commit is not None and after.commit is not None:
        job = start_job(caller, "compare", shelf, {"from": before.commit.uid, "to": after.commit.uid})
        raise ComparePendingError(job.uid)
    return compared


def compare_states(
    shelf: Shelf,
    before: Resolved,
    after: Resolved,
    *,
    budget: float | None = BUDGET_SECONDS,
    progress: Progress | None = None,
    shown: int = SHOWN_FINDINGS,
) -> StateComparison:
    """The whole comparison; with a budget, artifacts that would take longer are marked ``pending``.

    ``shown``: most findings given for each artifact; the counts are exact.
    """
    pairs = pair_changes(shelf, before, after)
    rules = rules_at(after.root)
    old_versions = versions_at(shelf, before.commit, {p.old_path: p.before.id for p in pairs if p.before})
    new_versions = versions_at(shelf, after.commit, {p.path: p.after.id for p in pairs if p.after})
    end = None if budget is None else time.monotonic() + budget
    artifacts = []
    for done, pair in enumerate(pairs):
        if progress is not None:
            progress(done, len(pairs), pair.path)
        tick = None if progress is None else functools.partial(progress, done, len(pairs), pair.path)
        effort: Effort = "job" if end is None else "request" if time.monotonic() < end else "none"
        found = compare_pair(pair, rules, effort, tick=tick)
        artifacts.append(_artifact(pair, old_versions.get(pair.old_path), new_versions.get(pair.path), found, shown))
    _name(artifacts, pairs, rules)
    artifacts.sort(key=lambda a: (rank_of(a), a.path))
    return StateComparison(
        from_=before.answer(),
        to=after.answer(),
        artifacts=artifacts,
        counts=_state_counts(pairs),
        effects={effect: sum(a.effects.get(effect, 0) for a in artifacts) for effect in EFFECTS},
        sentence=states_sentence(artifacts),
        pending=sum(a.pending for a in artifacts),
        same=get_trees().count(after.root) - sum(p.after is not None for p in pairs),
        job=None,
        parted=None,
    )


def _name(artifacts: list[ComparedArtifact], pairs: list[Pairing], rules: Rules) -> None:
    """Give them names that tell them apart, and kinds where they have no version yet."""
    names = distinct_names(pair.path for pair in pairs)
    entries = {pair.path: pair.after or pair.before for pair in pairs}
    fresh = {a.path: e for a in artifacts if a.kind == "" and (e := entries[a.path]) is not None}
    kinds = kinds_of(fresh, rules)
    for artifact in artifacts:
        artifact.name = names[artifact.path]
        artifact.kind = artifact.kind or kinds[artifact.path]


def _state_counts(pairs: list[Pairing]) -> dict[ArtifactState, int]:
    counts: dict[ArtifactState, int] = {"new": 0, "edited": 0, "moved": 0, "gone": 0}
    for pair in pairs:
        counts[pair.state] += 1
    return counts


def _artifact(
    pair: Pairing, old: SeenVersion | None, new: SeenVersion | None, found: ComparisonAnswer | None, shown: int
) -> ComparedArtifact:
    """``found``: None where it is still being compared."""
    known = new or old
    compared = _brief(found, shown) if found is not None else nothing_changed("")
    fields = {name: getattr(compared, name) for name in Compared.__struct_fields__}
    artifact = ComparedArtifact(
        **{**fields, "kind": compared.kind or (known.kind if known else "")},
        path=pair.path,
        old_path=pair.old_path,
        name=file_name(pair.path),
        state=pair.state,
        before=_side(pair.before, old),
        after=_side(pair.after, new),
        pending=found is None,
        effect=None,
        headline="",
    )
    if found is None:
        artifact.effects = {}
    else:
        artifact.effect = effect_of(found) or ("alters" if pair.state in ("new", "gone") else None)
        artifact.headline = headline(found)
    return artifact


def _brief(found: ComparisonAnswer, shown: int) -> ComparisonAnswer:
    """Without what belongs on the page of one artifact: rows, profiles, grids, tensors, pictures, most findings."""
    brief = msgspec.structs.replace(
        found, findings=found.findings[:shown], truncated=found.truncated or len(found.findings) > shown
    )
    if found.table is not None:
        brief.table = _without_rows(found.table)
    if found.tables is not None:
        brief.tables = {name: _without_rows(table) for name, table in found.tables.items()}
    if found.model is not None:
        brief.model = msgspec.structs.replace(found.model, tensors=[])
    if found.picture is not None:
        brief.picture = msgspec.structs.replace(found.picture, difference=None)
    return brief


def _without_rows(table: TableAnswer) -> TableAnswer:
    return msgspec.structs.replace(table, details=[], profiles=[], grid=None)


def _side(entry: Entry | None, version: SeenVersion | None) -> Side | None:
    if entry is None:
        return None
    return Side(version=version.number if version else None, content=entry.id, size=entry.size)
