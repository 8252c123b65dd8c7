"""Making, changing, listing and describing environments."""

from __future__ import annotations

import re
from datetime import datetime, timedelta
from fnmatch import fnmatchcase
from typing import Any

from django.db import IntegrityError
from django.db.models import Max
from django.utils import timezone

from everyshelf.core.errors import ConflictError, InvalidError, MissingError
from everyshelf.core.history.names import did_you_mean, nearest
from everyshelf.core.history.paths import check_path
from everyshelf.core.kinds.registry import kind_ids
from everyshelf.service.base.acts import one_act
from everyshelf.service.base.context import get_trees
from everyshelf.service.base.keys import seal
from everyshelf.service.base.paging import as_page, newest_first
from everyshelf.service.claims.actions.steps import steps_of_environment
from everyshelf.service.claims.actions.taking import give_back, require_free, take
from everyshelf.service.environments.actions.bindings import bindings_json
from everyshelf.service.environments.actions.gates import checked_gates, earlier_environment
from everyshelf.service.environments.actions.manifests import last_deployment
from everyshelf.service.environments.actions.places import KINDS, checked_address, forget_copies
from everyshelf.service.environments.actions.trials import end_trial
from everyshelf.service.environments.models import Deployment, Environment, Phase
from everyshelf.service.log.actions import note as log_note
from everyshelf.service.rights import Caller, require
from everyshelf.service.shelves.actions.refs import get_branch
from everyshelf.service.shelves.models import Shelf, Tag

_NAME = re.compile(r"[a-z0-9]+([._-][a-z0-9]+)*\Z")
_MOST_TRIAL_DAYS = 60
_MOST_LOOKED_AT = 50  # tags
_MOST_LISTED = 500  # deployments


def make_environment(
    caller: Caller,
    shelf: Shelf,
    name: str,
    *,
    destination: str = "folder",
    address: str = "",
    token: str = "",
    subfolder: str = "",
    records: list[str] | None = None,
    route: str = "main",
    position: int | None = None,
    fed_from: str = "",
    earlier_first: bool = False,
    gates: dict[str, Any] | None = None,
    left_out: dict[str, Any] | None = None,
    watch_minutes: int = 0,
    note: str = "",
    trial_of: Tag | None = None,
    expires: datetime | None = None,
) -> Environment:
    """A new environment at the end of its route, or at ``position``. One with ``trial_of`` and ``expires`` is a trial
    environment: any author may make it, and it removes itself."""
    require(caller, shelf, "make trial environments" if trial_of else "change environments")
    _check_name(name, "name", "/name")
    _check_name(route, "route", "/route")
    if destination not in KINDS:
        raise InvalidError(
            f"{destination!r} is not a destination; there are {', '.join(KINDS)}",
            code="environment.destination",
            pointer="/destination",
        )
    if fed_from:
        get_branch(shelf, fed_from)
    rows = shelf.environments.filter(ended=None, route=route)
    place = position or 1 + (rows.aggregate(last=Max("position"))["last"] or 0)
    values: dict[str, Any] = {
        "gates": checked_gates(gates or {}),
        "left_out": _checked_left_out(left_out or {}),
        "access": seal(token) if token else None,
        "address": checked_address(shelf, destination, name, address),
        "subfolder": _checked_subfolder(destination, subfolder),
        "records": records or [],
    }
    try:
        with one_act():
            steps = steps_of_environment(destination, values["address"])
            require_free(shelf, "environment", values["address"], steps)
            log_note(caller, "environment.made", name, shelf)
            made = Environment.objects.create(
                shelf=shelf,
                name=name,
                route=route,
                destination=destination,
                position=place,
                fed_from=fed_from,
                earlier_first=earlier_first,
                watch_minutes=watch_minutes,
                note=note,
                created=timezone.now(),
                trial_of=trial_of,
                made_by=caller.person.username,
                expires=expires,
                **values,
            )
            take(shelf, "environment", made.pk, made.address, steps, caller.person.username)
            return made
    except IntegrityError as error:
        raise ConflictError(
            "another environment has that name, place or address",
            code="environment.taken",
            hint="List them: everyshelf env list",
        ) from error


def _checked_subfolder(destination: str, subfolder: str) -> str:
    """The folder of the shelf that goes there; a database has one of its own."""
    folder = subfolder.strip().strip("/")
    if folder:
        return check_path(folder)
    if destination == "database":
        raise InvalidError(
            "a database takes one folder of the shelf: its tables, views and records lie there",
            code="environment.subfolder",
            pointer="/subfolder",
            hint="Name it: --subfolder FOLDER. It need not exist yet.",
        )
    return ""


def make_trial(caller: Caller, shelf: Shelf, name: str, tag: Tag, days: int, **options: Any) -> Environment:
    """An environment for trying a tag, which removes itself after ``days``."""
    if not 1 <= days <= _MOST_TRIAL_DAYS:
        raise InvalidError(
            f"a trial environment lasts 1 to {_MOST_TRIAL_DAYS} days, not {days}",
            code="environment.days",
            pointer="/days",
        )
    expires = timezone.now() + timedelta(days=days)
    return make_environment(caller, shelf, name, route="trial", trial_of=tag, expires=expires, **options)


def is_environment_name(name: str) -> bool:
    """Whether an environment or a route can be called that."""
    return _NAME.match(name) is not None and len(name) <= 60


def _check_name(name: str, what: str, pointer: str) -> None:
    if not is_environment_name(name):
        raise InvalidError(
            f"{name!r} cannot be the {what} of an environment",
            code="environment.name",
            pointer=pointer,
            hint="Use lower-case letters, digits and dashes.",
        )


def _checked_left_out(said: dict[str, Any]) -> dict[str, Any]:
    unknown = [kind for kind in said.get("kinds", []) if kind not in kind_ids()]
    if unknown:
        raise InvalidError(
            f"{unknown[0]!r} is not a kind; the kinds are {', '.join(kind_ids())}",
            code="environment.left_out",
            pointer="/left_out/kinds",
        )
    return {"patterns": list(said.get("patterns", [])), "kinds": list(said.get("kinds", []))}


def change_environment(caller: Caller, environment: Environment, **wanted: Any) -> Environment:
    """Change what is given: note, fed_from, earlier_first, gates (those named), left_out, watch_minutes, records,
    token."""
    require(caller, environment.shelf, "change environments")
    if wanted.get("fed_from"):
        get_branch(environment.shelf, wanted["fed_from"])
    if "left_out" in wanted:
        wanted["left_out"] = _checked_left_out(wanted["left_out"])
    token = wanted.pop("token", None)
    if token is not None:
        wanted["access"] = seal(token) if token else None
    with one_act():
        if "gates" in wanted:  # beside those that another person may have changed since it was read
            held = Environment.objects.values_list("gates", flat=True).get(pk=environment.pk)
            wanted["gates"] = checked_gates({**(held or {}), **wanted["gates"]})
        log_note(caller, "environment.changed", environment.name, environment.shelf, what=sorted(wanted))
        for name, value in wanted.items():
            setattr(environment, name, value)
        environment.save(update_fields=list(wanted))
    return environment


def get_environment(shelf: Shelf, name: str) -> Environment:
    """The environment called ``name``."""
    found = Environment.objects.filter(shelf=shelf, name=name, ended=None).select_related("shelf").first()
    if found is None:
        raise MissingError(
            f"{shelf.name} has no environment {name!r}",
            code="environment.missing",
            hint=f"{did_you_mean(nearest(name, _names(shelf)))}List them: everyshelf env list",
        )
    return found


def _names(shelf: Shelf) -> list[str]:
    return list(Environment.objects.filter(shelf=shelf, ended=None).values_list("name", flat=True))


def list_environments(shelf: Shelf) -> list[Environment]:
    """All of them along their routes, the route that was there first at the top."""
    rows = list(shelf.environments.filter(ended=None).select_related("shelf", "trial_of").order_by("pk"))
    routes = {route: place for place, route in enumerate(dict.fromkeys(row.route for row in rows))}
    return sorted(rows, key=lambda row: (routes[row.route], row.position))


def remove_environment(caller: Caller, shelf: Shelf, name: str) -> None:
    """Forget an environment that nothing was promoted to, or end a trial environment of one's own."""
    rows = shelf.environments.filter(name=name, ended=None, made_by=caller.person.username)
    own_trial = rows.exclude(trial_of=None).exists()
    require(caller, shelf, "make trial environments" if own_trial else "change environments")
    environment = get_environment(shelf, name)
    if environment.trial_of is not None:
        end_trial(environment, caller.person.username)
        return
    if environment.deployments.exists():
        raise ConflictError(
            f"{name} has deployments, and their record is kept",
            code="environment.used",
            hint="Make another one beside it.",
        )
    with one_act():
        log_note(caller, "environment.removed", name, shelf)
        forget_copies(environment)
        give_back("environment", environment.pk)
        environment.delete()


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
        "reason": deployment.reason,
        "forced": deployment.forced,
        "steps": deployment.steps,
        "side_effects": deployment.side_effects,
        "counts": deployment.counts,
        "begun": deployment.begun,
        "ended": deployment.ended,
        "took_seconds": deployment.took_seconds,
        "rolled_back_to": back.number if back else None,
    }


def list_deployments(environment: Environment, *, limit: int = 100, cursor: str = "") -> dict[str, Any]:
    """A page of them, newest first."""
    rows = environment.deployments.select_related("tag", "commit", "rolled_back_to")
    page = newest_first(rows, limit=min(limit, _MOST_LISTED), cursor=cursor, by="number")
    return as_page(page, [deployment_json(d) for d in page.records])


def environment_json(environment: Environment) -> dict[str, Any]:
    """An environment with what runs there, what ran before, what could follow, and what is known of its drift."""
    rows = environment.deployments.filter(state=Phase.RECORDED).select_related("tag", "commit", "rolled_back_to")
    newest = list(rows.order_by("-number")[:2])
    bindings = bindings_json(environment)
    return {
        "name": environment.name,
        "route": environment.route,
        "position": environment.position,
        "destination": environment.destination,
        "address": environment.address,
        "has_token": environment.access is not None,
        "subfolder": environment.subfolder,
        "records": environment.records,
        "fed_from": environment.fed_from,
        "earlier_first": environment.earlier_first,
        "gates": checked_gates(environment.gates or {}),
        "left_out": _checked_left_out(environment.left_out or {}),
        "note": environment.note,
        "trial_of": environment.trial_of.name if environment.trial_of else None,
        "made_by": environment.made_by,
        "expires": environment.expires,
        "watch_minutes": environment.watch_minutes,
        "drift": environment.drift,
        "drift_checked": environment.drift_checked,
        "drift_problem": environment.drift_problem,
        "bindings": {"declared": len(bindings), "set": sum(b["set"] for b in bindings)},
        "current": deployment_json(newest[0]) if newest else None,
        "before": deployment_json(newest[1]) if len(newest) > 1 else None,
        "waiting": _waiting(environment, newest[0] if newest else None),
    }


def _concerns(environment: Environment, tag: Tag) -> bool:
    """Whether a tag brings anything that the environment takes: one with a selection may not."""
    subfolder, left_out = environment.subfolder, (environment.left_out or {}).get("patterns", [])
    if tag.selection is None:
        return not subfolder or get_trees().folder(tag.commit.root, subfolder) is not None
    inside = [p for p in tag.selection if not subfolder or p == subfolder or p.startswith(f"{subfolder}/")]
    around = [p for p in tag.selection if subfolder.startswith(f"{p}/")]
    return bool(around) or any(not any(fnmatchcase(p, said) for said in left_out) for p in inside)


def _waiting(environment: Environment, current: Deployment | None) -> str | None:
    """What the environment before it runs, or at the start of the route the newest tag, if that is newer."""
    if environment.trial_of is not None:
        return environment.trial_of.name if current is None else None
    earlier = earlier_environment(environment)
    if earlier is not None:
        last = last_deployment(earlier)
        tag = last.tag if last else None
    else:
        tags = environment.shelf.tags.select_related("commit").order_by("-created", "-pk")
        tag = next((t for t in tags[:_MOST_LOOKED_AT] if _concerns(environment, t)), None)
    if tag is None or (current is not None and tag.created <= current.tag.created):
        return None
    return tag.name
