"""The service through its client: shelves, commits, branches, tags, contents."""

from __future__ import annotations

import concurrent.futures
import random
import threading
import time

import httpx

from everyshelf.client import ChangeRequest, ProblemError
from everyshelf.core.content.ids import content_id
from tests.support.factories import ServiceCase, commit_files


class CommitTests(ServiceCase):
    """All or nothing, onto a known head."""

    def test_new_shelf_is_usable_at_once(self) -> None:
        self.assertEqual([(b.name, b.head) for b in self.shelf.branches()], [("main", None)])
        self.assertEqual(list(self.shelf.artifacts()), [])
        self.put({"fares.csv": b"id,fare\n1,2\n"})
        self.assertEqual([(a.path, a.version, a.kind) for a in self.shelf.artifacts()], [("fares.csv", 1, "dataset")])

    def test_versions_count_per_artifact(self) -> None:
        for n in range(3):
            self.put({"a.json": b'{"n": %d}' % n, **({"b.json": b"{}"} if n == 1 else {})})
        found = {a.path: a.version for a in self.shelf.artifacts()}
        self.assertEqual(found, {"a.json": 3, "b.json": 1})
        self.assertEqual([v.version for v in self.shelf.history("a.json")], [3, 2, 1])
        self.assertEqual(self.shelf.read("a.json", version=1), b'{"n": 0}')

    def test_moved_branch_is_refused_with_both_ids(self) -> None:
        first = self.put({"a.txt": b"1"})
        second = self.put({"a.txt": b"2"})
        content = self.shelf.upload(b"3").id
        with self.assertRaises(ProblemError) as caught:
            self.shelf.commit("main", first.commit, [ChangeRequest("a.txt", content)], "late")
        problem = caught.exception.problem
        self.assertEqual((caught.exception.status, problem["code"]), (409, "branch.moved"))
        self.assertEqual((problem["head"], problem["base"]), (second.commit, first.commit))

    def test_what_touches_nothing_newer_needs_no_merge(self) -> None:
        """A.8: nobody is asked about changes that have nothing to do with each other."""
        first = self.put({"a.txt": b"1", "b.txt": b"1"})
        second = self.put({"a.txt": b"2"})
        content = self.shelf.upload(b"3").id
        made = self.shelf.commit("main", first.commit, [ChangeRequest("b.txt", content)], "late")
        self.assertEqual(made.parents, [second.commit])
        self.assertEqual({p: self.shelf.read(p) for p in ("a.txt", "b.txt")}, {"a.txt": b"2", "b.txt": b"3"})

    def test_merge_on_request_combines_both(self) -> None:
        first = self.put({"a.txt": b"1", "b.txt": b"1"})
        self.put({"a.txt": b"2"})
        content = self.shelf.upload(b"other").id
        self.shelf.commit("main", first.commit, [ChangeRequest("b.txt", content)], "late", merge=True)
        self.assertEqual({p: self.shelf.read(p) for p in ("a.txt", "b.txt")}, {"a.txt": b"2", "b.txt": b"other"})
        with self.assertRaises(ProblemError) as caught:
            self.shelf.commit("main", first.commit, [ChangeRequest("a.txt", content)], "clash", merge=True)
        self.assertEqual(caught.exception.problem["conflicts"][0]["path"], "a.txt")

    def test_move_keeps_the_artifact(self) -> None:
        self.put({"old.txt": b"same text"})
        before = self.shelf.artifact("old.txt")
        head = self.shelf.branch("main").head
        self.shelf.commit("main", head, [ChangeRequest("new/name.txt", before.content, "old.txt")], "tidy")
        after = self.shelf.artifact("new/name.txt")
        self.assertEqual((after.artifact, after.version), (before.artifact, 2))
        self.assertEqual([v.path for v in self.shelf.history("new/name.txt")], ["new/name.txt", "old.txt"])
        self.assertEqual([a.state for a in self.shelf.compare(f"commit:{head}").artifacts], ["moved"])

    def test_many_writers_lose_nothing(self) -> None:
        self.put({"start.txt": b"0"})

        def add(n: int) -> None:
            content = self.shelf.upload(b"writer %d" % n).id
            while True:
                head = self.shelf.branch("main").head
                try:
                    self.shelf.commit("main", head, [ChangeRequest(f"w{n}.txt", content)], f"writer {n}")
                except ProblemError as error:
                    self.assertEqual(error.code, "branch.moved")
                else:
                    return

        with concurrent.futures.ThreadPoolExecutor(8) as pool:
            list(pool.map(add, range(24)))
        self.assertEqual(sum(1 for _ in self.shelf.artifacts()), 25)
        self.assertEqual(len(list(self.shelf.commits())), 25)

    def test_empty_commit_is_refused(self) -> None:
        made = self.put({"a.txt": b"1"})
        for changes in ([], [ChangeRequest("a.txt", self.shelf.upload(b"1").id)], [ChangeRequest("gone.txt", None)]):
            with self.assertRaises(ProblemError) as caught:
                self.shelf.commit("main", made.commit, changes, "nothing")
            self.assertEqual(caught.exception.code, "commit.empty")

    def test_restoring_is_a_new_commit(self) -> None:
        self.put({"a.txt": b"1", "b.txt": b"1"})
        first = self.shelf.branch("main").head
        self.put({"a.txt": b"2", "b.txt": None})
        self.shelf.restore("main", "version:1", "a.txt")
        self.assertEqual(self.shelf.read("a.txt"), b"1")
        self.assertEqual(self.shelf.artifact("a.txt").version, 3)
        self.shelf.restore("main", f"commit:{first}")
        self.assertEqual({a.path for a in self.shelf.artifacts()}, {"a.txt", "b.txt"})
        self.assertEqual(len(list(self.shelf.commits())), 4)

    def test_invalid_rules_are_refused_by_name(self) -> None:
        with self.assertRaises(ProblemError) as caught:
            self.put({"shelf.toml": b"[kinds]\n'*.x' = 'thing'\n"})
        self.assertEqual(caught.exception.code, "rules.invalid")
        self.put({"shelf.toml": b"[kinds]\n'*.x' = 'dataset'\n", "a.x": b"\x00"})
        self.assertEqual(self.shelf.artifact("a.x").kind, "dataset")


class BranchTests(ServiceCase):
    """Branches, merging, tags, refs."""

    def test_branch_merge_and_drop(self) -> None:
        self.put({"a.txt": b"1", "b.txt": b"1"})
        self.shelf.make_branch("ines/try")
        self.put({"b.txt": b"2"}, branch="ines/try")
        self.put({"a.txt": b"2"})
        found = self.shelf.branch("ines/try")
        self.assertEqual((found.ahead, found.behind), (1, 1))
        result = self.shelf.merge("ines/try", "main", delete_source=True)
        self.assertEqual(result.taken, 1)
        self.assertEqual({p: self.shelf.read(p) for p in ("a.txt", "b.txt")}, {"a.txt": b"2", "b.txt": b"2"})
        self.assertEqual([b.name for b in self.shelf.branches()], ["main"])
        self.assertEqual(self.shelf.artifact("b.txt").version, 2)  # the branch's version, not a copy of it

    def test_a_name_is_suggested_from_what_the_branch_is_for(self) -> None:
        self.put({"a.txt": b"1"})
        wanted = {
            "Can the fares of öpen days be lower?": "owner/fares-open-days",
            "Fares of open days": "owner/fares-open-days-2",
            "???": r"owner/\d\d-[a-z]{3}",
            "x" * 300: "owner/x{50}",
        }
        for note, name in wanted.items():
            with self.subTest(note=note[:40]):
                made = self.shelf.make_branch(note=note)
                self.assertRegex(made.name, f"^{name}$")
                self.assertEqual(made.note, note)
        self.assertEqual(self.shelf.make_branch("given", note="Something else").name, "given")

    def test_conflict_names_artifacts_until_preferred(self) -> None:
        self.put({"a.txt": b"1"})
        self.shelf.make_branch("try")
        self.put({"a.txt": b"2"}, branch="try")
        self.put({"a.txt": b"3"})
        with self.assertRaises(ProblemError) as caught:
            self.shelf.merge("try", "main")
        self.assertEqual((caught.exception.status, caught.exception.code), (409, "merge.conflict"))
        self.shelf.merge("try", "main", prefer="source")
        self.assertEqual(self.shelf.read("a.txt"), b"2")
        self.assertIsNone(self.shelf.merge("try", "main").commit)

    def test_tags_never_move(self) -> None:
        self.put({"a.txt": b"1"})
        made = self.shelf.make_tag("spring-1", note="as it runs")
        self.put({"a.txt": b"2"})
        with self.assertRaises(ProblemError) as caught:
            self.shelf.make_tag("spring-1")
        self.assertEqual(caught.exception.code, "tag.taken")
        self.assertEqual(self.shelf.read("a.txt", "tag:spring-1"), b"1")
        self.assertEqual(self.shelf.tags()[0].commit, made.commit)

    def test_every_ref_finds_its_state(self) -> None:
        first = self.put({"a.txt": b"1"})
        self.shelf.make_tag("t")
        time.sleep(0.01)
        second = self.put({"a.txt": b"2"})
        day = second.recorded.date().isoformat()
        for ref, text in (
            ("main", b"2"),
            ("tag:t", b"1"),
            (f"commit:{first.commit[:8]}", b"1"),
            (f"at:{day}", b"2"),
            (f"at:main@{first.recorded.isoformat()}", b"1"),
        ):
            self.assertEqual(self.shelf.read("a.txt", ref), text, ref)
        for ref, code in (
            ("nowhere", "branch.missing"),
            ("tag:x", "tag.missing"),
            ("commit:00000000", "commit.missing"),
            ("commit:xyz", "ref.commit"),
            ("at:never", "ref.date"),
            ("desk", "ref.local"),
            ("draft:none", "branch.missing"),
            ("a:b", "ref.invalid"),
            ("env:none", "environment.missing"),
            ("at:2026-13-45", "ref.date"),
        ):
            with self.subTest(ref=ref), self.assertRaises(ProblemError) as caught:
                self.shelf.read("a.txt", ref)
            self.assertEqual(caught.exception.code, code)

    def test_comparison_waits_for_long_work(self) -> None:
        rows = [f"{n},{n % 97}" for n in range(40_000)]
        files = {f"t{k}.csv": ("id,v\n" + "\n".join(rows) + f"\n{50_000 + k},1\n").encode() for k in range(12)}
        self.put(dict(files))
        self.shelf.make_tag("before")
        self.put({p: d.replace(b"\n7,7\n", b"\n7,8\n") for p, d in files.items()})
        found = self.shelf.compare("tag:before")
        self.assertEqual((found.pending, found.counts["edited"]), (0, 12))
        self.assertTrue(all(a.headline.startswith("1 cell in v") for a in found.artifacts), found.artifacts[0])

    def test_verify_reads_everything_again(self) -> None:
        self.put({"a.txt": b"1", "big.bin": random.Random(2).randbytes(300_000)})
        self.put({"a.txt": b"2"})
        result = self.shelf.wait(self.shelf.verify()).result
        assert result is not None
        self.assertEqual((result["commits"], result["contents"], result["problems"]), (2, 3, []))

    def test_history_of_many_commits_is_verified_and_listed(self) -> None:
        contents = [self.shelf.upload(b"%d" % n).id for n in range(2)]
        head = None
        for n in range(260):
            head = self.shelf.commit("main", head, [ChangeRequest("a.txt", contents[n % 2])], f"turn {n}").commit
        result = self.shelf.wait(self.shelf.verify()).result
        assert result is not None
        self.assertEqual((result["commits"], result["problems"]), (260, []))
        listed = [commit.summary for commit in self.shelf.commits("main", limit=250)]
        self.assertEqual(listed[:2], ["turn 259", "turn 258"])
        self.assertGreaterEqual(len(listed), 250)


class ContentTests(ServiceCase):
    """Streams, ranges, and what knowing an id grants."""

    def test_large_upload_streams_and_reads_back_in_ranges(self) -> None:
        data = random.Random(3).randbytes(3_000_000)
        sent = self.shelf.upload(iter([data[:1_000_000], data[1_000_000:]]))
        self.assertEqual((sent.id, sent.size), (content_id(data), len(data)))
        self.assertEqual(self.shelf.content(sent.id, start=999_000, stop=1_100_000), data[999_000:1_100_000])
        self.assertEqual(self.shelf.content(sent.id, start=2_999_990), data[-10:])
        with self.assertRaises(ProblemError) as caught:
            self.shelf.content(sent.id, start=3_000_000)
        self.assertEqual(caught.exception.status, 416)

    def test_broken_off_upload_leaves_nothing(self) -> None:
        import socket

        key, token = self.shelf.key, self.service.token()
        head = (
            f"PUT /api/v1/shelves/{key}/contents HTTP/1.1\r\nHost: 127.0.0.1\r\nAuthorization: Bearer {token}\r\n"
            f"Content-Type: application/octet-stream\r\nContent-Length: 500000\r\n\r\n"
        )
        with socket.create_connection(("127.0.0.1", self.service.port)) as raw:
            raw.sendall(head.encode() + b"x" * 1000)
            raw.shutdown(socket.SHUT_WR)
            answer = raw.recv(4096).decode()
        self.assertIn(" 400 ", answer.splitlines()[0])
        self.assertEqual(self.shelf.missing([content_id(b"x" * 1000)]), [content_id(b"x" * 1000)])

    def test_id_of_another_shelf_grants_nothing(self) -> None:
        secret = self.shelf.upload(b"crew wages").id
        other = self.make_shelf()
        self.assertEqual(other.missing([secret]), [secret])
        for call in (
            lambda: other.content(secret),
            lambda: other.commit("main", None, [ChangeRequest("a", secret)], "x"),
        ):
            with self.assertRaises(ProblemError) as caught:
                call()
            self.assertEqual(caught.exception.code, "content.missing")

    def test_download_is_never_shown_as_a_page(self) -> None:
        self.put({"page.html": b"<script>alert(1)</script>"})
        address = f"{self.service.address}/api/v1/shelves/{self.shelf.key}/artifact/file?path=page.html"
        answer = httpx.get(address, headers={"Authorization": f"Bearer {self.service.token()}"})
        self.assertEqual(answer.headers["content-type"], "application/octet-stream")
        self.assertTrue(answer.headers["content-disposition"].startswith("attachment"))
        self.assertIn("sandbox", answer.headers["content-security-policy"])
        again = httpx.get(
            address,
            headers={"Authorization": f"Bearer {self.service.token()}", "If-None-Match": answer.headers["etag"]},
        )
        self.assertEqual(again.status_code, 304)

    def test_same_write_with_one_key_is_done_once(self) -> None:
        content = self.shelf.upload(b"1").id
        body = {"branch": "main", "base": None, "changes": [{"path": "a.txt", "content": content}], "summary": "once"}
        address = f"{self.service.address}/api/v1/shelves/{self.shelf.key}/commits"
        headers = {"Authorization": f"Bearer {self.service.token()}", "Idempotency-Key": f"k-{time.monotonic_ns()}"}
        first, again = (httpx.post(address, json=body, headers=headers) for _ in range(2))
        self.assertEqual((first.status_code, first.json()), (201, again.json()))
        self.assertEqual(len(list(self.shelf.commits())), 1)
        other = httpx.post(address, json={**body, "summary": "twice"}, headers=headers)
        self.assertEqual((other.status_code, other.json()["code"]), (409, "input.key_reused"))

    def test_many_artifacts_come_in_pages(self) -> None:
        data = self.shelf.upload(b"{}").id
        changes = [ChangeRequest(f"f{n % 9}/a{n:05d}.json", data) for n in range(2500)]
        self.shelf.commit("main", None, changes, "many")
        paths = [a.path for a in self.shelf.artifacts()]
        self.assertEqual(paths, sorted(c.path for c in changes))
        self.assertEqual(
            sum(1 for _ in self.shelf.artifacts(folder="f3")), sum(c.path.startswith("f3/") for c in changes)
        )


class LockTests(ServiceCase):
    """One service, one data folder."""

    def test_second_service_on_the_folder_is_refused(self) -> None:
        import os
        import subprocess
        import sys

        done = subprocess.run(
            [sys.executable, "-m", "everyshelf.cli.main", "serve", "--data", str(self.service.data), "--port", "1"],
            capture_output=True,
            text=True,
            timeout=60,
            check=False,
            env=dict(os.environ),
        )
        self.assertEqual(done.returncode, 1)
        self.assertIn("another service works on", done.stderr.lower())

    def test_readers_go_on_while_uploads_stall(self) -> None:
        import socket

        token, stalled = self.service.token(), []
        for _ in range(6):
            raw = socket.create_connection(("127.0.0.1", self.service.port))
            raw.sendall(
                f"PUT /api/v1/shelves/{self.shelf.key}/contents HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer "
                f"{token}\r\nContent-Length: 99999\r\n\r\nabc".encode()
            )
            stalled.append(raw)
        done = threading.Event()
        reading = threading.Thread(target=lambda: (list(self.shelf.artifacts()), done.set()))
        reading.start()
        self.assertTrue(done.wait(10))
        for raw in stalled:
            raw.close()
        reading.join()
        commit_files(self.shelf, {"after.txt": b"still here"}, "after the stall")


class IdentityTests(ServiceCase):
    """D: an artifact is one thing, whatever path it has."""

    def test_a_new_file_under_the_name_of_one_that_moved_is_another_artifact(self) -> None:
        self.put({"a.txt": b"one"})
        first = self.shelf.artifact("a.txt")
        head = self.shelf.branch("main").head
        self.shelf.commit("main", head, [ChangeRequest("b.txt", first.content, "a.txt")], "Move")
        self.put({"a.txt": b"two"})
        self.assertEqual(self.shelf.artifact("b.txt").artifact, first.artifact)
        self.assertNotEqual(self.shelf.artifact("a.txt").artifact, first.artifact)

    def test_one_that_lives_elsewhere_does_not_come_back_under_its_old_name(self) -> None:
        self.put({"a.txt": b"one"})
        first = self.shelf.artifact("a.txt")
        self.shelf.make_branch("try")
        self.put({"a.txt": None}, "Remove")
        head = self.shelf.branch("try").head
        self.shelf.commit("try", head, [ChangeRequest("b.txt", first.content, "a.txt")], "Move")
        self.put({"a.txt": b"again"}, "Another")
        self.assertEqual(self.shelf.artifact("b.txt", "try").artifact, first.artifact)
        self.assertNotEqual(self.shelf.artifact("a.txt").artifact, first.artifact)

    def test_one_that_comes_back_is_the_same(self) -> None:
        self.put({"a.txt": b"one"})
        first = self.shelf.artifact("a.txt")
        self.put({"a.txt": None}, "Remove")
        self.put({"a.txt": b"again"}, "Back")
        self.assertEqual(self.shelf.artifact("a.txt").artifact, first.artifact)
