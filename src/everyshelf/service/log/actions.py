"""Writing the log and reading it. Acts are noted in the transaction that does them, so that neither is there alone."""

from __future__ import annotations

from typing import Any

from django.utils import timezone

from everyshelf.core.errors import InvalidError
from everyshelf.service.log.models import LogEntry
from everyshelf.service.rights import Caller, require_scope

MAX_PAGE = 500

# What was done, in words that go between the person and the subject.
ACTS: dict[str, str] = {
    "shelf.made": "made the shelf",
    "shelf.changed": "changed the shelf",
    "shelf.moved": "moved to another store the shelf",
    "commit.made": "committed",
    "branch.made": "made the branch",
    "branch.deleted": "deleted the branch",
    "branch.guarded": "guarded the branch",
    "branch.open": "removed the guard from the branch",
    "tag.made": "made the tag",
    "git.pushed": "pushed with Git to",
    "git.fetched": "fetched from Git into",
    "link.made": "made the Git link",
    "link.changed": "changed the Git link",
    "link.removed": "removed the Git link",
    "location.shared": "shared with the shelf the location",
    "location.unshared": "stopped sharing with the shelf the location",
    "webhook.made": "made the webhook",
    "webhook.changed": "changed the webhook",
    "webhook.stopped": "stopped the webhook",
    "webhook.removed": "removed the webhook",
    "merge.waiting": "has to settle the merge of",
    "merge.settled": "settled conflicts of the merge of",
    "merge.abandoned": "abandoned the merge of",
    "proposal.opened": "opened the proposal",
    "proposal.changed": "changed the proposal",
    "proposal.remarked": "remarked on the proposal",
    "proposal.verdict": "gave a verdict on the proposal",
    "check.recorded": "recorded the check",
    "proposal.merged": "merged the proposal",
    "proposal.passed": "merged past an open proposal",
    "proposal.closed": "closed the proposal",
    "proposal.reopened": "reopened the proposal",
    "experiment.begun": "began the experiment",
    "experiment.changed": "changed the experiment",
    "experiment.run": "recorded a run of the experiment",
    "experiment.adopted": "proposed to adopt the experiment",
    "experiment.abandoned": "abandoned the experiment",
    "environment.made": "made the environment",
    "environment.changed": "changed the environment",
    "environment.removed": "removed the environment",
    "environment.drifted": "found changes made in",
    "environment.captured": "captured changes made in",
    "binding.set": "set the binding",
    "binding.removed": "removed the binding",
    "promotion.begun": "began to promote",
    "promotion.forced": "began to promote past a gate",
    "promotion.reviewed": "gave a verdict on",
    "promotion.phase": "went on with the promotion of",
    "promotion.recorded": "deployed",
    "promotion.undone": "failed to deploy (undone)",
    "member.set": "gave a role to",
    "member.removed": "removed from the shelf",
    "invitation.made": "invited",
    "invitation.withdrawn": "withdrew the invitation for",
    "invitation.accepted": "joined as",
    "person.added": "added the person",
    "person.signed_in": "signed in",
    "person.signed_out": "ended the sessions of",
    "person.password": "changed the password of",
    "person.disabled": "disabled the account of",
    "person.enabled": "enabled the account of",
    "in-place.begun": "began to register data in place at",
    "in-place.keys": "set credentials for data in place at",
    "in-place.keys_removed": "removed credentials for data in place at",
    "backup.make": "began a backup of",
    "storage.tidy": "began to tidy the store of",
    "storage.made": "made the store",
    "storage.move": "began to move versions to",
    "storage.remove": "removed the store",
    "token.made": "made the token",
    "token.revoked": "revoked the token",
}


# Steps of an act that has an entry of its own: told to programs, and listed where they are asked for by name.
STEPS = ("promotion.phase",)


def note(caller: Caller, act: str, subject: str, shelf: Any = None, **detail: Any) -> None:
    """Add an entry; call it inside the transaction that does what it says."""
    note_of(caller.person.username, act, subject, shelf, via=caller.via, **detail)


def note_of(person: str, act: str, subject: str, shelf: Any = None, *, via: str = "", **detail: Any) -> None:
    """As ``note``, for what is done on someone's behalf after their request ended."""
    assert act in ACTS, act
    LogEntry.objects.create(
        time=timezone.now(),
        person=person,
        via=via,
        shelf=shelf.key if shelf is not None else "",
        act=act,
        subject=subject[:500],
        detail=detail,
    )


def list_log(
    shelf: Any, *, person: str = "", act: str = "", before: int | None = None, limit: int = 100
) -> dict[str, Any]:
    """What was done on a shelf, newest first; ``next`` is what ``before`` of the next page is, or None."""
    return _page(LogEntry.objects.filter(shelf=shelf.key), person, act, before, limit)


def list_own_log(
    caller: Caller, *, person: str = "", act: str = "", before: int | None = None, limit: int = 100
) -> dict[str, Any]:
    """What the caller did anywhere; for who set the installation up, what anybody did."""
    require_scope(caller, "read")
    rows = LogEntry.objects.all() if caller.person.is_staff else LogEntry.objects.filter(person=caller.person.username)
    return _page(rows, person, act, before, limit)


def newest_entry() -> int:
    """The number of the newest entry; 0 where the log is empty."""
    newest = LogEntry.objects.order_by("-pk").values_list("pk", flat=True).first()
    return int(newest or 0)


def entries_after(shelf: str, entry: int, limit: int) -> list[LogEntry]:
    """Entries of a shelf that came after one, oldest first."""
    return list(LogEntry.objects.filter(shelf=shelf, pk__gt=entry).order_by("pk")[:limit])


def _page(rows: Any, person: str, act: str, before: int | None, limit: int) -> dict[str, Any]:
    if act and act not in ACTS and not any(known.startswith(f"{act}.") for known in ACTS):
        raise InvalidError(
            f"{act[:40]!r} is nothing the log knows", code="log.act", hint=f"It knows {', '.join(sorted(_subjects()))}."
        )
    if person:
        rows = rows.filter(person=person)
    if act:
        rows = rows.filter(act=act) if act in ACTS else rows.filter(act__startswith=f"{act}.")
    if act not in STEPS:
        rows = rows.exclude(act__in=STEPS)
    if before is not None:
        rows = rows.filter(pk__lt=before)
    size = min(limit, MAX_PAGE)
    found = list(rows.order_by("-pk")[: size + 1])
    page = found[:size]
    return {"items": [entry_json(e) for e in page], "next": page[-1].pk if len(found) > size else None}


def _subjects() -> set[str]:
    return {act.partition(".")[0] for act in ACTS}


def entry_json(entry: LogEntry) -> dict[str, Any]:
    """An entry with its words."""
    return {
        "entry": entry.pk,
        "time": entry.time,
        "person": entry.person,
        "via": entry.via,
        "shelf": entry.shelf or None,
        "act": entry.act,
        "words": ACTS.get(entry.act, entry.act),
        "subject": entry.subject,
        "detail": entry.detail,
    }
