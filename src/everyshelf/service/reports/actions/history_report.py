"""The commits of a line as a report to keep or to send."""

from __future__ import annotations

from typing import Any

from django.utils import timezone

from everyshelf.core.report.document import Form
from everyshelf.core.report.history import report_of_history, written_history
from everyshelf.service.shelves.actions.histories import MAX_PAGE, Sought, list_commits
from everyshelf.service.shelves.actions.refs import Resolved
from everyshelf.service.shelves.models import Shelf

_MOST = 5000


def history_title(shelf: Shelf, at: Resolved) -> str:
    """What such a report is called."""
    return f"History of {shelf.name}, {at.ref}"


def report_on_history(shelf: Shelf, at: Resolved, sought: Sought, form: Form) -> str:
    """The commits that are sought, the first 5,000 of them, as HTML, Markdown or JSON."""
    found: list[dict[str, Any]] = []
    cursor, total = "", 0
    while True:
        page = list_commits(shelf, at, sought, limit=MAX_PAGE, cursor=cursor)
        found += page["items"]
        total, cursor = page["total"], page["next"] or ""
        if not cursor or len(found) >= _MOST:
            break
    report = report_of_history(
        found[:_MOST], title=history_title(shelf, at), made=timezone.now(), sought=_in_words(sought), total=total
    )
    return written_history(report, form)


def _in_words(sought: Sought) -> list[str]:
    """What the commits were chosen by."""
    told = [f"what {sought.start.ref} lacks"] if sought.start is not None else []
    if sought.since is not None:
        told.append(f"since {sought.since:%Y-%m-%d %H:%M}")
    if sought.until is not None:
        told.append(f"until {sought.until:%Y-%m-%d %H:%M}")
    named = {
        "by": sought.by,
        "with the label": sought.label,
        "for the task": sought.task,
        "touching": sought.path,
        "touching the kind": sought.kind,
        "with the effect": sought.effect,
        "with the words": sought.words,
    }
    return told + [f"{words} {value}" for words, value in named.items() if value]
