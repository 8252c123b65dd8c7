"""Values with defaults; a test names only what matters to it."""

from __future__ import annotations

import contextlib
import itertools
import json
import os
import pty
import subprocess
import sys
import tempfile
import termios
import unittest
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import msgspec

from everyshelf.client import ChangeRequest, Client, Commit, ShelfClient
from everyshelf.core.answers.base import as_builtins
from everyshelf.core.answers.comparisons import ComparisonAnswer
from everyshelf.core.compare.artifact import ArtifactSide, compare_artifacts
from everyshelf.core.compare.options import CompareOptions
from everyshelf.core.kinds.rules import Rules, parse_rules
from everyshelf.core.reading.tasks import outline_of
from everyshelf.core.tables.given import Given
from tests.support.prefork import prefork
from tests.support.service import PASSWORD, Service, shared_service

_numbers = itertools.count(1)


def compared(
    before: Any,
    after: Any,
    name: str = "thing.json",
    *,
    old_name: str = "",
    rules: str | Rules = "",
    kind: str | None = None,
    key: Sequence[str] = (),
) -> dict[str, Any]:
    """The comparison of two values (as JSON) or two byte strings, in its JSON form; ``rules``: a shelf.toml."""
    given = ((old_name or name, before), (name, after))
    old, new = (ArtifactSide(n, v if isinstance(v, bytes) else json.dumps(v).encode()) for n, v in given)
    options = CompareOptions(parse_rules(rules) if isinstance(rules, str) else rules, kind, tuple(key))
    return compare_artifacts(old, new, options).as_json()


def as_answer(found: dict[str, Any]) -> ComparisonAnswer:
    """A comparison in its JSON form as the answer it came from."""
    return msgspec.convert(found, ComparisonAnswer)


def outlined(given: Given, rules: Rules | None = None, kind: str | None = None) -> dict[str, Any]:
    """The outline of a file, in its JSON form."""
    told: dict[str, Any] = as_builtins(outline_of(given, rules or Rules(), kind))
    return told


def told(found: dict[str, Any], *, cosmetic: bool = False) -> list[tuple[Any, ...]]:
    """Findings as (action, part, field, before, after), without cosmetic ones unless asked for."""
    return [
        (f["action"], f["part"], f.get("field"), f["before"], f["after"])
        for f in found["findings"]
        if cosmetic or f["effect"] != "cosmetic"
    ]


class ServiceCase(unittest.TestCase):
    """A test with a shelf of its own on the shared service."""

    service: Service
    client: Client

    @classmethod
    def setUpClass(cls) -> None:
        cls.service = shared_service()
        cls.client = cls.service.client()
        cls.addClassCleanup(cls.client.close)

    def setUp(self) -> None:
        self.shelf = self.make_shelf()

    def make_shelf(self) -> ShelfClient:
        made = self.client.make_shelf(f"Shelf {next(_numbers)} of {type(self).__name__}")
        return self.client.shelf(made.key)

    def client_of(self, person: str, scopes: list[str] | None = None) -> Client:
        client = self.service.client(person, scopes)
        self.addCleanup(client.close)
        return client

    def put(self, files: dict[str, bytes | None], summary: str = "A change", branch: str = "main") -> Commit:
        return commit_files(self.shelf, files, summary, branch)


def commit_files(shelf: ShelfClient, files: dict[str, bytes | None], summary: str, branch: str = "main") -> Commit:
    """Upload and commit; None removes."""
    changes = [ChangeRequest(p, shelf.upload(d).id if d is not None else None) for p, d in files.items()]
    return shelf.commit(branch, shelf.branch(branch).head, changes, summary)


class Terminal:
    """The command line as a person has it: a folder, a connection, and real processes."""

    def __init__(self, case: unittest.TestCase, service: Service, person: str = "owner") -> None:
        self.home = Path(tempfile.mkdtemp(prefix="es-desk-"))
        case.addCleanup(lambda: subprocess.run(["rm", "-rf", str(self.home)], check=False))
        self.folder = self.home
        self.environment = {
            **os.environ,
            "EVERYSHELF_CONFIG": str(self.home / "config"),
            "EVERYSHELF_PASSWORD": PASSWORD,
            "EVERYSHELF_ADDRESS": service.address,
            "NO_COLOR": "1",
        }
        self.run("connect", service.address, "--name", person, "--scope", "promote", "--scope", "admin")

    def set(self, name: str, value: str) -> None:
        """Set a variable for the commands that follow."""
        self.environment[name] = value

    def run(self, *arguments: str, code: int = 0) -> subprocess.CompletedProcess[str]:
        """Run a command; fails the test unless it ends with ``code``."""
        returned, out, err = prefork().run(list(arguments), self.folder, self.environment)
        done = subprocess.CompletedProcess(list(arguments), returned, out, err)
        if done.returncode != code:
            raise AssertionError(f"{arguments} ended with {done.returncode}:\n{done.stdout}\n{done.stderr}")
        return done

    def seen(self, *arguments: str, columns: int) -> str:
        """What a command writes to a terminal of so many columns."""
        master, slave = pty.openpty()
        termios.tcsetwinsize(slave, (40, columns))
        command = [sys.executable, "-P", "-m", "everyshelf.cli.main", *arguments]  # a desk may have an http/__init__.py
        environment = {name: value for name, value in self.environment.items() if name != "COLUMNS"}
        process = subprocess.Popen(
            command, cwd=self.folder, env=environment, stdin=slave, stdout=slave, stderr=subprocess.DEVNULL
        )
        os.close(slave)
        pieces = []
        with contextlib.suppress(OSError), os.fdopen(master, "rb", buffering=0) as screen:
            while piece := screen.read(1 << 16):  # OSError: the other end was closed
                pieces.append(piece)
        process.wait()
        return b"".join(pieces).decode().replace("\r\n", "\n")

    def start(self, *arguments: str) -> subprocess.Popen[str]:
        """A command that goes on; its output is a pipe."""
        return subprocess.Popen(
            [sys.executable, "-u", "-m", "everyshelf.cli.main", *arguments],
            cwd=self.folder,
            env=self.environment,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
        )

    def json(self, *arguments: str, code: int = 0) -> Any:
        """Run a command with --json and parse the one document it prints."""
        return json.loads(self.run(*arguments, "--json", code=code).stdout)

    def write(self, path: str, data: bytes) -> None:
        target = self.folder / path
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_bytes(data)
