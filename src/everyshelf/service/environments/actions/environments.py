"""Making, listing and describing environments."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import orjson
from django.db import IntegrityError, transaction
from django.db.models import Max
from django.utils import timezone

from everyshelf.core.errors import ConflictError, InvalidError, MissingError
from everyshelf.core.promotion import FolderDestination, Manifest, Placed
from everyshelf.service.config import get_config
from everyshelf.service.context import get_store, get_trees
from everyshelf.service.environments.models import Deployment, Environment, Phase
from everyshelf.service.log.actions import note as log_note
from everyshelf.service.people.rights import Caller, require
from everyshelf.service.shelves.actions.refs import get_branch
from everyshelf.service.shelves.models import Shelf, Tag

_NAME = re.compile(r"[a-z0-9]+([._-][a-z0-9]+)*\Z")


def make_environment(
    caller: Caller,
    shelf: Shelf,
    name: str,
    *,
    folder: str = "",
    position: int | None = None,
    fed_from: str = "",
    earlier_first: bool = False,
    note: str = "",
) -> Environment:
    """A new environment at the end of the route, or at ``position``."""
    require(caller, shelf, "change environments")
    if not _NAME.match(name) or len(name) > 60:
        raise InvalidError(
            f"{name!r} cannot be the name of an environment",
            code="environment.name",
            pointer="/name",
            hint="Use lower-case letters, digits and dashes.",
        )
    if fed_from:
        get_branch(shelf, fed_from)
    place = position or 1 + (shelf.environments.aggregate(last=Max("position"))["last"] or 0)
    try:
        with transaction.atomic():
            log_note(caller, "environment.made", name, shelf)
            return Environment.objects.create(
                shelf=shelf,
                name=name,
                folder=str(_checked_folder(shelf, name, folder)),
                position=place,
                fed_from=fed_from,
                earlier_first=earlier_first,
                note=note,
                created=timezone.now(),
            )
    except IntegrityError as error:
        raise ConflictError(
            "another environment has that name, place or folder",
            code="environment.taken",
            hint="List them: everyshelf env list",
        ) from error


def _checked_folder(shelf: Shelf, name: str, folder: str) -> Path:
    """The folder, which must lie in one of the places this installation allows: a person's word must not let the
    service write just anywhere."""
    places = get_config().places
    path = Path(folder) if folder else Path(shelf.key) / name
    path = (path if path.is_absolute() else places[0] / path).resolve()
    if not any(path.is_relative_to(place.resolve()) and path != place.resolve() for place in places):
        allowed = ", ".join(str(p) for p in places)
        raise InvalidError(
            f"{path} lies in none of the places for environments",
            code="environment.folder",
            pointer="/folder",
            hint=f"Choose a folder in {allowed}, or set EVERYSHELF_PLACES.",
        )
    path.mkdir(parents=True, exist_ok=True)
    return path


def get_environment(shelf: Shelf, name: str) -> Environment:
    """The environment called ``name``."""
    found = Environment.objects.filter(shelf=shelf, name=name).first()
    if found is None:
        raise MissingError(
            f"{shelf.name} has no environment {name!r}",
            code="environment.missing",
            hint="List them: everyshelf env list",
        )
    return found


def remove_environment(caller: Caller, shelf: Shelf, name: str) -> None:
    """Forget an environment that nothing was promoted to."""
    require(caller, shelf, "change environments")
    environment = get_environment(shelf, name)
    if environment.deployments.exists():
        raise ConflictError(
            f"{name} has deployments, and their record is kept",
            code="environment.used",
            hint="Make another one beside it.",
        )
    with transaction.atomic():
        log_note(caller, "environment.removed", name, shelf)
        environment.delete()


def destination_of(environment: Environment) -> FolderDestination:
    """Where its artifacts live."""
    return FolderDestination(Path(environment.folder))


def last_deployment(environment: Environment) -> Deployment | None:
    """What was put there last and is in force."""
    rows = environment.deployments.filter(state=Phase.RECORDED).select_related("tag", "commit")
    return rows.order_by("-number").first()


def load_manifest(identity: str) -> Manifest:
    """A manifest from the store."""
    return {path: Placed(*row) for path, row in orjson.loads(get_store().read(identity)).items()}


def store_manifest(manifest: Manifest) -> str:
    """Keep a manifest as content; returns its id (made durable by the caller's sync)."""
    rows = {path: [placed.id, placed.size] for path, placed in sorted(manifest.items())}
    return get_store().put(orjson.dumps(rows)).id


def recorded_manifest(environment: Environment) -> Manifest:
    """What the deployment in force put there."""
    last = last_deployment(environment)
    return load_manifest(last.manifest) if last else {}


def manifest_of_tag(tag: Tag, recorded: Manifest) -> Manifest:
    """What the tag would leave in an environment. A tag with a selection promotes only that; the rest stays."""
    everything = {path: Placed(e.id, e.size) for path, e in get_trees().files(tag.commit.root)}
    if tag.selection is None:
        return everything
    chosen = set(tag.selection)
    inside = {p: m for p, m in everything.items() if p in chosen or any(p.startswith(f"{c}/") for c in chosen)}
    return {**recorded, **inside}


def deployment_json(deployment: Deployment) -> dict[str, Any]:
    """A deployment's public form."""
    back = deployment.rolled_back_to
    return {
        "deployment": deployment.key,
        "number": deployment.number,
        "tag": deployment.tag.name,
        "commit": deployment.commit.uid,
        "state": deployment.state,
        "who": deployment.who,
        "why": deployment.why,
        "counts": deployment.counts,
        "begun": deployment.begun,
        "ended": deployment.ended,
        "took_seconds": deployment.took_seconds,
        "rolled_back_to": back.number if back else None,
    }


def list_deployments(environment: Environment) -> list[dict[str, Any]]:
    """All of them, newest first."""
    rows = environment.deployments.select_related("tag", "commit", "rolled_back_to").order_by("-number")
    return [deployment_json(d) for d in rows]


def environment_json(environment: Environment) -> dict[str, Any]:
    """An environment with what runs there, what ran before, and the newest tag that could follow."""
    rows = environment.deployments.filter(state=Phase.RECORDED).select_related("tag", "commit", "rolled_back_to")
    newest = list(rows.order_by("-number")[:2])
    return {
        "name": environment.name,
        "route": environment.route,
        "position": environment.position,
        "destination": environment.destination,
        "folder": environment.folder,
        "fed_from": environment.fed_from,
        "earlier_first": environment.earlier_first,
        "note": environment.note,
        "current": deployment_json(newest[0]) if newest else None,
        "before": deployment_json(newest[1]) if len(newest) > 1 else None,
        "waiting": _waiting(environment, newest[0] if newest else None),
    }


def _waiting(environment: Environment, current: Deployment | None) -> str | None:
    """What the environment before it runs, or at the start of the route the newest tag, if that is newer."""
    earlier = earlier_environment(environment)
    if earlier is not None:
        last = last_deployment(earlier)
        tag = last.tag if last else None
    else:
        tag = environment.shelf.tags.select_related("commit").order_by("-created", "-pk").first()
    if tag is None or (current is not None and tag.created <= current.tag.created):
        return None
    return tag.name


def earlier_environment(environment: Environment) -> Environment | None:
    """The one before it on its route, or None."""
    rows = Environment.objects.filter(
        shelf=environment.shelf_id, route=environment.route, position__lt=environment.position
    )
    return rows.order_by("-position").first()
