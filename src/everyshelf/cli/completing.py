"""What the shell offers for a word that is not complete yet: refs, artifacts, environments, shelves.

The names come from the desk, or from the service within two seconds. While neither can be asked, nothing is offered:
completion must never print an error into a command line.
"""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterable
from typing import TYPE_CHECKING, Any

import click
from click.shell_completion import CompletionItem

if TYPE_CHECKING:
    from everyshelf.client import ShelfClient

_SECONDS = 2.0
_MOST = 200
Complete = Callable[[click.Context, click.Parameter, str], list[CompletionItem]]


def _offered(names: Callable[[click.Context], Iterable[str]]) -> Complete:
    def complete(context: click.Context, parameter: click.Parameter, begun: str) -> list[CompletionItem]:
        with contextlib.suppress(Exception):
            wanted = (name for name in names(context) if name.startswith(begun))
            return [CompletionItem(name) for _, name in zip(range(_MOST), wanted, strict=False)]
        return []

    return complete


def _shelf(context: click.Context) -> ShelfClient:
    from everyshelf.cli.session import open_shelf

    values: dict[str, Any] = context.params
    return open_shelf(values.get("shelf_key"), values.get("address"), _SECONDS)[0]


def _refs(context: click.Context) -> Iterable[str]:
    shelf = _shelf(context)
    branches = [branch.name for branch in shelf.branches()]
    tags = [tag.name for tag in shelf.tags()]
    return [*branches, *tags, *(f"tag:{tag}" for tag in tags), *(f"env:{name}" for name in _environments(context))]


def _branches(context: click.Context) -> Iterable[str]:
    return [branch.name for branch in _shelf(context).branches()]


def _tags(context: click.Context) -> Iterable[str]:
    return [tag.name for tag in _shelf(context).tags()]


def _environments(context: click.Context) -> Iterable[str]:
    return [place.name for place in _shelf(context).environments()]


def _shelves(context: click.Context) -> Iterable[str]:
    from everyshelf.cli.session import open_client

    return [shelf.key for shelf in open_client(context.params.get("address"), None, _SECONDS).shelves()]


def _artifacts(context: click.Context) -> Iterable[str]:
    from everyshelf.cli.session import find_desk

    desk = find_desk()
    if desk is not None and not context.params.get("shelf_key"):
        from everyshelf.desk.store import load_entries

        return sorted(load_entries(desk.root))
    return [artifact.path for artifact in _shelf(context).artifacts()]


def _pending(context: click.Context) -> Iterable[str]:
    from everyshelf.cli.session import get_desk

    return [item.path for item in get_desk().pending()]


def _refs_or_artifacts(context: click.Context) -> Iterable[str]:
    given = context.params.get("refs") or ()
    return _artifacts(context) if len(given) >= 2 else ["desk", "draft", *_refs(context)]


refs = _offered(_refs)
refs_or_artifacts = _offered(_refs_or_artifacts)
branches = _offered(_branches)
tags = _offered(_tags)
environments = _offered(_environments)
shelves = _offered(_shelves)
artifacts = _offered(_artifacts)
pending = _offered(_pending)
