"""Remarks and verdicts: what people say about a proposal, and where a remark's part is now."""

from __future__ import annotations

import uuid
from collections import defaultdict
from typing import Any

from django.utils import timezone

from everyshelf.core.answers.comparisons import ComparisonAnswer
from everyshelf.core.answers.files import FollowedPart
from everyshelf.core.compare.sentences import effect_of
from everyshelf.core.errors import ConflictError, InvalidError, MissingError, RefusedError
from everyshelf.core.history.paths import check_path
from everyshelf.core.history.trees import Entry
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.reading.messages import FileAt
from everyshelf.service.base.acts import one_act
from everyshelf.service.base.context import get_trees, reader
from everyshelf.service.log.actions import note
from everyshelf.service.proposals.actions.proposals import Ends, ends_of
from everyshelf.service.proposals.models import VERDICTS, Proposal, Remark, Verdict
from everyshelf.service.rights import Caller, require
from everyshelf.service.shelves.actions.comparing import compare_pair
from everyshelf.service.shelves.actions.contents import as_file
from everyshelf.service.shelves.actions.lineage import lineage_of
from everyshelf.service.shelves.actions.outlines import READ_LIMIT_BYTES
from everyshelf.service.shelves.actions.pairs import pair_changes
from everyshelf.service.shelves.actions.recording import rules_at
from everyshelf.service.shelves.actions.refs import Resolved
from everyshelf.service.shelves.actions.remembered import remembered
from everyshelf.service.shelves.actions.seen import versions_at
from everyshelf.service.shelves.models import ArtifactVersion, Commit, Shelf

_FOLLOWER_VERSION = "1"
_LONGEST = 20_000


# --- remarks ------------------------------------------------------------------------------


def remark(
    caller: Caller,
    proposal: Proposal,
    text: str,
    *,
    path: str = "",
    part: str = "",
    label: str = "",
    answer_to: str = "",
    condition: bool = False,
) -> Remark:
    """Add a remark on the proposal, an artifact of its source, or a part of one; or answer a remark.

    A condition takes the right to give a verdict, since it keeps the proposal from being merged.
    """
    require(caller, proposal.shelf, "give a verdict" if condition else "remark")
    text = text.strip()
    if not text or len(text) > _LONGEST:
        raise InvalidError(
            f"a remark has 1 to {_LONGEST} characters", code="remark.text", pointer="/text", hint="Write the remark."
        )
    if part and not path:
        raise InvalidError("a part belongs to an artifact", code="remark.path", hint="Name the artifact, too.")
    asked = get_remark(proposal, answer_to) if answer_to else None
    head, artifact = ends_of(proposal).head, ""
    if asked is not None:
        asked = asked.answer_to or asked
        path, part, label = asked.path, asked.part, asked.label
    elif path:
        artifact = _artifact_at(proposal.shelf, head, path)
    with one_act():
        made = Remark.objects.create(
            proposal=proposal,
            uid=uuid.uuid4().hex[:12],
            person=caller.person,
            commit=asked.commit if asked else head,
            path=path,
            artifact=asked.artifact if asked else artifact,
            part=part,
            label=(label or part.rpartition(":")[2])[:300],
            text=text,
            condition=condition and asked is None,
            made=timezone.now(),
            answer_to=asked,
        )
        note(caller, "proposal.remarked", str(proposal), proposal.shelf, remark=made.uid)
    return made


def _artifact_at(shelf: Shelf, commit: Commit, path: str) -> str:
    """The id of the artifact at ``path``; a removed one is found in the line before."""
    entry = get_trees().find(commit.root, check_path(path))
    if entry is not None:
        version = versions_at(shelf, commit, {path: entry.id}).get(path)
        return version.artifact.uid if version else ""
    line = lineage_of(shelf).ancestors(commit.pk)
    for row in ArtifactVersion.objects.filter(shelf=shelf, path=path).select_related("artifact").order_by("-id"):
        if row.commit_id in line:
            return row.artifact.uid
    raise MissingError(f"{path} is not in this proposal", code="artifact.missing", hint="See everyshelf browse.")


def get_remark(proposal: Proposal, uid: str) -> Remark:
    """A remark by its id."""
    found = proposal.remarks.select_related("person", "commit", "answer_to").filter(uid=uid).first()
    if found is None:
        raise MissingError(f"proposal {proposal.number} has no remark {uid[:20]!r}", code="remark.missing")
    return found


def settle_remark(caller: Caller, found: Remark, *, settled: bool) -> Remark:
    """Mark a remark as done or a condition as met, or undo that.

    Who made it, who opened the proposal, and keepers may; who opened the proposal may not mark the
    condition of someone else as met.
    """
    proposal = found.proposal
    if found.condition and caller.person.pk == proposal.created_by_id != found.person_id:
        raise RefusedError(
            f"the condition of {found.person.username} cannot be marked as met by who opened the proposal",
            code="proposal.own",
            hint=f"Ask {found.person.username}, or a keeper of the shelf.",
        )
    if caller.person.pk in (found.person_id, proposal.created_by_id):
        require(caller, proposal.shelf, "remark")
    else:
        require(caller, proposal.shelf, "change others' proposals")
    if found.answer_to_id is not None:
        raise InvalidError("an answer is settled with the remark it answers", code="remark.answer")
    found.settled = timezone.now() if settled else None
    found.settled_by = caller.person if settled else None
    found.save(update_fields=["settled", "settled_by"])
    return found


def open_conditions(proposal: Proposal) -> list[Remark]:
    """The conditions that are not met yet, oldest first."""
    rows = proposal.remarks.filter(condition=True, settled=None).select_related("person")
    return list(rows.order_by("id"))


def list_remarks(proposal: Proposal) -> list[dict[str, Any]]:
    """Remarks with their answers, oldest first, each with where its part is now."""
    rows = list(proposal.remarks.select_related("person", "commit", "settled_by").order_by("id"))
    places = _places_now(proposal.shelf, ends_of(proposal).head, [r for r in rows if r.path])
    answers: dict[int | None, list[dict[str, Any]]] = defaultdict(list)
    for row in rows:
        answers[row.answer_to_id].append(_remark_json(row, places.get(row.pk)))
    for row, told in zip((r for r in rows if r.answer_to_id is None), answers[None], strict=True):
        told["answers"] = answers.get(row.pk, [])
    return answers[None]


def _remark_json(row: Remark, place: dict[str, Any] | None) -> dict[str, Any]:
    return {
        "id": row.uid,
        "person": row.person.username,
        "made": row.made,
        "text": row.text,
        "condition": row.condition,
        "commit": row.commit.uid,
        "path": row.path,
        "part": row.part,
        "label": row.label,
        "now": place,
        "settled": row.settled,
        "settled_by": row.settled_by.username if row.settled_by else None,
        "answers": [],
    }


def _places_now(shelf: Shelf, head: Commit, rows: list[Remark]) -> dict[int, dict[str, Any]]:
    """For each remark where its artifact and part are at ``head``: ``path`` and ``part``, null for what is gone."""
    groups: dict[tuple[Commit, str, str], list[Remark]] = defaultdict(list)
    for row in rows:
        groups[(row.commit, row.path, row.artifact)].append(row)
    rules, result = rules_at(head.root), {}
    for (commit, path, artifact), held in groups.items():
        now = _path_now(shelf, head, path, artifact)
        before, after = get_trees().find(commit.root, path), get_trees().find(head.root, now) if now else None
        if now is None or after is None:
            result.update({row.pk: {"path": None, "part": None, "label": row.label} for row in held})
            continue
        wanted = sorted({row.part for row in held if row.part})
        found = _follow(path, before, now, after, wanted, rules) if wanted and before else {}
        for row in held:
            place = found.get(row.part, FollowedPart(row.part))
            result[row.pk] = {"path": now, "part": place.part, "label": place.label or row.label}
    return result


def _path_now(shelf: Shelf, head: Commit, path: str, artifact: str) -> str | None:
    """Where an artifact is at ``head``, wherever it went; None if it is gone."""
    trees = get_trees()
    line = lineage_of(shelf).ancestors(head.pk)
    rows = ArtifactVersion.objects.filter(shelf=shelf, artifact__uid=artifact).order_by("-id")
    for row in rows:
        if row.commit_id in line:
            return row.path if row.content and trees.find(head.root, row.path) is not None else None
    return path if trees.find(head.root, path) is not None else None


def _follow(
    old_path: str, before: Entry, new_path: str, after: Entry, parts: list[str], rules: Rules
) -> dict[str, FollowedPart]:
    same = before.id == after.id or "whole" in (before.type, after.type)
    if same or max(before.size, after.size) > READ_LIMIT_BYTES // 4:
        return {part: FollowedPart(part) for part in parts}

    def work() -> dict[str, FollowedPart]:
        with as_file(before.id) as old, as_file(after.id) as new, reader() as worker:
            return worker.follow(FileAt(old_path, str(old)), FileAt(new_path, str(new)), parts, rules=rules.source)

    basis = ("follow", _FOLLOWER_VERSION, old_path, before.id, new_path, after.id, rules.source, *parts)
    return remembered(basis, dict[str, FollowedPart], work)


# --- verdicts -----------------------------------------------------------------------------


def give_verdict(caller: Caller, proposal: Proposal, verdict: str, text: str, commit: str = "") -> Verdict:
    """Record a verdict. ``commit``: the state it is about; refused if the source has newer commits."""
    require(caller, proposal.shelf, "give a verdict")
    if proposal.state != "open":
        raise ConflictError(f"proposal {proposal.number} is {proposal.state} already", code="proposal.state")
    if proposal.created_by_id == caller.person.pk:
        raise RefusedError(
            "you cannot give a verdict on your own proposal", code="proposal.own", hint="Ask someone else for theirs."
        )
    if verdict not in VERDICTS:
        raise InvalidError(
            f"{verdict!r} is not a verdict", code="verdict.unknown", hint=f"Choose {' or '.join(VERDICTS)}."
        )
    text = text.strip()
    if verdict == "against" and not text:
        raise InvalidError("a verdict against needs a comment that says why", code="verdict.text", pointer="/text")
    head = ends_of(proposal).head
    if commit and not head.uid.startswith(commit):
        raise ConflictError(
            f"{proposal.source} has newer commits, up to {head.uid[:8]}",
            code="proposal.moved",
            hint="Look at them, then give the verdict.",
            head=head.uid,
        )
    with one_act():
        note(caller, "proposal.verdict", str(proposal), proposal.shelf, verdict=verdict, commit=head.uid)
        return Verdict.objects.create(
            proposal=proposal,
            person=caller.person,
            commit=head,
            verdict=verdict,
            text=text,
            made=timezone.now(),
        )


def verdicts_of(proposal: Proposal, ends: Ends) -> list[dict[str, Any]]:
    """The newest verdict of each person; ``lapsed`` says why one is not in force any more, or is empty."""
    newest: dict[int, Verdict] = {}
    for found in proposal.verdicts.select_related("person", "commit").order_by("id"):
        newest[found.person_id] = found
    return [
        {
            "person": v.person.username,
            "verdict": v.verdict,
            "text": v.text,
            "made": v.made,
            "commit": v.commit.uid,
            "lapsed": _lapsed(proposal, v, ends),
        }
        for v in newest.values()
    ]


def _is_cosmetic(found: ComparisonAnswer) -> bool:
    return found.judged and effect_of(found) in (None, "cosmetic")


def _lapsed(proposal: Proposal, verdict: Verdict, ends: Ends) -> str:
    """Why a verdict has lapsed: the source has changes since that are more than cosmetic and do not come from the
    target."""
    shelf, seen, head = proposal.shelf, verdict.commit, ends.head
    if seen.pk == head.pk or proposal.state != "open":
        return ""
    target_root = ends.target.head.root if ends.target is not None and ends.target.head is not None else ""
    rules, trees = rules_at(head.root), get_trees()
    before, after = (Resolved(f"commit:{c.uid}", "commit", c, c.root) for c in (seen, head))
    for pair in pair_changes(shelf, before, after):
        there = trees.find(target_root, pair.path) if target_root else None
        if pair.after == there or (pair.after and there and pair.after.id == there.id):
            continue
        found = compare_pair(pair, rules, "request")
        if found is None or pair.state in ("new", "gone", "moved") or not _is_cosmetic(found):
            return f"{pair.path} changed since"
    return ""
