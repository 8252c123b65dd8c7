"""A person's tasks: verdicts they were asked for, proposals of theirs that can go on, merges to settle."""

from __future__ import annotations

from datetime import datetime
from functools import reduce
from operator import or_
from typing import Any

from django.db.models import Q

from everyshelf.core.compare.sentences import count_noun
from everyshelf.core.history.commit_sets import CommitSet
from everyshelf.service.proposals.actions.looking import not_met_by
from everyshelf.service.proposals.actions.proposals import ends_of, up_to_date
from everyshelf.service.proposals.actions.talking import verdicts_of
from everyshelf.service.proposals.models import Proposal
from everyshelf.service.rights import Caller, may
from everyshelf.service.shelves.actions.lineage import lineage_of
from everyshelf.service.shelves.actions.merging import get_merge, list_merges
from everyshelf.service.shelves.actions.shelves import visible_shelves
from everyshelf.service.shelves.models import Branch, Commit, Shelf

GIT_SIDE = "git/"  # branches on which a link keeps what came and could not be merged
_MOST_LOOKED_AT = 200
_MOST_APART = 900  # what one query of SQLite takes


def what_waits(caller: Caller) -> list[dict[str, Any]]:
    """The caller's tasks on all shelves, oldest first."""
    found: list[dict[str, Any]] = []
    for shelf in visible_shelves(caller):
        rows = shelf.proposals.filter(state="open").select_related("shelf", "created_by", "head", "base", "merged")
        for proposal in rows.order_by("-number")[:_MOST_LOOKED_AT]:
            if up_to_date(proposal).state == "open":
                found += _of_proposal(caller, proposal)
        if may(caller, shelf, "commit"):
            for merge in list_merges(shelf):
                if merge["created_by"] == caller.person.username:
                    found.append(_of_merge(shelf, merge, "a merge you began has conflicts to settle"))
                elif merge["source"].startswith(GIT_SIDE) and _made_a_side(caller, shelf, merge["id"]):
                    found.append(_of_merge(shelf, merge, "you and a colleague in Git changed the same: settle it"))
    return sorted(found, key=lambda one: one["since"])


def _of_proposal(caller: Caller, proposal: Proposal) -> list[dict[str, Any]]:
    me = caller.person
    if proposal.created_by_id == me.pk:
        return _of_own(caller, proposal)
    if not proposal.reviewers.filter(person=me).exists():
        return []
    mine = next((v for v in verdicts_of(proposal, ends_of(proposal)) if v["person"] == me.username), None)
    if mine is not None and not mine["lapsed"]:
        return []
    said = f"your verdict lapsed: {mine['lapsed']}" if mine else f"{proposal.created_by.username} asks for your verdict"
    return [_told(proposal, "verdict", said, proposal.created)]


def _of_own(caller: Caller, proposal: Proposal) -> list[dict[str, Any]]:
    result = []
    remarks = proposal.remarks.filter(answer_to=None, settled=None).exclude(person=caller.person)
    asked = [r for r in remarks.order_by("id") if _last_speaker(r) != caller.person.pk]
    if asked:
        said = f"{count_noun(len(asked), 'remark')} to answer"
        result.append(_told(proposal, "answer", said, asked[0].made))
    not_met = not_met_by(proposal)
    first = next((one for one in not_met if one["what"] in ("verdict", "condition", "check", "conflicts")), None)
    if first is not None:
        result.append(_told(proposal, "fix", first["message"], proposal.created))
    elif not not_met and may(caller, proposal.shelf, _merge_right(proposal)):
        result.append(_told(proposal, "merge", "ready to be merged", proposal.created))
    return result


def _last_speaker(remark: Any) -> int:
    last = remark.answers.order_by("-id").first() or remark
    person: int = last.person_id
    return person


def _merge_right(proposal: Proposal) -> str:
    target = ends_of(proposal).target
    return "commit to a guarded branch" if target is not None and target.guarded else "commit"


def _told(proposal: Proposal, what: str, said: str, since: datetime) -> dict[str, Any]:
    return {
        "shelf": proposal.shelf.key,
        "shelf_name": proposal.shelf.name,
        "what": what,
        "message": said,
        "title": proposal.title,
        "proposal": proposal.number,
        "merge": None,
        "since": since,
    }


def _made_a_side(caller: Caller, shelf: Shelf, uid: str) -> bool:
    """Whether the caller made a commit that only one of the sides has."""
    merge = get_merge(shelf, uid)
    target = Branch.objects.filter(shelf=shelf, name=merge.target).first()
    heads = [pk for pk in (target.head_id if target else None, merge.source_commit_id) if pk is not None]
    lineage = lineage_of(shelf)
    shared = lineage.ancestors(merge.base_commit_id) if merge.base_commit_id is not None else CommitSet()
    apart = reduce(or_, (lineage.ancestors(pk) - shared for pk in heads), CommitSet())
    mine = Commit.objects.filter(shelf=shelf).filter(Q(author=caller.person.username) | Q(recorded_by=caller.person))
    return mine.filter(pk__in=apart.page(_MOST_APART, newest_first=True)).exists()


def _of_merge(shelf: Shelf, merge: dict[str, Any], message: str) -> dict[str, Any]:
    return {
        "shelf": shelf.key,
        "shelf_name": shelf.name,
        "what": "settle",
        "message": message,
        "title": f"{merge['source']} into {merge['target']}",
        "proposal": None,
        "merge": merge["id"],
        "since": merge["created"],
    }
