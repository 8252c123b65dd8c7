"""Merging a proposal."""

from __future__ import annotations

from django.utils import timezone

from everyshelf.core.errors import RefusedError
from everyshelf.service.base.acts import as_now, one_act
from everyshelf.service.log.actions import note
from everyshelf.service.proposals.actions.looking import not_met_by
from everyshelf.service.proposals.actions.proposals import check_open
from everyshelf.service.proposals.models import Proposal
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.actions.branches import check_delete
from everyshelf.service.shelves.actions.merging import prepare_branch_merge
from everyshelf.service.shelves.actions.recording import CommitMessage, require_branch
from everyshelf.service.shelves.actions.refs import get_branch
from everyshelf.service.shelves.models import Commit


def merge_proposal(
    caller: Caller, proposal: Proposal, *, reason: str = "", summary: str = "", delete_source: bool | None = None
) -> Proposal:
    """Merge a proposal and, if wanted, delete its branch. Raises ``MergeConflictError`` while conflicts are open.

    ``reason``: why it is merged although a requirement is not met; written into the commit.
    """
    shelf = proposal.shelf
    require_branch(caller, shelf, get_branch(shelf, proposal.target))
    check_open(proposal)
    source = get_branch(shelf, proposal.source)
    delete_source = proposal.delete_source if delete_source is None else delete_source
    if delete_source:
        check_delete(caller, shelf, source)
    message = CommitMessage(summary or proposal.title, _described(proposal, reason), {}, list(proposal.tasks))
    not_met = [one for one in not_met_by(proposal) if one["what"] != "conflicts"]
    if not_met and not reason.strip():
        raise RefusedError(
            f"proposal {proposal.number} is not ready: {'; '.join(one['message'] for one in not_met)}",
            code="proposal.not_ready",
            hint=f"Meet these first; or: everyshelf proposal merge {proposal.number} --anyway --reason TEXT",
            not_met=not_met,
        )
    # What is to be settled first is kept and told by an error here, before anything else is written.
    prepared = prepare_branch_merge(
        caller, shelf, source.name, proposal.target, message, None, delete_source=delete_source
    )
    with one_act():
        as_now(proposal)
        check_open(proposal)
        result = prepared.record()
        proposal.base = Commit.objects.filter(shelf=shelf, uid=result["base"]).first() if result["base"] else None
        proposal.merged = Commit.objects.filter(shelf=shelf, uid=result["commit"]).first() if result["commit"] else None
        proposal.state, proposal.closed, proposal.closed_by = "merged", timezone.now(), caller.person
        proposal.reason = reason
        proposal.save()
        note(caller, "proposal.merged", str(proposal), shelf, commit=result["commit"], reason=reason)
    return proposal


def _described(proposal: Proposal, reason: str) -> str:
    """The description of the merge commit: the proposal, who agreed, and why it was merged although not ready."""
    lines = [f"Proposal {proposal.number} by {proposal.created_by.username}"]
    agreed = sorted({v.person.username for v in proposal.verdicts.select_related("person") if v.verdict == "agree"})
    if agreed:
        lines.append(f"Agreed: {', '.join(agreed)}")
    if reason:
        lines.append(f"Merged anyway: {reason}")
    return "\n\n".join(part for part in (proposal.description, "\n".join(lines)) if part)
