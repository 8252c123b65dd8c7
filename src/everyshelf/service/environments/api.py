"""Environments, rehearsal, promotion, rollback, deployments."""

from __future__ import annotations

from typing import Any

from django.urls import path
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.response import Response
from rest_framework.views import APIView

from everyshelf.service.environments.actions import environments, promotion
from everyshelf.service.environments.models import Phase
from everyshelf.service.jobs.actions import job_json, start_job
from everyshelf.service.jobs.api import JobOut
from everyshelf.service.people.rights import Caller, caller_of
from everyshelf.service.shelves.actions.shelves import get_shelf


class NewEnvironment(serializers.Serializer):
    """An environment to be made."""

    name = serializers.CharField(max_length=60)
    folder = serializers.CharField(required=False, default="", allow_blank=True, max_length=1000)
    position = serializers.IntegerField(required=False, min_value=1, max_value=99, allow_null=True, default=None)
    fed_from = serializers.CharField(required=False, default="", allow_blank=True)
    earlier_first = serializers.BooleanField(required=False, default=False)
    note = serializers.CharField(required=False, default="", allow_blank=True, max_length=300)


class DeploymentOut(serializers.Serializer):
    """One promotion and how it ended."""

    deployment = serializers.CharField()
    number = serializers.IntegerField()
    tag = serializers.CharField()
    commit = serializers.CharField()
    state = serializers.ChoiceField(["planned", "staged", "switched", "verified", "recorded", "undone"])
    who = serializers.CharField()
    why = serializers.CharField()
    counts = serializers.DictField(child=serializers.IntegerField())
    begun = serializers.DateTimeField()
    ended = serializers.DateTimeField(allow_null=True)
    took_seconds = serializers.FloatField(allow_null=True)
    rolled_back_to = serializers.IntegerField(allow_null=True)


class EnvironmentOut(serializers.Serializer):
    """An environment and what runs there."""

    name = serializers.CharField()
    route = serializers.CharField()
    position = serializers.IntegerField()
    destination = serializers.CharField()
    folder = serializers.CharField()
    fed_from = serializers.CharField()
    earlier_first = serializers.BooleanField()
    note = serializers.CharField()
    current = DeploymentOut(allow_null=True)
    before = DeploymentOut(allow_null=True)
    waiting = serializers.CharField(allow_null=True)


class TagWanted(serializers.Serializer):
    """The tag to rehearse."""

    tag = serializers.CharField()


class PromotionWanted(TagWanted):
    """The tag to put in place, and why."""

    why = serializers.CharField(required=False, default="", allow_blank=True)
    overwrite_drift = serializers.BooleanField(required=False, default=False)
    at = serializers.DateTimeField(required=False, allow_null=True, default=None)
    who = serializers.CharField(required=False, allow_null=True, default=None, max_length=150)


class RollbackWanted(serializers.Serializer):
    """Where to go back to: the deployment before the current one if no number is given."""

    to = serializers.IntegerField(required=False, allow_null=True, default=None)
    why = serializers.CharField(required=False, default="", allow_blank=True)
    overwrite_drift = serializers.BooleanField(required=False, default=False)
    at = serializers.DateTimeField(required=False, allow_null=True, default=None)
    who = serializers.CharField(required=False, allow_null=True, default=None, max_length=150)


class PlannedArtifact(serializers.Serializer):
    """What would happen to one artifact."""

    path = serializers.CharField()
    name = serializers.CharField()
    state = serializers.ChoiceField(["added", "changed", "removed"])
    kind = serializers.CharField()
    version = serializers.IntegerField(allow_null=True)
    effect = serializers.CharField()
    headline = serializers.CharField()
    findings = serializers.ListField(child=serializers.DictField())


class DriftOut(serializers.Serializer):
    """An artifact somebody changed there."""

    path = serializers.CharField()
    name = serializers.CharField()
    where = serializers.CharField()
    lost = serializers.BooleanField()


class GateOut(serializers.Serializer):
    """A condition, and what would satisfy it."""

    gate = serializers.CharField()
    met = serializers.BooleanField()
    said = serializers.CharField()


class RehearsalOut(serializers.Serializer):
    """What a promotion would do."""

    environment = serializers.CharField()
    tag = serializers.CharField()
    commit = serializers.CharField()
    counts = serializers.DictField(child=serializers.IntegerField())
    artifacts = PlannedArtifact(many=True)
    drift = DriftOut(many=True)
    gates = GateOut(many=True)
    holds = serializers.IntegerField()
    bytes = serializers.IntegerField()
    sentence = serializers.CharField()
    rehearsed = serializers.DateTimeField()


class EnvironmentsView(APIView):
    """The environments of a shelf."""

    @extend_schema(operation_id="environments_list", responses=EnvironmentOut(many=True))
    def get(self, request: Any, shelf: str) -> Response:
        """All of them, in the order of their route."""
        found = get_shelf(caller_of(request), shelf)
        rows = found.environments.select_related("shelf").order_by("route", "position")
        return Response([environments.environment_json(e) for e in rows])

    @extend_schema(operation_id="environments_make", request=NewEnvironment, responses={201: EnvironmentOut})
    def post(self, request: Any, shelf: str) -> Response:
        """Make one."""
        caller = caller_of(request)
        given = NewEnvironment(data=request.data)
        given.is_valid(raise_exception=True)
        made = environments.make_environment(caller, get_shelf(caller, shelf), **given.validated_data)
        return Response(environments.environment_json(made), status=201)


class EnvironmentView(APIView):
    """One environment."""

    @extend_schema(operation_id="environments_get", responses=EnvironmentOut)
    def get(self, request: Any, shelf: str, name: str) -> Response:
        """What runs there."""
        found = environments.get_environment(get_shelf(caller_of(request), shelf), name)
        return Response(environments.environment_json(found))

    @extend_schema(operation_id="environments_remove", responses={204: None})
    def delete(self, request: Any, shelf: str, name: str) -> Response:
        """Forget one that was never used."""
        caller = caller_of(request)
        environments.remove_environment(caller, get_shelf(caller, shelf), name)
        return Response(status=204)


class DeploymentsView(APIView):
    """The history of an environment."""

    @extend_schema(operation_id="deployments_list", responses=DeploymentOut(many=True))
    def get(self, request: Any, shelf: str, name: str) -> Response:
        """All deployments, newest first."""
        found = environments.get_environment(get_shelf(caller_of(request), shelf), name)
        return Response(environments.list_deployments(found))


class RehearseView(APIView):
    """Trying a promotion."""

    @extend_schema(operation_id="environments_rehearse", request=TagWanted, responses=RehearsalOut)
    def post(self, request: Any, shelf: str, name: str) -> Response:
        """What promoting the tag would do; nothing is touched."""
        given = TagWanted(data=request.data)
        given.is_valid(raise_exception=True)
        found = get_shelf(caller_of(request), shelf)
        environment = environments.get_environment(found, name)
        return Response(promotion.rehearse_tag(environment, promotion.find_tag(found, given.validated_data["tag"])))


class PromoteView(APIView):
    """Putting a tag in place."""

    @extend_schema(operation_id="environments_promote", request=PromotionWanted, responses={202: JobOut})
    def post(self, request: Any, shelf: str, name: str) -> Response:
        """Start the job that puts it in place."""
        caller = caller_of(request)
        given = PromotionWanted(data=request.data)
        given.is_valid(raise_exception=True)
        values = given.validated_data
        found = get_shelf(caller, shelf, "promote")
        environment, tag = environments.get_environment(found, name), promotion.find_tag(found, values["tag"])
        key = request.headers.get("Idempotency-Key", "")[:100]
        if not (key and environment.deployments.filter(request_key=key).exists()):
            promotion.check_promotion(caller, environment, tag, overwrite_drift=values["overwrite_drift"])
        planned = promotion.plan_promotion(
            caller, environment, tag, values["why"], request_key=key, at=values["at"], who=values["who"]
        )
        return _job_for(caller, found, planned)


class RollbackView(APIView):
    """Going back."""

    @extend_schema(operation_id="environments_roll_back", request=RollbackWanted, responses={202: JobOut})
    def post(self, request: Any, shelf: str, name: str) -> Response:
        """Start the job that puts an earlier deployment in place again."""
        caller = caller_of(request)
        given = RollbackWanted(data=request.data)
        given.is_valid(raise_exception=True)
        values = given.validated_data
        found = get_shelf(caller, shelf, "promote")
        environment = environments.get_environment(found, name)
        target = promotion.roll_back_target(environment, values["to"])
        key = request.headers.get("Idempotency-Key", "")[:100]
        if not values["overwrite_drift"]:
            promotion.refuse_lost_drift(environment, environments.load_manifest(target.manifest))
        planned = promotion.plan_promotion(
            caller,
            environment,
            target.tag,
            values["why"],
            back_to=target,
            request_key=key,
            at=values["at"],
            who=values["who"],
        )
        return _job_for(caller, found, planned)


def _job_for(caller: Caller, shelf: Any, planned: Any) -> Response:
    """The job of a deployment: the one it has already, if this request came before."""
    known = shelf.jobs.filter(kind="promote", parameters={"deployment": planned.key}).first()
    if known is None and planned.state == Phase.PLANNED:
        known = start_job(caller, "promote", shelf, {"deployment": planned.key})
    return Response(job_json(known), status=202)


urlpatterns = [
    path("", EnvironmentsView.as_view()),
    path("/<str:name>", EnvironmentView.as_view()),
    path("/<str:name>/deployments", DeploymentsView.as_view()),
    path("/<str:name>/rehearse", RehearseView.as_view()),
    path("/<str:name>/promote", PromoteView.as_view()),
    path("/<str:name>/roll-back", RollbackView.as_view()),
]
