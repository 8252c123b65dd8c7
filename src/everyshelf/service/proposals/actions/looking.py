"""A proposal as people see it: what it changes, what is not met yet, remarks and verdicts."""

from __future__ import annotations

from typing import Any

from everyshelf.core.compare.sentences import count_noun
from everyshelf.service.base.paging import as_page, newest_first
from everyshelf.service.checks.actions import check_json, checks_of
from everyshelf.service.proposals.actions.proposals import Ends, ends_of, plan_of, up_to_date
from everyshelf.service.proposals.actions.talking import list_remarks, open_conditions, verdicts_of
from everyshelf.service.proposals.models import Proposal
from everyshelf.service.rights import Caller, may
from everyshelf.service.shelves.actions.lineage import lineage_of
from everyshelf.service.shelves.actions.merge_pace import MergeReadingError
from everyshelf.service.shelves.actions.merge_plan import Plan
from everyshelf.service.shelves.models import Merge, Shelf

_MOST_LISTED = 500
_TOGETHER = ("shelf", "created_by", "closed_by", "head", "base", "merged")


def list_proposals(shelf: Shelf, state: str, *, limit: int = 100, cursor: str = "") -> dict[str, Any]:
    """A page of the proposals in a state, or of all; newest first."""
    rows = shelf.proposals.select_related(*_TOGETHER).prefetch_related("reviewers__person", "remarks")
    for one in shelf.proposals.select_related(*_TOGETHER).filter(state="open"):
        up_to_date(one)
    page = newest_first(
        rows if state == "all" else rows.filter(state=state), limit=min(limit, _MOST_LISTED), cursor=cursor, by="number"
    )
    return as_page(page, [proposal_json(one) for one in page.records])


def proposal_json(proposal: Proposal) -> dict[str, Any]:
    """A proposal without what is worked out about it."""
    remarks = [one for one in proposal.remarks.all() if one.answer_to_id is None]
    return {
        "number": proposal.number,
        "title": proposal.title,
        "state": proposal.state,
        "source": proposal.source,
        "target": proposal.target,
        "created": proposal.created,
        "created_by": proposal.created_by.username,
        "closed": proposal.closed,
        "closed_by": proposal.closed_by.username if proposal.closed_by else None,
        "reason": proposal.reason,
        "merged": proposal.merged.uid if proposal.merged else None,
        "reviewers": [r.person.username for r in sorted(proposal.reviewers.all(), key=lambda r: r.pk)],
        "remarks": len(remarks),
        "remarks_open": sum(one.settled is None for one in remarks),
    }


def proposal_detail(caller: Caller, proposal: Proposal) -> dict[str, Any]:
    """Everything about a proposal as it stands now."""
    shelf, ends = proposal.shelf, ends_of(proposal)
    plan, reading = _plan_or_job(proposal)
    verdicts = verdicts_of(proposal, ends)
    not_met = _not_met(proposal, ends, plan, verdicts, reading)
    merge = Merge.objects.filter(
        shelf=shelf, state="open", target=proposal.target, source=proposal.source, source_root=ends.head.root
    ).first()
    return {
        **proposal_json(proposal),
        "description": proposal.description,
        "tasks": proposal.tasks,
        "delete_source": proposal.delete_source,
        "head": ends.head.uid,
        "base": ends.base.uid if ends.base else None,
        **_distance(shelf, ends),
        "verdicts": verdicts,
        "remarks": list_remarks(proposal),
        "checks": [check_json(c) for c in checks_of(ends.head)],
        "conflicts": _conflicts(plan),
        "combined": len(plan.artifacts) - len(plan.open) if plan else 0,
        "not_met": not_met,
        "reading": reading,
        "merge": merge.uid if merge else None,
        "may_merge": ends.target is not None and may(caller, shelf, _right(ends)),
        "may_change": may(
            caller,
            shelf,
            "propose" if proposal.created_by_id == caller.person.pk else "change others' proposals",
        ),
        "may_judge": proposal.created_by_id != caller.person.pk and may(caller, shelf, "give a verdict"),
        "who_merges": "keepers" if ends.target is not None and ends.target.guarded else "authors",
    }


def _right(ends: Ends) -> str:
    return "commit to a guarded branch" if ends.target is not None and ends.target.guarded else "commit"


def _distance(shelf: Shelf, ends: Ends) -> dict[str, int]:
    if ends.target is None or ends.target.head is None:
        return {"ahead": 0, "behind": 0}
    lineage = lineage_of(shelf)
    line, other = lineage.ancestors(ends.head.pk), lineage.ancestors(ends.target.head.pk)
    return {"ahead": len(line - other), "behind": len(other - line)}


def _conflicts(plan: Plan | None) -> list[dict[str, Any]]:
    if plan is None:
        return []
    return [{"path": a.path, "kind": a.kind, "part": c.part, "why": c.why} for a in plan.open for c in a.conflicts]


def not_met_by(proposal: Proposal) -> list[dict[str, str]]:
    """Every requirement for merging it that is not met now."""
    ends = ends_of(proposal)
    plan, reading = _plan_or_job(proposal)
    return _not_met(proposal, ends, plan, verdicts_of(proposal, ends), reading)


def _plan_or_job(proposal: Proposal) -> tuple[Plan | None, str | None]:
    """What merging would give, or the job that is working it out."""
    try:
        return plan_of(proposal), None
    except MergeReadingError as error:
        return None, str(error.facts["job"])


def _not_met(
    proposal: Proposal, ends: Ends, plan: Plan | None, verdicts: list[dict[str, Any]], reading: str | None
) -> list[dict[str, str]]:
    if proposal.state != "open":
        return []
    not_met = []
    for branch, name in ((ends.source, proposal.source), (ends.target, proposal.target)):
        if branch is None:
            not_met.append({"what": "branch", "message": f"the branch {name} is gone"})
    if reading:
        not_met.append({"what": "conflicts", "message": "the result of merging is being computed"})
    if plan is not None and plan.open_count:
        not_met.append({"what": "conflicts", "message": f"{count_noun(plan.open_count, 'conflict')} to settle"})
    in_force = [v for v in verdicts if not v["lapsed"]]
    for found in in_force:
        if found["verdict"] == "against":
            not_met.append({"what": "verdict", "message": f"{found['person']} is against: {found['text']}"})
    for condition in open_conditions(proposal):
        not_met.append({"what": "condition", "message": f"condition of {condition.person.username}: {condition.text}"})
    if ends.target is not None and ends.target.guarded and not any(v["verdict"] == "agree" for v in in_force):
        not_met.append(
            {"what": "agreement", "message": f"{proposal.target} is guarded: at least one person must agree"}
        )
    for check in checks_of(ends.head):
        if not check.passed:
            not_met.append({"what": "check", "message": f"the check {check.name} failed" + _after(check.comment)})
    return not_met


def _after(text: str) -> str:
    return f": {text}" if text else ""
