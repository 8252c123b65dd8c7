"""Looking back: who set what, who uses what, what was made from what, and commits undone."""

from __future__ import annotations

from typing import Any
from urllib.parse import quote

from everyshelf.client.models import Commit
from everyshelf.client.part import ShelfPart
from everyshelf.core.answers.commits import CommitPlaces, Undoing, VersionPlaces
from everyshelf.core.answers.lineage import LineageAnswer
from everyshelf.core.answers.origins import FormsAnswer, OriginsAnswer
from everyshelf.core.answers.uses import UsesAnswer

_PAGE = 1000


class LookingBackPart(ShelfPart):
    """What came of what, and why."""

    def commit_places(self, commit: str) -> CommitPlaces:
        """What a commit is part of: branches, tags, environments, proposals, runs, checks, tasks, Git."""
        return self._transport.get(f"{self._base}/commits/{quote(commit)}/places", CommitPlaces)

    def version_places(self, path: str, ref: str | None = None, version: int | None = None) -> VersionPlaces:
        """One version of an artifact: what it was made of, what was made of it, what has it, and its commit."""
        query = {"path": path, "ref": ref, "version": version}
        return self._transport.get(f"{self._base}/artifact/places", VersionPlaces, **query)

    def history_report(self, ref: str | None = None, form: str = "html", **sought: str) -> str:
        """The commits of a line as one HTML page, Markdown ("md") or JSON; ``sought`` as for ``commits``."""
        query = {"from" if name == "start" else name: value for name, value in sought.items()}
        return self._transport.text(f"{self._base}/history/report", ref=ref, form=form, **query)

    def origins(
        self, path: str, ref: str | None = None, *, version: int | None = None, form: str | None = None
    ) -> OriginsAnswer:
        """Who last set each part of an artifact, or with ``form="lines"`` each line; all of them, page by page."""
        whole: OriginsAnswer | None = None
        while whole is None or len(whole.parts) + len(whole.lines) < whole.total:
            start = len(whole.parts) + len(whole.lines) + 1 if whole is not None else 1
            page = self._transport.get(
                f"{self._base}/artifact/origins",
                OriginsAnswer,
                path=path,
                ref=ref,
                version=version,
                form=form,
                start=start,
                limit=_PAGE,
            )
            if whole is None:
                whole = page
                continue
            if not page.parts and not page.lines:
                break
            whole.parts += page.parts
            whole.lines += page.lines
            whole.commits |= page.commits
        return whole

    def forms(
        self,
        path: str,
        ref: str | None = None,
        *,
        version: int | None = None,
        **of: Any,
    ) -> FormsAnswer:
        """What each commit did to one thing in an artifact, newest first.

        One of: ``part`` (its path, a field below it, or a label), ``line`` (from 1), ``row`` (the cells of its key,
        with commas; with ``column`` one cell, with ``table`` that of a database).
        """
        return self._transport.get(
            f"{self._base}/artifact/forms", FormsAnswer, path=path, ref=ref, version=version, **of
        )

    def lineage(
        self, path: str, ref: str | None = None, *, version: int | None = None, depth: int | None = None
    ) -> LineageAnswer:
        """What a version was made from and what was made from it, and whether it can be made again."""
        return self._transport.get(
            f"{self._base}/artifact/lineage", LineageAnswer, path=path, ref=ref, version=version, depth=depth
        )

    def lineage_report(
        self,
        path: str,
        ref: str | None = None,
        *,
        version: int | None = None,
        depth: int | None = None,
        form: str = "prov",
    ) -> str:
        """The same as PROV-JSON (``form="prov"``), or as one HTML page (``form="html"``)."""
        return self._transport.text(
            f"{self._base}/artifact/lineage/report", path=path, ref=ref, version=version, depth=depth, form=form
        )

    def uses(
        self,
        path: str,
        ref: str | None = None,
        *,
        part: str | None = None,
        depth: int | None = None,
        limit: int | None = None,
        exact: bool = False,
    ) -> UsesAnswer:
        """Who uses an artifact or a ``part`` of it, and what it uses, up to ``depth`` levels; and what it names that is
        not there. A part is meant by its path, its label or its name. ``exact`` leaves out guesses.

        Of each up to ``limit`` are listed, 500 if not given and at most 5,000; ``cut`` says that there are more."""
        return self._transport.get(
            f"{self._base}/artifact/uses",
            UsesAnswer,
            path=path,
            ref=ref,
            part=part,
            depth=depth,
            limit=limit,
            exact="true" if exact else None,
        )

    def undoing(self, commit: str, branch: str = "") -> Undoing:
        """What undoing a commit would do on a branch (default: the main one); nothing is written."""
        return self._transport.get(f"{self._base}/commits/{quote(commit)}/undo", Undoing, branch=branch or None)

    def undo(self, commit: str, branch: str = "", summary: str = "", *, prefer: str | None = None) -> Commit:
        """Undo on a branch what a commit changed, as a new commit; later changes stay.

        Raises ``ProblemError`` (merge.conflict) where they do not go together: ``facts["merge"]`` waits to be settled.
        ``prefer``: "target" keeps what came later, "source" what was before the commit.
        """
        body = {"branch": branch, "summary": summary, "prefer": prefer}
        return self._transport.send("POST", f"{self._base}/commits/{quote(commit)}/undo", body, Commit)
