"""What a webhook has not seen of the log, as deliveries.

The log is written in the transaction of what it reports, and ``collect`` makes deliveries of its entries in one
transaction with the mark of how far it came. A webhook is read in that transaction: one that was read before it could
have been changed since, and what it asks for now would be left out.
"""

from __future__ import annotations

from django.utils import timezone

from everyshelf.service.base.acts import one_act
from everyshelf.service.events.actions.describing import PREFIX, event_of
from everyshelf.service.events.models import Delivery, Webhook
from everyshelf.service.log.actions import entries_after

_AT_ONCE = 500


def collect(webhook: Webhook) -> None:
    """Make deliveries of all that the webhook has not seen."""
    while entries_after(webhook.shelf.key, webhook.seen, 1):
        with one_act():
            current = Webhook.objects.filter(pk=webhook.pk, stopped="").select_related("shelf").first()
            if current is None:
                return
            collect_some(current)
        webhook.seen = current.seen


def collect_some(webhook: Webhook) -> bool:
    """Make deliveries of the next entries, in the act in which the webhook was read; False if there are none."""
    entries = entries_after(webhook.shelf.key, webhook.seen, _AT_ONCE)
    if not entries:
        return False
    now = timezone.now()
    Delivery.objects.bulk_create(
        [
            Delivery(
                webhook=webhook,
                event=str(entry.pk),
                type=f"{PREFIX}{entry.act}",
                subject=entry.subject,
                body=event_of(entry).decode(),
                created=now,
                next_try=now,
            )
            for entry in entries
            if _wants(webhook, entry.act)
        ],
        ignore_conflicts=True,
    )
    webhook.seen = entries[-1].pk
    webhook.save(update_fields=["seen"])
    return True


def _wants(webhook: Webhook, act: str) -> bool:
    return not webhook.about or act in webhook.about or act.partition(".")[0] in webhook.about
