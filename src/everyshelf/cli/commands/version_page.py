"""One version of an artifact, and everything that has it (``history ARTIFACT --version``)."""

from __future__ import annotations

import shlex
from collections.abc import Iterator
from typing import TYPE_CHECKING

from everyshelf.cli import terminal

if TYPE_CHECKING:
    from everyshelf.client import ShelfClient
    from everyshelf.core.answers.commits import NearVersion, VersionPlaces

_AT = 14


def show_version(shelf: ShelfClient, path: str, ref: str | None, version: int, as_json: bool) -> None:
    """Show version ``version`` of the artifact that is at ``path``."""
    found = shelf.version_places(path, ref, version)
    if as_json:
        terminal.print_json(found)
        return
    terminal.say(terminal.bold(f"{found.path}, version {found.version} of {found.versions}") + f": “{found.summary}”")
    terminal.say(f"  {found.author}, {terminal.when(found.recorded)}")
    if found.headline:
        terminal.say(f"  {terminal.effect(found.effect)}  {found.headline}".rstrip())
    for name, text in _facts(found):
        terminal.labelled(name, text, at=_AT)
    if found.before:
        named = shlex.quote(path)
        terminal.next_step(f"everyshelf compare version:{found.before[0].version} version:{found.version} {named}")


def _facts(found: VersionPlaces) -> Iterator[tuple[str, str]]:
    yield "kind", f"{found.kind}, {terminal.size(found.size)}"
    if found.moved_from:
        yield "moved from", found.moved_from
    yield "commit", found.made_by.commit
    for near in found.before:
        yield "made of", _near(near)
    for near in found.next:
        yield "next", _near(near)
    yield "branches", ", ".join(found.branches) or "at the head of none"
    if found.tags:
        yield "tags", ", ".join(f"tag:{name}" for name in found.tags)
    for place in found.environments:
        has = "this version" if place.this else f"version {place.version}" if place.version else "does not have it"
        yield "environment", f"{place.environment}: {has}" + (f", tag:{place.tag}" if place.tag else "")
    for check in found.made_by.checks:
        yield "check", f"{'✓' if check.passed else '✗'} {check.name}"
    if found.made_by.tasks:
        yield "tasks", ", ".join(found.made_by.tasks)


def _near(near: NearVersion) -> str:
    merged = ", merged" if near.merged else ""
    return f"v{near.version}  {near.summary}, {near.author}, {terminal.when(near.recorded)}{merged}"
