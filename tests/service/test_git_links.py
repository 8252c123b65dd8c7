"""Links to repositories: sent, fetched, followed; both sides changed; and why something failed."""

from __future__ import annotations

import hashlib
import hmac
import os
import shutil
import ssl
import subprocess
import tempfile
from pathlib import Path
from typing import Any

import httpx

from everyshelf.client import Job, ProblemError, ShelfClient
from tests.support.factories import ServiceCase, commit_files
from tests.support.git import TOKEN, GitServer, git_server, run_git
from tests.support.laws import SHARE, in_full
from tests.support.service import Service
from tests.support.waiting import until


class LinkCase(ServiceCase):
    """A shelf with a few commits, and a repository of somebody who uses only Git."""

    def setUp(self) -> None:
        super().setUp()
        self.put(
            {"data/fares.csv": b"zone,fare\nZ1,4\nZ2,5\nZ3,6\n", "apps/board.json": b'{"a": 1,\n "b": 2}\n'}, "First"
        )
        self.bare = self.make_bare()
        self.home = Path(tempfile.mkdtemp(prefix="es-clones-"))
        self.addCleanup(shutil.rmtree, self.home, ignore_errors=True)

    def make_bare(self) -> Path:
        bare = Path(tempfile.mkdtemp(prefix="bare-", dir=self.service.repositories))
        run_git("init", "-q", "--bare", "-b", "main", str(bare), folder=bare)
        return bare

    def clone(self, name: str = "clone", bare: Path | None = None) -> Path:
        run_git("clone", "-q", str(bare or self.bare), name, folder=self.home)
        return self.home / name

    def work(self, clone: Path, files: dict[str, bytes], message: str = "In Git") -> None:
        for path, data in files.items():
            (clone / path).parent.mkdir(parents=True, exist_ok=True)
            (clone / path).write_bytes(data)
        run_git("add", "-A", folder=clone)
        run_git("commit", "-q", "-m", message, folder=clone)
        run_git("push", "-q", "origin", "HEAD", folder=clone)

    def done(self, job: Job, shelf: ShelfClient | None = None) -> dict[str, Any]:
        return dict((shelf or self.shelf).wait(job).result or {})

    def send(self) -> dict[str, Any]:
        return self.done(self.shelf.send_git_link("office"))

    def fetch(self) -> dict[str, Any]:
        return self.done(self.shelf.fetch_git_link("office"))

    def tip(self, branch: str = "main", bare: Path | None = None) -> str:
        return run_git("rev-parse", branch, folder=bare or self.bare).stdout.strip()


class BothWaysTests(LinkCase):
    """One history, seen from both sides."""

    def test_sent_fetched_and_in_step(self) -> None:
        made = self.shelf.make_git_link("office", str(self.bare))
        self.assertEqual((made.state, made.way), ("new", "both"))
        tried = self.shelf.test_git_link("office")
        self.assertEqual((tried.branches_there, tried.would_send, tried.would_fetch), ([], 1, 0))
        self.assertEqual(self.send()["state"], "in step")
        clone = self.clone()
        self.work(clone, {"data/fares.csv": b"zone,fare\nZ1,4\nZ2,5\nZ3,7\n"}, "Dearer\n\nTask: SK-9")
        self.assertEqual(self.shelf.test_git_link("office").would_fetch, 1)
        self.assertEqual(self.done(self.shelf.look_git_link("office"))["state"], "behind")
        self.assertEqual(self.fetch()["state"], "in step")
        newest = next(iter(self.shelf.commits()))
        self.assertEqual((newest.summary, newest.author, newest.tasks), ("Dearer", "Purser", ["SK-9"]))
        shown = self.shelf.git_link("office")
        self.assertEqual(
            [(t.fetched, t.git) for t in shown.transfers], [(True, self.tip()), (False, self.tip("main~1"))]
        )

    def test_the_link_of_someone_who_left_waits_for_an_owner(self) -> None:
        self.shelf.set_member("keeper", "owner")
        theirs = self.client_of("keeper").shelf(self.shelf.key)
        theirs.make_git_link("office", str(self.bare))
        self.send()
        before = self.tip()
        self.shelf.set_member("keeper", "reader")
        self.put({"notes.md": b"# Not for everyone\n"}, "Later")
        for act in (self.send, self.fetch):
            with self.assertRaises(ProblemError) as caught:
                act()
            self.assertEqual(caught.exception.code, "link.maker")
        self.assertEqual(self.tip(), before)
        self.assertIn("no longer an owner", self.shelf.git_link("office").link.problem.detail)  # type: ignore[union-attr]
        self.shelf.change_git_link("office", way="both")
        self.assertEqual(self.send()["state"], "in step")

    def test_which_side_has_something_new_is_said_before_it_is_fetched(self) -> None:
        self.shelf.make_git_link("office", str(self.bare))
        self.send()
        self.work(self.clone(), {"data/fares.csv": b"zone,fare\nZ1,4\nZ2,5\nZ3,7\n"})
        look = lambda: self.done(self.shelf.look_git_link("office"))["state"]  # noqa: E731
        self.assertEqual([look(), look(), self.send()["state"]], ["behind"] * 3)
        self.put({"notes.md": b"# Boats\n"}, "On the shelf")
        self.assertEqual([look(), look(), self.send()["state"]], ["diverged"] * 3)
        self.assertEqual(self.fetch()["state"], "ahead")
        self.assertEqual([look(), self.send()["state"], look()], ["ahead", "in step", "in step"])

    def test_both_sides_changed_is_merged_by_meaning(self) -> None:
        self.shelf.make_git_link("office", str(self.bare))
        self.send()
        self.work(self.clone(), {"data/fares.csv": b"zone,fare\nZ1,4\nZ2,5\nZ3,7\n"})
        self.put({"data/fares.csv": b"zone,fare\nZ1,3\nZ2,5\nZ3,6\n"}, "On the shelf")
        self.assertEqual(self.fetch()["state"], "ahead")
        self.assertEqual(self.shelf.read("data/fares.csv"), b"zone,fare\nZ1,3\nZ2,5\nZ3,7\n")
        self.assertEqual(self.send()["state"], "in step")
        self.assertEqual(
            run_git("show", "main:data/fares.csv", folder=self.bare).stdout, "zone,fare\nZ1,3\nZ2,5\nZ3,7\n"
        )
        self.assertEqual(run_git("rev-list", "--count", "main", folder=self.bare).stdout, "4\n")
        self.assertEqual([branch.name for branch in self.shelf.branches()], ["main"])

    def test_what_cannot_be_decided_waits_while_the_rest_goes_on(self) -> None:
        self.shelf.make_branch("quiet", "main")
        self.shelf.make_git_link("office", str(self.bare))
        self.send()
        clone = self.clone()
        self.work(clone, {"data/fares.csv": b"zone,fare\nZ1,4\nZ2,5\nZ3,7\n"})
        run_git("checkout", "-q", "quiet", folder=clone)
        self.work(clone, {"quiet.txt": b"from Git\n"})
        self.put({"data/fares.csv": b"zone,fare\nZ1,4\nZ2,5\nZ3,8\n"}, "On the shelf")
        head = self.shelf.branch("main").head
        found = self.fetch()
        (line,) = (one for one in found["lines"] if one["branch"] == "main")
        self.assertEqual((found["state"], line["state"]), ("diverged", "diverged"))
        self.assertIn("1 conflict to settle", line["why"])
        self.assertEqual(self.shelf.branch("main").head, head)
        self.assertEqual(self.shelf.read("quiet.txt", "quiet"), b"from Git\n")
        self.assertEqual(self.shelf.read("data/fares.csv", "git/office/main")[-5:], b"Z3,7\n")
        merge = self.shelf.waiting_merge(line["merge"])
        self.assertEqual((merge.target, merge.source), ("main", "git/office/main"))
        before = self.tip()
        self.assertEqual(self.send()["state"], "diverged")
        self.assertEqual(self.tip(), before)
        self.shelf.settle(merge.id, [{"path": None, "conflict": None, "take": "source"}])
        self.shelf.finish_merge(merge.id)
        self.assertEqual(self.done(self.shelf.send_git_link("office"))["state"], "in step")
        self.assertIn("Z3,7", run_git("show", "main:data/fares.csv", folder=self.bare).stdout)

    def test_a_repository_comes_in_whole_and_goes_out_under_the_same_ids(self) -> None:
        seed = self.home / "seed"
        run_git("init", "-q", "-b", "trunk", str(seed), folder=self.home)
        run_git("remote", "add", "origin", str(self.bare), folder=seed)
        for number in range(5):
            self.work(seed, {f"part{number % 2}.csv": b"a,b\n%d,2\n" % number}, f"Step {number}")
        run_git("checkout", "-q", "-b", "side", "HEAD~2", folder=seed)
        (seed / "link").symlink_to("/etc/passwd")
        self.work(seed, {"aux": b"odd\n", "tool.sh": b"x\n"}, "Odd ones")
        run_git("checkout", "-q", "trunk", folder=seed)
        run_git("merge", "-q", "--no-ff", "-m", "Both", "side", folder=seed)
        run_git("tag", "-a", "-m", "Signed", "v1", folder=seed)
        run_git("push", "-q", "origin", "--all", folder=seed)
        run_git("push", "-q", "origin", "--tags", folder=seed)
        other = self.make_shelf()
        other.make_git_link("whole", str(self.bare))
        tried = other.test_git_link("whole")
        self.assertEqual((tried.branches_there, tried.tags, tried.would_fetch), (["side", "trunk"], 1, 7))
        self.done(other.fetch_git_link("whole"), other)
        self.assertEqual(sorted(b.name for b in other.branches()), ["main", "side", "trunk"])
        self.assertIn(b'link = "/etc/passwd"', other.read("link", "trunk"))
        empty = self.make_bare()
        other.make_git_link("copy", str(empty), way="send")
        self.done(other.send_git_link("copy"), other)
        refs = [run_git("for-each-ref", folder=bare).stdout for bare in (self.bare, empty)]
        self.assertEqual(*refs)
        self.assertEqual(run_git("fsck", "--strict", folder=empty, code=None).returncode, 0)

    def test_two_shelves_and_a_person_with_git_see_one_history(self) -> None:
        other = self.make_shelf()
        self.shelf.make_git_link("office", str(self.bare))
        self.client.share_location(str(self.bare), other.key)
        other.make_git_link("office", str(self.bare))
        self.send()
        clone = self.clone()
        rounds = 4 if SHARE >= 1 else 2
        for number in range(rounds):
            self.put({f"here/{number}.csv": b"a,b\n1,2\n"}, f"Here {number}")
            self.work(clone, {f"git/{number}.csv": b"a,b\n1,2\n"}, f"Git {number}")
            self.done(other.fetch_git_link("office"), other)
            commit_files(other, {f"there/{number}.csv": b"a,b\n1,2\n"}, f"There {number}")
            for one in (other, self.shelf, other, self.shelf):
                self.done(one.fetch_git_link("office"), one)
                self.done(one.send_git_link("office"), one)
            run_git("pull", "-q", "--no-rebase", folder=clone)
        self.done(other.fetch_git_link("office"), other)
        ids = [shelf.git_commits(limit=1).items[0].git for shelf in (self.shelf, other)]
        self.assertEqual([self.tip()] * 2, ids)
        paths = sorted(row.path for row in other.artifacts())
        self.assertEqual(paths, sorted(row.path for row in self.shelf.artifacts()))
        self.assertEqual(len(paths), 2 + 3 * rounds)

    def test_a_link_that_only_sends_never_fetches(self) -> None:
        self.shelf.make_git_link("office", str(self.bare), way="send", joins=[("main", "live")])
        self.send()
        self.assertEqual(self.tip("live"), self.tip("live"))
        with self.assertRaises(ProblemError) as caught:
            self.fetch()
        self.assertEqual(caught.exception.code, "link.way")
        clone = self.clone()
        run_git("checkout", "-q", "live", folder=clone)
        self.work(clone, {"x.txt": b"x\n"})
        before = self.tip("live")
        self.put({"y.txt": b"y\n"}, "Here")
        found = self.send()
        self.assertEqual(found["state"], "diverged")
        self.assertEqual(self.tip("live"), before)
        self.assertNotIn("x.txt", [row.path for row in self.shelf.artifacts()])
        self.assertEqual(self.shelf.git_links()[0].problem.code, "link.diverged")  # type: ignore[union-attr]


class FollowTests(LinkCase):
    """Kept in step without being asked."""

    def test_both_ways_by_themselves(self) -> None:
        self.shelf.make_git_link("office", str(self.bare), follows=True, every_seconds=10)
        until(lambda: run_git("rev-parse", "main", folder=self.bare, code=None).returncode == 0, "nothing was sent")
        clone = self.clone()
        self.put({"more.txt": b"1\n"}, "Here")
        run = lambda: run_git("cat-file", "-e", "main:more.txt", folder=self.bare, code=None).returncode == 0  # noqa: E731
        until(run, "the commit did not arrive")
        run_git("pull", "-q", folder=clone)
        self.work(clone, {"there.txt": b"2\n"})
        until(lambda: "there.txt" in [row.path for row in self.shelf.artifacts()], "the push did not arrive")
        until(lambda: self.shelf.git_links()[0].state == "in step", "it is not in step")

    @in_full
    def test_it_goes_on_by_itself_when_the_other_side_is_back(self) -> None:
        self.shelf.make_git_link("office", str(self.bare), follows=True, every_seconds=10)
        until(lambda: self.shelf.git_links()[0].state == "in step", "it is not in step")
        shutil.move(self.bare, f"{self.bare}.away")
        until(lambda: self.shelf.git_links()[0].state == "refused", "nobody noticed")
        problem = self.shelf.git_links()[0].problem
        assert problem is not None
        self.assertEqual(problem.code, "git.missing")
        shutil.move(f"{self.bare}.away", self.bare)
        until(lambda: self.shelf.git_links()[0].state == "in step", "it did not go on by itself")


class DeletedTests(LinkCase):
    """What was deleted on one side is not brought back by the other."""

    def setUp(self) -> None:
        super().setUp()
        self.shelf.make_branch("summer", "main")
        self.shelf.make_git_link("office", str(self.bare))
        self.send()

    def lines(self) -> dict[str, Any]:
        return {line.branch: line for line in self.shelf.git_link("office").link.lines}

    def test_a_branch_deleted_on_the_shelf_stays_deleted(self) -> None:
        self.shelf.delete_branch("summer")
        for _ in range(2):
            self.fetch()
            self.assertEqual([branch.name for branch in self.shelf.branches()], ["main"])
        line = self.lines()["summer"]
        self.assertEqual((line.state, "deleted on the shelf" in line.why), ("behind", True))
        self.assertIn("summer", run_git("branch", folder=self.bare).stdout)
        # New work on it is worth having.
        clone = self.clone()
        run_git("checkout", "-q", "summer", folder=clone)
        self.work(clone, {"new.txt": b"1\n"})
        self.fetch()
        self.assertEqual([branch.name for branch in self.shelf.branches()], ["main", "summer"])

    def test_a_branch_deleted_in_git_is_not_sent_again(self) -> None:
        run_git("branch", "-D", "summer", folder=self.bare)
        for _ in range(2):
            self.send()
            self.assertNotIn("summer", run_git("branch", folder=self.bare).stdout)
        line = self.lines()["summer"]
        self.assertEqual((line.state, "deleted in Git" in line.why), ("ahead", True))
        self.put({"new.txt": b"1\n"}, "More", "summer")
        self.send()
        self.assertIn("summer", run_git("branch", folder=self.bare).stdout)

    def test_in_step_means_that_git_has_nothing_more(self) -> None:
        clone = self.clone()
        run_git("tag", "-a", "-m", "one", "spring", folder=clone)
        run_git("push", "-q", "origin", "spring", folder=clone)
        self.assertEqual(self.send()["state"], "behind")
        self.assertEqual(self.lines()["tag:spring"].why, "only Git has it")
        self.assertEqual(self.fetch()["state"], "in step")
        self.assertEqual([tag.name for tag in self.shelf.tags()], ["spring"])


class FailureTests(LinkCase):
    """Each failure names its cause and what to do; nothing is half done."""

    def setUp(self) -> None:
        super().setUp()
        context = git_server()
        self.server: GitServer = context.__enter__()
        self.addCleanup(context.__exit__, None, None, None)
        self.there = self.server.make("office.git")

    def failure(self, act: str = "test", **settings: Any) -> ProblemError:
        settings = {"address": f"{self.server.address}/office.git", "token": TOKEN, **settings}
        names = [link.name for link in self.shelf.git_links()]
        if "office" in names:
            self.shelf.change_git_link("office", **settings)
        else:
            self.shelf.make_git_link("office", settings.pop("address"), **settings)
        with self.assertRaises(ProblemError) as caught:
            if act == "test":
                self.shelf.test_git_link("office")
            else:
                self.done(getattr(self.shelf, f"{act}_git_link")("office"))
        return caught.exception

    def test_over_http_with_a_token(self) -> None:
        self.shelf.make_git_link("office", f"{self.server.address}/office.git", token=TOKEN)
        self.assertEqual(self.send()["state"], "in step")
        self.assertIn("data/fares.csv", self.server.files(self.there))
        self.assertNotIn(TOKEN, str(self.shelf.git_links()))

    def test_causes(self) -> None:
        for code, words, settings in (
            ("git.missing", "is not a repository", {"address": f"{self.server.address}/nothing.git"}),
            ("git.signin", "does not know the user and token", {"token": "wrong"}),
            ("git.connection", "does not answer", {"address": "http://127.0.0.1:9/x.git"}),
            ("git.missing", "is not a repository", {"address": str(self.service.repositories / "none.git")}),
        ):
            with self.subTest(settings):
                found = self.failure(**settings)
                self.assertEqual(found.code, code)
                self.assertIn(words, found.problem["detail"])
                self.assertTrue(found.problem["hint"])

    def test_a_token_that_may_read_only(self) -> None:
        self.server.rights = "read"
        self.assertEqual(self.failure().code, "git.rights")
        self.assertEqual(self.failure("send").code, "git.rights")
        self.server.work(self.there, {"there.txt": b"1\n"}, "There")
        self.shelf.change_git_link("office", way="fetch")
        self.shelf.test_git_link("office")
        self.fetch()
        self.assertIn("there.txt", [row.path for row in self.shelf.artifacts()])
        self.assertEqual(self.server.files(self.there), {"there.txt": b"1\n"})

    def test_a_token_that_has_expired(self) -> None:
        self.server.rights = "expired"
        found = self.failure()
        self.assertEqual(found.code, "git.expired")
        self.assertIn("The token expired on 1 November", found.problem["detail"])
        self.server.rights = "write"
        self.assertEqual(self.send()["state"], "in step")

    def test_a_disk_that_is_full_there(self) -> None:
        place = Path(tempfile.mkdtemp(prefix="small-", dir=self.service.repositories))
        if subprocess.run(["mount", "-t", "tmpfs", "-o", "size=1m", "tmpfs", str(place)], check=False).returncode:
            self.skipTest("no small file system can be mounted here")
        self.addCleanup(subprocess.run, ["umount", str(place)], check=True)
        bare = place
        run_git("init", "-q", "--bare", "-b", "main", str(bare), folder=place)
        self.put({"large.bin": os.urandom(2 * 1024 * 1024)}, "Large")
        self.assertEqual(self.failure("send", address=str(bare)).code, "git.disk")
        self.assertEqual(run_git("branch", folder=bare).stdout, "")
        subprocess.run(["mount", "-o", "remount,size=20m", str(place)], check=True)
        self.assertEqual(self.send()["state"], "in step")
        run_git("fsck", "--strict", folder=bare)

    def test_a_branch_that_the_server_protects(self) -> None:
        hook = self.there / "hooks" / "update"
        hook.parent.mkdir(exist_ok=True)
        hook.write_text(
            '#!/bin/sh\n[ "$1" = refs/heads/main ] && echo "main is protected here" >&2 && exit 1\nexit 0\n'
        )
        hook.chmod(0o755)
        self.shelf.make_branch("free", "main")
        self.shelf.make_git_link("office", f"{self.server.address}/office.git", token=TOKEN)
        found = self.send()
        (line,) = (one for one in found["lines"] if one["branch"] == "main")
        self.assertEqual((found["state"], line["state"]), ("refused", "refused"))
        self.assertIn("does not take main", line["why"])
        self.assertIn("protected", line["why"])
        self.assertEqual(run_git("branch", folder=self.there).stdout.split(), ["free"])

    def test_a_certificate_that_is_not_trusted(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            pair = [f"{folder}/key.pem", f"{folder}/cert.pem"]
            command = [
                "openssl",
                "req",
                "-x509",
                "-newkey",
                "rsa:2048",
                "-nodes",
                "-days",
                "2",
                "-subj",
                "/CN=localhost",
            ]
            subprocess.run([*command, "-keyout", pair[0], "-out", pair[1]], check=True, capture_output=True)
            context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
            context.load_cert_chain(pair[1], pair[0])
            self.server.use_tls(context)
            found = self.failure(address=f"https://localhost:{self.server.port}/office.git")
        self.assertEqual(found.code, "git.certificate")

    def test_where_a_link_may_not_lead(self) -> None:
        for address in (
            "https://forge.example/x.git",
            "/etc/x.git",
            "ext::sh -c true",
            "ftp://127.0.0.1/x",
            "--help",
            "",
        ):
            with self.subTest(address), self.assertRaises(ProblemError) as caught:
                self.shelf.make_git_link("office", address)
            self.assertIn(caught.exception.status, (400, 403))
        self.shelf.set_member("keeper", "keeper")
        with self.assertRaises(ProblemError) as caught:
            self.client_of("keeper").shelf(self.shelf.key).make_git_link("office", str(self.bare))
        self.assertEqual(caught.exception.code, "rights.role")


class CutOffTests(LinkCase):
    """A service that is killed while it sends or fetches goes on when it is asked again."""

    def test_killed_while_it_fetches_and_sends(self) -> None:
        service = Service()
        self.addCleanup(service.stop)
        client = service.client()
        shelf = client.shelf(client.make_shelf("Cut").key)
        self.service, self.bare = service, Path()
        self.bare = self.make_bare()
        clone = self.clone("cut", self.bare)
        for number in range(30):
            (clone / f"{number}.csv").write_bytes(b"a,b\n%d,2\n" % number)
            run_git("add", "-A", folder=clone)
            run_git("commit", "-q", "-m", f"c{number}", folder=clone)
        run_git("push", "-q", "origin", "HEAD", folder=clone)
        shelf.make_git_link("office", str(self.bare))
        for _ in range(3 if SHARE >= 1 else 1):
            job = shelf.fetch_git_link("office")
            service.kill_group()
            service.start()
            shelf = service.client().shelf("cut")
            until(lambda job=job, shelf=shelf: service.client().job(job.job).ended, "the job did not end")  # type: ignore[misc]
        self.done(shelf.fetch_git_link("office"), shelf)
        self.assertEqual(len(list(shelf.commits())), 30)
        self.assertEqual(shelf.git_commits(limit=1).items[0].git, self.tip())
        self.assertEqual(self.done(shelf.verify(), shelf)["problems"], [])


class CalledTests(LinkCase):
    """The other side says that it has something new."""

    def test_a_signed_call_fetches_at_once(self) -> None:
        self.shelf.make_git_link("office", str(self.bare))
        self.send()
        calls = self.shelf.let_git_link_be_called("office")
        self.work(self.clone(), {"new.csv": b"a\n1\n"})
        body = b'{"ref": "refs/heads/main"}'

        def call(secret: str, header: str = "X-Hub-Signature-256", address: str = calls.address) -> int:
            digest = hmac.new(secret.encode(), body, hashlib.sha256).hexdigest()
            return httpx.post(address, content=body, headers={header: f"sha256={digest}"}).status_code

        self.assertEqual(call("another secret"), 400)
        self.assertEqual(call(calls.secret, address=calls.address.replace("office", "nothing")), 400)
        self.assertEqual(httpx.post(calls.address, content=body).status_code, 400)
        self.assertNotIn("new.csv", [row.path for row in self.shelf.artifacts()])
        self.assertEqual(call(calls.secret), 202)
        until(lambda: "new.csv" in [row.path for row in self.shelf.artifacts()], "it was not fetched")
        again = self.shelf.let_git_link_be_called("office")
        self.assertEqual((call(calls.secret), call(again.secret, "X-Hub-Signature")), (400, 202))
