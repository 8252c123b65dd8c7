"""How long save points and drafts are kept: the rules of a shelf, and what they remove.

Nothing is removed unless the owner of a shelf says so. What waits to be settled is left alone.
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime, timedelta

from django.db.models import Max, Q, QuerySet
from django.utils import timezone

from everyshelf.core.answers.drafts import DraftKeeping
from everyshelf.service.base.acts import aside, one_act
from everyshelf.service.drafts.actions import discard_pending, pending_of
from everyshelf.service.drafts.models import PENDING_STATES, Draft, KeepingRule, SavePoint
from everyshelf.service.drafts.rules import rule_of
from everyshelf.service.log.actions import note
from everyshelf.service.rights import Caller, require
from everyshelf.service.shelves.models import Merge, Shelf

_AT_ONCE = 500


def describe_keeping(shelf: Shelf) -> DraftKeeping:
    """The rules of a shelf and how much they would remove now."""
    rule = rule_of(shelf)
    return DraftKeeping(
        save_points=rule.save_points,
        drafts=rule.drafts,
        due_points=_old_points(rule).count(),
        due_changes=sum(pending_of(draft).count() for draft in _old_drafts(rule)),
    )


def change_keeping(caller: Caller, shelf: Shelf, wanted: dict[str, int | None]) -> None:
    """Set the days of some fields (None: for as long as the shelf); the others stay."""
    require(caller, shelf, "change the shelf")
    with one_act():
        rule, _ = KeepingRule.objects.get_or_create(shelf=shelf)
        changed = {name: days for name, days in wanted.items() if getattr(rule, name) != days}
        for name, days in changed.items():
            setattr(rule, name, days)
        if changed:
            rule.save(update_fields=list(changed))
            said = {f"{name}_days": days if days is not None else "always" for name, days in changed.items()}
            note(caller, "shelf.changed", shelf.name, shelf, **said)


# --- removing --------------------------------------------------------------------------


def remove_old() -> None:
    """Discard pending changes and remove save points whose time is over, on every shelf."""
    for rule in KeepingRule.objects.exclude(save_points=None, drafts=None).select_related("shelf"):
        for draft in _old_drafts(rule):
            with one_act():
                # Whoever saves meanwhile keeps what is pending: it is looked at again within the act.
                if _old_drafts(rule).filter(pk=draft.pk).exists():
                    discard_pending(draft)
        while some := list(_old_points(rule).values_list("pk", flat=True)[:_AT_ONCE]):
            with aside():
                gone, _ = _old_points(rule).filter(pk__in=some).delete()
            if not gone:
                break


def _old_drafts(rule: KeepingRule) -> QuerySet[Draft]:
    """Drafts with something pending that was last saved too long ago and does not wait to be settled."""
    if rule.drafts is None:
        return Draft.objects.none()
    pending = Draft.objects.filter(
        shelf=rule.shelf, points__newest=True, points__commit=None, points__state__in=PENDING_STATES
    )
    found = pending.annotate(saved=Max("points__made")).order_by("pk")
    waiting = SavePoint.objects.filter(pk__in=_in_merges(rule.shelf)).values_list("draft", flat=True)
    return found.filter(saved__lt=_before(rule.drafts)).exclude(pk__in=list(waiting))


def _old_points(rule: KeepingRule) -> QuerySet[SavePoint]:
    """Save points that no longer count and were made too long ago."""
    if rule.save_points is None:
        return SavePoint.objects.none()
    over = Q(newest=False) | Q(state="discarded") | Q(commit__isnull=False)
    rows = SavePoint.objects.filter(over, draft__shelf=rule.shelf, made__lt=_before(rule.save_points))
    return rows.exclude(pk__in=_in_merges(rule.shelf)).order_by("pk")


def _in_merges(shelf: Shelf) -> list[int]:
    """Save points of merges that wait to be settled."""
    merges: Iterable[list[int]] = Merge.objects.filter(shelf=shelf, state="open").values_list("points", flat=True)
    return [point for points in merges for point in points]


def _before(days: int) -> datetime:
    return timezone.now() - timedelta(days=days)
