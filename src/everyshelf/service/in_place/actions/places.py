"""Addresses of data in place: which sort of place each is of, and what reads it."""

from __future__ import annotations

import functools
import os
from collections.abc import Callable
from urllib.parse import urlsplit

from everyshelf.core.errors import InvalidError
from everyshelf.destinations.reach import Reach, ReachTransport
from everyshelf.service.base.config import get_config
from everyshelf.service.base.keys import unseal
from everyshelf.service.base.unchanged import while_unchanged
from everyshelf.service.in_place.models import InPlaceKeys
from everyshelf.storage.outside.buckets import Buckets, parse_object
from everyshelf.storage.outside.folders import Folders
from everyshelf.storage.outside.places import NO_KEYS, Keys, OutsidePlace
from everyshelf.storage.outside.web import Web

_MOST_LETTERS = 2000


def checked_address(address: str, endpoint: str = "") -> str:
    """The address in its one form; raise ``InvalidError`` (in_place.address)."""
    said = address.strip()
    if len(said) > _MOST_LETTERS or any(ord(c) < 32 or 0xD800 <= ord(c) < 0xE000 for c in said):
        raise _invalid(said)
    if said.startswith("s3://"):
        found = parse_object(said, endpoint)
        Reach(get_config().reach).check_name(*found.host)
        return str(found)
    if endpoint:
        raise InvalidError(
            "only a bucket has an endpoint", code="in_place.address", pointer="/endpoint", hint="Leave it out."
        )
    if said.startswith(("http://", "https://")):
        return _checked_web(said)
    if said.startswith("/"):
        return said
    raise _invalid(said)


def _checked_web(said: str) -> str:
    try:
        parts = urlsplit(said)
        port = parts.port or (443 if parts.scheme == "https" else 80)
    except ValueError as error:
        raise _invalid(said) from error
    if parts.username or parts.password:
        raise InvalidError(
            "an address holds no password and no token",
            code="in_place.address",
            pointer="/address",
            hint="Set it by itself, it is kept sealed: everyshelf in-place set-credentials",
        )
    Reach(get_config().reach).check_name(parts.hostname or "", port)
    return parts._replace(fragment="").geturl()


def _invalid(said: str) -> InvalidError:
    return InvalidError(
        f"{said[:200]!r} is not an address of data",
        code="in_place.address",
        pointer="/address",
        hint="Write /FOLDER, s3://BUCKET/PREFIX or https://HOST/FILE.",
    )


def place_of(address: str) -> str:
    """The bucket or server that credentials are for; empty for folders of this machine, which need none."""
    if address.startswith("s3://"):
        found = parse_object(address)
        return f"s3://{found.bucket}" + (f" at {found.endpoint}" if found.endpoint else "")
    if address.startswith("/"):
        return ""
    parts = urlsplit(address)
    return f"{parts.scheme}://{parts.netloc.lower()}"


def told(address: str) -> str:
    """The address for people."""
    return parse_object(address).told if address.startswith("s3://") else address


def reader_of(address: str, shelf: int | None) -> OutsidePlace:
    """What reads at an address, with the credentials that a shelf (its record number) has for it."""
    if address.startswith("/"):
        return opening(address, NO_KEYS)()
    return _remote(address.startswith("s3://"), keys_for(address, shelf), os.getpid())


def keys_for(address: str, shelf: int | None) -> Keys:
    """The credentials that a shelf has for an address."""
    place = place_of(address)
    return while_unchanged(("in place keys", shelf, place), lambda: _keys_of(shelf, place)) if place else NO_KEYS


def opening(address: str, keys: Keys) -> Callable[[], OutsidePlace]:
    """What makes a reader for an address, in this process or in another."""
    config = get_config()
    if address.startswith("/"):
        return functools.partial(Folders, config.in_place, (config.data, config.key_file))
    return _opening(address.startswith("s3://"), keys)


def _opening(is_bucket: bool, keys: Keys) -> Callable[[], OutsidePlace]:
    reach = Reach(get_config().reach)
    if is_bucket:
        return functools.partial(Buckets, reach.resolved, keys)
    return functools.partial(Web.over, functools.partial(ReachTransport, reach), keys)


def _keys_of(shelf: int | None, place: str) -> Keys:
    row = InPlaceKeys.objects.filter(shelf=shelf, place=place).first()
    return Keys(row.key_id, unseal(row.sealed)) if row is not None else NO_KEYS


@functools.lru_cache(maxsize=32)
def _remote(is_bucket: bool, keys: Keys, _process: int) -> OutsidePlace:
    """Connections are kept, and not shared with other processes."""
    return _opening(is_bucket, keys)()
