"""What others did on a shelf, and what one follows."""

from __future__ import annotations

from everyshelf.client.part import ShelfPart
from everyshelf.core.answers.news import FollowedThing, News


class NewsPart(ShelfPart):
    """News of a shelf, and following."""

    def news(
        self, *, limit: int = 50, before: int | None = None, followed: bool = False, seen_too: bool = False
    ) -> News:
        """What others did since one last looked, newest first. ``followed``: only about what one follows;
        ``seen_too``: also what was seen before."""
        return self._transport.get(
            f"{self._base}/news",
            News,
            limit=limit,
            before=before,
            followed="yes" if followed else None,
            all="yes" if seen_too else None,
        )

    def look(self, entry: int) -> News:
        """Say that what was done up to an entry (``newest`` of the news) is seen."""
        return self._transport.send("POST", f"{self._base}/news", {"entry": entry}, News)

    def followed(self) -> list[FollowedThing]:
        """The artifacts and branches one follows."""
        return self._transport.get(f"{self._base}/followed", list[FollowedThing])

    def follow(self, artifact: str | None = None, *, branch: str | None = None) -> list[FollowedThing]:
        """Follow an artifact, under whatever path it comes to have, or a branch."""
        body = {"artifact": artifact, "branch": branch}
        return self._transport.send("POST", f"{self._base}/followed", body, list[FollowedThing])

    def stop_following(self, artifact: str | None = None, *, branch: str | None = None) -> list[FollowedThing]:
        """Follow it no longer."""
        body = {"artifact": artifact, "branch": branch}
        return self._transport.send("POST", f"{self._base}/followed/stop", body, list[FollowedThing])
