"""News and following, for programs and pages."""

from __future__ import annotations

from typing import Any

from django.urls import path
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.response import Response

from everyshelf.core.answers.news import FollowedThing, News
from everyshelf.service.http.answers import answered, answered_list
from everyshelf.service.http.views import ApiView, number, valid
from everyshelf.service.news.actions.following import follow, list_followed, stop_following
from everyshelf.service.news.actions.looking import look_up_to, news_everywhere, news_of
from everyshelf.service.rights import caller_of
from everyshelf.service.shelves.api.base import LIMIT, ShelfView


class LookIn(serializers.Serializer[Any]):
    """Up to which entry of the log the caller has seen what was done."""

    strict = True
    entry = serializers.IntegerField(min_value=0)


class FollowIn(serializers.Serializer[Any]):
    """What to follow: an artifact by its path, or a branch by its name."""

    strict = True
    artifact = serializers.CharField(required=False, allow_null=True, default=None, trim_whitespace=False)
    branch = serializers.CharField(required=False, allow_null=True, default=None)


class NewsView(ApiView):
    """News of all shelves."""

    @extend_schema(operation_id="news_list", parameters=[LIMIT], responses=answered_list(News))
    def get(self, request: Any) -> Response:
        """List what others did since you last looked, on each shelf that has such news, `limit` entries of each."""
        return Response(news_everywhere(caller_of(request), number(request, "limit", 5)))


class ShelfNewsView(ShelfView):
    """News of one shelf."""

    @extend_schema(
        operation_id="news_shelf",
        parameters=[
            OpenApiParameter("before", int, description="`next` of the page before."),
            OpenApiParameter("followed", str, enum=["yes"], description="Only what is about something you follow."),
            OpenApiParameter("all", str, enum=["yes"], description="Also what you have seen."),
            LIMIT,
        ],
        responses=answered(News),
    )
    def get(self, request: Any, shelf: str) -> Response:
        """List what others did on a shelf since you last looked, newest first."""
        caller, found = self.shelf(request, shelf)
        given = request.query_params
        return Response(
            news_of(
                caller,
                found,
                number(request, "limit", 50),
                before=number(request, "before", 0) if "before" in given else None,
                followed=given.get("followed") == "yes",
                all_time=given.get("all") == "yes",
            )
        )

    @extend_schema(operation_id="news_look", request=LookIn, responses=answered(News))
    def post(self, request: Any, shelf: str) -> Response:
        """Say that you have seen what was done up to an entry; a lower number makes the rest new again."""
        caller, found = self.shelf(request, shelf, "follow")
        return Response(look_up_to(caller, found, valid(LookIn, request)["entry"]))


class FollowedView(ShelfView):
    """What the caller follows."""

    @extend_schema(operation_id="followed_list", responses=answered_list(FollowedThing))
    def get(self, request: Any, shelf: str) -> Response:
        """List the artifacts and branches you follow on a shelf."""
        caller, found = self.shelf(request, shelf)
        return Response(list_followed(caller, found))

    @extend_schema(operation_id="followed_add", request=FollowIn, responses=answered_list(FollowedThing))
    def post(self, request: Any, shelf: str) -> Response:
        """Follow an artifact or a branch."""
        caller, found = self.shelf(request, shelf, "follow")
        values = valid(FollowIn, request)
        return Response(follow(caller, found, values["artifact"], values["branch"]))


class FollowedStopView(ShelfView):
    """Following no longer."""

    @extend_schema(operation_id="followed_stop", request=FollowIn, responses=answered_list(FollowedThing))
    def post(self, request: Any, shelf: str) -> Response:
        """Follow an artifact or a branch no longer."""
        caller, found = self.shelf(request, shelf, "follow")
        values = valid(FollowIn, request)
        return Response(stop_following(caller, found, values["artifact"], values["branch"]))


urlpatterns = [
    path("news", NewsView.as_view()),
    path("shelves/<str:shelf>/news", ShelfNewsView.as_view()),
    path("shelves/<str:shelf>/followed", FollowedView.as_view()),
    path("shelves/<str:shelf>/followed/stop", FollowedStopView.as_view()),
]
