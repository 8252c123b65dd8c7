"""The main store moved to a bucket, to another, and back, the shelf from store to store, over and over, and all of it
tidied, while people commit and the service is killed with -9: nothing that was acknowledged may be missing or
different, and ``verify`` finds nothing."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from dataclasses import dataclass

from tests.support.bucket import CREDENTIALS, BucketServer

from bench.measure import Figure
from bench.tidying import Campaign
from everyshelf.client import Client

_STORE = "annex"
_TURNS = ("s3://versions/one", "s3://versions/two", "folder")


@dataclass
class Moves(Campaign):
    """One installation under load; ``moved``: segments that were moved, ``copied``: pieces that went with the shelf to
    another store."""

    moved: int = 0
    copied: int = 0
    runs: int = 0

    def run(self) -> Moves:
        """Everything; ``problems`` is empty if nothing acknowledged was lost."""
        self._server = BucketServer()
        try:
            super().run()
        finally:
            self._server.close()
            shutil.rmtree(self._service.data.with_name(f"{self._service.data.name}-{_STORE}"), ignore_errors=True)
        return self

    def settings(self) -> dict[str, str]:
        """Of the service."""
        return {**super().settings(), **CREDENTIALS}

    def work(self, client: Client) -> None:
        """Move it to the next place; tidy it each time before it comes back. The shelf takes turns, too."""
        to = _TURNS[self.runs % len(_TURNS)]
        self.runs += 1
        if to == "folder":
            super().work(client)
        if _STORE not in client.stores():
            client.make_store(_STORE, str(self._service.data.with_name(f"{self._service.data.name}-{_STORE}")))
        copying = client.shelf("load").change_store(_STORE if self.runs % 2 else "main").moving
        if copying is not None:
            done = self.done(client, copying)
            self.copied += done["pieces"] if done is not None else 0
        endpoint = "" if to == "folder" else self._server.endpoint
        done = self.done(client, client.move_storage(to, endpoint=endpoint))
        self.moved += done["segments"] if done is not None else 0


def moving(kills: int = 50) -> Iterator[Figure]:
    """Nothing acknowledged is lost while the store is moved and the service killed."""
    done = Moves(29, kills).run()
    told = (
        f"{len(done.acknowledged)} commits acknowledged, {done.runs} moves of {done.moved} segments, {done.copied} pieces "
        f"copied from store to store, {done.tidied} runs"
    )
    for problem in done.problems[:20]:
        print(f"  {problem}")
    yield Figure(
        "moving", f"problems after {kills} kills while moving", len(done.problems), "0", not done.problems, told
    )
