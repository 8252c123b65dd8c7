"""Links to repositories: made, changed, tried, removed."""

from __future__ import annotations

import hashlib
import hmac
import re
import secrets
import shutil
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any
from urllib.parse import urlsplit

from django.db import IntegrityError
from django.utils import timezone

from everyshelf.core.errors import ConflictError, InvalidError, MissingError, RefusedError
from everyshelf.core.history.names import did_you_mean, nearest
from everyshelf.core.history.paths import check_path
from everyshelf.destinations.reach import Reach
from everyshelf.gitside.causes import Access, host_of
from everyshelf.gitside.refs import git_ref
from everyshelf.service.base.acts import as_now, one_act
from everyshelf.service.base.config import get_config
from everyshelf.service.base.context import get_trees
from everyshelf.service.base.keys import seal, unseal
from everyshelf.service.claims.actions.repositories import listed_repository
from everyshelf.service.claims.actions.steps import steps_of_link
from everyshelf.service.claims.actions.taking import give_back, require_free, take
from everyshelf.service.exchange.actions.repositories import folder_of
from everyshelf.service.exchange.actions.sides import make_side, remove_side
from everyshelf.service.exchange.models import GitLink
from everyshelf.service.log.actions import note
from everyshelf.service.rights import Caller, may_still, require
from everyshelf.service.shelves.actions.refs import check_branch_name
from everyshelf.service.shelves.models import Commit, Shelf

_NAME = re.compile(r"[a-z0-9]+(-[a-z0-9]+)*\Z")
_HELPER = re.compile(r"[\w.+-]+::")  # names another program to Git
WAYS = ("send", "fetch", "both")
PARTS = ("none", "beside", "instead")
_LEAST_SECONDS = 10
RIGHT = "change links"
_PORTS = {"http": 80, "https": 443, "ssh": 22}


@dataclass(frozen=True)
class LinkSettings:
    """What is said of a link; None leaves it as it is. ``joins``: branches as pairs of names, here and in Git; an
    empty list: all of them. ``token`` and ``key``: an empty text takes them away. ``folder``: the one folder or
    artifact it is about, ``place``: where that is in the repository; both are said when it is made. ``parts``: whether
    the parts of files lie there beside them, instead of them, or not at all."""

    address: str | None = None
    user: str | None = None
    token: str | None = None
    key: str | None = None
    known_hosts: str | None = None
    way: str | None = None
    joins: Sequence[tuple[str, str]] | None = None
    tags: bool | None = None
    folder: str | None = None
    place: str | None = None
    parts: str | None = None
    follows: bool | None = None
    every_seconds: int | None = None


def make_link(caller: Caller, shelf: Shelf, name: str, said: LinkSettings) -> GitLink:
    """A link; nothing is reached yet."""
    require(caller, shelf, RIGHT)
    if not _NAME.match(name) or len(name) > 60:
        raise InvalidError(
            f"{name!r} cannot be the name of a link",
            code="link.name",
            pointer="/name",
            hint="Use lower-case letters, digits and single dashes.",
        )
    if not said.address:
        raise InvalidError("a link needs the address of a repository", code="link.address", pointer="/address")
    link = GitLink(shelf=shelf, name=name, made_by=caller.person, created=timezone.now())
    _apply(link, said)
    if said.folder:
        _choose_part(link, said.folder, said.place)
    elif said.place:
        raise InvalidError(
            "only a folder or an artifact has a place in the repository", code="link.place_there", pointer="/place"
        )
    try:
        with one_act():
            if link.folder or link.parts:
                link.side = make_side(link)
            link.save()
            _claim(caller, link)
            note(caller, "link.made", name, shelf, address=link.address, way=link.way)
    except IntegrityError as error:
        raise ConflictError(
            f"there is a link {name} already", code="link.taken", hint="Choose another name."
        ) from error
    return link


def change_link(caller: Caller, link: GitLink, said: LinkSettings) -> GitLink:
    """Change a link without starting over; what was sent and fetched stays known. It belongs to the caller from then on
    if its maker left."""
    require(caller, link.shelf, RIGHT)
    with one_act():
        as_now(link)
        if not may_still(link.made_by, link.shelf, RIGHT):
            link.made_by = caller.person
        _apply(link, said)
        if link.folder:
            link.tags = False
        if link.parts and link.side is None:
            link.side = make_side(link)
            if link.transfers.exists():  # what went over it stays as it went
                newest = Commit.objects.filter(shelf=link.shelf).order_by("-pk").values_list("pk", flat=True).first()
                link.as_is_until = newest or 0
        link.next_look, link.tries = timezone.now(), 0
        link.save()
        if said.address is not None:
            give_back("link", link.pk)
            _claim(caller, link)
        changed = [field for field, value in vars(said).items() if value is not None]
        note(caller, "link.changed", link.name, link.shelf, changed=changed)
    return link


def require_maker(link: GitLink) -> None:
    """Return if the maker of a link may still change it, else raise ``RefusedError``: the shelf would go on being sent
    to a repository of someone who left, and fetched commits be recorded with rights that nobody has."""
    if not may_still(link.made_by, link.shelf, RIGHT):
        raise RefusedError(
            f"{link.made_by.username} made this link, and is no longer an owner of the shelf",
            code="link.maker",
            hint=f"An owner takes it over by changing it: everyshelf git-link change {link.name} --way {link.way}",
        )


def remove_link(caller: Caller, link: GitLink) -> None:
    """Forget the link. Nothing changes on either side."""
    require(caller, link.shelf, RIGHT)
    with one_act():
        note(caller, "link.removed", link.name, link.shelf, address=link.address)
        side = link.side
        give_back("link", link.pk)
        link.delete()
        if side is not None:
            remove_side(side)
            shutil.rmtree(folder_of(side), ignore_errors=True)


def _claim(caller: Caller, link: GitLink) -> None:
    """The repository of this machine that a link uses is its shelf's from now on."""
    take(link.shelf, "link", link.pk, link.address, steps_of_link(link.address), caller.person.username)


def _choose_part(link: GitLink, folder: str, place: str | None) -> None:
    """What the link is about, and where that is in the repository: a folder is its root, an artifact has its name."""
    check_path(folder)
    if place:
        check_path(place)
    main = link.shelf.branches.filter(name=link.shelf.main_branch).select_related("head").first()
    entry = get_trees().find(main.head.root, folder) if main is not None and main.head is not None else None
    is_artifact = entry is not None and entry.type == "artifact"
    link.folder, link.place = folder, place or (folder.rpartition("/")[2] if is_artifact else "")
    link.tags = False  # a tag names a state of the whole shelf


def let_call(caller: Caller, link: GitLink) -> str:
    """A new secret with which the other side may say that it has something new; an older one counts no more."""
    require(caller, link.shelf, RIGHT)
    secret = secrets.token_urlsafe(32)
    with one_act():
        as_now(link)
        link.calls = seal(secret)
        link.save(update_fields=["calls"])
        note(caller, "link.changed", link.name, link.shelf, changed=["calls"])
    return secret


def called(key: str, name: str, body: bytes, signature: str) -> GitLink:
    """The link that was called, if the call is signed with its secret: HMAC-SHA256 (RFC 2104) of the body in the form
    of WebSub. Whatever is wrong is told alike."""
    link = GitLink.objects.filter(shelf__key=key, name=name).select_related("made_by", "shelf", "side").first()
    secret = unseal(link.calls) if link is not None and link.calls else ""
    wanted = f"sha256={hmac.new(secret.encode(), body, hashlib.sha256).hexdigest()}"
    if link is None or not secret or not hmac.compare_digest(wanted.encode(), signature.encode("utf-8", "replace")):
        raise InvalidError(
            "no link is called by this, or it is not signed with its secret",
            code="link.call",
            hint="Make the secret again: everyshelf git-link follow NAME --calls",
        )
    return link


def get_link(shelf: Shelf, name: str) -> GitLink:
    """The link called ``name``."""
    found = GitLink.objects.filter(shelf=shelf, name=name).select_related("made_by", "shelf", "side").first()
    if found is None:
        names = list(GitLink.objects.filter(shelf=shelf).values_list("name", flat=True))
        raise MissingError(
            f"{shelf.name} has no Git link {name!r}",
            code="link.missing",
            hint=f"{did_you_mean(nearest(name, names))}List them: everyshelf git-link list",
        )
    return found


def _apply(link: GitLink, said: LinkSettings) -> None:
    if said.address is not None:
        link.address = checked_address(said.address)
    for field in ("user", "known_hosts", "tags", "follows"):
        value: Any = getattr(said, field)
        if value is not None:
            setattr(link, field, value)
    for field in ("token", "key"):
        value = getattr(said, field)
        if value is not None:
            setattr(link, field, seal(value) if value else None)
    if said.way is not None:
        if said.way not in WAYS:
            raise InvalidError(
                f"{said.way!r} is not a way of a link; ways are {', '.join(WAYS)}", code="link.way", pointer="/way"
            )
        link.way = said.way
    if said.parts is not None:
        if said.parts not in PARTS:
            raise InvalidError(
                f"parts of files lie beside them, instead of them or in them (none), not {said.parts!r}",
                code="link.parts",
                pointer="/parts",
            )
        link.parts = "" if said.parts == "none" else said.parts
    if said.joins is not None:
        link.branches = [_checked_pair(*pair) for pair in said.joins]
    if said.every_seconds is not None:
        if said.every_seconds < _LEAST_SECONDS:
            raise InvalidError(f"not more often than every {_LEAST_SECONDS} seconds", code="link.seconds")
        link.every_seconds = said.every_seconds


def _checked_pair(here: str, there: str) -> list[str]:
    check_branch_name(here)
    if git_ref("heads", there) is None:
        raise InvalidError(f"{there!r} cannot be a branch in Git", code="link.branch", pointer="/joins")
    return [here, there]


# --- where it leads -----------------------------------------------------------------------


def checked_address(said: str) -> str:
    """The address, if the service may go there; raises ``InvalidError`` or ``RefusedError``."""
    said = said.strip()
    try:
        parts = urlsplit(said)
        port = parts.port
    except ValueError as error:
        raise _no_address(said) from error
    if not said.isprintable() or said.startswith("-") or _HELPER.match(said):
        raise _no_address(said)
    if parts.scheme in ("http", "https", "ssh"):
        if parts.password or (parts.username and parts.scheme != "ssh"):
            raise InvalidError(
                "the address holds a name or a password",
                code="link.address",
                pointer="/address",
                hint="Give them as user and token; they are kept sealed.",
            )
        if parts.query or parts.fragment:
            raise InvalidError(
                "the address of a repository has no query",
                code="link.address",
                pointer="/address",
                hint="Give a token as such: everyshelf git-link make NAME ADDRESS --token -. It is kept sealed.",
            )
        _reach().check_name(parts.hostname or "", port or _PORTS[parts.scheme])
        return said
    if parts.scheme in ("", "file"):
        host = host_of(said)
        if parts.scheme == "" and host != said:
            _reach().check_name(host, _PORTS["ssh"])
            return said
        return str(listed_repository(parts.path if parts.scheme else said))
    raise _no_address(said)


def _reach() -> Reach:
    return Reach(get_config().reach)


def _no_address(said: str) -> InvalidError:
    return InvalidError(
        f"{said[:60]!r} is not an address of a repository",
        code="link.address",
        pointer="/address",
        hint="Use https://HOST/PATH, ssh://USER@HOST/PATH, or a folder.",
    )


def access_of(link: GitLink) -> Access:
    """How the repository is reached now: its host is looked up, and that address is the one that is called."""
    parts = urlsplit(link.address)
    resolved = ""
    if parts.scheme in ("http", "https"):
        port = parts.port or _PORTS[parts.scheme]
        resolved = f"{parts.hostname}:{port}:{_reach().resolved(parts.hostname or '', port)}"
    elif parts.scheme == "ssh" or host_of(link.address) != link.address:
        port = parts.port or _PORTS["ssh"]
        resolved = f"{host_of(link.address)}:{port}:{_reach().resolved(host_of(link.address), port)}"
    else:
        require_free(link.shelf, "link", link.address, steps_of_link(link.address), holder=link.pk)
        listed_repository(link.address)
    return Access(
        link.address,
        link.user,
        unseal(link.token) if link.token else "",
        unseal(link.key) if link.key else "",
        link.known_hosts,
        resolved,
    )
