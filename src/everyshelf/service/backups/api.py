"""Backups of the installation, for administrators."""

from __future__ import annotations

from typing import Any

from django.urls import path
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.response import Response

from everyshelf.service.backups import actions
from everyshelf.service.http.views import ApiView
from everyshelf.service.jobs.actions import job_json
from everyshelf.service.jobs.api import JobOut
from everyshelf.service.rights import caller_of


class BackupMoment(serializers.Serializer[Any]):
    """One backup. ``size``: bytes that a restore writes; ``added``: bytes it added to what was there."""

    name = serializers.CharField()
    made = serializers.DateTimeField()
    size = serializers.IntegerField()
    added = serializers.IntegerField()
    damage = serializers.ListField(child=serializers.CharField())


class BackupsOut(serializers.Serializer[Any]):
    """Where and how often this installation is backed up: ``folder`` or bucket, empty where it is not. ``unreadable``:
    moments that cannot be read. ``problem``: why moments cannot be listed. ``job``: the newest."""

    folder = serializers.CharField()
    hours = serializers.IntegerField()
    keep = serializers.IntegerField()
    moments = BackupMoment(many=True)
    unreadable = serializers.ListField(child=serializers.CharField())
    problem = serializers.CharField(allow_blank=True)
    job = JobOut(allow_null=True)


class BackupsView(ApiView):
    """The backups of this installation."""

    @extend_schema(operation_id="backups_list", responses=BackupsOut)
    def get(self, request: Any) -> Response:
        """List the backups and their schedule. For administrators of the installation."""
        return Response(actions.list_backups(caller_of(request)))

    @extend_schema(operation_id="backups_make", request=None, responses={202: JobOut})
    def post(self, request: Any) -> Response:
        """Back up the installation now, by a job. For administrators of the installation."""
        return Response(job_json(actions.start_backup(caller_of(request))), status=202)


urlpatterns = [path("backups", BackupsView.as_view())]
