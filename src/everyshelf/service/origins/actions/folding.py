"""The origins of a version, from the steps of all versions it comes from."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any, Generic, TypeVar

import msgspec

from everyshelf.core.origins import lines, trees
from everyshelf.core.origins.steps import STEP_VERSION, LineStep, Step, packed, unpacked
from everyshelf.core.origins.tables import TablesStep
from everyshelf.service.base.acts import aside
from everyshelf.service.origins.actions.keeping import Form
from everyshelf.service.origins.models import KeptOrigins, VersionStep

_KEEP_EVERY = 32  # steps folded, after which the result is kept
_AT_ONCE = 500

_STEPS: dict[Form, Any] = {"parts": Step, "lines": LineStep, "rows": TablesStep}

S = TypeVar("S")


class Steps(Generic[S]):
    """The steps between the versions of an artifact, by version: each with the version it was made from, if any."""

    def __init__(self, versions: Iterable[int], form: Form) -> None:
        self.form: Form = form
        self._packed: dict[int, list[tuple[int | None, bytes]]] = {}
        keys = list(versions)
        for start in range(0, len(keys), _AT_ONCE):
            rows = VersionStep.objects.filter(
                version__in=keys[start : start + _AT_ONCE], form=form, reader=STEP_VERSION
            ).order_by("version", "position")
            for version, parent, step in rows.values_list("version", "parent", "step"):
                self._packed.setdefault(version, []).append((parent, bytes(step)))

    def parents(self, version: int) -> list[int]:
        """The versions it was made of."""
        return [parent for parent, _ in self._packed[version] if parent is not None]

    def of(self, version: int) -> list[tuple[int | None, S]]:
        """The steps a version was made by, that from its own branch first."""
        kind = _STEPS[self.form]
        return [(parent, unpacked(step, kind)) for parent, step in self._packed[version]]

    def line(self, version: int) -> tuple[list[int], list[int]]:
        """All versions that this one comes from, itself first, newest first; and those whose steps are not kept."""
        seen, missing, waiting = set(), [], [version]
        while waiting:
            key = waiting.pop()
            if key in seen:
                continue
            seen.add(key)
            if key in self._packed:
                waiting += self.parents(key)
            else:
                missing.append(key)
        return sorted(seen, reverse=True), missing


def parts_of(version: int, steps: Steps[Step]) -> trees.Node:
    """The origins of the parts of a version; all steps of its line are kept."""

    def made(key: int, known: dict[int, trees.Node]) -> trees.Node:
        carried = [
            trees.first(key) if parent is None else trees.carried(step, known[parent], key)
            for parent, step in steps.of(key)
        ]
        return carried[0] if len(carried) == 1 else _all(trees.combined, carried, key)

    found: trees.Node = _folded(version, steps, made, packed, lambda data: unpacked(data, trees.Node))
    return found


def lines_of(version: int, steps: Steps[LineStep]) -> lines.LineOrigins:
    """The origins of the lines of a version; all steps of its line are kept."""

    def made(key: int, known: dict[int, lines.LineOrigins]) -> lines.LineOrigins:
        carried = [
            lines.first(key, step.lines) if parent is None else lines.carried(step, known[parent], key)
            for parent, step in steps.of(key)
        ]
        return carried[0] if len(carried) == 1 else _all(lines.combined, carried, key)

    found: lines.LineOrigins = _folded(version, steps, made, lines.packed_lines, lines.unpacked_lines)
    return found


def _all(combined: Callable[[Any, Any, int], Any], carried: list[Any], key: int) -> Any:
    found = carried[0]
    for other in carried[1:]:
        found = combined(found, other, key)
    return found


def _folded(
    version: int,
    steps: Steps[Any],
    made: Callable[[int, dict[int, Any]], Any],
    pack: Callable[[Any], bytes],
    unpack: Callable[[bytes], Any],
) -> Any:
    """Fold from the nearest kept origins on; keeps those of ``version`` if many steps lie between."""
    line, _ = steps.line(version)
    kept = _kept(line, steps.form)
    needed: set[int] = set()
    known: dict[int, Any] = {}
    waiting = [version]
    while waiting:
        key = waiting.pop()
        if key in needed or key in known:
            continue
        if key in kept:
            try:
                known[key] = unpack(bytes(KeptOrigins.objects.get(pk=kept[key]).origins))
                continue
            except (KeptOrigins.DoesNotExist, msgspec.ValidationError, ValueError):
                del kept[key]
        needed.add(key)
        waiting += steps.parents(key)
    children: dict[int, int] = {}
    for key in needed:
        for parent in steps.parents(key):
            children[parent] = max(children.get(parent, 0), key)
    for done, key in enumerate(sorted(needed), 1):  # numbers grow from parent to child
        known[key] = made(key, known)
        for parent in steps.parents(key):
            if children.get(parent) == key and parent != version:
                known.pop(parent, None)  # nothing that follows is made of it
        if key == version and done >= _KEEP_EVERY:
            _keep(key, steps.form, pack(known[key]))
    return known[version]


def _kept(line: list[int], form: Form) -> dict[int, int]:
    found: dict[int, int] = {}
    for start in range(0, len(line), _AT_ONCE):
        some = line[start : start + _AT_ONCE]
        rows = KeptOrigins.objects.filter(version__in=some, form=form, reader=STEP_VERSION)
        found.update(rows.values_list("version", "pk"))
    return found


def _keep(version: int, form: Form, origins: bytes) -> None:
    with aside():
        KeptOrigins.objects.bulk_create(
            [KeptOrigins(version_id=version, form=form, reader=STEP_VERSION, origins=origins)],
            update_conflicts=True,
            unique_fields=["version", "form"],
            update_fields=["reader", "origins"],
        )
