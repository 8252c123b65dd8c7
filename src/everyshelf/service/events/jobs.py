"""Deliveries, by themselves: beside the jobs, so that a receiver that is slow keeps no work waiting."""

from __future__ import annotations

import traceback
from concurrent.futures import Future, ThreadPoolExecutor

import structlog
from django.db import close_old_connections, connection

from everyshelf.service.events.actions.collecting import collect
from everyshelf.service.events.actions.delivering import deliver_next, due, forget_old
from everyshelf.service.events.actions.webhooks import stop_without_maker
from everyshelf.service.events.models import Webhook
from everyshelf.service.jobs.actions import periodic

log = structlog.get_logger("everyshelf.events")
_THREADS = 4
_pool = ThreadPoolExecutor(_THREADS, thread_name_prefix="events")
_at_work: dict[int, Future[None]] = {}


@periodic(seconds=1)
def tell_webhooks() -> None:
    """Begin to deliver what is new; one webhook's events go one after the other, those of others beside them."""
    for webhook in Webhook.objects.filter(stopped="").select_related("shelf", "made_by"):
        if stop_without_maker(webhook):
            continue
        working = _at_work.get(webhook.pk)
        if working is not None and not working.done():
            continue
        collect(webhook)
        if due(webhook):
            _at_work[webhook.pk] = _pool.submit(_deliver_all, webhook)


def _deliver_all(webhook: Webhook) -> None:
    try:
        close_old_connections()
        for delivery in due(webhook):
            if not deliver_next(webhook.pk, delivery):
                break
    except Exception:
        log.error("events could not be delivered", webhook=webhook.name, trace=traceback.format_exc()[-4000:])
    finally:
        connection.close()


@periodic(seconds=3600)
def forget_old_deliveries() -> None:
    """Remove those that ended long ago."""
    forget_old()
