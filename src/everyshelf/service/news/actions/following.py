"""Following artifacts and branches."""

from __future__ import annotations

from collections.abc import Iterable

from django.utils import timezone

from everyshelf.core.answers.news import FollowedThing
from everyshelf.core.errors import InvalidError, MissingError
from everyshelf.core.history.names import did_you_mean, nearest
from everyshelf.service.base.acts import one_act
from everyshelf.service.news.models import Followed
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.models import Artifact, ArtifactVersion, Branch, Shelf

_MOST_NAMES = 500
_MOST_FOLLOWED = 500


def list_followed(caller: Caller, shelf: Shelf) -> list[FollowedThing]:
    """What the caller follows on a shelf: artifacts by the path they were last seen under, then branches."""
    rows = list(Followed.objects.filter(shelf=shelf, person=caller.person).order_by("branch", "pk"))
    paths = paths_of([row.artifact_id for row in rows if row.artifact_id])
    return [
        FollowedThing(
            artifact=paths.get(row.artifact_id) if row.artifact_id else None,
            branch=row.branch or None,
            since=row.since,
        )
        for row in rows
    ]


def follow(caller: Caller, shelf: Shelf, artifact: str | None, branch: str | None) -> list[FollowedThing]:
    """Follow an artifact or a branch; following it twice is following it."""
    which, name = _which(shelf, artifact, branch)
    with one_act():
        there = Followed.objects.filter(shelf=shelf, person=caller.person)
        if not there.filter(artifact=which, branch=name).exists():
            if there.count() >= _MOST_FOLLOWED:
                raise InvalidError(
                    f"you follow {_MOST_FOLLOWED} things on {shelf.name}, and no more are kept",
                    code="news.too_many",
                    hint="Stop following some: everyshelf follow --stop ARTIFACT",
                )
            Followed.objects.create(
                shelf=shelf, person=caller.person, artifact=which, branch=name, since=timezone.now()
            )
    return list_followed(caller, shelf)


def stop_following(caller: Caller, shelf: Shelf, artifact: str | None, branch: str | None) -> list[FollowedThing]:
    """Follow it no longer. A branch that is gone can be let go, too."""
    own = Followed.objects.filter(shelf=shelf, person=caller.person)
    if branch and not artifact:
        rows = own.filter(branch=branch)
    else:
        rows = own.filter(artifact=_which(shelf, artifact, branch)[0])
    with one_act():
        rows.delete()
    return list_followed(caller, shelf)


def paths_of(artifacts: Iterable[int]) -> dict[int, str]:
    """The path under which each artifact was last seen."""
    newest: dict[int, str] = {}
    rows = ArtifactVersion.objects.filter(artifact__in=list(artifacts)).order_by("pk")
    newest.update(rows.values_list("artifact_id", "path"))
    return newest


def _which(shelf: Shelf, artifact: str | None, branch: str | None) -> tuple[Artifact | None, str]:
    if bool(artifact) == bool(branch):
        raise InvalidError(
            "name an artifact or a branch, one of them", code="news.one_thing", hint="Send artifact or branch."
        )
    if branch:
        names = list(Branch.objects.filter(shelf=shelf).values_list("name", flat=True)[:_MOST_NAMES])
        if branch not in names and not Branch.objects.filter(shelf=shelf, name=branch).exists():
            raise MissingError(
                f"{shelf.name} has no branch {branch!r}",
                code="branch.missing",
                hint=did_you_mean(nearest(branch, names)) or "List them: everyshelf branch list",
            )
        return None, branch
    version = ArtifactVersion.objects.filter(shelf=shelf, path=artifact).order_by("-pk").first()
    if version is None:
        raise MissingError(
            f"{shelf.name} has no artifact {artifact!r}", code="artifact.missing", hint="List them: everyshelf browse"
        )
    return version.artifact, ""
