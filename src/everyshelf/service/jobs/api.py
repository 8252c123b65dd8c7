"""Looking at jobs and cancelling them; pages ask again with an ETag."""

from __future__ import annotations

from typing import Any

from django.urls import path
from drf_spectacular.utils import extend_schema, extend_schema_field
from rest_framework import serializers
from rest_framework.response import Response

from everyshelf.service.http.views import ApiView
from everyshelf.service.jobs import actions
from everyshelf.service.rights import caller_of


@extend_schema_field({"oneOf": [{"$ref": "#/components/schemas/Problem"}, {"type": "null"}]})
class ProblemField(serializers.DictField):
    """Why a job did not end well, in the form of every problem."""


class JobOut(serializers.Serializer[Any]):
    """A job: where it stands and how it ended."""

    job = serializers.CharField()
    kind = serializers.CharField()
    shelf = serializers.CharField(allow_null=True)
    state = serializers.ChoiceField(["waiting", "running", "done", "failed", "cancelled"])
    done = serializers.IntegerField()
    total = serializers.IntegerField()
    note = serializers.CharField()
    result = serializers.DictField(allow_null=True)
    problem = ProblemField()
    created = serializers.DateTimeField()
    ended = serializers.DateTimeField(allow_null=True)
    parameters = serializers.DictField()


class JobView(ApiView):
    """One job."""

    @extend_schema(operation_id="jobs_get", responses=JobOut)
    def get(self, request: Any, uid: str) -> Response:
        """Return a job's state and progress."""
        return Response(actions.job_json(actions.get_job(caller_of(request), uid)))


class CancelView(ApiView):
    """Cancelling."""

    @extend_schema(operation_id="jobs_cancel", request=None, responses=JobOut)
    def post(self, request: Any, uid: str) -> Response:
        """Ask a job to stop."""
        return Response(actions.job_json(actions.cancel_job(caller_of(request), uid)))


urlpatterns = [path("jobs/<str:uid>", JobView.as_view()), path("jobs/<str:uid>/cancel", CancelView.as_view())]
