"""Calls of services: the paths that texts hold, and those that service descriptions offer.

Paths are brought to one form: what stands for a value ("12", "{id}", ":id", "${id}") becomes "{}".
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from urllib.parse import urlsplit

from everyshelf.core.answers.uses import Reference
from everyshelf.core.outline.model import Part
from everyshelf.core.uses.places import parts_of

_URL = re.compile(r"https?://[^\s\"'<>\\^`|]+")
_PATH_FIELDS = frozenset({"url", "uri", "path", "endpoint", "address", "route", "href"})
_PATH = re.compile(r"/[\w{}$:.~%-]+(?:/[\w{}$:.~%-]+)*")
_VALUE = re.compile(r"\d+|.*[{}$<>%].*|:\w+|[0-9a-f]{8}-[0-9a-f-]{27}", re.IGNORECASE)
_MOST = 2000
METHODS = frozenset({"get", "put", "post", "delete", "options", "head", "patch", "trace"})


def calls_in(path: str, label: str, field: str, value: str) -> Iterator[Reference]:
    """The calls a text makes; the path is exact where the field holds nothing else."""
    found = [(urlsplit(_tidy(match[0])).path, match[0] == value.strip()) for match in _urls(value)]
    if not found and field in _PATH_FIELDS and _PATH.fullmatch(value):
        found = [(value, True)]
    for called, whole in found:
        form = call_form(called)
        if form.strip("/{}"):
            yield Reference(form, path, label, whole and field in _PATH_FIELDS, "call")


def _urls(value: str) -> Iterator[re.Match[str]]:
    return _URL.finditer(value) if "://" in value else iter(())


def _tidy(url: str) -> str:
    """Return a URL without the punctuation of its sentence; empty if it has no valid host."""
    url = url.rstrip(".,;:)")
    return url if re.match(r"https?://[\w.\-:{}$@]+(/|$)", url) else ""


def call_form(path: str) -> str:
    """The one form of a path: without the query, with "{}" for each value."""
    steps = [step for step in path.partition("?")[0].split("/") if step]
    return "/" + "/".join("{}" if _VALUE.fullmatch(step) else step for step in steps)


def offered_calls(root: Part) -> list[str]:
    """The keys of the calls a service description offers."""
    found = []
    for path, part in parts_of(root):
        if part.type == "path" and part.label.startswith("/"):
            found.append(f"call:{call_form(part.label)}")
        elif "/path:" in path:
            name = part.fields.get("operationId")
            if isinstance(name, str) and name:
                found.append(f"id:{name.casefold()}")
        if len(found) >= _MOST:
            break
    return list(dict.fromkeys(found))
