"""What waits for whoever asks, on all shelves."""

from __future__ import annotations

from typing import Any

from django.urls import path
from drf_spectacular.utils import extend_schema
from rest_framework.response import Response

from everyshelf.service.http.views import ApiView
from everyshelf.service.proposals import shapes
from everyshelf.service.proposals.actions.waiting import what_waits
from everyshelf.service.rights import caller_of


class WaitingView(ApiView):
    """What waits for the caller."""

    @extend_schema(operation_id="waiting_list", responses=shapes.WaitingOut(many=True))
    def get(self, request: Any) -> Response:
        """List your tasks on all shelves, oldest first."""
        return Response(what_waits(caller_of(request)))


urlpatterns = [path("waiting", WaitingView.as_view())]
