"""Saved views of a shelf."""

from __future__ import annotations

from datetime import datetime

from everyshelf.core.answers.base import Answer


class SavedViewAnswer(Answer):
    """A page of the console with what it is narrowed to; ``address`` follows ``/s/KEY``. ``own``: the caller's;
    ``shared``: seen by all who see the shelf."""

    name: str
    address: str
    person: str
    own: bool
    shared: bool
    saved: datetime
