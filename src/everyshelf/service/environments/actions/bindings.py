"""Values of bindings: set, listed, taken back; a secret's value goes in and never comes out."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from typing import Any
from xml.sax.saxutils import escape, quoteattr

from django.utils import timezone

from everyshelf.core.errors import InvalidError, MissingError
from everyshelf.core.kinds.rules import BindingRule, Rules
from everyshelf.core.promotion.bindings import rules_for
from everyshelf.core.promotion.bound import Bound
from everyshelf.service.base.acts import one_act
from everyshelf.service.base.context import get_store, reader
from everyshelf.service.base.keys import digest, seal, unseal
from everyshelf.service.environments.models import BindingValue, Environment
from everyshelf.service.log.actions import note
from everyshelf.service.rights import Caller, require
from everyshelf.service.shelves.actions.recording import rules_at
from everyshelf.service.shelves.actions.refs import resolve

_MOST_CHARACTERS = 20_000


def set_binding(caller: Caller, environment: Environment, name: str, value: str, *, secret: bool | None) -> None:
    """Give a binding its value there. Whether it is secret is said by ``shelf.toml``, else by ``secret``; what nobody
    says anything of is taken for secret, and once a name was secret, it stays so."""
    require(caller, environment.shelf, "change bindings")
    rule = _declared(environment).get(name)
    if rule is None and not BindingRule.is_name(name):
        raise InvalidError(
            f"{name[:60]!r} is not the name of a binding",
            code="binding.name",
            pointer="/name",
            hint="Names are capitals, digits and _: HARBOUR_ROLE.",
        )
    if len(value) > _MOST_CHARACTERS:
        raise InvalidError(f"a value has at most {_MOST_CHARACTERS:,} characters", code="binding.value")
    known = environment.binding_values.filter(name=name, secret=True).exists()
    declared = rule.secret if rule is not None else secret is None
    hidden = known or bool(secret) or declared
    with one_act():
        note(caller, "binding.set", f"{name} of {environment.name}", environment.shelf, secret=hidden)
        BindingValue.objects.create(
            environment=environment,
            name=name,
            secret=hidden,
            value="" if hidden else value,
            sealed=seal(value) if hidden else None,
            digest=digest(value) if hidden else "",
            set_by=caller.person.username,
            set_at=timezone.now(),
        )


def bind(path: str, content: str, rules: Rules, values: Mapping[str, str]) -> Bound:
    """The content of the shelf that belongs at ``path`` with the values it needs put in, by a reading process.

    Raises ``InvalidError`` (binding.place, binding.unreadable) and ``LimitError``.
    """
    data = get_store().read(content)
    if not rules_for(path, rules):
        return Bound(data, (), ())
    with reader() as worker:
        return worker.bind(path, data, values, rules=rules.source)


def remove_binding(caller: Caller, environment: Environment, name: str) -> None:
    """Take a value back; raises ``MissingError`` if there is none."""
    require(caller, environment.shelf, "change bindings")
    last = _newest(environment).get(name)
    if last is None:
        raise MissingError(
            f"{name[:60]} has no value in {environment.name}",
            code="binding.missing",
            hint=f"See everyshelf env bindings {environment.name}",
        )
    with one_act():
        note(caller, "binding.removed", f"{name} of {environment.name}", environment.shelf)
        BindingValue.objects.create(
            environment=environment,
            name=name,
            secret=last.secret,
            removed=True,
            set_by=caller.person.username,
            set_at=timezone.now(),
        )


def _newest(environment: Environment) -> dict[str, BindingValue]:
    found: dict[str, BindingValue] = {}
    for row in environment.binding_values.order_by("id"):
        found[row.name] = row
    return {name: row for name, row in found.items() if not row.removed}


def _declared(environment: Environment) -> dict[str, BindingRule]:
    branch = environment.fed_from or environment.shelf.main_branch
    return {rule.name: rule for rule in rules_at(resolve(environment.shelf, branch).root).bindings}


def _seal_what_is_secret(environment: Environment, declared: dict[str, BindingRule]) -> None:
    """What was set before ``shelf.toml`` said that it is secret is sealed now."""
    names = [name for name, rule in declared.items() if rule.secret]
    for row in environment.binding_values.filter(name__in=names, secret=False, removed=False):
        row.sealed, row.digest, row.value, row.secret = seal(row.value), digest(row.value), "", True
        row.save(update_fields=["sealed", "digest", "value", "secret"])


def bindings_json(environment: Environment) -> list[dict[str, Any]]:
    """What ``shelf.toml`` declares and what has a value, by name; of secret ones only that they have one."""
    declared = _declared(environment)
    _seal_what_is_secret(environment, declared)
    newest = _newest(environment)
    declared = {name: rule for name, rule in declared.items() if _concerns(environment, rule) or name in newest}
    return [
        {
            "name": name,
            "secret": row.secret if row else declared[name].secret,
            "set": row is not None,
            "value": row.value if row and not row.secret else None,
            "artifacts": list(declared[name].patterns) if name in declared else [],
            "set_by": row.set_by if row else "",
            "set_at": row.set_at if row else None,
        }
        for name in sorted(newest.keys() | declared.keys())
        for row in [newest.get(name)]
    ]


def _concerns(environment: Environment, rule: BindingRule) -> bool:
    """Whether a binding may stand in what goes there: not, if only part of the shelf does and it is for another."""
    inside = f"{environment.subfolder}/"
    for pattern in rule.patterns if environment.subfolder else ():
        fixed = re.split(r"[*?\[]", pattern, maxsplit=1)[0]
        if fixed.startswith(inside) or (fixed != pattern and inside.startswith(fixed)):
            return True
    return not environment.subfolder


class Values:
    """The values in force in an environment. ``plain`` are those to be put in place, secrets among them; ``shown`` are
    those to be compared and told: where a secret would be, its name stays."""

    def __init__(self, environment: Environment) -> None:
        _seal_what_is_secret(environment, _declared(environment))
        rows = _newest(environment)
        self.secret = {name for name, row in rows.items() if row.secret}
        self.plain = {name: _opened(row) for name, row in rows.items()}
        self.shown = {name: f"${{{name}}}" if row.secret else row.value for name, row in rows.items()}
        old = environment.binding_values.filter(secret=True, removed=False).order_by("id")
        # The longest first: one value may be part of another.
        pairs = {unseal(row.sealed): f"${{{row.name}}}" for row in old if row.sealed}
        self._hidden = sorted(((v, n) for v, n in pairs.items() if v), key=lambda p: -len(p[0]))

    def masked(self, data: bytes) -> bytes:
        """``data`` with the name of each secret where its value, or an earlier one, stands."""
        for value, name in self._hidden:
            for spelled in _spellings(value):
                data = data.replace(spelled, name.encode())
        return data


def _opened(row: BindingValue) -> str:
    return unseal(row.sealed) if row.sealed else row.value


def _spellings(value: str) -> list[bytes]:
    """A value as texts of several formats would write it."""
    found = [value, json.dumps(value)[1:-1], json.dumps(value, ensure_ascii=False)[1:-1], escape(value)]
    found.append(quoteattr(value)[1:-1])
    every = {
        text.encode(coding, "ignore") for text in found for coding in ("utf-8", "utf-16-le", "utf-16-be", "latin-1")
    }
    return sorted(every - {b""}, key=lambda text: -len(text))
