"""A shelf as a Git repository, and its links to others."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any
from urllib.parse import quote

from everyshelf.client.models import Job
from everyshelf.client.part import ShelfPart
from everyshelf.core.answers.exchange import GitCalls, GitLinkAnswer, GitLinkShown, GitPage, GitTried


class ExchangePart(ShelfPart):
    """The exchange with Git."""

    def git_address(self, person: str = "") -> str:
        """Where Git finds the shelf; the password it asks for is a token. ``person``: whose token it will be."""
        scheme, _, rest = self._transport.address.partition("://")
        return f"{scheme}://{f'{person}@' if person else ''}{rest}/git/{self.key}.git"

    def folder_address(self) -> str:
        """Where the shelf is a network folder (WebDAV); the password is a token."""
        return f"{self._transport.address}/dav/{self.key}/"

    def git_commits(self, limit: int = 50, cursor: str = "") -> GitPage:
        """The commits of the shelf with their ids in Git, those recorded last first."""
        return self._transport.get(f"{self._base}/git", GitPage, limit=limit, cursor=cursor or None)

    def git_links(self) -> list[GitLinkAnswer]:
        """The links to repositories, with how far the two sides are from each other."""
        return self._transport.get(f"{self._base}/git/links", dict[str, list[GitLinkAnswer]])["links"]

    def git_link(self, name: str) -> GitLinkShown:
        """A link, and what went over it."""
        return self._transport.get(self._link(name), GitLinkShown)

    def make_git_link(self, name: str, address: str, **settings: Any) -> GitLinkAnswer:
        """A link to the repository at ``address``; nothing moves yet. ``settings``: ``user``, ``token``, ``key``,
        ``known_hosts``, ``way`` (send, fetch, both), ``joins`` (branches, as pairs), ``tags``, ``follows``,
        ``every_seconds``; ``parts``: whether the parts of files lie there ``beside`` them, ``instead`` of them or not
        (``none``); ``folder``: the one folder or artifact it is about, ``place``: where that is there."""
        body = {"name": name, "address": address, **_plain(settings)}
        return self._transport.send("POST", f"{self._base}/git/links", body, GitLinkAnswer)

    def change_git_link(self, name: str, **settings: Any) -> GitLinkAnswer:
        """Change a link; settings as in ``make_git_link``, and ``address``. What is left out stays."""
        return self._transport.send("PATCH", self._link(name), _plain(settings), GitLinkAnswer)

    def remove_git_link(self, name: str) -> None:
        """Forget a link; nothing changes on either side."""
        self._transport.send("DELETE", self._link(name))

    def test_git_link(self, name: str) -> GitTried:
        """Reach the repository, and say what the link would do; nothing moves."""
        return self._transport.send("POST", f"{self._link(name)}/test", None, GitTried)

    def send_git_link(self, name: str) -> Job:
        """Send what the repository lacks."""
        return self._transport.send("POST", f"{self._link(name)}/send", None, Job)

    def fetch_git_link(self, name: str) -> Job:
        """Fetch what the shelf lacks; what both sides changed is merged by meaning."""
        return self._transport.send("POST", f"{self._link(name)}/fetch", None, Job)

    def look_git_link(self, name: str) -> Job:
        """Compare both sides; nothing moves."""
        return self._transport.send("POST", f"{self._link(name)}/look", None, Job)

    def let_git_link_be_called(self, name: str) -> GitCalls:
        """An address and a new secret with which the other side can say that it has something new."""
        found = self._transport.send("POST", f"{self._link(name)}/calls", None, GitCalls)
        return GitCalls(address=f"{self._transport.address}{found.address}", secret=found.secret)

    def _link(self, name: str) -> str:
        return f"{self._base}/git/links/{quote(name, safe='')}"


def _plain(settings: dict[str, Any]) -> dict[str, Any]:
    found = {name: value for name, value in settings.items() if value is not None}
    pairs: Sequence[Sequence[str]] | None = found.get("joins")
    return found | ({"joins": [list(pair) for pair in pairs]} if pairs is not None else {})
