"""The exchange with Git, for programs and pages."""

from __future__ import annotations

from typing import Any

from django.urls import path
from drf_spectacular.utils import extend_schema
from rest_framework import permissions, serializers
from rest_framework.response import Response

from everyshelf.core.answers.exchange import (
    GitCalls,
    GitLine,
    GitLinkAnswer,
    GitLinkShown,
    GitPage,
    GitProblem,
    GitTransferAnswer,
    GitTried,
)
from everyshelf.core.errors import ConflictError
from everyshelf.decoding import converted
from everyshelf.service.exchange.actions.describing import list_git_commits
from everyshelf.service.exchange.actions.links import (
    PARTS,
    WAYS,
    LinkSettings,
    called,
    change_link,
    get_link,
    let_call,
    make_link,
    remove_link,
)
from everyshelf.service.exchange.actions.trying import try_link
from everyshelf.service.exchange.models import GitLink, GitTransfer
from everyshelf.service.http.answers import answered, listed
from everyshelf.service.http.views import ApiView, number, valid
from everyshelf.service.jobs.actions import job_json, start_job
from everyshelf.service.jobs.api import JobOut
from everyshelf.service.rights import Caller, require
from everyshelf.service.shelves.api.base import CURSOR, LIMIT, ShelfView

_MOST_TRANSFERS = 50


class LinkChange(serializers.Serializer[Any]):
    """What is said of a link; what is left out stays."""

    strict = True
    address = serializers.CharField(required=False, max_length=1000)
    user = serializers.CharField(required=False, allow_blank=True, max_length=150)
    token = serializers.CharField(required=False, allow_blank=True, max_length=4000, help_text="Empty takes it away.")
    key = serializers.CharField(
        required=False,
        allow_blank=True,
        max_length=20_000,
        trim_whitespace=False,
        help_text="A private key for SSH. Empty takes it away.",
    )
    known_hosts = serializers.CharField(
        required=False, allow_blank=True, max_length=20_000, help_text="Lines that say which keys the server has."
    )
    way = serializers.ChoiceField(choices=WAYS, required=False)
    joins = serializers.ListField(
        child=serializers.ListField(child=serializers.CharField(max_length=120), min_length=2, max_length=2),
        required=False,
        help_text="Pairs of names, of the shelf and of Git; an empty list joins all.",
    )
    tags = serializers.BooleanField(required=False)
    parts = serializers.ChoiceField(
        choices=PARTS,
        required=False,
        help_text="Where the parts of files lie in the repository: beside them, instead of them, or in them (none).",
    )
    follows = serializers.BooleanField(required=False)
    every_seconds = serializers.IntegerField(required=False, min_value=10, max_value=7 * 24 * 3600)


class NewLink(LinkChange):
    """A link to be made."""

    name = serializers.CharField(max_length=60)
    address = serializers.CharField(max_length=1000)
    folder = serializers.CharField(
        required=False, allow_blank=True, max_length=4000, help_text="The one folder or artifact it is about."
    )
    place = serializers.CharField(
        required=False, allow_blank=True, max_length=4000, help_text="Where that is in the repository; empty: its root."
    )


class GitView(ShelfView):
    """The shelf as a Git repository."""

    @extend_schema(operation_id="git_commits", parameters=[LIMIT, CURSOR], responses=answered(GitPage))
    def get(self, request: Any, shelf: str) -> Response:
        """List the commits of the shelf with their ids in Git, those recorded last first, and where Git finds it."""
        _, found = self.shelf(request, shelf)
        cursor = request.query_params.get("cursor", "")
        return Response(list_git_commits(found, number(request, "limit", 50), cursor))


class GitLinkList(serializers.Serializer[Any]):
    """All links."""

    links = listed(GitLinkAnswer)


class LinksView(ShelfView):
    """The links of a shelf."""

    @extend_schema(operation_id="git_links_list", responses=GitLinkList)
    def get(self, request: Any, shelf: str) -> Response:
        """List the links of a shelf to repositories, with how far the two sides are from each other."""
        _, found = self.shelf(request, shelf)
        rows = GitLink.objects.filter(shelf=found).select_related("made_by").order_by("name")
        return Response({"links": [_answer(row) for row in rows]})

    @extend_schema(operation_id="git_links_make", request=NewLink, responses=answered(GitLinkAnswer, 201))
    def post(self, request: Any, shelf: str) -> Response:
        """Make a link to a repository. Nothing moves until it is asked to, or follows."""
        caller, found = self.shelf(request, shelf, "change links")
        values = valid(NewLink, request)
        return Response(_answer(make_link(caller, found, values.pop("name"), _settings(values))), status=201)


class LinkView(ShelfView):
    """One link."""

    @extend_schema(operation_id="git_links_show", responses=answered(GitLinkShown))
    def get(self, request: Any, shelf: str, link: str) -> Response:
        """Return a link and what went over it, newest first."""
        _, found = self.shelf(request, shelf)
        row = get_link(found, link)
        transfers = GitTransfer.objects.filter(link=row).select_related("commit").order_by("-pk")[:_MOST_TRANSFERS]
        return Response(GitLinkShown(link=_answer(row), transfers=[_transfer(one) for one in transfers]))

    @extend_schema(operation_id="git_links_change", request=LinkChange, responses=answered(GitLinkAnswer))
    def patch(self, request: Any, shelf: str, link: str) -> Response:
        """Change a link; what was sent and fetched stays known."""
        caller, found = self.shelf(request, shelf, "change links")
        return Response(_answer(change_link(caller, get_link(found, link), _settings(valid(LinkChange, request)))))

    @extend_schema(operation_id="git_links_remove", responses={204: None})
    def delete(self, request: Any, shelf: str, link: str) -> Response:
        """Remove a link. Nothing changes on either side."""
        caller, found = self.shelf(request, shelf, "change links")
        remove_link(caller, get_link(found, link))
        return Response(status=204)


class LinkTestView(ShelfView):
    """Trying a link."""

    looks = True

    @extend_schema(operation_id="git_links_test", request=None, responses=answered(GitTried))
    def post(self, request: Any, shelf: str, link: str) -> Response:
        """Reach the repository, and return what is there and what the link would do. Nothing moves."""
        caller, found = self.shelf(request, shelf)
        require(caller, found, "send and fetch")
        return Response(try_link(get_link(found, link)))


class _ActView(ShelfView):
    """Work of a link, as a job."""

    act = ""

    def begin(self, request: Any, shelf: str, name: str) -> Response:
        """Start the job."""
        caller, found = self.shelf(request, shelf)
        require(caller, found, "send and fetch")
        link = get_link(found, name)
        if self.act != "look" and self.act != link.way and link.way != "both":
            raise ConflictError(
                f"{name} only {'sends' if link.way == 'send' else 'fetches'}",
                code="link.way",
                hint=f"Change that: everyshelf git-link change {name} --way both",
            )
        job = start_job(caller, "git-link", found, {"link": link.pk, "act": self.act})
        return Response(job_json(job), status=202)


class LinkSendView(_ActView):
    """Sending."""

    act = "send"

    @extend_schema(operation_id="git_links_send", request=None, responses={202: JobOut})
    def post(self, request: Any, shelf: str, link: str) -> Response:
        """Send what the repository lacks."""
        return self.begin(request, shelf, link)


class LinkFetchView(_ActView):
    """Fetching."""

    act = "fetch"

    @extend_schema(operation_id="git_links_fetch", request=None, responses={202: JobOut})
    def post(self, request: Any, shelf: str, link: str) -> Response:
        """Fetch what the shelf lacks; what both sides changed is merged by meaning."""
        return self.begin(request, shelf, link)


class LinkLookView(_ActView):
    """Comparing both sides."""

    act = "look"

    @extend_schema(operation_id="git_links_look", request=None, responses={202: JobOut})
    def post(self, request: Any, shelf: str, link: str) -> Response:
        """Compare both sides; nothing moves."""
        return self.begin(request, shelf, link)


class LinkCallsView(ShelfView):
    """Letting the other side call."""

    @extend_schema(operation_id="git_links_calls", request=None, responses=answered(GitCalls, 201))
    def post(self, request: Any, shelf: str, link: str) -> Response:
        """Return an address and a new secret with which the other side can say that it has something new."""
        caller, found = self.shelf(request, shelf, "change links")
        row = get_link(found, link)
        address = f"/api/v1/shelves/{found.key}/git/links/{row.name}/called"
        return Response(GitCalls(address=address, secret=let_call(caller, row)), status=201)


class LinkCalledView(ApiView):
    """A call of the other side; its signature says who it is."""

    permission_classes = [permissions.AllowAny]
    authentication_classes: list[Any] = []
    keeps_answers = False

    @extend_schema(operation_id="git_links_called", request=None, responses={202: None}, auth=[])
    def post(self, request: Any, shelf: str, link: str) -> Response:
        """Look at once what the other side has: the call is signed with the link's secret."""
        given = request.headers.get("X-Hub-Signature-256") or request.headers.get("X-Hub-Signature", "")
        found = called(shelf, link, request._request.body, given)
        start_job(Caller(found.made_by), "git-link", found.shelf, {"link": found.pk, "act": "both"})
        return Response(status=202)


def _settings(values: dict[str, Any]) -> LinkSettings:
    if "joins" in values:
        values["joins"] = [(here, there) for here, there in values["joins"]]
    return LinkSettings(**values)


def _answer(link: GitLink) -> GitLinkAnswer:
    return GitLinkAnswer(
        name=link.name,
        address=link.address,
        user=link.user,
        has_token=link.token is not None,
        has_key=link.key is not None,
        way=link.way,
        joins=link.branches,
        tags=link.tags,
        folder=link.folder,
        place=link.place,
        parts=link.parts or "none",
        follows=link.follows,
        every_seconds=link.every_seconds,
        made_by=link.made_by.username,
        state=link.state,
        lines=converted(link.lines, list[GitLine]),
        problem=converted(link.problem, GitProblem) if link.problem else None,
        since=link.since,
        looked=link.looked,
        next_look=link.next_look if link.follows else None,
    )


def _transfer(row: GitTransfer) -> GitTransferAnswer:
    return GitTransferAnswer(
        at=row.at,
        fetched=row.fetched,
        branch=row.branch,
        commit=row.commit.uid,
        git=row.git,
        summary=row.commit.summary,
        author=row.commit.author,
    )


urlpatterns = [
    path("", GitView.as_view()),
    path("/links", LinksView.as_view()),
    path("/links/<str:link>", LinkView.as_view()),
    path("/links/<str:link>/test", LinkTestView.as_view()),
    path("/links/<str:link>/send", LinkSendView.as_view()),
    path("/links/<str:link>/fetch", LinkFetchView.as_view()),
    path("/links/<str:link>/look", LinkLookView.as_view()),
    path("/links/<str:link>/calls", LinkCallsView.as_view()),
    path("/links/<str:link>/called", LinkCalledView.as_view()),
]
