"""The jobs of links: what goes over them, and looking again by themselves."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

from everyshelf.service.base.clock import has_come
from everyshelf.service.exchange.actions.syncing import LONGEST_WAIT, sync
from everyshelf.service.exchange.models import GitLink
from everyshelf.service.jobs.actions import Run, job_kind, periodic, start_job
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.models import Commit

KIND = "git-link"
_EVERY_SECONDS = 2


@job_kind(KIND, resumes=True)
def git_link(run: Run) -> dict[str, Any] | None:
    """Send, fetch or both."""
    link = GitLink.objects.select_related("shelf", "made_by", "side").get(pk=run.parameters["link"])
    return sync(link, run.parameters["act"], run.progress)


@periodic(seconds=_EVERY_SECONDS)
def follow_links() -> None:
    """Begin the work of links that follow: where something was committed, and where their time has come."""
    for link in GitLink.objects.filter(follows=True).select_related("shelf", "made_by"):
        longest = max(LONGEST_WAIT, timedelta(seconds=link.every_seconds))
        if has_come(link.next_look, longest) or _has_more_to_send(link):
            start_job(Caller(link.made_by), KIND, link.shelf, {"link": link.pk, "act": "both"})


def _has_more_to_send(link: GitLink) -> bool:
    """Whether something was committed since both sides were compared; one that failed waits for its time."""
    if link.way == "fetch" or link.tries:
        return False
    return Commit.objects.filter(shelf=link.shelf, pk__gt=link.seen_commit).exists()
