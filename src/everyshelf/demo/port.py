"""The port's office: a colleague there uses nothing but Git. A link that follows, a conflict to settle, and a build."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
from datetime import UTC, datetime, timedelta
from pathlib import Path

from everyshelf.client import ChangeRequest, CommitMessage, ShelfClient
from everyshelf.demo.route import Platform

LINK, REPOSITORY = "port-office", "timetable.git"
BERTHS, PIERS = "oskar/summer-berths", "oskar/pier-names"
_FARES = "data/fares.csv"
_SECRET = "tern-and-eider-4711"  # noqa: S105  (a demonstration on loopback)


class _Colleague:
    """Oskar Berg in his clone, at moments of the past."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def git(self, *arguments: str, days_ago: float = 0.0) -> None:
        """Run Git as he does."""
        moment = (datetime.now(UTC) - timedelta(days=days_ago)).strftime("%Y-%m-%dT%H:%M:%S+0200")
        environment = {**os.environ, "GIT_CONFIG_GLOBAL": os.devnull, "GIT_CONFIG_NOSYSTEM": "1"}
        for role in ("AUTHOR", "COMMITTER"):
            environment |= {f"GIT_{role}_NAME": "Oskar Berg", f"GIT_{role}_EMAIL": "oskar@port.example"}
            environment |= {f"GIT_{role}_DATE": moment}
        subprocess.run(["git", *arguments], cwd=self.folder, env=environment, capture_output=True, check=True)

    def commit(self, changes: dict[str, tuple[str, str]], summary: str, *, days_ago: float) -> None:
        """Replace a text in files, and commit."""
        for path, (old, new) in changes.items():
            file = self.folder / path
            text = file.read_bytes()
            assert old.encode() in text, (path, old)
            file.write_bytes(text.replace(old.encode(), new.encode(), 1))
        self.git("commit", "-q", "-a", "-m", summary, days_ago=days_ago)


def join_the_port(maren: ShelfClient, ines: ShelfClient, platform: Platform, repositories: Path) -> None:
    """Send, work there and here, fetch, and follow from then on; one conflict is left to settle."""
    bare = repositories / REPOSITORY
    subprocess.run(["git", "init", "-q", "--bare", "-b", "main", str(bare)], check=True, capture_output=True)
    subprocess.run(["git", "config", "http.receivepack", "true"], cwd=bare, check=True, capture_output=True)
    address = f"{platform.address}/git/{REPOSITORY}"
    maren.make_git_link(LINK, address, user="service", token=platform.service_token, joins=[("main", "main")])
    maren.wait(maren.send_git_link(LINK))
    with tempfile.TemporaryDirectory(prefix="everyshelf-port-") as folder:
        oskar = _Colleague(Path(folder))
        signed = address.replace("://", f"://oskar:{platform.purser_token}@")
        oskar.git("clone", "-q", signed, ".")
        zone, fare = _first_fare(oskar.folder / _FARES)
        oskar.git("checkout", "-q", "-b", BERTHS)
        oskar.commit({_FARES: (fare, f"{zone},adult,5.40,")}, "SK-251: berths cost more in summer", days_ago=2)
        oskar.git("push", "-q", "origin", BERTHS)
        oskar.git("checkout", "-q", "-b", PIERS, "main")
        oskar.commit(
            {"shelf.toml": ("\n", "\n# Piers are named as the port names them.\n")}, "Names of piers", days_ago=1
        )
        oskar.git("push", "-q", "origin", PIERS)
        maren.change_git_link(LINK, joins=[("main", "main"), (BERTHS, BERTHS), (PIERS, PIERS)])
        maren.wait(maren.fetch_git_link(LINK))
        _change_fare(ines, f"{zone},adult,5.40,", f"{zone},adult,5.25,", "Berths: agreed with the harbours")
        oskar.git("checkout", "-q", BERTHS)
        oskar.commit(
            {_FARES: (f"{zone},adult,5.40,", f"{zone},adult,5.50,")}, "SK-251: what the port asks", days_ago=0.1
        )
        oskar.git("push", "-q", "origin", BERTHS)
    maren.wait(maren.fetch_git_link(LINK))
    maren.change_git_link(LINK, follows=True)


def _first_fare(file: Path) -> tuple[str, str]:
    """The zone of the first row, and the beginning of that row up to the fare."""
    row = file.read_text(encoding="utf-8-sig").splitlines()[1]
    zone, kind, fare = row.split(",")[:3]
    return zone, f"{zone},{kind},{fare},"


def _change_fare(shelf: ShelfClient, old: str, new: str, summary: str) -> None:
    data = shelf.read(_FARES, BERTHS).replace(old.encode(), new.encode(), 1)
    change = ChangeRequest(_FARES, shelf.upload(data).id)
    shelf.commit(BERTHS, shelf.branch(BERTHS).head, [change], CommitMessage(summary, tasks=["SK-251"]))


def let_builds_run(maren: ShelfClient, address: str, token: str, platform: Platform, settings: Path) -> None:
    """A webhook to the build server, which reads from ``settings`` what it runs; tasks that are found in summaries."""
    environment = {"EVERYSHELF_ADDRESS": address, "EVERYSHELF_TOKEN": token, "EVERYSHELF_SHELF": maren.key}
    command = [sys.executable, "-m", "everyshelf.demo.fare_build"]
    settings.write_text(json.dumps({"secret": _SECRET, "command": command, "environment": environment}))
    settings.chmod(0o600)
    maren.make_webhook("builds", f"{platform.address}/builds", ["commit", "git"], secret=_SECRET)
    maren.change_tasks(pattern="SK-[0-9]+", address="https://tasks.skerry.example/{task}")
