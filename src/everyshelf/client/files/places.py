"""Addresses of files on shelves: ``HOST/SHELF@REF/PATH``, without the ``shelf://`` in front of it.

A branch name may hold slashes. The shortest name that the shelf knows is the one meant; ``%2F`` instead of the slash
says which without asking, and is how addresses are given back.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Callable
from dataclasses import dataclass
from urllib.parse import unquote

SCHEME = "shelf://"
_LISTED = ("", "tag", "draft", "env")  # before the colon; other refs hold no slash


@dataclass(frozen=True)
class Place:
    """One file or folder; ``shelf`` is empty for a host, ``ref`` for the main branch, ``path`` for all of a shelf."""

    host: str
    shelf: str = ""
    ref: str = ""
    path: str = ""

    def address(self) -> str:
        """How it is written, without the scheme."""
        state = f"{self.shelf}@{self.ref.replace('/', '%2F')}" if self.ref else self.shelf
        return "/".join(part for part in (self.host, state, self.path) if part)

    def below(self, path: str) -> Place:
        """Another path of the same state."""
        return Place(self.host, self.shelf, self.ref, path)


def place_of(address: str, names: Callable[[str, str, str, bool], set[str]]) -> Place:
    """What an address means. ``names(host, shelf, word, again)``: what may follow ``word`` and a colon in a ref of that
    shelf, branches if it is empty; ``again`` asks for what came since."""
    host, _, rest = address.removeprefix(SCHEME).strip("/").partition("/")
    state, _, path = rest.partition("/")
    shelf, _, given = state.partition("@")
    ref = unquote(given)
    word, colon, name = ref.rpartition(":") if ":" in ref else ("", "", ref)
    if path and name and word in _LISTED and "%" not in given:
        steps = path.split("/")
        for again in (False, True):
            known = names(host, shelf, word, again)
            for taken in range(len(steps) + 1):
                longer = "/".join([name, *steps[:taken]])
                if longer in known:
                    return Place(host, shelf, f"{word}{colon}{longer}", "/".join(steps[taken:]))
    return Place(host, shelf, ref, path)


def service_address(host: str, secure: bool | None) -> str:
    """Where the service of a host answers: HTTPS, but HTTP on this machine itself unless ``secure`` says otherwise."""
    if secure is None:
        secure = not _is_this_machine(host)
    return f"{'https' if secure else 'http'}://{host}"


def _is_this_machine(host: str) -> bool:
    name = host.rpartition(":")[0] if host.rpartition(":")[2].isdigit() else host
    try:
        return ipaddress.ip_address(name.strip("[]")).is_loopback
    except ValueError:
        return name == "localhost"
