"""Webhooks: made, changed, removed."""

from __future__ import annotations

import re
import secrets
from collections.abc import Sequence
from dataclasses import dataclass
from urllib.parse import urlsplit

from django.db import IntegrityError
from django.utils import timezone

from everyshelf.core.errors import ConflictError, InvalidError, MissingError
from everyshelf.core.history.names import did_you_mean, nearest
from everyshelf.destinations.reach import Reach
from everyshelf.service.base.acts import as_now, one_act
from everyshelf.service.base.addresses import HIDDEN, shown
from everyshelf.service.base.config import get_config
from everyshelf.service.base.keys import seal, unseal
from everyshelf.service.events.actions.collecting import collect_some
from everyshelf.service.events.models import Webhook
from everyshelf.service.log.actions import ACTS, newest_entry, note, note_of
from everyshelf.service.rights import Caller, may_still, require
from everyshelf.service.shelves.models import Shelf

RIGHT = "change webhooks"
_NAME = re.compile(r"[a-z0-9]+(-[a-z0-9]+)*\Z")
_PORTS = {"http": 80, "https": 443}
_LEAST_SECRET = 16
# What the log of a shelf holds; the rest is about the installation.
ABOUT = tuple(sorted({act.partition(".")[0] for act in ACTS} - {"person", "token"}))


@dataclass(frozen=True)
class WebhookSettings:
    """What is said of a webhook; None leaves it as it is."""

    address: str | None = None
    about: Sequence[str] | None = None
    secret: str | None = None


def make_webhook(caller: Caller, shelf: Shelf, name: str, said: WebhookSettings) -> tuple[Webhook, str]:
    """A webhook and its secret. It hears of what is done from now on."""
    require(caller, shelf, RIGHT)
    if not _NAME.match(name) or len(name) > 60:
        raise InvalidError(
            f"{name!r} cannot be the name of a webhook",
            code="webhook.name",
            pointer="/name",
            hint="Use lower-case letters, digits and single dashes.",
        )
    secret = said.secret or secrets.token_urlsafe(32)
    webhook = Webhook(shelf=shelf, name=name, made_by=caller.person, created=timezone.now())
    _apply(webhook, WebhookSettings(said.address or "", said.about or (), secret))
    try:
        with one_act():
            webhook.seen = newest_entry()
            webhook.save()
            note(caller, "webhook.made", name, shelf, address=webhook.address)
    except IntegrityError as error:
        raise ConflictError(
            f"there is a webhook {name} already", code="webhook.taken", hint="Choose another name."
        ) from error
    return webhook, secret


def change_webhook(caller: Caller, webhook: Webhook, said: WebhookSettings) -> Webhook:
    """Change a webhook; one that was stopped starts again. It belongs to the caller from
    then on if its maker left."""
    require(caller, webhook.shelf, RIGHT)
    with one_act():
        as_now(webhook)
        if not webhook.stopped:
            while collect_some(webhook):  # what was done before is delivered as the webhook was
                pass
        _apply(webhook, said)
        if not may_still(webhook.made_by, webhook.shelf, RIGHT):
            webhook.made_by = caller.person
        webhook.stopped = ""
        webhook.save(update_fields=["address", "sealed_address", "about", "secret", "stopped", "made_by"])
        changed = [field for field, value in vars(said).items() if value is not None]
        note(caller, "webhook.changed", webhook.name, webhook.shelf, changed=changed)
    return webhook


def stop_without_maker(webhook: Webhook) -> bool:
    """Stop a webhook whose maker may not change it any more; True if it was. Someone who left a shelf would go on
    receiving what happens there."""
    if may_still(webhook.made_by, webhook.shelf, RIGHT):
        return False
    name = webhook.made_by.username
    stopped = f"{name} made it, and is no longer an owner of this shelf; it goes on when an owner changes it"
    with one_act():
        if not Webhook.objects.filter(pk=webhook.pk, made_by=webhook.made_by).update(stopped=stopped):
            return True  # another owner took it over, or it was removed
        note_of("the service", "webhook.stopped", webhook.name, webhook.shelf, made_by=name)
    return True


def remove_webhook(caller: Caller, webhook: Webhook) -> None:
    """Forget a webhook with its deliveries."""
    require(caller, webhook.shelf, RIGHT)
    with one_act():
        note(caller, "webhook.removed", webhook.name, webhook.shelf, address=webhook.address)
        webhook.delete()


def full_address(webhook: Webhook) -> str:
    """Where events go."""
    return unseal(webhook.sealed_address) if webhook.sealed_address else webhook.address


def get_webhook(shelf: Shelf, name: str) -> Webhook:
    """The webhook called ``name``."""
    found = Webhook.objects.filter(shelf=shelf, name=name).select_related("shelf", "made_by").first()
    if found is None:
        names = list(Webhook.objects.filter(shelf=shelf).values_list("name", flat=True))
        raise MissingError(
            f"{shelf.name} has no webhook {name!r}",
            code="webhook.missing",
            hint=f"{did_you_mean(nearest(name, names))}List them: everyshelf webhook list",
        )
    return found


def _apply(webhook: Webhook, said: WebhookSettings) -> None:
    # What was shown and comes back unchanged stays what it was.
    if said.address is not None and not (webhook.sealed_address and said.address.strip() == webhook.address):
        address = _checked(said.address)
        webhook.address = shown(address)
        webhook.sealed_address = seal(address) if webhook.address != address else None
    if said.about is not None:
        webhook.about = [_known(one) for one in dict.fromkeys(said.about)]
    if said.secret is not None:
        if len(said.secret) < _LEAST_SECRET:
            raise InvalidError(
                f"a secret has at least {_LEAST_SECRET} characters",
                code="webhook.secret",
                pointer="/secret",
                hint="Leave it out, and one is made.",
            )
        webhook.secret = seal(said.secret)


def _known(about: str) -> str:
    if about not in ABOUT and about not in ACTS:
        raise InvalidError(
            f"nothing on a shelf is about {about[:40]!r}",
            code="webhook.about",
            pointer="/about",
            hint=f"{did_you_mean(nearest(about, (*ABOUT, *ACTS)))}It can be {', '.join(ABOUT)}.",
        )
    return about


def _checked(address: str) -> str:
    """The address, if the service may go there."""
    address = address.strip()
    try:
        parts = urlsplit(address)
        port = parts.port
    except ValueError:
        parts, port = urlsplit(""), None
    if parts.scheme not in _PORTS or not parts.hostname or parts.username or not address.isprintable():
        raise InvalidError(
            f"{address[:60]!r} is not an address events can be sent to",
            code="webhook.address",
            pointer="/address",
            hint="Use https://HOST/PATH, without a name and a password; each event is signed with the secret.",
        )
    if HIDDEN in address:
        raise InvalidError(
            f"{HIDDEN} stands for a part of the address that is not shown",
            code="webhook.address",
            pointer="/address",
            hint="Give the whole address again, or leave it as it is.",
        )
    Reach(get_config().reach).check_name(parts.hostname, port or _PORTS[parts.scheme])
    return address
