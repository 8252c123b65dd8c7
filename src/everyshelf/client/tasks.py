"""Tasks that commits and proposals are for."""

from __future__ import annotations

from urllib.parse import quote

from everyshelf.client.part import ShelfPart
from everyshelf.core.answers.tasks import TaskAnswer, TaskPage


class TasksPart(ShelfPart):
    """The tasks of a shelf."""

    def tasks(self, *, limit: int = 50, cursor: str = "") -> TaskPage:
        """The tasks commits are for, the one with the newest commit first."""
        return self._transport.get(f"{self._base}/tasks", TaskPage, limit=limit, cursor=cursor or None)

    def task(self, task: str, *, limit: int = 50, cursor: str = "") -> TaskAnswer:
        """A task: commits, artifacts, proposals, and where its commits have come to."""
        address = f"{self._base}/tasks/{quote(task, safe='')}"
        return self._transport.get(address, TaskAnswer, limit=limit, cursor=cursor or None)

    def change_tasks(self, *, pattern: str | None = None, address: str | None = None) -> TaskPage:
        """Say what the id of a task looks like (a regular expression), and where tasks are kept (``{task}`` stands for
        the id). What is left out stays; an empty text takes away."""
        said = {"pattern": pattern, "address": address}
        body = {name: value for name, value in said.items() if value is not None}
        return self._transport.send("PATCH", f"{self._base}/tasks", body, TaskPage)
