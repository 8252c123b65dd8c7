"""A commit of thousands of artifacts: a job makes it, with progress; the call that asked for it finds it by its key.

What is to be committed is kept as a content of its own, so that the job finds it after a restart. The commit and the
job's result are recorded in one transaction: a job that runs again finds its own commit and makes no second one.
"""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

import orjson

from everyshelf.service.base.acts import one_act
from everyshelf.service.base.context import get_store
from everyshelf.service.base.working import WorkingError
from everyshelf.service.jobs.actions import Run, start_job
from everyshelf.service.jobs.models import Job, State
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.actions.committing import ChangeRequest, prepare_changes
from everyshelf.service.shelves.actions.recording import CommitMessage
from everyshelf.service.shelves.models import Commit, Shelf

KIND = "commit"
_LONG = 1_000  # changes


class CommitWorkingError(WorkingError):
    """A job is making the commit; it is there when it is asked for again with the same key."""

    code = "commit.working"
    hint = "Ask again with the same key when that job is done; the client and the command line do so by themselves."

    def __init__(self, job: str, count: int) -> None:
        super().__init__(f"a job makes this commit of {count} artifacts", job)


def is_long(wanted: list[ChangeRequest], message: CommitMessage, *, merge: bool) -> bool:
    """True for a commit that takes longer than a call should. Imports and merges have ways of their own."""
    return len(wanted) > _LONG and not merge and message.author is None and message.time is None


def commit_by_job(
    caller: Caller,
    shelf: Shelf,
    branch: str,
    base: str | None,
    wanted: list[ChangeRequest],
    message: CommitMessage,
    key: str,
) -> Commit:
    """The commit that was asked for with this key, if its job is done; else start the job, or find it at work, and
    raise ``CommitWorkingError``."""
    asked = {
        "branch": branch,
        "base": base,
        "changes": [asdict(one) for one in wanted],
        "summary": message.summary,
        "description": message.description,
        "labels": message.labels,
        "tasks": message.tasks,
    }
    body = orjson.dumps(asked, option=orjson.OPT_SORT_KEYS)
    parameters = {"key": key, "asked": get_store().put(body).id, "artifacts": len(wanted)}
    done = Job.objects.filter(kind=KIND, shelf=shelf, person=caller.person, state=State.DONE, parameters=parameters)
    job = done.order_by("-pk").first()
    if job is not None:
        return Commit.objects.get(shelf=shelf, uid=(job.result or {})["commit"])
    get_store().sync()
    raise CommitWorkingError(start_job(caller, KIND, shelf, parameters).uid, len(wanted))


def make_long_commit(run: Run) -> dict[str, Any]:
    """The work of the job."""
    job = run.job
    if job.result:
        return dict(job.result)  # recorded already, by a process that ended before it could say so
    asked = orjson.loads(get_store().read(run.parameters["asked"]))
    wanted = [ChangeRequest(**one) for one in asked["changes"]]
    message = CommitMessage(asked["summary"], asked["description"], asked["labels"], asked["tasks"])
    prepared = prepare_changes(
        Caller(job.person), run.shelf, asked["branch"], asked["base"], wanted, message, progress=run.progress
    )
    run.no_more_cancel()
    with one_act():
        result = {"commit": prepared.record().uid}
        Job.objects.filter(pk=job.pk).update(result=result)
    return result
