"""A shelf as a Git repository."""

from __future__ import annotations

from everyshelf.client.part import ShelfPart
from everyshelf.core.answers.exchange import GitPage


class ExchangePart(ShelfPart):
    """The exchange with Git."""

    def git_address(self, person: str = "") -> str:
        """Where Git finds the shelf; the password it asks for is a token. ``person``: whose token it will be."""
        scheme, _, rest = self._transport.address.partition("://")
        return f"{scheme}://{f'{person}@' if person else ''}{rest}/git/{self.key}.git"

    def git_commits(self, limit: int = 50, cursor: str = "") -> GitPage:
        """The commits of the shelf with their ids in Git, those recorded last first."""
        return self._transport.get(f"{self._base}/git", GitPage, limit=limit, cursor=cursor or None)
