"""Opening, changing and closing proposals."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from django.db import IntegrityError
from django.db.models import Max
from django.utils import timezone

from everyshelf.core.errors import ConflictError, InvalidError, MissingError
from everyshelf.service.base.acts import as_now, aside, one_act
from everyshelf.service.log.actions import note
from everyshelf.service.people.actions import get_person
from everyshelf.service.proposals.models import Proposal, Reviewer
from everyshelf.service.rights import Caller, may, require
from everyshelf.service.shelves.actions.branches import check_delete
from everyshelf.service.shelves.actions.lineage import is_ancestor, lineage_of
from everyshelf.service.shelves.actions.merge_plan import Plan, plan_merge
from everyshelf.service.shelves.actions.merging import request_between
from everyshelf.service.shelves.actions.refs import get_branch
from everyshelf.service.shelves.models import Branch, Commit, CommitParent, Shelf

_MOST_REVIEWERS = 50


@dataclass(frozen=True)
class Ends:
    """Both ends of a proposal as they are now: heads, and where their lines parted. A branch may be gone."""

    source: Branch | None
    target: Branch | None
    head: Commit
    base: Commit | None


def open_proposal(
    caller: Caller,
    shelf: Shelf,
    title: str,
    source: str,
    target: str,
    *,
    description: str = "",
    tasks: Iterable[str] = (),
    reviewers: Iterable[str] = (),
    delete_source: bool = False,
) -> Proposal:
    """Ask that ``source`` be merged into ``target``; one open proposal for each pair of branches."""
    require(caller, shelf, "propose")
    this, other = get_branch(shelf, target), get_branch(shelf, source)
    if this.name == other.name:
        raise InvalidError("a branch cannot be proposed to itself", code="proposal.same")
    if other.head is None or (this.head is not None and is_ancestor(shelf, other.head, this.head)):
        raise InvalidError(
            f"{target} has everything of {source} already",
            code="proposal.empty",
            hint=f"Commit something to {source} first.",
        )
    if delete_source:
        check_delete(caller, shelf, other)
    try:
        with one_act():
            number = 1 + (shelf.proposals.aggregate(last=Max("number"))["last"] or 0)
            made = Proposal.objects.create(
                shelf=shelf,
                number=number,
                title=_checked_title(title),
                description=description,
                source=source,
                target=target,
                delete_source=delete_source,
                tasks=list(tasks),
                head=other.head,
                created=timezone.now(),
                created_by=caller.person,
            )
            _set_reviewers(made, reviewers)
            note(caller, "proposal.opened", str(made), shelf, source=source, target=target)
    except IntegrityError as error:
        known = shelf.proposals.filter(source=source, target=target, state="open").first()
        raise ConflictError(
            f"{source} is proposed to {target} already{f', as proposal {known.number}' if known else ''}",
            code="proposal.taken",
            hint="Look at that one: everyshelf proposal show" + (f" {known.number}" if known else ""),
        ) from error
    return made


def _checked_title(title: str) -> str:
    title = title.strip()
    if not title or "\n" in title or len(title) > 300:
        raise InvalidError(
            "a proposal needs a title of one line, up to 300 characters",
            code="proposal.title",
            pointer="/title",
            hint='Say what it brings: --title "…"',
        )
    return title


def _set_reviewers(proposal: Proposal, names: Iterable[str]) -> None:
    wanted = list(dict.fromkeys(names))
    if len(wanted) > _MOST_REVIEWERS:
        raise InvalidError(f"more than {_MOST_REVIEWERS} reviewers", code="proposal.reviewers")
    people = [get_person(name) for name in wanted]
    for person in people:
        if person.pk == proposal.created_by_id:
            raise InvalidError(
                "nobody reviews their own proposal", code="proposal.own", hint="Ask someone else for a verdict."
            )
        if not may(Caller(person), proposal.shelf, "give a verdict"):
            raise InvalidError(
                f"{person.username} may not give a verdict on {proposal.shelf.name}",
                code="proposal.reviewers",
                hint="An owner can make them an author: everyshelf member set",
            )
    proposal.reviewers.all().delete()
    Reviewer.objects.bulk_create(Reviewer(proposal=proposal, person=p) for p in people)


def get_proposal(shelf: Shelf, number: int) -> Proposal:
    """The proposal of that number, with its state brought up to date."""
    rows = Proposal.objects.select_related("shelf", "created_by", "closed_by", "head", "base", "merged")
    found = rows.filter(shelf=shelf, number=number).first()
    if found is None:
        raise MissingError(
            f"{shelf.name} has no proposal {number}", code="proposal.missing", hint="List: everyshelf proposal list"
        )
    return up_to_date(found)


def ends_of(proposal: Proposal) -> Ends:
    """Heads and base as they are now; of a closed proposal, as they were then."""
    shelf = proposal.shelf
    rows = {b.name: b for b in Branch.objects.filter(shelf=shelf).select_related("head")}
    source, target = rows.get(proposal.source), rows.get(proposal.target)
    if proposal.state != "open":
        return Ends(source, target, proposal.head, proposal.base)
    head = source.head if source is not None and source.head is not None else proposal.head
    return Ends(source, target, head, _parted(shelf, target, head))


def _parted(shelf: Shelf, target: Branch | None, head: Commit) -> Commit | None:
    if target is None or target.head is None:
        return None
    found = lineage_of(shelf).base(target.head.pk, head.pk)
    return Commit.objects.get(pk=found) if found else None


def up_to_date(proposal: Proposal) -> Proposal:
    """Note where the source stands, and that it is merged if that was done in another way than through the proposal."""
    if proposal.state != "open":
        return proposal
    ends = ends_of(proposal)
    if ends.head.pk != proposal.head_id:
        proposal.head = ends.head
        with aside():
            proposal.save(update_fields=["head"])
    if ends.target is None or ends.target.head is None or not is_ancestor(proposal.shelf, ends.head, ends.target.head):
        return proposal
    line = lineage_of(proposal.shelf).ancestors(ends.target.head.pk)
    links = CommitParent.objects.filter(parent=ends.head, position__gt=0).select_related("commit__recorded_by")
    brought = next((link.commit for link in links.order_by("commit_id") if link.commit_id in line), ends.target.head)
    proposal.state, proposal.merged = "merged", brought
    parents = sorted(brought.parent_links.values_list("position", "parent_id"))
    before = parents[0][1] if parents else None
    found = lineage_of(proposal.shelf).base(before, ends.head.pk) if before and before != ends.head.pk else None
    proposal.base = Commit.objects.get(pk=found) if found else None
    proposal.closed, proposal.closed_by = brought.recorded, brought.recorded_by
    fields = {name: getattr(proposal, name) for name in ("state", "merged", "base", "closed", "closed_by")}
    with aside():
        if not Proposal.objects.filter(pk=proposal.pk, state="open").update(**fields):
            proposal.refresh_from_db()  # it was merged or closed since it was read
    return proposal


def change_proposal(
    caller: Caller,
    proposal: Proposal,
    *,
    title: str | None = None,
    description: str | None = None,
    reviewers: list[str] | None = None,
    delete_source: bool | None = None,
) -> Proposal:
    """Change what is said about it, and who is asked; who opened it may, and keepers."""
    _require_own(caller, proposal)
    with one_act():
        as_now(proposal)
        check_open(proposal)
        if title is not None:
            proposal.title = _checked_title(title)
        if description is not None:
            proposal.description = description
        if delete_source is not None:
            if delete_source:
                check_delete(caller, proposal.shelf, get_branch(proposal.shelf, proposal.source))
            proposal.delete_source = delete_source
        proposal.save()
        if reviewers is not None:
            _set_reviewers(proposal, reviewers)
        note(caller, "proposal.changed", str(proposal), proposal.shelf)
    return proposal


def close_proposal(caller: Caller, proposal: Proposal, reason: str) -> Proposal:
    """Close it without merging; both branches stay."""
    _require_own(caller, proposal)
    with one_act():
        as_now(proposal)
        check_open(proposal)
        proposal.base = ends_of(proposal).base
        proposal.state, proposal.reason = "closed", reason
        proposal.closed, proposal.closed_by = timezone.now(), caller.person
        proposal.save()
        note(caller, "proposal.closed", str(proposal), proposal.shelf, reason=reason)
    return proposal


def reopen_proposal(caller: Caller, proposal: Proposal) -> Proposal:
    """Open one again that was closed without merging."""
    _require_own(caller, proposal)
    get_branch(proposal.shelf, proposal.source)
    get_branch(proposal.shelf, proposal.target)
    try:
        with one_act():
            as_now(proposal)
            if proposal.state != "closed":
                raise ConflictError(f"proposal {proposal.number} is {proposal.state}", code="proposal.state")
            proposal.state, proposal.reason, proposal.base = "open", "", None
            proposal.closed = proposal.closed_by = None
            proposal.save()
            note(caller, "proposal.reopened", str(proposal), proposal.shelf)
    except IntegrityError as error:
        raise ConflictError(
            f"{proposal.source} is proposed to {proposal.target} in another proposal by now", code="proposal.taken"
        ) from error
    return up_to_date(proposal)


def _require_own(caller: Caller, proposal: Proposal) -> None:
    own = proposal.created_by_id == caller.person.pk
    require(caller, proposal.shelf, "propose" if own else "change others' proposals")


def standing_open(shelf: Shelf, source: str, target: str) -> str:
    """``proposal N is open`` if one proposes just this merge; nothing otherwise."""
    found = Proposal.objects.filter(shelf=shelf, source=source, target=target, state="open").first()
    if found is None or up_to_date(found).state != "open":
        return ""
    return f"proposal {found.number} is open"


def check_open(proposal: Proposal) -> None:
    """Raise ``ConflictError`` if the proposal is merged or closed."""
    if proposal.state != "open":
        raise ConflictError(
            f"proposal {proposal.number} is {proposal.state} already",
            code="proposal.state",
            hint="Open another one: everyshelf proposal open",
        )


# --- merging --------------------------------------------------------------------------


def plan_of(proposal: Proposal) -> Plan | None:
    """What merging it would give now; None if a branch is gone. Raises ``MergeReadingError`` until then."""
    ends = ends_of(proposal)
    if proposal.state != "open" or ends.target is None or ends.source is None:
        return None
    request = request_between(proposal.shelf, ends.target, ends.source)
    return plan_merge(proposal.created_by, proposal.shelf, request, ends.target.head)
