"""The versions of one artifact that one of them comes from."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from django.db.models import Count

from everyshelf.core.answers.origins import OriginCommit, OriginsAnswer
from everyshelf.core.origins.trees import NEVER
from everyshelf.service.origins.actions.folding import Steps
from everyshelf.service.origins.actions.keeping import Form, leave_to_job, make_steps, versions_of
from everyshelf.service.shelves.models import ArtifactVersion, Commit, CommitParent, Shelf


class Line:
    """The versions of one artifact that one of them comes from, with all steps between them."""

    def __init__(self, person: Any, shelf: Shelf, version: ArtifactVersion, form: Form) -> None:
        self.version, self.form, self.shelf = version, form, shelf
        self.versions = {row.pk: row for row in versions_of(version)}
        self.steps: Steps[Any] = Steps(self.versions, form)
        line, missing = self.steps.line(version.pk)
        while missing:
            left = make_steps(shelf, list(self.versions.values()), missing, form)
            if left:
                leave_to_job(person, shelf, version, form, left)
            self.steps = Steps(self.versions, form)
            line, missing = self.steps.line(version.pk)
        self.line = line

    def commits(self, keys: Iterable[int]) -> dict[str, OriginCommit]:
        """What is told of the commits that made these versions, by id."""
        rows = [self.versions[key] for key in set(keys) if key != NEVER]
        numbers = [row.commit_id for row in rows]
        merges = set(CommitParent.objects.filter(commit__in=numbers, position=1).values_list("commit", flat=True))
        touched = dict(
            ArtifactVersion.objects.filter(commit__in=numbers).values_list("commit").annotate(count=Count("pk"))
        )
        return {row.commit.uid: _commit(row, row.commit_id in merges, touched[row.commit_id] - 1) for row in rows}

    def uid(self, key: int) -> str:
        """The id of the commit that made a version."""
        return self.versions[key].commit.uid

    def told(self, kind: str, note: str, total: int, start: int, keys: Iterable[int], **more: Any) -> OriginsAnswer:
        """The answer with what is common to all forms."""
        rows = [self.versions[key] for key in self.line]
        return OriginsAnswer(
            path=self.version.path,
            version=self.version.number,
            kind=kind,
            note=note,
            total=total,
            start=start,
            versions=len(self.line),
            moves=sum(1 for row in rows if row.moved_from),
            merges=sum(1 for key in self.line if len(self.steps.parents(key)) > 1),
            commits=self.commits(keys),
            **more,
        )


def _commit(row: ArtifactVersion, merge: bool, others: int) -> OriginCommit:
    commit: Commit = row.commit
    return OriginCommit(
        version=row.number,
        commit=commit.uid,
        author=commit.author,
        recorded=commit.recorded,
        summary=commit.summary,
        tasks=list(commit.tasks),
        path=row.path,
        merge=merge,
        others=others,
    )
