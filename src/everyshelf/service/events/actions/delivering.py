"""Bringing events to webhooks.

``collect`` makes deliveries of the log; ``deliver`` sends one and records how it went. So an event may arrive twice, if
an answer was lost, and arrives at least once while the webhook is there.

Each is signed: the header ``X-Hub-Signature`` holds HMAC-SHA256 (RFC 2104) of the body with the secret, in the form of
WebSub (W3C Recommendation, section 7.1).
"""

from __future__ import annotations

import hashlib
import hmac
import time
import uuid
from datetime import timedelta

import httpx
from django.utils import timezone

from everyshelf.core.errors import ConflictError, EveryShelfError
from everyshelf.destinations.reach import Reach, ReachTransport
from everyshelf.service.base.acts import one_act
from everyshelf.service.base.config import get_config
from everyshelf.service.base.keys import unseal
from everyshelf.service.events.actions.describing import CONTENT_TYPE, PREFIX, TEST, test_event
from everyshelf.service.events.actions.webhooks import full_address, stop_without_maker
from everyshelf.service.events.models import Delivery, Webhook
from everyshelf.service.rights import Caller

SIGNATURE = "X-Hub-Signature"
_AT_ONCE = 500
_PATIENCE_SECONDS = 10.0
_MOST_SECONDS = 24 * 3600
_FIRST_SECONDS = 5
_MOST_TRIES = 12  # the last one comes about a day after the first
_KEPT = timedelta(days=30)
_GONE = 410
_OUTCOME = ("state", "tries", "next_try", "ended", "status", "why", "took_ms")


def due(webhook: Webhook) -> list[Delivery]:
    """Deliveries whose time has come, oldest first."""
    now = timezone.now()
    rows = Delivery.objects.filter(webhook=webhook, state="waiting").exclude(
        next_try__gt=now, next_try__lte=now + timedelta(seconds=_MOST_SECONDS)
    )
    return list(rows.order_by("pk")[:_AT_ONCE])


def deliver_next(webhook: int, delivery: Delivery) -> bool:
    """Send a delivery as the webhook is now; False if no other may follow it. An owner who changed the address or
    removed the webhook after the first of many deliveries sees no other go to the old address."""
    current = Webhook.objects.filter(pk=webhook, stopped="").select_related("shelf", "made_by").first()
    if current is None or stop_without_maker(current):
        return False
    deliver(delivery, current)
    if delivery.why and delivery.status is None:
        put_off(current, delivery)
        return False
    return True


def deliver(delivery: Delivery, webhook: Webhook) -> None:
    """Send a delivery once, and record how it went: done, to be tried again, or failed for good."""
    start = time.monotonic()
    status, why = _send(webhook, delivery)
    now = timezone.now()
    delivery.tries += 1
    delivery.status, delivery.why = status, why[:300]
    delivery.took_ms = int(1000 * (time.monotonic() - start))
    if not why:
        delivery.state, delivery.next_try, delivery.ended = "done", None, now
    elif status == _GONE or delivery.tries >= _MOST_TRIES:
        delivery.state, delivery.next_try, delivery.ended = "failed", None, now
    else:
        delivery.next_try = now + timedelta(seconds=min(_FIRST_SECONDS * 3 ** (delivery.tries - 1), _MOST_SECONDS / 4))
    outcome = {name: getattr(delivery, name) for name in _OUTCOME}
    with one_act():
        Delivery.objects.filter(pk=delivery.pk).update(**outcome)  # it went with its webhook, if that was removed
        if status == _GONE:
            gone = "the address answered that it is gone for good (410)"
            Webhook.objects.filter(pk=webhook.pk).update(stopped=gone)


def put_off(webhook: Webhook, failed: Delivery) -> None:
    """Let what else waits for a webhook that is away wait as long, so that it comes in order once it is back."""
    rows = Delivery.objects.filter(webhook=webhook, state="waiting")
    if failed.next_try is not None:
        rows.filter(next_try__lt=failed.next_try).update(next_try=failed.next_try)


def _send(webhook: Webhook, delivery: Delivery) -> tuple[int | None, str]:
    """The status that came, and why it is not done: nothing where it is."""
    data = delivery.body.encode()
    headers = {
        "Content-Type": CONTENT_TYPE,
        "User-Agent": "EveryShelf",
        SIGNATURE: f"sha256={signature(unseal(webhook.secret), data)}",
    }
    transport = ReachTransport(Reach(get_config().reach))
    try:
        with (
            httpx.Client(transport=transport, timeout=_PATIENCE_SECONDS, follow_redirects=False) as client,
            client.stream("POST", full_address(webhook), content=data, headers=headers) as answer,
        ):
            status = answer.status_code
    except httpx.TimeoutException:
        return None, f"it did not answer within {_PATIENCE_SECONDS:.0f} seconds"
    except EveryShelfError as error:
        return None, error.message
    except (httpx.HTTPError, httpx.InvalidURL, OSError) as error:
        return None, f"it cannot be reached: {error}".replace(full_address(webhook), webhook.address)
    if 200 <= status < 300:
        return status, ""
    if 300 <= status < 400:
        return status, f"it answered {status}, and events go to no other address; change the address"
    return status, f"it answered {status}"


def signature(secret: str, data: bytes) -> str:
    """What a receiver works out, too: HMAC-SHA256 in hexadecimal digits."""
    return hmac.new(secret.encode(), data, hashlib.sha256).hexdigest()


def try_webhook(caller: Caller, webhook: Webhook) -> Delivery:
    """Send an event now that says nothing but that it arrives."""
    event = f"test-{uuid.uuid4().hex[:12]}"
    now = timezone.now()
    delivery = Delivery(
        webhook=webhook,
        event=event,
        type=f"{PREFIX}{TEST}",
        subject=webhook.name,
        body=test_event(webhook.shelf.key, webhook.name, caller.person.username, event).decode(),
        created=now,
        next_try=now,
    )
    start = time.monotonic()
    status, why = _send(webhook, delivery)
    delivery.took_ms = int(1000 * (time.monotonic() - start))
    delivery.state, delivery.next_try, delivery.ended = ("failed" if why else "done"), None, timezone.now()
    delivery.tries, delivery.status, delivery.why = 1, status, why[:300]
    with one_act():
        delivery.save()
    return delivery


def send_again(webhook: Webhook, event: str) -> Delivery:
    """Let an event be sent again, now."""
    delivery = Delivery.objects.filter(webhook=webhook, event=event).first()
    if delivery is None:
        raise ConflictError(
            f"{webhook.name} has no delivery of the event {event[:40]!r}",
            code="webhook.event",
            hint=f"List them: everyshelf webhook deliveries {webhook.name}",
        )
    delivery.state, delivery.tries, delivery.next_try, delivery.ended = "waiting", 0, timezone.now(), None
    with one_act():
        delivery.save(update_fields=["state", "tries", "next_try", "ended"])
    return delivery


def forget_old() -> int:
    """Remove deliveries that ended long ago."""
    gone, _ = Delivery.objects.filter(ended__lt=timezone.now() - _KEPT).exclude(state="waiting").delete()
    return gone
