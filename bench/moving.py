"""The store moved to a bucket, to another, and back, over and over, and tidied, while people commit and the service is
killed with -9: nothing that was acknowledged may be missing or different, and ``verify`` finds nothing."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from tests.support.bucket import CREDENTIALS, BucketServer

from bench.measure import Figure
from bench.tidying import Campaign
from everyshelf.client import Client

_TURNS = ("s3://versions/one", "s3://versions/two", "folder")


@dataclass
class Moves(Campaign):
    """One installation under load; ``moved``: segments that were moved."""

    moved: int = 0
    runs: int = 0

    def run(self) -> Moves:
        """Everything; ``problems`` is empty if nothing acknowledged was lost."""
        self._server = BucketServer()
        try:
            super().run()
        finally:
            self._server.close()
        return self

    def settings(self) -> dict[str, str]:
        """Of the service."""
        return {**super().settings(), **CREDENTIALS}

    def work(self, client: Client) -> None:
        """Move it to the next place; tidy it each time before it comes back."""
        to = _TURNS[self.runs % len(_TURNS)]
        self.runs += 1
        if to == "folder":
            super().work(client)
        endpoint = "" if to == "folder" else self._server.endpoint
        done = self.done(client, client.move_storage(to, endpoint=endpoint))
        self.moved += done["segments"] if done is not None else 0


def moving(kills: int = 50) -> Iterator[Figure]:
    """Nothing acknowledged is lost while the store is moved and the service killed."""
    done = Moves(29, kills).run()
    told = (
        f"{len(done.acknowledged)} commits acknowledged, {done.runs} moves of {done.moved} segments, {done.tidied} runs"
    )
    for problem in done.problems[:20]:
        print(f"  {problem}")
    yield Figure(
        "moving", f"problems after {kills} kills while moving", len(done.problems), "0", not done.problems, told
    )
