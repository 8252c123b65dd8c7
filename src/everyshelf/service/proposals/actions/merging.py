"""Merging a proposal in one act."""

from __future__ import annotations

from django.utils import timezone

from everyshelf.core.errors import RefusedError
from everyshelf.service.base.acts import one_act
from everyshelf.service.log.actions import note
from everyshelf.service.proposals.actions.looking import holds_of
from everyshelf.service.proposals.actions.proposals import check_open
from everyshelf.service.proposals.models import Proposal
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.actions.branches import check_drop
from everyshelf.service.shelves.actions.merging import prepare_branch_merge
from everyshelf.service.shelves.actions.recording import Message, require_branch
from everyshelf.service.shelves.actions.refs import get_branch
from everyshelf.service.shelves.models import Commit


def merge_proposal(
    caller: Caller, proposal: Proposal, *, anyway: str = "", summary: str = "", drop: bool | None = None
) -> Proposal:
    """Merge it in one act, its branch dropped if wanted. Raises ``MergeConflictError`` for what is to be settled first.

    ``anyway``: why it is merged though something holds it that is a matter of judgement; said in the commit.
    """
    shelf = proposal.shelf
    require_branch(caller, shelf, get_branch(shelf, proposal.target))
    check_open(proposal)
    source = get_branch(shelf, proposal.source)
    drop = proposal.drop if drop is None else drop
    if drop:
        check_drop(caller, shelf, source)
    message = Message(summary or proposal.title, _told(proposal, anyway), {}, list(proposal.tasks))
    held = [h for h in holds_of(proposal) if h["what"] != "conflicts"]
    if held and not anyway.strip():
        raise RefusedError(
            f"proposal {proposal.number} is held: {held[0]['said']}",
            code="proposal.held",
            hint="Meet that first, or merge it anyway and say why: --anyway WHY",
            holds=held,
        )
    # What is to be settled first is kept and told by an error here, before anything else is written.
    prepared = prepare_branch_merge(caller, shelf, source.name, proposal.target, message, None, drop=drop)
    with one_act():
        proposal.refresh_from_db(fields=["state"])
        check_open(proposal)
        result = prepared.record()
        proposal.base = Commit.objects.filter(shelf=shelf, uid=result["base"]).first() if result["base"] else None
        proposal.merged = Commit.objects.filter(shelf=shelf, uid=result["commit"]).first() if result["commit"] else None
        proposal.state, proposal.closed, proposal.closed_by = "merged", timezone.now(), caller.person
        proposal.why = anyway
        proposal.save()
        note(caller, "proposal.merged", str(proposal), shelf, commit=result["commit"], anyway=anyway)
    return proposal


def _told(proposal: Proposal, anyway: str) -> str:
    """What the merge commit says: the proposal, who agreed, and why it was merged though something held it."""
    lines = [f"Proposal {proposal.number} by {proposal.created_by.username}"]
    agreed = sorted(
        {v.person.username for v in proposal.verdicts.select_related("person") if v.verdict in ("agree", "agree if")}
    )
    if agreed:
        lines.append(f"Agreed: {', '.join(agreed)}")
    if anyway:
        lines.append(f"Merged anyway: {anyway}")
    return "\n\n".join(part for part in (proposal.description, "\n".join(lines)) if part)
