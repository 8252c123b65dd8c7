"""Shelves, members, branches and tags."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from typing import Any

from drf_spectacular.utils import extend_schema
from rest_framework.response import Response

from everyshelf.service.base.paging import as_page, made_last_first, named
from everyshelf.service.http.views import ApiView, number, valid
from everyshelf.service.jobs.actions import job_json, start_job
from everyshelf.service.jobs.api import JobOut
from everyshelf.service.rights import caller_of, require
from everyshelf.service.shelves.actions import branches, shelves
from everyshelf.service.shelves.actions.lines import lines_of
from everyshelf.service.shelves.actions.refs import get_branch, get_tag
from everyshelf.service.shelves.api import shapes
from everyshelf.service.shelves.api.base import CURSOR, LIMIT, WORDS, ShelfView, page_of
from everyshelf.service.shelves.models import Tag


class ShelvesView(ApiView):
    """All shelves the caller may see."""

    @extend_schema(operation_id="shelves_list", responses=shapes.ShelfOut(many=True))
    def get(self, request: Any) -> Response:
        """List the shelves you may see, by name."""
        caller = caller_of(request)
        return Response(shelves.describe_shelves(caller, list(shelves.visible_shelves(caller))))

    @extend_schema(operation_id="shelves_make", request=shapes.NewShelf, responses={201: shapes.ShelfOut})
    def post(self, request: Any) -> Response:
        """Make a shelf with an empty main branch."""
        caller = caller_of(request)
        made = shelves.make_shelf(caller, **valid(shapes.NewShelf, request))
        return Response(shelves.describe_shelf(caller, made), status=201)


class OneShelfView(ShelfView):
    """One shelf."""

    @extend_schema(operation_id="shelves_get", responses=shapes.ShelfOut)
    def get(self, request: Any, shelf: str) -> Response:
        """Return a shelf with its counts of artifacts, commits, branches and tags."""
        caller, found = self.shelf(request, shelf)
        return Response(shelves.describe_shelf(caller, found))

    @extend_schema(operation_id="shelves_change", request=shapes.ShelfChange, responses=shapes.ShelfOut)
    def patch(self, request: Any, shelf: str) -> Response:
        """Change a shelf's name, its description, and who may see it."""
        caller, found = self.shelf(request, shelf)
        changed = shelves.change_shelf(caller, found, **valid(shapes.ShelfChange, request))
        return Response(shelves.describe_shelf(caller, changed))


class BranchesView(ShelfView):
    """Branches of a shelf."""

    @extend_schema(operation_id="branches_list", parameters=[WORDS, LIMIT, CURSOR], responses=shapes.BranchPage)
    def get(self, request: Any, shelf: str) -> Response:
        """List branches with how far each is ahead of and behind the main branch: that one, then the others by name."""
        _, found = self.shelf(request, shelf)
        return Response(branches.list_branches(found, **page_of(request)))

    @extend_schema(operation_id="branches_make", request=shapes.NewBranch, responses={201: shapes.BranchOut})
    def post(self, request: Any, shelf: str) -> Response:
        """Make a branch at any ref."""
        caller, found = self.shelf(request, shelf)
        values = valid(shapes.NewBranch, request)
        start = values["start"] or found.main_branch
        made = branches.make_branch(caller, found, values["name"], start, values["note"])
        return Response(branches.describe_branch(made), status=201)


class LinesView(ShelfView):
    """How branches came apart and together."""

    @extend_schema(operation_id="lines_get", responses=shapes.LinesOut, parameters=[LIMIT])
    def get(self, request: Any, shelf: str) -> Response:
        """Return the newest commits with their parents, branches and tags."""
        _, found = self.shelf(request, shelf)
        return Response(lines_of(found, number(request, "limit", 200)))


class BranchView(ShelfView):
    """One branch."""

    @extend_schema(operation_id="branches_get", responses=shapes.BranchOut)
    def get(self, request: Any, shelf: str, name: str) -> Response:
        """Return a branch, and how far it is ahead of and behind the main branch."""
        return Response(branches.describe_branch(get_branch(self.shelf(request, shelf)[1], name)))

    @extend_schema(operation_id="branches_change", request=shapes.BranchChange, responses=shapes.BranchOut)
    def patch(self, request: Any, shelf: str, name: str) -> Response:
        """Guard a branch, or remove the guard."""
        caller, found = self.shelf(request, shelf)
        changed = branches.guard_branch(caller, found, name, valid(shapes.BranchChange, request)["guarded"])
        return Response(branches.describe_branch(changed))

    @extend_schema(operation_id="branches_delete", responses={204: None})
    def delete(self, request: Any, shelf: str, name: str) -> Response:
        """Delete a branch. Its commits are kept."""
        caller, found = self.shelf(request, shelf)
        branches.delete_branch(caller, found, name)
        return Response(status=204)


def tags_json(tags: Sequence[Tag]) -> list[dict[str, Any]]:
    """The public form of tags, in their order, with the environments that each of them reached."""
    reached: dict[int, set[str]] = defaultdict(set)
    recorded = Tag.objects.filter(pk__in=[tag.pk for tag in tags], deployments__state="recorded")
    for tag, environment in recorded.values_list("pk", "deployments__environment__name").distinct():
        reached[tag].add(environment)
    return [_tag_json(tag, sorted(reached[tag.pk])) for tag in tags]


def tag_json(tag: Tag) -> dict[str, Any]:
    """A tag's public form."""
    return tags_json([tag])[0]


def _tag_json(tag: Tag, environments: list[str]) -> dict[str, Any]:
    return {
        "name": tag.name,
        "commit": tag.commit.uid,
        "note": tag.note,
        "selection": tag.selection,
        "created": tag.created,
        "created_by": tag.created_by,
        "environments": environments,
    }


class TagsView(ShelfView):
    """Tags of a shelf."""

    @extend_schema(operation_id="tags_list", parameters=[WORDS, LIMIT, CURSOR], responses=shapes.TagPage)
    def get(self, request: Any, shelf: str) -> Response:
        """List tags, newest first."""
        _, found = self.shelf(request, shelf)
        wanted = page_of(request)
        page = made_last_first(named(found.tags.select_related("commit"), wanted.pop("words")), **wanted)
        return Response(as_page(page, tags_json(page.records)))

    @extend_schema(operation_id="tags_make", request=shapes.NewTag, responses={201: shapes.TagOut})
    def post(self, request: Any, shelf: str) -> Response:
        """Make a tag. Tags cannot be moved."""
        caller, found = self.shelf(request, shelf)
        values = valid(shapes.NewTag, request)
        made = branches.make_tag(
            caller,
            found,
            values["name"],
            values["ref"] or found.main_branch,
            values["note"],
            values["selection"],
            values["created"],
            values["created_by"],
        )
        return Response(tag_json(made), status=201)


class TagView(ShelfView):
    """One tag."""

    @extend_schema(operation_id="tags_get", responses=shapes.TagOut)
    def get(self, request: Any, shelf: str, name: str) -> Response:
        """Return a tag: its commit, selection and note."""
        return Response(tag_json(get_tag(self.shelf(request, shelf)[1], name)))


class VerifyView(ShelfView):
    """Re-reading a shelf."""

    @extend_schema(operation_id="shelves_verify", request=None, responses={202: JobOut})
    def post(self, request: Any, shelf: str) -> Response:
        """Start re-reading the whole shelf, and return the job."""
        caller, found = self.shelf(request, shelf)
        require(caller, found, "verify")
        return Response(job_json(start_job(caller, "verify", found, {})), status=202)
