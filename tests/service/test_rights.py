"""Every route × every role, a stranger and nobody × a private and an open shelf, against one table of what is expected.

The table names each operation of the interface; a route without a row fails. ``least`` is who may: below that a person
who may see the shelf is refused (403), and who may not see it is told that there is no such shelf (404).
"""

from __future__ import annotations

import itertools
import unittest
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import httpx

from everyshelf.client import ChangeRequest, ProblemError, Saving, ShelfClient
from tests.support.git import git
from tests.support.service import Service, shared_service

ROLES = ("reader", "author", "keeper", "owner")
PEOPLE = ("nobody", "stranger", *ROLES)
WRITERS = ROLES[1:]
_runs = itertools.count(1)


@dataclass(frozen=True)
class Row:
    """Who may, what is sent (templates are filled from the world), and what is answered to who may."""

    least: str
    ok: int | tuple[int, ...] = 200
    query: dict[str, Any] = field(default_factory=dict)
    body: Any = None
    path: dict[str, str] = field(default_factory=dict)


A = {"path": "a.json"}
T = {"path": "t.csv"}
CHANGE = [{"path": "new-{who}.txt", "content": "{content}"}]

# Read as: see at least so much; the first word is decision 12's role.
ROWS: dict[str, Row] = {
    # --- reader: see, compare, download, remark ---
    "shelves_get": Row("reader"),
    "shelf_store_get": Row("reader"),
    "artifacts_list": Row("reader"),
    "artifacts_summary": Row("reader"),
    "artifact_get": Row("reader", query=A),
    "artifact_history": Row("reader", query=A),
    "artifact_outline": Row("reader", query=A),
    "artifact_origins": Row("reader", query=A),
    "artifact_forms": Row("reader", query={**A, "line": "1"}),
    "artifact_drawing": Row("reader", query=A),
    "artifact_uses": Row("reader", query=A),
    "artifact_lineage": Row("reader", query=A),
    "artifact_lineage_report": Row("reader", query=A),
    "artifact_unfolded": Row("reader", query={"path": "n.ipynb"}),
    "artifact_unfolded_file": Row("reader", query={"path": "n.ipynb"}),
    "artifact_text": Row("reader", query=A),
    "artifact_file": Row("reader", query=A),
    "artifacts_zip": Row("reader"),
    "artifact_cells": Row("reader", query=T),
    "artifact_rows": Row("reader", query=T),
    "contents_get": Row("reader", path={"identity": "{content}"}),
    "contents_missing": Row("reader", body={"ids": ["{content}"]}),
    "contents_read_many": Row("reader", body={"ids": ["{content}"]}),
    "commits_list": Row("reader"),
    "commits_get": Row("reader", path={"uid": "{commit}"}),
    "commits_places": Row("reader", path={"uid": "{commit}"}),
    "commits_undoing": Row("reader", path={"uid": "{commit}"}),
    "artifact_places": Row("reader", query=A),
    "history_report": Row("reader"),
    "compare_parted": Row("reader", query={"from": "tag:first"}),
    "compare_states": Row("reader", query={"from": "tag:first"}),
    "compare_artifact": Row("reader", query={**A, "from": "tag:first"}),
    "compare_drawing": Row("reader", query={**A, "from": "tag:first"}),
    "compare_rows": Row("reader", query={**T, "from": "tag:first"}),
    "compare_report": Row("reader", query={**A, "from": "tag:first"}),
    "parcels_pack": Row("reader", query={"ref": "tag:first"}),
    "branches_list": Row("reader"),
    "branches_get": Row("reader", path={"name": "main"}),
    "lines_get": Row("reader"),
    "tags_list": Row("reader"),
    "tags_get": Row("reader", path={"name": "first"}),
    "merges_list": Row("reader"),
    "merges_get": Row("reader", path={"uid": "{merge}"}),
    "merges_drawing": Row("reader", path={"uid": "{merge}"}, query={"path": "flow.json"}),
    "merges_so_far": Row("reader", path={"uid": "{merge}"}, query={"path": "a.json"}),
    "members_list": Row("reader"),
    "log_shelf": Row("reader"),
    "checks_list": Row("reader"),
    "drafts_list": Row("reader"),
    "drafts_keeping": Row("reader"),
    "environments_list": Row("reader"),
    "environments_get": Row("reader", path={"name": "dev"}),
    "deployments_list": Row("reader", path={"name": "dev"}),
    "environments_rehearse": Row("reader", path={"name": "dev"}, body={"tag": "first"}),
    "environments_report": Row("reader", path={"name": "dev"}, query={"tag": "first"}),
    "deployments_report": Row("reader", path={"name": "past", "number": "1"}),
    "environments_drift": Row("reader", path={"name": "dev"}),
    "environments_compare": Row("reader", path={"name": "dev", "other": "dev"}),
    "environments_look": Row("reader", path={"name": "dev"}),
    "bindings_list": Row("reader", path={"name": "dev"}),
    "reviews_list": Row("reader", path={"name": "dev"}, query={"tag": "first"}),
    "proposals_list": Row("reader"),
    "proposals_get": Row("reader", path={"number": "1"}),
    "proposals_remark": Row("reader", 201, path={"number": "1"}, body={"text": "by {who}"}),
    "proposals_settle_remark": Row("keeper", path={"number": "1", "uid": "{remark}"}, body={"settled": True}),
    "experiments_list": Row("reader"),
    "experiments_get": Row("reader", path={"key": "tides"}),
    "experiments_courses": Row("reader", path={"key": "tides"}, query={"metric": "error"}),
    "shelves_verify": Row("author", 202),
    "git_commits": Row("reader"),
    "news_shelf": Row("reader"),
    "views_list": Row("reader"),
    "views_save": Row("reader", body={"name": "by {who}", "address": "/history"}),
    "views_remove": Row("reader", (200, 404), query={"name": "by {who}"}),
    "in_place_list": Row("reader"),
    "in_place_add": Row("keeper", 202, body={"path": "in-place-{who}", "address": "/nowhere"}),
    "in_place_check": Row("keeper", 202, body={}),
    "in_place_credentials_list": Row("keeper"),
    "in_place_credentials_set": Row("keeper", body={"address": "http://127.0.0.1/x", "secret": "s"}),
    "in_place_credentials_remove": Row("keeper", (200, 404), query={"place": "http://127.0.0.1"}),
    "news_look": Row("reader", body={"entry": 0}),
    "followed_list": Row("reader"),
    "followed_add": Row("reader", body={"artifact": "a.json"}),
    "followed_stop": Row("reader", body={"artifact": "a.json"}),
    "tasks_list": Row("reader"),
    "tasks_show": Row("reader", path={"task": "SK-1"}),
    "git_links_list": Row("reader"),
    "git_links_show": Row("reader", path={"link": "office"}),
    # --- author: also drafts, commits, branches, experiments, proposals ---
    "contents_put": Row("author", (200, 201), body=b"uploaded by {who}"),
    "contents_put_many": Row("author", (200, 201), body=b"\0\0\0\0\0\0\0\x03one"),
    "contents_edit": Row("author", 201, body={**A, "content": "{json}", "text": '{{"a": 2}}'}),
    "contents_fold": Row("author", 400, body={"content": "{content}"}),
    "commits_make": Row(
        "author", 201, body={"branch": "work-{who}", "base": "{commit}", "changes": CHANGE, "summary": "By {who}"}
    ),
    "drafts_save": Row("author", body={"branch": "open", "entries": CHANGE}),
    "drafts_unpack": Row("author", 400, body={"branch": "open", "content": "{content}"}),
    "drafts_points": Row("reader", (200, 404), query={"branch": "open"}),
    "drafts_discard": Row("author", body={"branch": "open"}),
    "drafts_restore": Row("author", body={"branch": "open", "point": 1}),
    "drafts_commit": Row("author", 201, body={"branch": "open", "summary": "By {who}"}),
    "branches_make": Row("author", 201, body={"name": "made/{who}"}),
    "branches_merge": Row("author", body={"source": "work-{who}", "target": "open"}),
    "shelves_restore": Row("author", 201, body={"branch": "back-{who}", "ref": "tag:first", "path": "a.json"}),
    "commits_undo": Row("author", 201, path={"uid": "{commit}"}, body={"branch": "back-{who}"}),
    "artifacts_copy": Row(
        "author", 201, body={"shelf": "{shelf}", "path": "a.json", "to": "copy-{who}.json", "branch": "open"}
    ),
    "checks_record": Row("author", 201, body={"name": "smoke", "passed": True}),
    "proposals_open": Row("author", 201, body={"title": "By {who}", "source": "prop-{who}", "target": "open"}),
    "proposals_verdict": Row("author", 201, path={"number": "{judged}"}, body={"verdict": "agree"}),
    "experiments_begin": Row("author", 201, body={"question": "Does it by {who}?", "key": "q-{who}"}),
    "experiments_change": Row("author", path={"key": "tides"}, body={"primary": "error"}),
    "experiments_record_run": Row("author", 201, path={"key": "tides"}, body={"branch": "open", "commit": "{commit}"}),
    "experiments_abandon": Row("author", path={"key": "leave-{who}"}, body={"reason": "asked already"}),
    "experiments_adopt": Row("author", path={"key": "take-{who}"}, body={}),
    "reviews_give": Row("author", 201, path={"name": "dev"}, body={"tag": "first", "agrees": True}),
    # A trial environment is its maker's: each has one.
    "environments_try": Row("author", 201, body={"name": "try-{who}", "tag": "first"}),
    "environments_try_draft": Row("author", 202, path={"name": "try-{who}"}, body={"branch": "open"}),
    "git_links_test": Row("author", path={"link": "office"}),
    "git_links_look": Row("author", 202, path={"link": "office"}),
    "git_links_send": Row("author", 202, path={"link": "office"}),
    "git_links_fetch": Row("author", 202, path={"link": "office"}),
    # --- keeper: also guarded branches, tags, promotions, others' proposals ---
    "merges_settle": Row("keeper", path={"uid": "{merge}"}, body={"decisions": [{"take": "target"}]}),
    "proposals_change": Row("keeper", path={"number": "1"}, body={"title": "By {who}"}),
    "tags_make": Row("keeper", 201, body={"name": "tag-{who}"}),
    "environments_places": Row("author", query={"name": "quay"}),
    "environments_make": Row("keeper", 201, body={"name": "env-{who}"}),
    "environments_change": Row("keeper", path={"name": "dev"}, body={"note": "by {who}"}),
    "bindings_set": Row("keeper", path={"name": "dev"}, body={"name": "HARBOUR_ROLE", "value": "{who}"}),
    "bindings_remove": Row("keeper", (204, 404), path={"name": "dev"}, query={"name": "HARBOUR_ROLE"}),
    "environments_capture": Row("keeper", (200, 409), path={"name": "dev"}, body={"branch": "open"}),
    "environments_promote": Row("keeper", 202, path={"name": "dev"}, body={"tag": "first"}),
    "environments_roll_back": Row("keeper", (202, 400, 409), path={"name": "dev"}, body={}),
    "environments_remove": Row("keeper", 204, path={"name": "env-{who}"}),
    # A proposal into a guarded branch, and the end of a merge into one, are a keeper's; each has its own.
    "proposals_merge": Row("keeper", path={"number": "{own}"}, body={"reason": "to see who may"}),
    "merges_finish": Row("keeper", 201, path={"uid": "{merge}"}, body={}),
    "merges_abandon": Row("keeper", (204, 409), path={"uid": "{merge}"}),
    # --- owner: also people, guarding, settings ---
    "branches_change": Row("owner", path={"name": "open"}, body={"guarded": False}),
    "drafts_change_keeping": Row("owner", body={"drafts": 60}),
    "members_set": Row("owner", body={"person": "reader", "role": "reader"}),
    "invitations_list": Row("owner"),
    "invitations_make": Row("owner", 201, body={"role": "reader"}),
    "invitations_withdraw": Row("owner", 204, path={"uid": "{invitation}"}),
    "members_remove": Row("owner", 204, path={"name": "guest"}),
    "shelf_store_change": Row("owner", body={"store": "main"}),
    "shelves_change": Row("owner", body={"description": "by {who}"}),
    "tasks_change": Row("owner", body={"pattern": "SK-[0-9]+"}),
    "webhooks_list": Row("owner"),
    "webhooks_make": Row("owner", 201, body={"name": "hook-{who}", "address": "http://127.0.0.1:9/{who}"}),
    "webhooks_show": Row("owner", path={"webhook": "builds"}),
    "webhooks_change": Row("owner", path={"webhook": "builds"}, body={"about": ["tag"]}),
    "webhooks_test": Row("owner", path={"webhook": "builds"}),
    "webhooks_deliveries": Row("owner", path={"webhook": "builds"}),
    "webhooks_send_again": Row("owner", path={"webhook": "builds", "event": "{event}"}),
    "webhooks_remove": Row("owner", 204, path={"webhook": "hook-{who}"}),
    "git_links_make": Row("owner", 201, body={"name": "link-{who}", "address": "{bare}"}),
    "git_links_change": Row("owner", path={"link": "office"}, body={"every_seconds": 60}),
    "git_links_calls": Row("owner", 201, path={"link": "office"}),
    "git_links_remove": Row("owner", 204, path={"link": "link-{who}"}),
    # Last: an author may drop a branch that is not guarded.
    "branches_delete": Row("author", 204, path={"name": "drop/{who}"}),
    # --- whoever is signed in ---
    "shelves_list": Row("signed in"),
    "shelves_make": Row("signed in", 201, body={"name": "Made by {asking} {run}"}),
    "tokens_list": Row("signed in"),
    "tokens_make": Row("signed in", 201, body={"name": "matrix {run}", "scopes": ["read"]}),
    "tokens_revoke": Row("signed in", 204, path={"name": "matrix {run}"}),
    "log_own": Row("signed in"),
    "waiting_list": Row("signed in"),
    "news_list": Row("signed in"),
    "find_list": Row("signed in", query={"words": "anything"}),
    "jobs_get": Row("signed in", 404, path={"uid": "none"}),
    "jobs_cancel": Row("signed in", 404, path={"uid": "none"}),
    "query": Row("reader", query={"sql": "SELECT 1"}),
    "query_file": Row("reader", query={"sql": "SELECT 1"}),
    "locations_list": Row("staff"),
    "locations_share": Row("staff", 404, body={"address": "{bare}", "shelf": "nowhere"}),
    "locations_unshare": Row("staff", 404, query={"address": "{bare}", "shelf": "nowhere"}),
    "backups_list": Row("staff"),
    "backups_make": Row("staff", 400),
    "stores_list": Row("signed in"),
    "stores_make": Row("staff", 201, body={"name": "rights-{run}", "to": "folder"}),
    "stores_remove": Row("staff", 404, path={"name": "nowhere"}),
    "storage_state": Row("staff"),
    "storage_tidy": Row("staff", 202),
    "storage_unused": Row("staff"),
    "storage_move": Row("staff", 202, body={"to": "folder"}),
    "people_list": Row("staff"),
    "people_change": Row("staff", path={"name": "stranger"}, body={"active": True}),
    "people_reset_password": Row("staff", 404, path={"name": "nobody-of-that-name"}),
    "people_end_sessions": Row("signed in", path={"name": "{asking}"}),
    "session_password": Row("signed in", 400),
    "people_add": Row("staff", 201, body={"name": "p{run}", "full_name": "P", "password": "a-long-password"}),
    # --- anybody ---
    "git_links_called": Row("anybody", 400, path={"link": "office"}),
    "session_get": Row("anybody"),
    "session_begin": Row("anybody", 401, body={"name": "{asking}-{run}", "password": "wrong-password"}),
    "session_end": Row("anybody", 204),
    "session_token": Row(
        "anybody", 401, body={"name": "{asking}-{run}", "password": "wrong", "token_name": "t", "scopes": ["read"]}
    ),
    "invitations_look": Row("anybody", 404, body={"invitation": "join_none"}),
    "invitations_accept": Row("anybody", 404, body={"invitation": "join_none"}),
}


class World:
    """A shelf on which every row finds what it asks for, for each person their own where it is used up."""

    def __init__(self, service: Service, *, is_open: bool) -> None:
        owner = service.client()
        self.run = next(_runs)
        self.names: dict[str, Any] = {"run": self.run}
        made = owner.make_shelf(f"Rights {'open' if is_open else 'private'} {self.run}", open_to_all=is_open)
        self.shelf = shelf = owner.shelf(made.key)
        for role in ("reader", "author", "keeper"):
            shelf.set_member(role, role)
        first = {"a.json": b'{"a": 1}', "t.csv": b"id,n\n1,2\n2,3\n", "n.ipynb": NOTEBOOK}
        self.commit(shelf, "main", first, "First")
        shelf.make_tag("first")
        self.commit(shelf, "main", {"a.json": b'{"a": 1, "b": 2}', "t.csv": b"id,n\n1,2\n2,4\n"}, "Second")
        head = shelf.branch("main").head
        for name in (
            "open",
            "clash",
            *(f"{what}{who}" for what in ("work-", "back-", "prop-", "drop/", "own-") for who in WRITERS),
        ):
            shelf.make_branch(name)
        for who in WRITERS:
            self.commit(shelf, f"prop-{who}", {f"p-{who}.txt": b"1"}, "Proposed")
            self.commit(shelf, f"own-{who}", {f"o-{who}.txt": b"1"}, "Proposed")
            for key in ("leave", "take"):
                shelf.begin_experiment("Does it?", key=f"{key}-{who}")
            self.commit(shelf, f"owner/take-{who}", {f"e-{who}.txt": b"1"}, "Tried")
        self.commit(shelf, "clash", {"a.json": b'{"a": 1, "b": 3}'}, "Clash")
        shelf.make_environment("dev")
        shelf.make_environment("past", route="aside")
        shelf.wait(shelf.promote("first", "past"))
        bare = service.repositories / f"rights-{self.run}.git"
        git("init", "-q", "--bare", str(bare), folder=service.data)
        shelf.make_git_link("office", str(bare))
        shelf.make_webhook("builds", "http://127.0.0.1:9/events", ["check"])
        event = shelf.test_webhook("builds").event
        shelf.change_tasks(pattern="SK-[0-9]+")
        shelf.begin_experiment("Does the tide matter?", key="tides", branch="open")
        proposal = shelf.open_proposal("One", "clash")
        numbers = {who: shelf.open_proposal(f"Own of {who}", f"own-{who}")["number"] for who in WRITERS}
        self.commit(shelf, "main", {"a.json": b'{"a": 1, "b": 4}'}, "SK-1: third")
        merges = {who: self.waiting(shelf, who) for who in WRITERS}
        shelf.guard_branch("main")
        invitations = {who: shelf.invite("reader").id for who in PEOPLE}
        with service.client("keeper") as keeper:
            made_by_keeper = keeper.shelf(made.key).open_proposal("Of the keeper", "clash", "open")
        judged = made_by_keeper["number"]
        remark = shelf.remark(proposal["number"], "A remark")["remarks"][0]["id"]
        content = shelf.upload(b"a content")
        self.names |= {
            "shelf": made.key,
            "commit": head,
            "content": content.id,
            "json": shelf.artifact("a.json").content,
            "remark": remark,
            "bare": str(bare),
            "event": event,
        }
        self.own = {
            who: {
                # Those who may change nothing ask for what is there for an author, so that only rights stop them.
                "who": who if who in WRITERS else "author",
                "asking": who,
                "judged": judged if who == "owner" else proposal["number"],
                "merge": merges.get(who, merges["owner"]),
                "own": numbers.get(who, 1),
                "invitation": invitations[who],
            }
            for who in PEOPLE
        }
        owner.close()

    def waiting(self, shelf: ShelfClient, who: str) -> str:
        """A merge that waits, into a branch that is guarded then."""
        source, target = f"clash-{who}", f"kept-{who}"
        for name in (source, target):
            shelf.make_branch(name)
        self.commit(shelf, source, {"a.json": b'{"a": 1, "b": 8}'}, "One")
        self.commit(shelf, target, {"a.json": b'{"a": 1, "b": 9}'}, "Other")
        try:
            shelf.merge(source, target)
        except ProblemError as error:
            shelf.guard_branch(target)
            return str(error.problem["merge"])
        raise AssertionError("it merged")

    def commit(self, shelf: ShelfClient, branch: str, files: dict[str, bytes], summary: str) -> None:
        changes = [ChangeRequest(path, shelf.upload(data).id) for path, data in files.items()]
        shelf.commit(branch, shelf.branch(branch).head, changes, summary)

    def filled(self, value: Any, who: str) -> Any:
        if isinstance(value, dict):
            return {k: self.filled(v, who) for k, v in value.items()}
        if isinstance(value, list):
            return [self.filled(v, who) for v in value]
        if isinstance(value, bytes):
            return self.filled(value.decode(), who).encode()
        return value.format(**self.names, **self.own[who]) if isinstance(value, str) else value


NOTEBOOK = b'{"cells": [{"cell_type": "code", "id": "a", "metadata": {}, "outputs": [], "source": "1"}], "metadata": {}, "nbformat": 4, "nbformat_minor": 5}'


def expected(row: Row, who: str, *, is_open: bool, on_shelf: bool) -> tuple[int, ...]:
    """The answers that are right."""
    ok = row.ok if isinstance(row.ok, tuple) else (row.ok,)
    if row.least == "anybody":
        return ok
    if who == "nobody":
        return (401,)
    if row.least == "signed in":
        return ok
    if row.least == "staff":
        return ok if who == "owner" else (403,)
    assert on_shelf
    role = "reader" if who == "stranger" and is_open else who
    if role == "stranger":
        return (404,)
    return ok if ROLES.index(role) >= ROLES.index(row.least) else (403,)


class MatrixTests(unittest.TestCase):
    """One table, every cell asked over HTTP."""

    service: Service

    @classmethod
    def setUpClass(cls) -> None:
        cls.service = shared_service()
        cls.http = httpx.Client(base_url=f"{cls.service.address}/api/v1", trust_env=False, timeout=60)
        cls.addClassCleanup(cls.http.close)
        document = cls.http.get("/openapi", headers={"Accept": "application/json"}).json()
        cls.routes = {
            operation["operationId"]: (method, path.removeprefix("/api/v1"))
            for path, methods in document["paths"].items()
            for method, operation in methods.items()
        }

    def test_every_route_has_a_row(self) -> None:
        self.assertEqual(sorted(self.routes), sorted(ROWS))

    def test_private_shelf(self) -> None:
        self.asked(is_open=False)

    def test_open_shelf(self) -> None:
        self.asked(is_open=True)

    def asked(self, *, is_open: bool) -> None:
        world, wrong, cells = World(self.service, is_open=is_open), [], 0
        with self.service.client() as owner:
            guest = f"guest{world.run}"
            if owner.shelf(world.names["shelf"]).info().role == "owner":
                owner.add_person(guest, "Guest", "a-long-password-for-guests")
                owner.shelf(world.names["shelf"]).set_member(guest, "reader")
        for who in PEOPLE:
            token = self.service.token(who) if who != "nobody" else None
            for operation, row in ROWS.items():
                method, address = self.routes[operation]
                row_path = {**row.path, "name": guest} if operation == "members_remove" else row.path
                response = self.ask(world, who, token, method, address, row, row_path)
                right = expected(row, who, is_open=is_open, on_shelf="{shelf}" in address)
                cells += 1
                if response.status_code not in right:
                    wrong.append((operation, who, response.status_code, right, response.text[:160]))
                elif response.status_code == 403:
                    self.assertIn(response.json()["code"], ("rights.role", "rights.scope"), operation)
                elif response.status_code == 404 and right == (404,) and who == "stranger" and "{shelf}" in address:
                    self.assertEqual(response.json()["code"], "shelf.missing", operation)
        self.assertEqual(wrong, [], "\n".join(map(str, wrong)))
        self.assertGreater(cells, 500)

    def ask(
        self, world: World, who: str, token: str | None, method: str, address: str, row: Row, path: dict[str, str]
    ) -> httpx.Response:
        names = {"shelf": world.names["shelf"], **world.filled(path, who)}
        if "name" in names and "/tags/" not in address and "/branches/" not in address:
            names["name"] = names["name"].replace(" ", "%20")
        headers = {"Authorization": f"Bearer {token}"} if token else {}
        body = world.filled(row.body, who)
        options: dict[str, Any] = {"params": world.filled(row.query, who), "headers": headers}
        if isinstance(body, bytes):
            options["content"] = body
            headers["Content-Type"] = "application/octet-stream"
        elif method != "get" and method != "delete":
            options["json"] = body if body is not None else {}
        return self.http.request(method.upper(), address.format(**names), **options)


class ScopeTests(unittest.TestCase):
    """A token reaches no farther than its scopes, whatever its owner may."""

    def test_a_token_for_reading_writes_nothing(self) -> None:
        service = shared_service()
        with service.client() as owner:
            shelf = owner.shelf(owner.make_shelf(f"Scopes {next(_runs)}").key)
            content = shelf.upload(b"1").id
            shelf.commit("main", None, [ChangeRequest("a.txt", content)], "One")
            shelf.make_branch("try")
        with service.client("owner", ["read"]) as reading:
            seen: list[Callable[[ShelfClient], Any]] = [
                lambda s: s.upload(b"2"),
                lambda s: s.save("main", [Saving("a.txt", None)]),
                lambda s: s.make_branch("x"),
                lambda s: s.make_tag("x"),
                lambda s: s.set_member("reader", "reader"),
                lambda s: s.change(description="x"),
                lambda s: s.open_proposal("x", "try"),
                lambda s: s.begin_experiment("x?"),
                lambda s: s.record_check("x", True),
                lambda s: s.invite("reader"),
            ]
            for act in seen:
                with self.assertRaises(ProblemError) as caught:
                    act(reading.shelf(shelf.key))
                self.assertEqual(caught.exception.code, "rights.scope")

    def test_a_token_that_lacks_just_the_scope_needed(self) -> None:
        service = shared_service()
        with service.client() as owner:
            shelf = owner.shelf(owner.make_shelf(f"Scopes {next(_runs)}").key)
            shelf.commit("main", None, [ChangeRequest("a.txt", shelf.upload(b"1").id)], "One")
            shelf.make_tag("first")
            shelf.make_environment("dev")
        needed: dict[str, list[Callable[[ShelfClient], Any]]] = {
            "promote": [
                lambda s: s.make_tag("x"),
                lambda s: s.promote("first", "dev"),
                lambda s: s.make_environment("x"),
                lambda s: s.bind("dev", "NAME", "x"),
            ],
            "admin": [
                lambda s: s.set_member("reader", "reader"),
                lambda s: s.remove_member("reader"),
                lambda s: s.change(description="x"),
                lambda s: s.guard_branch("main"),
                lambda s: s.invite("reader"),
            ],
            "write": [lambda s: s.make_branch("x"), lambda s: s.upload(b"2"), lambda s: s.open_proposal("x", "main")],
        }
        for scope, acts in needed.items():
            others = [s for s in ("read", "write", "promote", "admin") if s != scope]
            with service.client("owner", others) as client:
                for act in acts:
                    with self.assertRaises(ProblemError) as caught:
                        act(client.shelf(shelf.key))
                    self.assertEqual(caught.exception.code, "rights.scope", scope)
