"""Builds the scenario on a running service, through its client."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import ExitStack
from datetime import UTC, datetime, timedelta
from pathlib import Path

from everyshelf.client import ChangeRequest, Client, CommitMessage, ShelfClient
from everyshelf.demo.archive import FOLDER, register_archive, write_archive
from everyshelf.demo.office import pairs
from everyshelf.demo.passages import passages
from everyshelf.demo.port import join_the_port, let_builds_run
from everyshelf.demo.records import make_records_route
from everyshelf.demo.route import Platform, make_route, set_gates
from everyshelf.demo.story import Act, acts
from everyshelf.demo.together import work_together

SHELF = "skerry-line"
OFFICE = "ticket-office"
PEOPLE = {"maren": "Maren Holt", "ines": "Ines Vale", "tobias": "Tobias Reyne"}
ROLES = {"ines": "keeper", "tobias": "author"}
PASSWORD = "skerry-line-demo"  # noqa: S105  (a demonstration on loopback, printed to whoever starts it)
SCOPES = ["read", "write", "promote", "admin", "import"]

Tell = Callable[[int, int, str], None]


def build(address: str, platform: Platform, data: Path, tell: Tell) -> None:
    """People, shelf, environments, and four weeks of history; the first person must exist already. ``data``: where the
    stand-in keeps repositories and reads what to build, and the archive of the timetable."""
    write_archive(data / FOLDER)
    with Client(address) as fresh:
        value = fresh.sign_in_for_token("maren", PASSWORD, "demo", SCOPES, 1).value
    with Client(address, value) as client:
        for name in ROLES:
            client.add_person(name, PEOPLE[name], PASSWORD)
        client.make_shelf("Skerry Line", description="Timetables, fares and notices of the island ferries", key=SHELF)
        shelf = client.shelf(SHELF)
        for name, role in ROLES.items():
            shelf.set_member(name, role)
        make_route(shelf, platform)
        _history(shelf, tell)
        _office(client)
        register_archive(client, data / FOLDER, ROLES)
        shelf.guard_branch("main")
        set_gates(shelf, platform)
        make_records_route(shelf)
        with ExitStack() as stack:
            people = {"maren": shelf}
            for name in ROLES:
                own = Client(address, _token(address, name))
                stack.enter_context(own)
                people[name] = own.shelf(SHELF)
            work_together(people.__getitem__)
            builds = _token(address, "maren", "builds", 365)
            let_builds_run(shelf, address, builds, platform, data / "builds.json")
            join_the_port(shelf, people["ines"], platform, data / "repositories")
            for name in ROLES:
                _forget(address, name)
        client.revoke_token("demo")


def _token(address: str, name: str, called: str = "demo", days: int = 1) -> str:
    with Client(address) as fresh:
        return fresh.sign_in_for_token(name, PASSWORD, called, ["read", "write"], days).value


def _forget(address: str, name: str) -> None:
    with Client(address, _token(address, name)) as client:
        client.revoke_token("demo")


def _office(client: Client) -> None:
    """A second, small shelf: every other format that is read, in two versions tagged easter and summer."""
    about = "The ticket office: one artifact in every format that is read, each in two versions"
    client.make_shelf("Ticket office", description=about, key=OFFICE)
    shelf = client.shelf(OFFICE)
    for name, role in ROLES.items():
        shelf.set_member(name, role)
    now = datetime.now(UTC).replace(second=0, microsecond=0)
    for days, tag, summary in ((40, "easter", "Everything the office uses"), (3, "summer", "Summer tickets")):
        is_later = tag == "summer"
        files = {pair.path: pair.after if is_later else pair.before for pair in pairs()} | passages(later=is_later)
        wanted = [ChangeRequest(path, shelf.upload(data).id) for path, data in files.items()]
        when = now - timedelta(days=days)
        shelf.commit("main", shelf.branch("main").head, wanted, CommitMessage(summary, author="tobias", time=when))
        shelf.make_tag(tag, "main", summary, created=when, created_by="tobias")


def _history(shelf: ShelfClient, tell: Tell) -> None:
    story = list(acts())
    for done, act in enumerate(story):
        tell(done, len(story), act.summary)
        _ACTIONS[act.do](shelf, act, _moment(act))


def _moment(act: Act) -> datetime:
    today = datetime.now(UTC).replace(second=0, microsecond=0)
    hour, minute = map(int, act.clock.split(":"))
    moment = (today - timedelta(days=act.days_ago)).replace(hour=hour, minute=minute)
    return min(moment, today - timedelta(minutes=1))


def _commit(shelf: ShelfClient, act: Act, when: datetime) -> None:
    changes = []
    for path, data in act.files.items():
        content = shelf.upload(data).id if data is not None else None
        changes.append(ChangeRequest(path, content, act.moved.get(path, "")))
    shelf.commit(
        act.branch,
        shelf.branch(act.branch).head,
        changes,
        CommitMessage(act.summary, labels=act.labels, tasks=act.tasks, author=act.who, time=when),
    )


def _branch(shelf: ShelfClient, act: Act, when: datetime) -> None:
    shelf.make_branch(act.branch, act.target, act.summary)


def _merge(shelf: ShelfClient, act: Act, when: datetime) -> None:
    shelf.merge(act.branch, act.target, delete_source=True, summary=act.summary, author=act.who, time=when)


def _tag(shelf: ShelfClient, act: Act, when: datetime) -> None:
    shelf.make_tag(act.target, "main", act.summary, created=when, created_by=act.who)


def _promote(shelf: ShelfClient, act: Act, when: datetime) -> None:
    shelf.wait(shelf.promote(act.target, act.branch, reason=act.summary, at=when, who=act.who))


def _rollback(shelf: ShelfClient, act: Act, when: datetime) -> None:
    shelf.wait(shelf.roll_back(act.branch, reason=act.summary, at=when, who=act.who))


_ACTIONS = {
    "commit": _commit,
    "branch": _branch,
    "merge": _merge,
    "tag": _tag,
    "promote": _promote,
    "rollback": _rollback,
}
