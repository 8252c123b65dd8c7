"""The network folder (WebDAV) as two client programs see it, and as file managers use it."""

from __future__ import annotations

import io
import os
import random
import shutil
import subprocess
import tempfile
import unittest
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import httpx
from webdav4.client import Client as DavClient
from webdav4.client import ForbiddenOperation, HTTPError, ResourceConflict, ResourceNotFound

from everyshelf.demo.passages import passages
from tests.support.factories import ServiceCase, commit_files

PASSAGES = passages()

LOCK = (
    b'<?xml version="1.0"?><D:lockinfo xmlns:D="DAV:"><D:lockscope><D:exclusive/></D:lockscope>'
    b"<D:locktype><D:write/></D:locktype><D:owner>the purser</D:owner></D:lockinfo>"
)


class FolderCase(ServiceCase):
    def setUp(self) -> None:
        super().setUp()
        self.put({"data/fares.csv": b"zone,fare\nZ01,4.50\n", "notes.md": b"# Piers\n"}, "Fares")
        self.shelf.make_tag("spring-1")
        self.shelf.make_branch("tobias/try")

    def dav(self, person: str = "owner", scopes: list[str] | None = None) -> DavClient:
        auth = (person, self.service.token(person, scopes))
        return DavClient(f"{self.service.address}/dav/{self.shelf.key}", auth=auth, timeout=300)

    def raw(self, person: str = "owner", scopes: list[str] | None = None) -> httpx.Client:
        client = httpx.Client(
            base_url=f"{self.service.address}/dav/{self.shelf.key}/",
            auth=(person, self.service.token(person, scopes)),
            timeout=300,
        )
        self.addCleanup(client.close)
        return client

    def pending(self, branch: str = "main") -> dict[str, str]:
        drafts = {draft.branch: draft for draft in self.shelf.drafts()}
        return {entry.path: entry.state for entry in drafts[branch].entries} if branch in drafts else {}

    def read(self, client: DavClient, path: str) -> bytes:
        kept = io.BytesIO()
        client.download_fileobj(path, kept)
        return kept.getvalue()


class ReadingTests(FolderCase):
    def test_branches_tags_and_drafts(self) -> None:
        client = self.dav()
        self.assertEqual(sorted(client.ls("", detail=False)), ["branches", "draft", "tags"])
        self.assertEqual(sorted(client.ls("branches", detail=False)), ["branches/main", "branches/tobias~try"])
        self.assertEqual(client.ls("tags", detail=False), ["tags/spring-1"])
        self.put({"data/fares.csv": b"zone,fare\nZ01,5.00\n"}, "Dearer")
        self.assertEqual(self.read(client, "branches/main/data/fares.csv"), b"zone,fare\nZ01,5.00\n")
        self.assertEqual(self.read(client, "tags/spring-1/data/fares.csv"), b"zone,fare\nZ01,4.50\n")
        self.assertEqual(self.read(client, "branches/tobias~try/notes.md"), b"# Piers\n")
        told = client.info("tags/spring-1/data/fares.csv")
        self.assertEqual((told["content_length"], told["content_type"], told["type"]), (19, "text/csv", "file"))
        self.assertIsNotNone(told["modified"])

    def test_what_was_committed_is_not_written_to(self) -> None:
        client = self.dav()
        for call in (
            lambda: client.upload_fileobj(io.BytesIO(b"x"), "branches/main/new.txt"),
            lambda: client.upload_fileobj(io.BytesIO(b"x"), "tags/spring-1/notes.md", overwrite=True),
            lambda: client.mkdir("branches/main/new"),
            lambda: client.remove("branches/main/notes.md"),
            lambda: client.move("branches/main/notes.md", "branches/main/other.md"),
            lambda: client.copy("branches/main/notes.md", "branches/main/other.md"),
        ):
            with self.assertRaises((ForbiddenOperation, HTTPError)):
                call()
        self.assertEqual(self.pending(), {})
        answer = self.raw().put("branches/main/new.txt", content=b"x")
        self.assertEqual(answer.status_code, 403)
        self.assertIn("write below draft/", answer.text)

    def test_ranges_and_conditions(self) -> None:
        raw = self.raw()
        data = random.Random(1).randbytes(700_000)
        self.put({"model.bin": data}, "Model")
        whole = raw.get("branches/main/model.bin")
        self.assertEqual((whole.content, whole.headers["Accept-Ranges"]), (data, "bytes"))
        part = raw.get("branches/main/model.bin", headers={"Range": "bytes=300000-300099"})
        self.assertEqual((part.status_code, part.content), (206, data[300_000:300_100]))
        tag = whole.headers["ETag"]
        self.assertEqual(raw.get("branches/main/model.bin", headers={"If-None-Match": tag}).status_code, 304)
        self.assertEqual(raw.head("branches/main/model.bin").headers["Content-Length"], "700000")
        stale = raw.put("draft/main/model.bin", content=b"new", headers={"If-Match": '"another"'})
        self.assertEqual((stale.status_code, self.pending()), (412, {}))
        self.assertEqual(raw.put("draft/main/model.bin", content=b"new", headers={"If-Match": tag}).status_code, 204)
        self.assertEqual(self.pending(), {"model.bin": "edited"})

    def test_all_of_a_shelf_is_not_listed_at_once(self) -> None:
        for path in ("branches/main/", "branches/", ""):
            answer = self.raw().request("PROPFIND", path, headers={"Depth": "infinity"})
            self.assertEqual(answer.status_code, 403)
            self.assertIn("propfind-finite-depth", answer.text)
        self.assertEqual(self.raw().request("PROPFIND", "branches/main/notes.md").status_code, 207)

    def test_a_page_that_was_versioned_runs_nothing(self) -> None:
        self.put({"page.html": b"<script>alert(1)</script>"}, "A page")
        answer = self.raw().get("branches/main/page.html")
        self.assertEqual(answer.headers["Content-Security-Policy"], "sandbox")
        self.assertEqual(answer.headers["X-Content-Type-Options"], "nosniff")

    def test_options_say_what_can_be_done(self) -> None:
        told = self.raw().options("draft/main/")
        self.assertEqual(told.headers["DAV"], "1,2")
        self.assertIn("LOCK", told.headers["Allow"])


class WritingTests(FolderCase):
    def test_what_is_written_is_saved_in_the_draft(self) -> None:
        client = self.dav()
        client.upload_fileobj(io.BytesIO(b"zone,fare\nZ01,6.00\n"), "draft/main/data/fares.csv", overwrite=True)
        client.upload_fileobj(io.BytesIO(b"new\n"), "draft/main/data/new.csv")
        self.assertEqual(self.pending(), {"data/fares.csv": "edited", "data/new.csv": "new"})
        self.assertEqual(self.read(client, "draft/main/data/new.csv"), b"new\n")
        self.assertEqual(self.shelf.read("data/fares.csv"), b"zone,fare\nZ01,4.50\n")
        self.assertEqual(self.shelf.read("data/fares.csv", "draft:main"), b"zone,fare\nZ01,6.00\n")
        self.shelf.commit_draft("main", "From the folder")
        self.assertEqual(self.read(client, "branches/main/data/new.csv"), b"new\n")
        self.assertEqual(self.pending(), {})

    def test_delete_copy_and_move(self) -> None:
        client = self.dav()
        client.move("draft/main/notes.md", "draft/main/docs.md")
        client.copy("draft/main/data/fares.csv", "draft/main/data/copy.csv")
        client.remove("draft/main/data/fares.csv")
        self.assertEqual(self.pending(), {"docs.md": "moved", "data/copy.csv": "new", "data/fares.csv": "gone"})
        self.shelf.commit_draft("main", "Moved")
        history = self.shelf.history("docs.md")
        self.assertEqual([version.path for version in history], ["docs.md", "notes.md"])
        client.copy("tags/spring-1/data/fares.csv", "draft/main/data/fares.csv")
        self.assertEqual(self.read(client, "draft/main/data/fares.csv"), b"zone,fare\nZ01,4.50\n")
        with self.assertRaises((ForbiddenOperation, HTTPError)):
            client.move("draft/main/docs.md", "draft/tobias~try/docs.md")

    def test_a_copy_from_another_shelf_can_be_committed(self) -> None:
        other, here = self.make_shelf(), self.raw()
        commit_files(other, {"plans/a.csv": b"only there\n", "plans/b.csv": b"and this\n"}, "Plans")
        target = f"{self.service.address}/dav/{self.shelf.key}/draft/main/plans"
        source = f"{self.service.address}/dav/{other.key}/branches/main/plans"
        self.assertEqual(here.request("COPY", source, headers={"Destination": target}).status_code, 204)
        self.shelf.commit_draft("main", "Copied")
        self.assertEqual(self.shelf.read("plans/b.csv"), b"and this\n")
        stranger = self.raw("stranger")
        self.assertEqual(stranger.request("COPY", source, headers={"Destination": target}).status_code, 404)

    def test_folders_kept_whole_are_left_as_they_are(self) -> None:
        self.put({**PASSAGES, "feeds/about.md": b"# Feeds\n"})
        (folder,) = [one.path for one in self.shelf.artifacts() if one.whole]
        inside = f"draft/main/{next(iter(PASSAGES))}"
        here = self.raw()
        to = f"{self.service.address}/dav/{self.shelf.key}/draft/main/"
        for method, path, headers in (
            ("PUT", inside, {}),
            ("DELETE", inside, {}),
            ("MOVE", inside, {"Destination": f"{to}elsewhere.csv"}),
            ("MOVE", f"draft/main/{folder}", {"Destination": f"{to}moved"}),
            ("MOVE", "draft/main/feeds", {"Destination": f"{to}moved"}),
        ):
            with self.subTest(method=method, path=path):
                answer = here.request(method, path, headers=headers)
                self.assertEqual(answer.status_code, 403, answer.text)
                self.assertIn("everyshelf take", answer.text)
        self.assertEqual(self.pending(), {})
        self.assertEqual(here.request("COPY", "draft/main/feeds", headers={"Destination": f"{to}all"}).status_code, 204)
        self.assertEqual(len(self.pending()), len(PASSAGES) + 1)
        self.shelf.commit_draft("main", "Copied, file by file")
        self.assertEqual([one.path for one in self.shelf.artifacts() if one.whole], [f"all{folder[5:]}", folder])

    def test_folders(self) -> None:
        client = self.dav()
        client.mkdir("draft/main/new")
        client.mkdir("draft/main/new/deep")
        self.assertTrue(client.isdir("draft/main/new/deep"))
        self.assertEqual((self.pending(), client.ls("draft/main/new/deep", detail=False)), ({}, []))
        client.upload_fileobj(io.BytesIO(b"a"), "draft/main/new/deep/a.txt")
        client.move("draft/main/data", "draft/main/new/tables")
        self.assertEqual(self.pending(), {"new/deep/a.txt": "new", "new/tables/fares.csv": "moved"})
        self.assertFalse(client.exists("draft/main/data"))
        client.copy("draft/main/new", "draft/main/again")
        self.assertEqual(self.read(client, "draft/main/again/tables/fares.csv"), b"zone,fare\nZ01,4.50\n")
        client.remove("draft/main/new")
        self.assertFalse(client.exists("draft/main/new"))
        with self.assertRaises(ResourceNotFound):
            client.info("draft/main/new/deep")
        with self.assertRaises(ResourceConflict):
            client.mkdir("draft/main/none/below")

    def test_as_an_office_program_saves(self) -> None:
        """It writes beside the file, moves the old one away, the new one to its place, and removes the old one."""
        raw, base = self.raw(), f"{self.service.address}/dav/{self.shelf.key}/draft/main"
        self.assertEqual(raw.put("draft/main/~tmp1.md", content=b"# Piers, again\n").status_code, 201)
        for source, target in (("notes.md", "~old.md"), ("~tmp1.md", "notes.md")):
            moved = raw.request("MOVE", f"draft/main/{source}", headers={"Destination": f"{base}/{target}"})
            self.assertLess(moved.status_code, 300)
        self.assertEqual(raw.delete("draft/main/~old.md").status_code, 204)
        self.assertEqual(self.pending(), {"notes.md": "edited"})
        self.assertEqual(self.shelf.read("notes.md", "draft:main"), b"# Piers, again\n")

    def test_what_breaks_off_changes_nothing(self) -> None:
        def broken() -> Iterator[bytes]:
            yield b"half"
            raise ConnectionError

        with self.assertRaises(ConnectionError):
            self.raw().put("draft/main/notes.md", content=broken())
        self.assertEqual(self.pending(), {})

    def test_files_of_file_managers_are_not_taken(self) -> None:
        raw = self.raw()
        for name in (".DS_Store", "._notes.md", "Thumbs.db", "desktop.ini"):
            self.assertEqual(raw.put(f"draft/main/{name}", content=b"x").status_code, 403)
        self.assertEqual(self.pending(), {})

    def test_a_large_file_in_chunks(self) -> None:
        data = random.Random(2).randbytes(9_000_000)
        pieces = (data[start : start + 100_000] for start in range(0, len(data), 100_000))
        self.assertEqual(self.raw().put("draft/main/large.bin", content=pieces).status_code, 201)
        self.assertEqual(self.shelf.read("large.bin", "draft:main"), data)


class LockTests(FolderCase):
    def test_whoever_has_no_token_waits(self) -> None:
        mine, other = self.raw(), self.raw()
        locked = mine.request("LOCK", "draft/main/notes.md", content=LOCK, headers={"Timeout": "Second-600"})
        self.assertEqual(locked.status_code, 200)
        token = locked.headers["Lock-Token"]
        for _ in range(6):  # whichever process answers
            self.assertEqual(other.put("draft/main/notes.md", content=b"no").status_code, 423)
        again = other.request("LOCK", "draft/main/notes.md", content=LOCK)
        self.assertEqual(again.status_code, 423)
        written = mine.put("draft/main/notes.md", content=b"yes\n", headers={"If": f"({token})"})
        self.assertEqual(written.status_code, 204)
        self.assertEqual(mine.request("UNLOCK", "draft/main/notes.md", headers={"Lock-Token": token}).status_code, 204)
        self.assertEqual(other.put("draft/main/notes.md", content=b"now\n").status_code, 204)

    def test_as_a_file_manager_writes(self) -> None:
        """It locks a name that is not there yet, writes it, sets a property, and unlocks."""
        raw = self.raw()
        locked = raw.request("LOCK", "draft/main/report.md", content=LOCK)
        self.assertIn(locked.status_code, (200, 201))
        token = locked.headers["Lock-Token"]
        self.assertIn(
            raw.put("draft/main/report.md", content=b"r\n", headers={"If": f"({token})"}).status_code, (201, 204)
        )
        properties = (
            b'<D:propertyupdate xmlns:D="DAV:" xmlns:Z="urn:schemas-microsoft-com:"><D:set><D:prop>'
            b"<Z:Win32LastModifiedTime>Sun, 29 Nov 2026 10:00:00 GMT</Z:Win32LastModifiedTime>"
            b"</D:prop></D:set></D:propertyupdate>"
        )
        told = raw.request("PROPPATCH", "draft/main/report.md", content=properties, headers={"If": f"({token})"})
        self.assertEqual(told.status_code, 207)
        self.assertIn("200 OK", told.text)
        raw.request("UNLOCK", "draft/main/report.md", headers={"Lock-Token": token})
        self.assertEqual(self.pending(), {"report.md": "new"})

    def test_what_was_committed_is_not_locked(self) -> None:
        self.assertEqual(self.raw().request("LOCK", "branches/main/notes.md", content=LOCK).status_code, 403)


class HostileTests(FolderCase):
    """What makes no sense is refused with a sentence, and leaves nothing behind."""

    def test_folders_that_nobody_made_cannot_be_removed(self) -> None:
        http = self.raw()
        root = str(http.base_url).rstrip("/").rpartition("/")[0]
        for address in (root, f"{root}/", f"{root}/{self.shelf.key}", "draft", "draft/main", "branches/main", "tags"):
            for method, headers in (("DELETE", {}), ("MOVE", {"Destination": f"{root}/elsewhere"})):
                with self.subTest(address, method=method):
                    answer = http.request(method, address, headers=headers)
                    self.assertEqual(answer.status_code, 403)
                    self.assertIn("is not a folder that can be removed or moved", answer.text)
        self.assertEqual(self.pending(), {})

    def test_bodies_are_small_documents(self) -> None:
        http = self.raw()
        many = b"".join(b"<x%d/>" % n for n in range(1000))
        asked = b'<D:propfind xmlns:D="DAV:"><D:prop>%s</D:prop></D:propfind>'
        entity = b'<!DOCTYPE x [<!ENTITY a SYSTEM "file:///etc/passwd">]>'
        for method, body, status in (
            ("PROPFIND", asked % many, 413),
            ("PROPFIND", asked % (b"<a>" * 30 + b"</a>" * 30), 413),
            ("PROPFIND", asked % b"" + b" " * 70_000, 413),
            ("PROPFIND", entity + asked % b"<x>&a;</x>", 400),
            ("PROPFIND", (entity.decode() + (asked % b"<x/>").decode()).encode("utf-16"), 400),
            ("PROPFIND", b"<a", 400),
            (
                "PROPPATCH",
                b'<D:propertyupdate xmlns:D="DAV:"><D:set><D:prop>%s</D:prop></D:set></D:propertyupdate>' % many,
                413,
            ),
            ("LOCK", entity + LOCK.replace(b"the purser", b"&a;").partition(b"?>")[2], 400),
        ):
            with self.subTest(method, body=body[:60]):
                answer = http.request(method, "draft/main/data/fares.csv", content=body)
                self.assertEqual(answer.status_code, status, answer.text[:200])
                self.assertTrue(answer.headers["content-type"].startswith("text/plain"))
                self.assertNotRegex(answer.text.lower(), "wsgidav|traceback|root:")
        # No lock is left: another program takes one.
        self.assertEqual(http.request("LOCK", "draft/main/data/fares.csv", content=LOCK).status_code, 200)

    def test_errors_are_sentences_of_ours(self) -> None:
        http = self.raw()
        for method, path, status in (
            ("GET", "branches/main/none.csv", 404),
            ("PUT", "branches/main/x.csv", 403),
            ("MKCOL", "elsewhere", 403),
            ("PUT", "draft/main/no/such/x.csv", 409),
        ):
            with self.subTest(path):
                answer = http.request(method, path, content=b"1" if method == "PUT" else b"")
                self.assertEqual(answer.status_code, status)
                self.assertNotIn("<", answer.text)
                self.assertTrue(answer.text.endswith(".\n"))


class RightsTests(FolderCase):
    def test_each_sees_and_writes_what_they_may(self) -> None:
        self.shelf.set_member("reader", "reader")
        self.shelf.set_member("author", "author")
        self.assertEqual(self.read(self.dav("reader"), "branches/main/notes.md"), b"# Piers\n")
        self.assertEqual(self.raw("reader").put("draft/main/notes.md", content=b"x").status_code, 403)
        self.assertEqual(self.raw("author", ["read"]).put("draft/main/notes.md", content=b"x").status_code, 403)
        self.assertEqual(self.raw("author").put("draft/main/notes.md", content=b"mine\n").status_code, 204)
        self.assertEqual(self.read(self.dav(), "draft/main/notes.md"), b"# Piers\n")  # a draft is its person's
        self.assertEqual(self.raw("stranger").get("branches/main/notes.md").status_code, 404)
        everything = httpx.request(
            "PROPFIND",
            f"{self.service.address}/dav/",
            auth=("stranger", self.service.token("stranger")),
            headers={"Depth": "1"},
        )
        self.assertNotIn(self.shelf.key, everything.text)

    def test_sign_in(self) -> None:
        address = f"{self.service.address}/dav/{self.shelf.key}/branches/main/notes.md"
        for auth in (None, ("owner", "no-token")):
            answer = httpx.get(address, auth=auth)  # type: ignore[arg-type]
            self.assertEqual(answer.status_code, 401)
            self.assertIn("Basic", answer.headers["WWW-Authenticate"])
            self.assertIn("everyshelf token make", answer.text)

    def test_odd_requests(self) -> None:
        raw = self.raw()
        for method, path, options in (
            ("GET", "nowhere", {}),
            ("GET", "branches/none/x", {}),
            ("PUT", "draft/none/x.txt", {"content": b"x"}),
            ("PUT", "draft/main/a//b/../c.txt", {"content": b"x"}),
            ("PROPFIND", "branches/main/", {"content": b"<not xml", "headers": {"Depth": "1"}}),
            ("PROPFIND", "branches/main/", {"headers": {"Depth": "nine"}}),
            ("LOCK", "draft/main/notes.md", {"content": b"<D:x/>"}),
            ("MOVE", "draft/main/notes.md", {}),
            ("MOVE", "draft/main/notes.md", {"headers": {"Destination": "http://elsewhere/dav/x"}}),
            ("COPY", "branches/main/notes.md", {"headers": {"Destination": f"{self.service.address}/dav/none/draft/main/x"}}),
            ("BREW", "branches/main/notes.md", {}),
            ("MKCOL", "draft/main/data", {}),
        ):  # fmt: skip
            with self.subTest(method=method, path=path):
                answer = raw.request(method, path, **options)  # type: ignore[arg-type]
                self.assertGreaterEqual(answer.status_code, 400)
                self.assertLess(answer.status_code, 600)
                self.assertNotEqual(answer.status_code, 500)
                self.assertNotIn("Traceback", answer.text)


@unittest.skipUnless(shutil.which("cadaver"), "cadaver is not here")
class SecondClientTests(FolderCase):
    """Another program, on another library than the first (neon, which mounts of Linux use, too)."""

    def cadaver(self, commands: str) -> str:
        home = Path(tempfile.mkdtemp(prefix="es-dav-"))
        self.addCleanup(shutil.rmtree, home)
        (home / ".netrc").write_text(f"machine 127.0.0.1 login owner password {self.service.token()}\n")
        (home / ".netrc").chmod(0o600)
        address = f"{self.service.address}/dav/{self.shelf.key}/"
        run = subprocess.run(
            ["cadaver", address],
            input=commands,
            capture_output=True,
            text=True,
            cwd=home,
            env={**os.environ, "HOME": str(home), "LANG": "C"},
            check=False,
        )
        self.got: dict[str, Any] = {path.name: path.read_bytes() for path in home.iterdir() if path.is_file()}
        return run.stdout + run.stderr

    def test_a_session(self) -> None:
        said = self.cadaver(
            "ls tags\ncd draft/main\nget notes.md mine.md\nmkcol piers\nput mine.md piers/a.md\n"
            "move notes.md piers/notes.md\nlock piers/a.md\nput mine.md piers/a.md\nunlock piers/a.md\n"
            "cd ../../tags/spring-1\nput mine.md new.md\nquit\n"
        )
        self.assertIn("spring-1", said)
        self.assertEqual(self.got["mine.md"], b"# Piers\n")
        self.assertEqual(self.pending(), {"piers/a.md": "new", "piers/notes.md": "moved"})
        self.assertIn("403", said)
        self.assertEqual(self.shelf.read("piers/notes.md", "draft:main"), b"# Piers\n")


class TreeTests(ServiceCase):
    def test_a_tree_with_names_that_repeat(self) -> None:
        commit_files(self.shelf, {"README.md": b"x\n"}, "Start")
        auth = ("owner", self.service.token())
        client = DavClient(f"{self.service.address}/dav/{self.shelf.key}/draft/main", auth=auth, timeout=300)
        files = {f"d{n % 4}/s{n % 3}/table {n % 7} ä.csv": f"{n}\n".encode() for n in range(84)}
        for folder in sorted({path.rpartition("/")[0] for path in files} | {f"d{n}" for n in range(4)}):
            client.mkdir(folder)
        for path, data in files.items():
            client.upload_fileobj(io.BytesIO(data), path, overwrite=True)
        self.shelf.commit_draft("main", "All of them")
        for path, data in files.items():
            self.assertEqual(self.shelf.read(path), data)
        self.assertEqual(len(list(self.shelf.artifacts())), len(files) + 1)
