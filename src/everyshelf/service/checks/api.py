"""Checks."""

from __future__ import annotations

from typing import Any

from django.urls import path
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.response import Response

from everyshelf.core.errors import InvalidError
from everyshelf.service.checks import actions
from everyshelf.service.http.views import valid
from everyshelf.service.shelves.api.base import REF, ShelfView


class CheckOut(serializers.Serializer[Any]):
    """What was found about a commit."""

    name = serializers.CharField()
    passed = serializers.BooleanField()
    comment = serializers.CharField()
    link = serializers.CharField()
    commit = serializers.CharField()
    made = serializers.DateTimeField()
    made_by = serializers.CharField()


class CheckIn(serializers.Serializer[Any]):
    """What is to be recorded; the main branch if no ref is named."""

    ref = serializers.CharField(required=False, default="", allow_blank=True)
    name = serializers.CharField(max_length=100)
    passed = serializers.BooleanField(required=False, allow_null=True, default=None)
    junit = serializers.CharField(
        required=False,
        default="",
        allow_blank=True,
        max_length=20_000_000,
        trim_whitespace=False,
        help_text="A file of test results in the JUnit form; then it says how the check ended.",
    )
    comment = serializers.CharField(required=False, default="", allow_blank=True, max_length=500)
    link = serializers.URLField(required=False, default="", allow_blank=True, max_length=500)


class ChecksView(ShelfView):
    """Checks of a state of the shelf."""

    @extend_schema(operation_id="checks_list", parameters=[REF], responses=CheckOut(many=True))
    def get(self, request: Any, shelf: str) -> Response:
        """List the newest check of each name, for the commit of a ref."""
        _, found = self.shelf(request, shelf)
        commit = self.at(request, found).commit
        return Response([actions.check_json(c) for c in actions.checks_of(commit)])

    @extend_schema(operation_id="checks_record", request=CheckIn, responses={201: CheckOut})
    def post(self, request: Any, shelf: str) -> Response:
        """Record the result of a check for the commit of a ref."""
        caller, found = self.shelf(request, shelf)
        values = valid(CheckIn, request)
        if (values["passed"] is None) == (not values["junit"]):
            raise InvalidError("say how the check ended: passed, or junit", code="check.result", pointer="/passed")
        if values["junit"]:
            results = actions.results_in(values["junit"].encode())
            values["passed"], values["comment"] = results.is_passed, (values["comment"] or results.sentence)[:500]
        made = actions.record_check(
            caller,
            found,
            values["ref"] or found.main_branch,
            values["name"],
            values["comment"],
            values["link"],
            passed=values["passed"],
        )
        return Response(actions.check_json(made), status=201)


urlpatterns = [path("", ChecksView.as_view())]
