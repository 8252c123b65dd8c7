"""Promotions cut short, to each destination: the whole process group killed with -9 from outside, the connection cut, a
platform that fails, is slow, late or loses its answer, a database that is held or whose sessions are ended.

After each the service starts again where it was killed; then an independent judge looks into the destination itself:
it holds wholly what one tag says, and the records say which.
"""

from __future__ import annotations

import contextlib
import json
import random
import sqlite3
import subprocess
import sys
import threading
import time
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from tests.support.git import TOKEN as GIT_TOKEN
from tests.support.git import git_server
from tests.support.postgres import PASSWORD, is_there, postgres
from tests.support.service import Service
from tests.support.standin import TOKEN, Space, Standin

from bench.cutting import Cutting
from bench.judge import look
from everyshelf.client import ChangeRequest, Client, ClientError, ShelfClient

JUDGE = Path(__file__).with_name("judge.py")
_OPEN = ("planned", "staged", "switching", "switched", "verified")
_FILES, _ROWS = 30, 400
_SETTLED_SECONDS = 60.0
Happens = tuple[str, dict[str, Any]]


@dataclass
class Place:
    """One environment: what it is, how a direct look is had, how long a promotion takes, and what such
    a look finds for each tag."""

    sort: str
    address: str
    seconds: float = 0.5
    tags: dict[str, Any] = field(default_factory=dict)


@dataclass
class CutShort:
    """One service, two tags, and an environment of each sort; ``runs`` promotions, each of which something happens to."""

    seed: int
    runs: int
    sorts: tuple[str, ...] = ("folder", "sqlite", "platform", "postgres", "git")
    settings: dict[str, str] = field(default_factory=dict)
    only_kills: bool = False
    problems: list[str] = field(default_factory=list)
    happened: Counter[str] = field(default_factory=Counter)
    ended: Counter[str] = field(default_factory=Counter)

    def run(self) -> CutShort:
        """Everything; ``problems`` is empty if every environment was whole and the records were right."""
        rng = random.Random(self.seed)
        self._service = Service(settings=self.settings)
        with contextlib.ExitStack() as stack:
            stack.callback(self._service.stop)
            self._prepare(stack)
            for number in range(self.runs):
                name = rng.choice(sorted(self.places))
                what, how = self._chosen(self.places[name].sort, rng) if not self.only_kills else ("killed", {})
                self.happened[f"{self.places[name].sort}: {what}"] += 1
                self._one(name, what, how, rng.random() * 1.2 * self.places[name].seconds)
                self._judge(f"run {number + 1}, {what} {how} while promoting to {name}")
        return self

    # --- before ---------------------------------------------------------------------

    def _prepare(self, stack: contextlib.ExitStack) -> None:
        self._standin = Standin()
        stack.callback(self._standin.close)
        self._platform = Cutting(int(self._standin.address.rpartition(":")[2]))
        stack.callback(self._platform.close)
        self._git = self._database = self._platform  # where there is none of them nothing is cut
        self._space = Space(f"{self._standin.address}/cut")
        client = self._client(stack)
        client.make_shelf("cut", key="cut")
        shelf = client.shelf("cut")
        self._commit(shelf)
        self.places = {}
        if "folder" in self.sorts:
            self.places["folders"] = Place("folder", shelf.make_environment("folders", subfolder="data").address)
        if "sqlite" in self.sorts:
            made = shelf.make_environment("records", destination="database", subfolder="db", records=["*"])
            self.places["records"] = Place("sqlite", made.address)
        if "platform" in self.sorts:
            address = f"http://127.0.0.1:{self._platform.port}/cut"
            shelf.make_environment("platform", destination="platform", address=address, token=TOKEN, subfolder="data")
            self.places["platform"] = Place("platform", f"{self._standin.file}#cut")
        if "git" in self.sorts:
            self._with_git(stack, shelf)
        if "postgres" in self.sorts and is_there():
            self._with_postgres(stack, shelf)
        for tag in ("one", "two"):
            for name, place in self.places.items():
                begun = time.monotonic()
                shelf.wait(shelf.promote(tag, name, lose=["vessels.decks"]))
                place.seconds = time.monotonic() - begun
                place.tags[tag] = look(place.sort, place.address)
        assert all(place.tags["one"] != place.tags["two"] for place in self.places.values())

    def _with_git(self, stack: contextlib.ExitStack, shelf: ShelfClient) -> None:
        server = stack.enter_context(git_server())
        bare = server.make("site.git", {"README": b"the harbour's pages"})
        self._git = Cutting(server.port)
        stack.callback(self._git.close)
        address = f"http://127.0.0.1:{self._git.port}/site.git#main:site"
        shelf.make_environment("site", destination="git", address=address, token=GIT_TOKEN, subfolder="data")
        self.places["site"] = Place("git", str(bare))

    def _with_postgres(self, stack: contextlib.ExitStack, shelf: ShelfClient) -> None:
        base = stack.enter_context(postgres())
        self._database = Cutting(int(base.rpartition(":")[2]))
        stack.callback(self._database.close)
        address = f"{base.rpartition(':')[0]}:{self._database.port}/postgres"
        said = {"destination": "database", "subfolder": "db", "records": ["*"], "token": PASSWORD}
        shelf.make_environment("server", address=address, **said)
        self._dsn = f"{base.replace('+psycopg', '').replace('@', f':{PASSWORD}@')}/postgres"
        self.places["server"] = Place("postgres", self._dsn)

    def _commit(self, shelf: ShelfClient) -> None:
        for number, tag in enumerate(("one", "two")):
            files = {f"data/{n}.txt": f"{tag if n % 3 else 'both'} {n} ".encode() * 2000 for n in range(_FILES)}
            files |= {f"data/only-{tag}.txt": tag.encode()}
            columns = [{"name": "code", "type": "TEXT", "required": True}, {"name": "seats", "type": "INTEGER"}]
            columns += [{"name": "decks", "type": "INTEGER"}] if number else []
            table = {"form": "database table 1", "table": "vessels", "columns": columns, "key": ["code"]}
            rows = {f"V{n:04}": {"seats": n + number * (n % 2)} for n in range(_ROWS + 40 * number)}
            records = {"form": "database records 1", "table": "vessels", "key": ["code"], "records": rows}
            files |= {"db/vessels.table.json": json.dumps(table).encode()}
            files |= {"db/vessels.records.json": json.dumps(records).encode()}
            here = {a.path for a in shelf.artifacts()}
            changes = [ChangeRequest(p, shelf.upload(d).id) for p, d in files.items()]
            changes += [ChangeRequest(p, None) for p in here - files.keys()]
            shelf.commit("main", shelf.branch("main").head, changes, f"state {tag}")
            shelf.make_tag(tag)

    def _client(self, stack: contextlib.ExitStack) -> Client:
        return stack.enter_context(Client(self._service.address, self._service.token(), timeout_seconds=60))

    # --- one promotion -----------------------------------------------------------------

    @staticmethod
    def _chosen(sort: str, rng: random.Random) -> Happens:
        """What happens to this one: every other time it is the service that is killed."""
        if rng.random() < 0.5 or sort == "folder":
            return "killed", {}
        if sort == "sqlite":
            return "held", {"seconds": rng.random() * 2}
        if sort == "git":
            return "cut", {"seconds": rng.random() * 2}
        if sort == "postgres":
            return rng.choice([("cut", {"seconds": rng.random() * 2}), ("ended", {})])
        ways: list[Happens] = [
            ("cut", {"seconds": rng.random() * 2}),
            ("platform killed", {}),
            ("slow", {"slow": rng.random() / 2}),
            ("late", {"late": rng.random(), "times": 1}),
            ("lost", {"lost": True, "times": 1}),
            ("fails", {"fail_after": rng.randrange(12), "times": rng.randrange(1, 3)}),
            ("half", {"half_after": rng.randrange(1, 12), "times": rng.randrange(1, 6)}),
        ]
        return rng.choice(ways)

    def _one(self, name: str, what: str, how: dict[str, Any], delay: float) -> None:
        with contextlib.ExitStack() as stack:
            shelf = self._client(stack).shelf("cut")
            last = next(d for d in shelf.deployments(name) if d.state == "recorded")
            wanted = "one" if last.tag == "two" else "two"
            if self.places[name].sort == "platform" and what not in ("killed", "cut", "platform killed"):
                self._space.behave(**how)
            asked = threading.Thread(target=self._promote, args=(shelf, wanted, name))
            asked.start()
            time.sleep(delay)
            self._do(name, what, how)
            asked.join()
        if what == "platform killed":
            self._standin.start()
        self._space.behave()
        self._settled(name, wanted)

    @staticmethod
    def _promote(shelf: ShelfClient, tag: str, name: str) -> None:
        with contextlib.suppress(ClientError):
            shelf.wait(shelf.promote(tag, name, lose=["vessels.decks"]))

    def _do(self, name: str, what: str, how: dict[str, Any]) -> None:
        if what == "killed":
            self._service.kill_group()
            if self.places[name].sort != "platform":  # a platform told half of a package waits to be told again
                self._judge(f"{name}, before the restart", settled=False)
            self._service.start()
        elif what == "platform killed":
            self._standin.kill()
        elif what == "cut":
            connections = {"platform": self._platform, "git": self._git, "postgres": self._database}
            connections[self.places[name].sort].cut(how["seconds"])
        elif what == "ended":
            import psycopg

            with psycopg.connect(self._dsn, autocommit=True) as records:
                records.execute("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE pid <> pg_backend_pid()")
        elif what == "held":
            with contextlib.closing(sqlite3.connect(self.places[name].address, timeout=10)) as records:
                records.execute("BEGIN EXCLUSIVE")
                time.sleep(how["seconds"])

    def _settled(self, name: str, wanted: str) -> None:
        """Wait until the journal of the environment is closed."""
        end = time.monotonic() + _SETTLED_SECONDS
        with contextlib.ExitStack() as stack:
            shelf = self._client(stack).shelf("cut")
            while time.monotonic() < end:
                with contextlib.suppress(ClientError):
                    found = shelf.deployments(name)
                    if not any(d.state in _OPEN for d in found):
                        self.ended["in place" if found[0].state == "recorded" else "undone"] += 1
                        return
                time.sleep(0.1)
        self.problems.append(f"{name} was not settled in {_SETTLED_SECONDS:.0f} s")

    def _judge(self, moment: str, *, settled: bool = True) -> None:
        places = {n: {"sort": p.sort, "address": p.address, "tags": p.tags} for n, p in self.places.items()}
        path = self._service.data / "acknowledged.json"
        path.write_text(json.dumps({"commits": [], "environments": {}, "tags": {}, "places": places}))
        command = [sys.executable, str(JUDGE), *(["--settled"] if settled else []), str(self._service.data), str(path)]
        done = subprocess.run(command, capture_output=True, text=True, check=False)
        if done.returncode:
            self.problems += [f"{moment}: {line}" for line in (done.stdout + done.stderr).splitlines()[:5]]


def campaigns(runs: int, size: int) -> Iterator[CutShort]:
    """``runs`` promotions in campaigns of ``size``, each on a fresh service."""
    for seed in range(-(-runs // size)):
        yield CutShort(seed=seed, runs=min(size, runs - seed * size)).run()
