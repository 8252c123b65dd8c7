"""The bucket in which all versions live is away, fails, loses answers and breaks them off, over and over, while people
commit, the store is tidied and moved, and the service is killed with -9, also while the bucket is away: nothing that was
acknowledged may be missing or different, and ``verify`` finds nothing."""

from __future__ import annotations

import time
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field

from tests.support.bucket import breaking_off, losing_answers, refusing

from bench.measure import Figure
from bench.moving import Moves
from bench.tidying import Campaign
from everyshelf.client import Client

_LONGEST_SECONDS = 2.0
_OF_A_ROUND = 4
_KINDS = ("away", "failing", "answers lost", "broken off", "refused")
# What a job or a call may say while the bucket does not answer as it should.
_TOLD = ("storage.out_of_reach", "storage.refused", "storage.trial", "storage.moving")


@dataclass
class Outages(Moves):
    """One installation whose versions live in a bucket; ``seen``: how often each kind of outage was made, ``told``: how
    often a job ended because of one. Half of the kills come while it lasts."""

    seen: Counter[str] = field(default_factory=Counter)
    told: Counter[str] = field(default_factory=Counter)

    def settings(self) -> dict[str, str]:
        """Of the service: little of the bucket is kept here, so that reading needs it."""
        return {**super().settings(), "EVERYSHELF_STORE_CACHE": "4000000"}

    def may_end(self, code: str) -> bool:
        """Whether a job may end with this."""
        self.told[code] += code in _TOLD
        return code in _TOLD or super().may_end(code)

    def work(self, client: Client) -> None:
        """Tidy the store each time before it is moved, wherever it is."""
        Campaign.work(self, client)
        super().work(client)

    def before_the_end(self, *, killed: bool) -> None:
        """Several outages while people are at work; the last one may not be over when the service is killed."""
        for number in range(_OF_A_ROUND):
            self._begin(self._rng.choice(_KINDS))
            time.sleep(self._rng.random() * _LONGEST_SECONDS)
            if killed and number == _OF_A_ROUND - 1 and self._rng.random() < 0.5:
                return
            self.after_the_end()
            time.sleep(self._rng.random())

    def _begin(self, kind: str) -> None:
        self.seen[kind] += 1
        if kind == "away":
            self._server.stop()
        else:
            self._server.fault = {
                "failing": refusing("InternalError", "500 Internal Server Error"),
                "answers lost": losing_answers(),
                "broken off": breaking_off(10**9),
                "refused": refusing("AccessDenied"),
            }[kind]

    def after_the_end(self) -> None:
        """The bucket answers again."""
        self._server.fault = None
        self._server.stop()
        self._server.start()

    def judge(self) -> None:
        """Where everything is now, and once more when all of it lies in the bucket."""
        super().judge()
        client = self._service.client()
        self.done(client, client.move_storage("s3://versions/last", endpoint=self._server.endpoint))
        super().judge()


def outages(kills: int = 25) -> Iterator[Figure]:
    """Nothing acknowledged is lost whatever becomes of the bucket meanwhile."""
    done = Outages(31, kills)
    done.run()
    made = sum(done.seen.values())
    told = (
        f"{len(done.acknowledged)} commits acknowledged, {done.runs} moves of {done.moved} segments, {done.tidied} runs; "
        f"{', '.join(f'{number} {kind}' for kind, number in sorted(done.seen.items()))}; {sum(done.told.values())} jobs ended by them"
    )
    for problem in done.problems[:20]:
        print(f"  {problem}")
    what = f"problems after {made} outages of the bucket and {kills} kills"
    yield Figure("outage", what, len(done.problems), "0", not done.problems, told)
