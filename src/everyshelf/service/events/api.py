"""Webhooks, for programs and pages."""

from __future__ import annotations

from typing import Any

from django.db.models import Count, Max, Q
from django.urls import path
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.response import Response

from everyshelf.core.answers.events import DeliveryAnswer, DeliveryPage, WebhookAnswer
from everyshelf.service.base.paging import newest_first
from everyshelf.service.events.actions.delivering import send_again, try_webhook
from everyshelf.service.events.actions.webhooks import (
    RIGHT,
    WebhookSettings,
    change_webhook,
    get_webhook,
    make_webhook,
    remove_webhook,
)
from everyshelf.service.events.models import Delivery, Webhook
from everyshelf.service.http.answers import answered, listed
from everyshelf.service.http.views import number, valid
from everyshelf.service.shelves.api.base import CURSOR, LIMIT, ShelfView

_MOST = 200


class WebhookChange(serializers.Serializer[Any]):
    """What is said of a webhook; what is left out stays."""

    strict = True
    address = serializers.CharField(required=False, max_length=1000)
    about = serializers.ListField(
        child=serializers.CharField(max_length=40),
        required=False,
        help_text="What to hear of: one act (`commit.made`), or all about one thing (`commit`); an empty list: all.",
    )
    secret = serializers.CharField(required=False, max_length=200, help_text="Signs each event.")


class NewWebhook(WebhookChange):
    """A webhook to be made; without a secret one is made."""

    name = serializers.CharField(max_length=60)
    address = serializers.CharField(max_length=1000)


class WebhookList(serializers.Serializer[Any]):
    """All webhooks of a shelf."""

    webhooks = listed(WebhookAnswer)


class WebhooksView(ShelfView):
    """The webhooks of a shelf."""

    @extend_schema(operation_id="webhooks_list", responses=WebhookList)
    def get(self, request: Any, shelf: str) -> Response:
        """List the addresses that hear of what happens on the shelf."""
        _, found = self.shelf(request, shelf, RIGHT)
        return Response({"webhooks": [_answer(row) for row in _counted().filter(shelf=found).order_by("name")]})

    @extend_schema(operation_id="webhooks_make", request=NewWebhook, responses=answered(WebhookAnswer, 201))
    def post(self, request: Any, shelf: str) -> Response:
        """Make a webhook. It hears of what is done from now on; its secret is returned this once."""
        caller, found = self.shelf(request, shelf, RIGHT)
        values = valid(NewWebhook, request)
        made, secret = make_webhook(caller, found, values.pop("name"), WebhookSettings(**values))
        answer = _answer(_counted().get(pk=made.pk))
        answer.secret = secret
        return Response(answer, status=201)


class WebhookView(ShelfView):
    """One webhook."""

    @extend_schema(operation_id="webhooks_show", responses=answered(WebhookAnswer))
    def get(self, request: Any, shelf: str, webhook: str) -> Response:
        """Return a webhook, without its secret."""
        _, found = self.shelf(request, shelf, RIGHT)
        return Response(_answer(_counted().get(pk=get_webhook(found, webhook).pk)))

    @extend_schema(operation_id="webhooks_change", request=WebhookChange, responses=answered(WebhookAnswer))
    def patch(self, request: Any, shelf: str, webhook: str) -> Response:
        """Change a webhook; one that was stopped starts again."""
        caller, found = self.shelf(request, shelf, RIGHT)
        row = get_webhook(found, webhook)
        change_webhook(caller, row, WebhookSettings(**valid(WebhookChange, request)))
        return Response(_answer(_counted().get(pk=row.pk)))

    @extend_schema(operation_id="webhooks_remove", responses={204: None})
    def delete(self, request: Any, shelf: str, webhook: str) -> Response:
        """Remove a webhook and the record of its deliveries."""
        caller, found = self.shelf(request, shelf, RIGHT)
        remove_webhook(caller, get_webhook(found, webhook))
        return Response(status=204)


class WebhookTestView(ShelfView):
    """Trying a webhook."""

    @extend_schema(operation_id="webhooks_test", request=None, responses=answered(DeliveryAnswer))
    def post(self, request: Any, shelf: str, webhook: str) -> Response:
        """Send an event now that says nothing but that it arrives, and return how it went."""
        caller, found = self.shelf(request, shelf, RIGHT)
        return Response(_delivery(try_webhook(caller, get_webhook(found, webhook))))


class DeliveriesView(ShelfView):
    """What a webhook was sent."""

    @extend_schema(
        operation_id="webhooks_deliveries",
        parameters=[OpenApiParameter("state", str, enum=["waiting", "done", "failed"]), LIMIT, CURSOR],
        responses=answered(DeliveryPage),
    )
    def get(self, request: Any, shelf: str, webhook: str) -> Response:
        """List the deliveries of a webhook, newest first."""
        _, found = self.shelf(request, shelf, RIGHT)
        rows = Delivery.objects.filter(webhook=get_webhook(found, webhook))
        if state := request.query_params.get("state", ""):
            rows = rows.filter(state=state)
        limit, cursor = min(number(request, "limit", 50), _MOST), request.query_params.get("cursor", "")
        page = newest_first(rows, limit=limit, cursor=cursor)
        return Response(DeliveryPage(items=[_delivery(one) for one in page.records], next=page.next))


class DeliverySendView(ShelfView):
    """Sending an event again."""

    @extend_schema(operation_id="webhooks_send_again", request=None, responses=answered(DeliveryAnswer))
    def post(self, request: Any, shelf: str, webhook: str, event: str) -> Response:
        """Send an event again, at once."""
        _, found = self.shelf(request, shelf, RIGHT)
        return Response(_delivery(send_again(get_webhook(found, webhook), event)))


def _counted() -> Any:
    return Webhook.objects.select_related("made_by").annotate(
        waiting=Count("deliveries", filter=Q(deliveries__state="waiting")),
        failed=Count("deliveries", filter=Q(deliveries__state="failed")),
        last=Max("deliveries__ended"),
    )


def _answer(row: Any) -> WebhookAnswer:
    return WebhookAnswer(
        name=row.name,
        address=row.address,
        about=row.about,
        made_by=row.made_by.username,
        created=row.created,
        waiting=row.waiting,
        failed=row.failed,
        last=row.last,
        stopped=row.stopped,
    )


def _delivery(row: Delivery) -> DeliveryAnswer:
    return DeliveryAnswer(
        event=row.event,
        type=row.type,
        subject=row.subject,
        state=row.state,
        tries=row.tries,
        created=row.created,
        body=row.body,
        next_try=row.next_try,
        ended=row.ended,
        status=row.status,
        why=row.why,
        took_ms=row.took_ms,
    )


urlpatterns = [
    path("", WebhooksView.as_view()),
    path("/<str:webhook>", WebhookView.as_view()),
    path("/<str:webhook>/test", WebhookTestView.as_view()),
    path("/<str:webhook>/deliveries", DeliveriesView.as_view()),
    path("/<str:webhook>/deliveries/<str:event>/send", DeliverySendView.as_view()),
]
