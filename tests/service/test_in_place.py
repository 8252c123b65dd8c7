"""Data in place: registered without being read, read like any other, never given where it is not what it was."""

from __future__ import annotations

import contextlib
import hashlib
import io
import json
import os
import random
import shutil
import sqlite3
import subprocess
import tempfile
import threading
import zipfile
from pathlib import Path
from typing import Any

import boto3
import fsspec
import httpx
import pyarrow as pa
import pyarrow.parquet as pq

from everyshelf.client import Client, Job, ProblemError, ShelfClient
from tests.support.bucket import CREDENTIALS, BucketServer
from tests.support.dask_cluster import DaskCluster
from tests.support.factories import ServiceCase, Terminal
from tests.support.service import PASSWORD, Service
from tests.support.waiting import until
from tests.support.web_files import WebFiles

FARES = b"zone,class,fare\n" + b"".join(b"Z%02d,adult,%d.50\n" % (n, n) for n in range(1, 30))
DEARER = FARES.replace(b"Z07,adult,7.50", b"Z07,adult,9.50")
SECRET = "a-secret-of-the-harbour-office"


class InPlaceCase(ServiceCase):
    """A service that may read one folder; a bucket and a server on loopback."""

    own: Service
    root: Path

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.root = Path(tempfile.mkdtemp(prefix="es-in-place-")).resolve()
        cls.addClassCleanup(shutil.rmtree, cls.root, ignore_errors=True)
        cls.own = Service(settings={"EVERYSHELF_IN_PLACE": str(cls.root), "EVERYSHELF_TIDY_HOURS": "0"})
        cls.addClassCleanup(cls.own.stop)
        for name in ("keeper", "author", "reader", "stranger"):
            cls.own.client().add_person(name, name.capitalize(), PASSWORD)

    def setUp(self) -> None:
        self.client: Client = self.own.client()
        self.addCleanup(self.client.close)
        self.shelf: ShelfClient = self.client.shelf(self.client.make_shelf(f"In place {self.id()[-40:]}").key)
        self.folder = self.root / self.id().rpartition(".")[2]
        self.folder.mkdir()

    def write(self, name: str, data: bytes) -> Path:
        path = self.folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(data)
        return path

    def add(self, path: str = "data", address: str | Path = "", shelf: ShelfClient | None = None, **more: str) -> Any:
        shelf = shelf or self.shelf
        return self.done(shelf.add_in_place(path, str(address or self.folder), **more), shelf)

    def done(self, job: Job, shelf: ShelfClient | None = None) -> Any:
        return (shelf or self.shelf).wait(job).result

    def check(self, **more: Any) -> Any:
        return self.done(self.shelf.check_in_place(**more))

    def refused(self, code: str, call: Any, status: int = 0) -> ProblemError:
        with self.assertRaises(ProblemError) as caught:
            call()
        self.assertEqual(caught.exception.code, code)
        self.assertTrue(caught.exception.hint)
        if status:
            self.assertEqual(caught.exception.status, status)
        return caught.exception

    def all_is_described(self) -> None:
        """Jobs after commits read what they read."""
        until(lambda: all(v.headline for a in self.shelf.artifacts() for v in self.shelf.history(a.path)), "described")


class FolderTests(InPlaceCase):
    def test_a_zip_says_what_it_lacks_and_goes_on(self) -> None:
        self.write("here.csv", FARES)
        gone = self.write("gone.csv", FARES[:-1])
        self.add()
        gone.unlink()
        target = self.folder / "all.zip"
        self.shelf.download_zip(target)
        with zipfile.ZipFile(target) as zipped:
            self.assertEqual(zipped.testzip(), None)
            self.assertEqual(sorted(zipped.namelist()), ["NOT-IN-THIS-ZIP.txt", "data/here.csv"])
            self.assertIn("data/gone.csv: ", zipped.read("NOT-IN-THIS-ZIP.txt").decode())
            self.assertEqual(zipped.read("data/here.csv"), FARES)

    def test_a_location_belongs_to_the_shelf_that_took_it_first(self) -> None:
        self.write("below/fares.csv", FARES)
        self.add()
        other = self.client.shelf(self.client.make_shelf("Other").key)
        for address in (self.folder, self.folder / "below", self.folder / "below/fares.csv"):
            self.refused("location.taken", lambda a=address: self.add("data", a, other))
        self.client.share_location(str(self.folder), other.key)
        self.assertEqual(self.add("data", self.folder / "below", other)["added"], 1)
        self.add()  # the first goes on

    def test_registered_and_read_like_any_other(self) -> None:
        large = random.Random(3).randbytes(3_000_000)
        self.write("fares.csv", FARES)
        self.write("runs/large.bin", large)
        table = pa.table({"trip": list(range(2_000)), "fare": [n / 4 for n in range(2_000)]})
        pq.write_table(table, self.folder / "trips.parquet")
        stored = self.client.storage().stored
        done = self.add(summary="Data of the harbour office")
        self.assertEqual((done["added"], done["changed"], done["removed"], done["left_out"]), (3, 0, 0, {}))
        self.all_is_described()
        self.assertLess(self.client.storage().stored - stored, 100_000)
        found = {a.path: a for a in self.shelf.artifacts()}
        self.assertEqual(found["data/runs/large.bin"].size, len(large))
        self.assertEqual(found["data/fares.csv"].in_place, str(self.folder / "fares.csv"))
        self.assertEqual({a.kind for a in found.values()}, {"dataset", "opaque"})
        self.assertEqual(found["data/trips.parquet"].kind, "dataset")
        self.assertEqual(self.shelf.read("data/runs/large.bin"), large)
        content = found["data/runs/large.bin"].content
        self.assertEqual(self.shelf.content(content, start=1_048_570, stop=1_048_590), large[1_048_570:1_048_590])
        self.assertEqual(self.shelf.query("select sum(fare) as s from 'data/trips.parquet'").rows, [["499750.0"]])
        outline = self.shelf.outline("data/fares.csv")
        self.assertEqual([c.name for c in outline.table.columns] if outline.table else [], ["zone", "class", "fare"])
        with zipfile.ZipFile(io.BytesIO(self.zipped())) as packed:
            self.assertEqual(packed.read("data/fares.csv"), FARES)

    def zipped(self) -> bytes:
        target = self.folder.with_suffix(".zip")
        self.addCleanup(target.unlink)
        self.shelf.download_zip(target)
        return target.read_bytes()

    def test_addresses_for_data_tools_and_the_network_folder(self) -> None:
        large = random.Random(9).randbytes(2_300_000)
        self.write("large.bin", large)
        self.add()
        host = self.own.address.partition("://")[2]
        tools = fsspec.filesystem("shelf", token=self.own.token(), skip_instance_cache=True)
        with tools.open(f"shelf://{host}/{self.shelf.key}/data/large.bin") as file:
            file.seek(1_048_570)
            self.assertEqual(file.read(20), large[1_048_570:1_048_590])
        auth = ("owner", self.own.token())
        at = f"{self.own.address}/dav/{self.shelf.key}/branches/main/data/large.bin"
        answer = httpx.get(at, auth=auth, headers={"Range": "bytes=2299990-2299999"}, timeout=300)
        self.assertEqual((answer.status_code, answer.content), (206, large[-10:]))
        self.write("large.bin", large[::-1])
        answer = httpx.get(at, auth=auth, timeout=300)
        self.assertEqual(answer.status_code, 409, answer.text[:200])

    def test_versions_are_compared_by_meaning(self) -> None:
        self.add("data/fares.csv", self.write("january.csv", FARES))
        self.add("data/fares.csv", self.write("february.csv", DEARER))
        self.assertEqual([v.version for v in self.shelf.history("data/fares.csv")], [2, 1])
        found = self.shelf.compare_artifact("data/fares.csv", "version:1", "version:2")
        self.assertEqual([(f.action, f.part) for f in found.findings], [("changed", "/column:fare")])
        self.assertEqual(found.table.rows.changed if found.table else None, 1)

    def test_what_was_changed_is_never_given(self) -> None:
        path = self.write("fares.csv", FARES)
        self.write("tides.csv", b"time,height\n10:00,1.2\n")
        self.add()
        content = self.shelf.artifact("data/fares.csv").content
        path.write_bytes(DEARER)
        for call in (
            lambda: self.shelf.read("data/fares.csv"),
            lambda: self.shelf.content(content, start=0, stop=4),
            lambda: self.shelf.outline("data/fares.csv"),
            lambda: self.shelf.text("data/fares.csv"),
            lambda: self.shelf.query("select * from 'data/fares.csv'"),
            lambda: self.shelf.rows("data/fares.csv"),
        ):
            refused = self.refused("in_place.changed", call, 409)
            self.assertIn("fares.csv has changed since it was registered", refused.message)
        self.assertEqual(self.shelf.read("data/tides.csv"), b"time,height\n10:00,1.2\n")
        verified = self.done(self.shelf.verify())
        self.assertEqual((verified["problems"], verified["in_place"]), ([], 2))
        self.add()
        self.assertEqual(self.shelf.read("data/fares.csv"), DEARER)
        self.refused("in_place.changed", lambda: self.shelf.read("data/fares.csv", version=1), 409)
        found = self.shelf.compare_artifact("data/fares.csv", "version:1", "version:2")
        self.assertFalse(found.judged)
        self.assertIn("has changed since it was registered", found.note)
        path.unlink()
        self.refused("in_place.gone", lambda: self.shelf.read("data/fares.csv"), 409)
        whole = self.shelf.compare(f"commit:{list(self.shelf.commits())[-1].commit}", "main")
        self.assertEqual([(a.path, a.judged) for a in whole.artifacts], [("data/fares.csv", False)])

    def test_registered_again_it_says_what_came_changed_and_went(self) -> None:
        for name in ("a.csv", "b.csv", "c.csv"):
            self.write(name, FARES)
        self.put({"data/own.csv": FARES, "shelf.toml": b'[ignore]\npatterns = ["*.log"]\n'})
        self.write("noise.log", b"x")
        self.write("a\nline.csv", b"x")
        done = self.add()
        self.assertEqual(done["added"], 3)
        self.assertEqual(done["left_out"].pop("data/noise.log"), "shelf.toml ignores it")
        self.assertEqual(list(done["left_out"]), ["data/a\\nline.csv"])
        again = self.add()
        self.assertEqual((again["unchanged"], again["commit"]), (3, None))
        self.write("a.csv", DEARER)
        (self.folder / "b.csv").unlink()
        self.write("d.csv", FARES)
        done = self.add()
        self.assertEqual([done[w] for w in ("added", "changed", "unchanged", "removed")], [1, 1, 1, 1])
        self.assertEqual(
            {a.path for a in self.shelf.artifacts("main", "data")},
            {"data/a.csv", "data/c.csv", "data/d.csv", "data/own.csv"},
        )
        (self.folder / "a.csv").unlink()
        (self.folder / "c.csv").unlink()
        (self.folder / "d.csv").unlink()
        self.refused("in_place.nothing", self.add)  # an unmounted disk must not empty the shelf
        self.assertEqual(len(list(self.shelf.artifacts("main", "data"))), 4)

    def test_what_is_there_and_left_out_is_not_gone(self) -> None:
        self.write("a.csv", FARES)
        self.write("b.csv", FARES)
        self.add()
        self.put({"shelf.toml": b'[ignore]\npatterns = ["b.csv"]\n'})
        (self.folder / "a.csv").rename(self.folder / "c.csv")
        (self.folder / "a.csv").symlink_to(self.folder / "c.csv")
        done = self.add()
        self.assertEqual((done["added"], done["removed"]), (1, 0))
        self.assertEqual(
            {a.path for a in self.shelf.artifacts("main", "data")}, {"data/a.csv", "data/b.csv", "data/c.csv"}
        )

    def test_a_folder_that_became_a_link_is_not_gone(self) -> None:
        self.write("runs/1.csv", FARES)
        self.write("a.csv", FARES)
        self.add()
        shutil.move(self.folder / "runs", self.root / "runs-elsewhere")
        (self.folder / "runs").symlink_to(self.root / "runs-elsewhere")
        self.assertEqual(self.add()["removed"], 0)
        self.assertEqual({a.path for a in self.shelf.artifacts()}, {"data/a.csv", "data/runs/1.csv"})

    def test_nothing_is_written_beside_a_database(self) -> None:
        with contextlib.closing(sqlite3.connect(self.folder / "bookings.sqlite")) as bookings:
            bookings.execute("PRAGMA journal_mode=WAL")
            bookings.execute("CREATE TABLE booking (id INTEGER PRIMARY KEY, trip TEXT)")
            bookings.execute("INSERT INTO booking VALUES (1, 'T1')")
            bookings.commit()
        self.add()
        found = self.shelf.outline("data/bookings.sqlite")
        self.assertEqual((found.kind, found.read_as), ("database", "database"))
        self.assertEqual([p.name for p in self.folder.iterdir()], ["bookings.sqlite"])
        self.assertEqual(self.check()["problems"], {})

    def test_a_note_that_was_let_go_of_is_made_again(self) -> None:
        path = self.write("fares.csv", FARES)
        self.add("one.csv", path)
        with contextlib.closing(sqlite3.connect(self.own.data / "records.sqlite", timeout=60)) as records, records:
            done = records.execute(
                "UPDATE shelves_outsidecontent SET content = ? WHERE address = ?", ["ab" * 32, str(path)]
            )
            self.assertEqual(done.rowcount, 1)
        self.add("two.csv", path)
        self.assertEqual(self.shelf.read("two.csv"), FARES)
        self.assertEqual(self.done(self.shelf.verify())["problems"], [])

    def test_checked_and_found_again_by_its_fingerprint(self) -> None:
        path = self.write("fares.csv", FARES)
        self.write("tides.csv", b"x")
        self.add()
        self.assertEqual([one.checked for one in self.shelf.in_place()], [None, None])
        self.assertEqual(self.check()["problems"], {})
        self.assertEqual(self.check(fingerprint=True)["bytes"], len(FARES) + 1)
        known = {one.path: one for one in self.shelf.in_place()}
        self.assertEqual(known["data/fares.csv"].sha256, hashlib.sha256(FARES).hexdigest())
        path.write_bytes(DEARER)
        self.assertEqual(list(self.check()["problems"]), ["data/fares.csv"])
        self.assertEqual(list(self.check(fingerprint=True)["problems"]), ["data/fares.csv"])
        shutil.copy(path, self.folder / "other.csv")
        path.write_bytes(FARES)  # back from a backup: other times, the same bytes
        self.refused("in_place.changed", lambda: self.shelf.read("data/fares.csv"))
        self.assertEqual(list(self.check()["problems"]), ["data/fares.csv"])
        self.assertEqual(self.check(fingerprint=True)["problems"], {})
        self.assertEqual(self.shelf.read("data/fares.csv"), FARES)
        self.assertEqual([one.problem for one in self.shelf.in_place()], ["", ""])
        self.assertEqual(self.add()["changed"], 0)
        os.utime(path, ns=(1, 1))
        path.write_bytes(DEARER)
        self.assertEqual(list(self.check(fingerprint=True)["problems"]), ["data/fares.csv"])

    def test_only_folders_that_are_allowed(self) -> None:
        (self.folder / "way").symlink_to("/etc")
        for address in ("/etc/passwd", f"{self.folder}/way/passwd", f"{self.folder}/../../x", str(self.own.data)):
            self.refused("in_place.folder", lambda at=address: self.add("data/x", at))  # type: ignore[misc]
        for address in (
            "fares.csv",
            "ftp://harbour/x",
            "s3://",
            "https://",
            "http://u:p@127.0.0.1/x",
            "file:///etc/passwd",
        ):
            with self.assertRaises(ProblemError) as caught:
                self.shelf.add_in_place("data/x", address)
            self.assertIn(caught.exception.status, (400, 403), address)
        self.refused("in_place.nothing", lambda: self.add("data/x", self.folder))
        self.assertEqual(list(self.shelf.artifacts()), [])

    def test_who_may(self) -> None:
        path = self.write("fares.csv", FARES)
        for name in ("keeper", "author", "reader"):
            self.shelf.set_member(name, name)
        for name in ("author", "reader"):
            shelf = self.own.client(name).shelf(self.shelf.key)
            for call in (
                lambda s=shelf: s.add_in_place("x.csv", str(path)),
                lambda s=shelf: s.in_place_keys(),
                lambda s=shelf: s.set_in_place_keys("https://harbour.example/x", SECRET),
                lambda s=shelf: s.check_in_place(),
            ):
                with self.assertRaises(ProblemError) as caught:
                    call()  # type: ignore[misc]
                self.assertEqual(caught.exception.status, 403, name)
        keeper = self.own.client("keeper").shelf(self.shelf.key)
        self.add("x.csv", path, keeper)
        reader = self.own.client("reader").shelf(self.shelf.key)
        self.assertEqual((reader.read("x.csv"), len(list(reader.in_place()))), (FARES, 1))
        stranger = self.own.client("stranger").shelf(self.shelf.key)
        for call in (lambda: list(stranger.in_place()), lambda: stranger.add_in_place("x.csv", str(path))):
            with self.assertRaises(ProblemError) as caught:
                call()
            self.assertEqual(caught.exception.status, 404)

    def test_a_note_that_is_uploaded_opens_nothing(self) -> None:
        """Only what is registered is read in place; the same words as a file are words."""
        self.add("x.csv", self.write("fares.csv", FARES))
        words = json.dumps(
            {"address": str(self.folder / "fares.csv"), "stamp": {"size": 3}, "access": "", "drawn": "0"}
        )
        self.put({"note.json": words.encode()})
        self.assertEqual(self.shelf.read("note.json"), words.encode())
        self.assertEqual(self.shelf.artifact("note.json").in_place, "")

    def test_the_rest_of_the_product_leaves_it_where_it_is(self) -> None:
        self.write("trips.csv", FARES)
        self.put({"fares.csv": FARES})
        self.add()
        terminal = Terminal(self, self.own)
        taken = terminal.json("take", self.shelf.key, "desk")
        self.assertEqual((taken["written"], taken["in_place"]), (["fares.csv"], ["data/trips.csv"]))
        terminal.folder = terminal.home / "desk"
        self.assertEqual(terminal.json("pending")["artifacts"], [])
        terminal.write("fares.csv", DEARER)
        terminal.run("commit", "--summary", "Dearer")
        self.assertEqual({a.path for a in self.shelf.artifacts()}, {"fares.csv", "data/trips.csv"})
        self.assertIn("1 artifact in place", terminal.run("take").stdout)
        self.assertIn("Nothing new", terminal.run("take").stdout)
        terminal.run("browse", "data/trips.csv", "--output", "copy.csv")
        self.assertEqual((terminal.folder / "copy.csv").read_bytes(), FARES)
        (terminal.folder / "link.csv").symlink_to("copy.csv")
        (terminal.folder / "copy.csv").write_bytes(b"older")
        terminal.run("browse", "data/trips.csv", "--output", "link.csv")
        self.assertTrue((terminal.folder / "link.csv").is_symlink())
        self.assertEqual((terminal.folder / "copy.csv").read_bytes(), FARES)
        terminal.run("browse", "data/trips.csv", "--output", "/dev/null")
        packed = self.folder / "all.zip"
        self.shelf.pack("main", packed)
        with zipfile.ZipFile(packed) as parcel:
            about = json.loads(next(parcel.read(n) for n in parcel.namelist() if n.endswith("packed.json")))
            self.assertFalse([n for n in parcel.namelist() if "trips" in n])
        self.assertEqual(about["in_place"], {"data/trips.csv": str(self.folder / "trips.csv")})
        self.shelf.make_environment("test")
        self.shelf.make_tag("spring")
        rehearsed = self.shelf.rehearse("spring", "test")
        self.assertEqual([p["path"] for p in rehearsed["problems"]], ["data/trips.csv"])
        self.shelf.change_environment("test", left_out={"patterns": ["data/*"], "kinds": []})
        self.assertEqual(self.shelf.rehearse("spring", "test")["problems"], [])
        clone = self.folder / "clone"
        address = self.shelf.git_address("owner").replace("://owner@", f"://owner:{self.own.token()}@")
        subprocess.run(["git", "clone", "-q", address, str(clone)], check=True)
        self.assertIn(b"content note", (clone / "data" / "trips.csv").read_bytes())
        (clone / "fares.csv").write_bytes(FARES)
        for command in (("commit", "-qam", "Back"), ("push", "-q")):
            subprocess.run(
                ["git", "-c", "user.name=T", "-c", "user.email=t@skerry.example", *command], cwd=clone, check=True
            )
        self.assertEqual(self.shelf.artifact("data/trips.csv").in_place, str(self.folder / "trips.csv"))
        self.assertEqual(self.shelf.read("data/trips.csv"), FARES)

    def test_a_copy_on_another_shelf_reads_the_same_place(self) -> None:
        self.add("trips.csv", self.write("trips.csv", FARES))
        other = self.client.shelf(self.client.make_shelf(f"Other {self.id()[-30:]}").key)
        other.copy(self.shelf.key, "trips.csv")
        self.assertEqual(other.read("trips.csv"), FARES)
        self.assertEqual(other.artifact("trips.csv").in_place, str(self.folder / "trips.csv"))

    def test_a_table_in_many_files(self) -> None:
        for month in range(3):
            table = pa.table({"trip": list(range(month * 10, month * 10 + 10)), "zone": ["Z01"] * 10})
            pq.write_table(table, self.folder / f"2026-{month + 1:02}.parquet")
        self.put({"shelf.toml": b'[folders]\nwhole = ["data/trips/"]\n'})
        self.add("data/trips")
        (found,) = [a for a in self.shelf.artifacts() if a.path == "data/trips"]
        self.assertEqual((found.whole, found.kind), (True, "dataset"))
        self.assertEqual(self.shelf.query("select count(*) as n from 'data/trips'").rows, [["30"]])

    def test_two_at_once_and_a_service_that_dies(self) -> None:
        for number in range(300):
            self.write(f"{number % 7}/{number}.csv", b"a\n%d\n" % number)
        jobs: list[Any] = []
        both = [threading.Thread(target=lambda: jobs.append(self.add())) for _ in range(2)]
        for one in both:
            one.start()
        for one in both:
            one.join()
        self.assertEqual({job["added"] + job["unchanged"] for job in jobs}, {300})
        self.assertEqual({a.version for a in self.shelf.artifacts()}, {1})
        for number in range(300):
            self.write(f"{number % 7}/{number}.csv", b"a\n%d\n" % -number)
        job = self.shelf.add_in_place("data", str(self.folder))
        self.own.kill_group()
        self.own.start()
        self.assertEqual(self.shelf.wait(job).state, "done")
        self.assertEqual({a.version for a in self.shelf.artifacts()}, {2})
        self.assertEqual(self.shelf.read("data/5/5.csv"), b"a\n-5\n")
        self.assertEqual(self.done(self.shelf.verify())["problems"], [])
        self.client.wait(self.client.tidy_storage())
        self.client.wait(self.client.tidy_storage())
        self.assertEqual(self.shelf.read("data/6/6.csv"), b"a\n-6\n")

    def test_in_the_terminal(self) -> None:
        self.write("fares.csv", FARES)
        terminal = Terminal(self, self.own)
        terminal.set("EVERYSHELF_SHELF", self.shelf.key)
        said = terminal.run("in-place", "add", "data", str(self.folder), "--shelf", self.shelf.key).stdout
        self.assertIn("1 artifact registered in place", said)
        self.assertIn("nothing was copied", said)
        shelf = ("--shelf", self.shelf.key)
        self.assertIn("Nothing has changed", terminal.run("in-place", "add", "data", str(self.folder), *shelf).stdout)
        self.assertIn("not checked", terminal.run("in-place", "list", *shelf).stdout)
        self.assertIn("1 artifact unchanged", terminal.run("in-place", "check", *shelf).stdout)
        self.write("fares.csv", DEARER)
        wrong = terminal.run("in-place", "check", "data", *shelf, code=1).stdout
        self.assertIn("1 of 1 artifact changed or cannot be read", wrong)
        self.assertIn("fares.csv has changed since it was registered", terminal.run("in-place", "list", *shelf).stdout)
        self.assertEqual(len(terminal.json("in-place", "check", *shelf, code=1)["problems"]), 1)
        terminal.set("EVERYSHELF_SECRET", SECRET)
        kept = terminal.run("in-place", "set-credentials", "http://127.0.0.1:8000/x", *shelf).stdout
        self.assertIn("http://127.0.0.1:8000", kept)
        self.assertNotIn(SECRET, kept)
        self.assertEqual(terminal.json("in-place", "credentials", *shelf)[0]["key_id"], "")
        gone = terminal.run("in-place", "remove-credentials", "http://127.0.0.1:8000", *shelf).stdout
        self.assertIn("0 places", gone)


class ElsewhereTests(InPlaceCase):
    """Buckets and servers."""

    bucket: BucketServer
    web: WebFiles

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.bucket, cls.web = BucketServer(cls), WebFiles(cls)
        cls.objects = boto3.client(
            "s3",
            endpoint_url=cls.bucket.endpoint,
            aws_access_key_id=CREDENTIALS["AWS_ACCESS_KEY_ID"],
            aws_secret_access_key=CREDENTIALS["AWS_SECRET_ACCESS_KEY"],
            region_name="us-east-1",
        )

    def setUp(self) -> None:
        super().setUp()
        self.web.token, self.web.status = "", 0
        self.below = self.id().rpartition(".")[2]
        self.addCleanup(setattr, self.bucket, "fault", None)

    def put_object(self, name: str, data: bytes) -> None:
        self.objects.put_object(Bucket="versions", Key=f"{self.below}/{name}", Body=data)

    def keys(self, key_id: str, secret: str) -> Any:
        at = f"s3://versions/{self.below}"
        return self.shelf.set_in_place_keys(at, secret, key_id=key_id, endpoint=self.bucket.endpoint)

    def add_bucket(self) -> Any:
        return self.add("data", f"s3://versions/{self.below}", endpoint=self.bucket.endpoint)

    def test_a_prefix_of_a_bucket(self) -> None:
        large = random.Random(5).randbytes(2_500_000)
        self.put_object("large.bin", large)
        self.put_object("fares.csv", FARES)
        self.keys("skerry", SECRET)
        self.bucket.asked.clear()
        done = self.add_bucket()
        self.assertEqual(done["added"], 2)
        self.all_is_described()
        # Nothing is read but the listing: once that it is not a single object, once for what lies below.
        self.assertEqual([method for method, _ in self.bucket.asked], ["HEAD", "GET"])
        self.assertEqual(self.shelf.read("data/large.bin"), large)
        content = self.shelf.artifact("data/large.bin").content
        self.bucket.asked.clear()
        self.assertEqual(self.shelf.content(content, start=7, stop=9), large[7:9])
        self.assertEqual(len(self.bucket.asked), 1)
        found = self.shelf.query("select count(*) as n from 'data/fares.csv'")
        self.assertEqual(found.rows, [["29"]])
        self.put_object("fares.csv", DEARER)
        self.refused("in_place.changed", lambda: self.shelf.read("data/fares.csv"), 409)
        self.bucket.asked.clear()
        self.assertEqual(self.add_bucket()["changed"], 1)
        self.all_is_described()
        self.client.wait(self.client.tidy_storage())
        self.assertEqual([method for method, _ in self.bucket.asked], ["HEAD", "GET"])
        self.assertEqual(self.shelf.read("data/fares.csv"), DEARER)
        self.objects.delete_object(Bucket="versions", Key=f"{self.below}/fares.csv")
        self.refused("in_place.gone", lambda: self.shelf.read("data/fares.csv"), 409)
        self.assertEqual(list(self.check()["problems"]), ["data/fares.csv"])

    def test_a_bucket_that_is_away(self) -> None:
        self.put_object("fares.csv", FARES)
        self.keys("skerry", SECRET)
        self.add_bucket()
        self.bucket.stop()
        try:
            self.refused("in_place.out_of_reach", lambda: self.shelf.read("data/fares.csv"), 502)
            self.refused("in_place.out_of_reach", self.add_bucket)
            self.assertIn("does not answer", self.check()["problems"]["data/fares.csv"])
            self.put({"own.csv": FARES})
            self.assertEqual(self.shelf.read("own.csv"), FARES)
        finally:
            self.bucket.start()
        self.assertEqual(self.shelf.read("data/fares.csv"), FARES)
        self.assertEqual(self.check()["problems"], {})

    def test_a_file_of_the_web_with_a_token_that_is_never_shown(self) -> None:
        self.web.files["/fares.csv"], self.web.token = FARES, SECRET
        address = f"{self.web.address}/fares.csv"
        self.refused("in_place.refused", lambda: self.add("fares.csv", address))
        kept = self.shelf.set_in_place_keys(address, SECRET)
        self.assertEqual([one.place for one in kept], [self.web.address])
        self.add("fares.csv", address)
        self.assertEqual(self.shelf.read("fares.csv"), FARES)
        self.refused("in_place.keys", lambda: self.keys("", SECRET))
        self.refused("in_place.keys", lambda: self.shelf.set_in_place_keys(str(self.folder), SECRET))
        held = b"".join(p.read_bytes() for p in self.own.data.rglob("*") if p.is_file())
        self.assertNotIn(SECRET.encode(), held)
        with httpx.Client(headers={"Authorization": f"Bearer {self.own.token()}"}) as http:
            for page in ("in-place", "in-place/credentials", "log"):
                answer = http.get(f"{self.own.address}/api/v1/shelves/{self.shelf.key}/{page}")
                self.assertEqual(answer.status_code, 200)
                self.assertNotIn(SECRET, answer.text)
        other = self.client.shelf(self.client.make_shelf(f"Other {self.below[:30]}").key)
        self.refused("in_place.refused", lambda: self.add("fares.csv", address, other))  # another shelf has no token
        self.assertEqual(self.shelf.remove_in_place_keys(self.web.address), [])
        self.refused("in_place.refused", lambda: self.shelf.read("fares.csv"), 502)
        self.refused("in_place.no_keys", lambda: self.shelf.remove_in_place_keys(self.web.address))
        self.shelf.set_in_place_keys(address, SECRET)
        self.assertEqual(self.shelf.read("fares.csv"), FARES)

    def test_a_server_that_stopped_answering_ranges_does_not_stop_a_check(self) -> None:
        self.web.files["/fares.csv"], self.web.files["/dearer.csv"] = FARES, DEARER
        self.add("web/fares.csv", f"{self.web.address}/fares.csv")
        self.add("web/fares.csv", f"{self.web.address}/dearer.csv")
        self.add("own.csv", self.write("own.csv", FARES))
        self.web.ranges = False
        self.addCleanup(setattr, self.web, "ranges", True)
        problems = self.check()["problems"]
        self.assertEqual(list(problems), ["web/fares.csv"])
        self.assertIn("cannot be read by ranges", problems["web/fares.csv"])
        self.assertEqual(list(self.check(fingerprint=True)["problems"]), ["web/fares.csv"])
        self.assertEqual({one.path: bool(one.problem) for one in self.shelf.in_place()}["own.csv"], False)
        found = self.shelf.compare_artifact("web/fares.csv", "version:1", "version:2")
        self.assertFalse(found.judged)
        self.assertIn("cannot be read by ranges", found.note)

    def test_hosts_that_may_not_be_called(self) -> None:
        for address, endpoint in (
            ("http://169.254.169.254/latest", ""),
            ("http://10.1.2.3/x.csv", ""),
            ("s3://versions/x", "http://10.1.2.3:9000"),
        ):
            self.refused(
                "destination.host", lambda at=address, to=endpoint: self.shelf.add_in_place("x", at, endpoint=to)
            )  # type: ignore[misc]

    def test_the_credentials_of_the_machine_are_not_used(self) -> None:
        """The service has some for its own store; a shelf that has none asks without."""
        seen: list[str] = []

        def fault(environ: dict[str, Any], app: Any, start: Any) -> Any:
            seen.append(environ.get("HTTP_AUTHORIZATION", ""))
            return app(environ, start)

        self.put_object("fares.csv", FARES)
        self.bucket.fault = fault
        self.add_bucket()
        self.assertEqual(set(seen), {""})
        self.shelf.set_in_place_keys(
            f"s3://versions/{self.below}", SECRET, key_id="skerry", endpoint=self.bucket.endpoint
        )
        self.assertEqual(self.shelf.read("data/fares.csv"), FARES)
        self.assertIn("Credential=skerry/", seen[-1])


class SharedTests(InPlaceCase):
    """Fingerprints made by several processes: each is right, whoever made it, and what is wrong is told the same."""

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.bucket = BucketServer(cls)
        cls.own.stop()
        cls.own = cls.served()

    @classmethod
    def served(cls, **settings: str) -> Service:
        """A service that shares out from the first byte on."""
        settings = {
            "EVERYSHELF_IN_PLACE": str(cls.root),
            "EVERYSHELF_LOG": "INFO",
            "EVERYSHELF_PROCESSES": "2",
        } | settings
        service = Service(settings=settings, module="tests.support.soon_shared")
        cls.addClassCleanup(service.stop)
        return service

    def test_many_files_of_which_some_are_not_what_they_were(self) -> None:
        files = {f"trips/{n}.csv": f"trip,{n}\n".encode() * (n * 40) for n in range(1, 30)}
        for name, data in files.items():
            self.write(name, data)
        self.add()
        self.write("trips/12.csv", b"other")  # before anybody read it
        self.assertEqual(list(self.check(fingerprint=True)["problems"]), ["data/trips/12.csv"])
        self.write("trips/12.csv", files["trips/12.csv"])
        self.add()
        done = self.check(fingerprint=True)
        self.assertEqual((done["checked"], done["bytes"], done["problems"]), (29, sum(map(len, files.values())), {}))
        known = {one.path: one.sha256 for one in self.shelf.in_place()}
        self.assertEqual(known, {f"data/{name}": hashlib.sha256(data).hexdigest() for name, data in files.items()})
        self.assertIn("ProcessSpread", self.own.log())
        os.utime(self.write("trips/3.csv", files["trips/3.csv"]), ns=(1, 1))  # the same bytes at another time
        self.write("trips/7.csv", b"other")
        (self.folder / "trips/9.csv").unlink()
        problems = self.check(fingerprint=True)["problems"]
        self.assertEqual(sorted(problems), ["data/trips/7.csv", "data/trips/9.csv"])
        self.assertIn("it had", problems["data/trips/7.csv"])
        self.assertIn("does not exist any more", problems["data/trips/9.csv"])
        self.assertEqual(self.shelf.read("data/trips/3.csv"), files["trips/3.csv"])

    def test_credentials_do_not_leave_this_machine(self) -> None:
        objects = boto3.client(
            "s3",
            endpoint_url=self.bucket.endpoint,
            aws_access_key_id=CREDENTIALS["AWS_ACCESS_KEY_ID"],
            aws_secret_access_key=CREDENTIALS["AWS_SECRET_ACCESS_KEY"],
            region_name="us-east-1",
        )
        cluster = DaskCluster()
        self.addCleanup(cluster.close)
        service = self.served(EVERYSHELF_DASK=cluster.address)
        client = service.client()
        shelf = client.shelf(client.make_shelf("Shared").key)
        for n in range(8):
            objects.put_object(Bucket="versions", Key=f"shared/{n}", Body=bytes([n]) * 900)
            self.write(f"{n}", bytes([n]) * 900)
        shelf.set_in_place_keys("s3://versions/shared", SECRET, key_id="skerry", endpoint=self.bucket.endpoint)
        self.done(shelf.add_in_place("bucket", "s3://versions/shared", endpoint=self.bucket.endpoint), shelf)
        self.assertEqual(self.done(shelf.check_in_place(fingerprint=True), shelf)["problems"], {})
        self.assertIn("ProcessSpread", service.log())
        self.assertNotIn("DaskSpread", service.log())
        self.done(shelf.add_in_place("folder", str(self.folder)), shelf)
        self.assertEqual(self.done(shelf.check_in_place(fingerprint=True), shelf)["problems"], {})
        self.assertIn("DaskSpread", service.log())
        self.assertNotIn("without other processes", service.log())
        for one in shelf.in_place():
            data = bytes([int(one.path.rpartition("/")[2])]) * 900
            self.assertEqual(one.sha256, hashlib.sha256(data).hexdigest())
        service.run_python(
            "from everyshelf.service.in_place.models import InPlaceKeys\nInPlaceKeys.objects.update(sealed=b'damaged')"
        )
        problems = self.done(shelf.check_in_place(fingerprint=True), shelf)["problems"]
        self.assertEqual(sorted(problems), [f"bucket/{n}" for n in range(8)])
