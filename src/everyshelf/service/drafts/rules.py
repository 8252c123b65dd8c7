"""The rule of a shelf that says how long save points and drafts are kept."""

from __future__ import annotations

from datetime import datetime, timedelta

from everyshelf.service.drafts.models import Draft, KeepingRule
from everyshelf.service.shelves.models import Shelf


def rule_of(shelf: Shelf) -> KeepingRule:
    """What is set; everything is kept where nothing is."""
    return KeepingRule.objects.filter(shelf=shelf).first() or KeepingRule(shelf=shelf)


def kept_until(draft: Draft, saved: datetime | None) -> datetime | None:
    """When what is pending in a draft is discarded, if nothing more is saved; None for never."""
    days = rule_of(draft.shelf).drafts
    return saved + timedelta(days=days) if saved is not None and days is not None else None
