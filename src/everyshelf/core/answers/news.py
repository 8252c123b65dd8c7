"""What others did since one last looked, and what one follows."""

from __future__ import annotations

from datetime import datetime

from everyshelf.core.answers.base import Answer

MOST_COUNTED = 1000
"""New entries are counted no further."""


class NewsItem(Answer):
    """Something another person did: ``words`` go between the person and the subject. ``commit`` and ``branch`` where it
    has them; ``follows``: the branches and the paths of artifacts it is about that the caller follows."""

    entry: int
    time: datetime
    person: str
    act: str
    words: str
    subject: str
    commit: str = ""
    branch: str = ""
    follows: list[str] = []


class News(Answer):
    """News of a shelf, newest first. ``since``: when the caller last looked (null: never, then of two weeks).
    ``count``: how many are new, those after ``seen``, up to 1,000; ``newest``: what to send once they are seen;
    ``next`` goes into ``before``."""

    shelf: str
    shelf_name: str
    since: datetime | None
    seen: int
    newest: int
    count: int
    items: list[NewsItem]
    next: int | None = None


class FollowedThing(Answer):
    """An artifact, by the path it was last seen under, or a branch that the caller follows."""

    artifact: str | None
    branch: str | None
    since: datetime
