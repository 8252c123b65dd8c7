"""The store of an installation that runs: versions kept as what they change, room freed, and nothing lost meanwhile."""

from __future__ import annotations

import contextlib
import hashlib
import random
import shutil
import sqlite3
import tempfile
import threading
from collections.abc import Callable, Iterator
from datetime import timedelta
from pathlib import Path
from typing import Any

import httpx
from bench.tidying import Campaign

from everyshelf.client import ChangeRequest, Client, ProblemError, Saving, ShelfClient
from everyshelf.core.content.store import ContentStore
from tests.core.test_unpacking import workbook
from tests.support.factories import ServiceCase, Terminal, commit_files
from tests.support.service import Service


def table(seed: int, rows: int = 9000) -> list[bytes]:
    chance = random.Random(seed)
    return [b"%d,%d,%.6f\n" % (n, n % 40, chance.random()) for n in range(rows)]


class StorageCase(ServiceCase):
    """A service of its own with one web process: its store is looked at from outside."""

    own: Service

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.own = Service(settings={"EVERYSHELF_WORKERS": "1", "EVERYSHELF_TIDY_HOURS": "0"})
        cls.addClassCleanup(cls.own.stop)
        cls.own.client().add_person("author", "Author", "a-password-for-tests")

    def setUp(self) -> None:
        self.client: Client = self.own.client()
        self.shelf: ShelfClient = self.client.shelf(self.client.make_shelf(f"Storage {self.id()[-40:]}").key)

    def tidy(self) -> dict[str, Any]:
        return self.client.wait(self.client.tidy_storage()).result or {}

    def age(self) -> None:
        """Let the time of grace pass for what is not used."""
        with contextlib.closing(sqlite3.connect(self.own.data / "records.sqlite", timeout=60)) as records, records:
            records.execute(
                "UPDATE shelves_shelfcontent SET unreached_since = '2026-01-01' WHERE unreached_since NOT NULL"
            )

    def stored(self) -> int:
        return sum(path.stat().st_size for path in (self.own.data / "segments").glob("*.seg"))

    def is_stored(self, data: bytes) -> bool:
        """Looked up by another process, so to speak."""
        store = ContentStore(self.own.data / "segments")
        try:
            return store.has(hashlib.sha256(data).hexdigest())
        finally:
            store.close()

    def assert_sound(self) -> None:
        self.assertEqual((self.shelf.wait(self.shelf.verify()).result or {})["problems"], [])


class VersionsTests(StorageCase):
    def test_answers_of_long_ago_are_forgotten_and_worked_out_again(self) -> None:
        def kept() -> int:
            with contextlib.closing(sqlite3.connect(self.own.data / "records.sqlite", timeout=60)) as records:
                return int(records.execute("SELECT count(*) FROM shelves_cachedcomparison").fetchone()[0])

        commit_files(self.shelf, {"fares.csv": b"zone,fare\nZ1,4\n"}, "One")
        commit_files(self.shelf, {"fares.csv": b"zone,fare\nZ1,5\n"}, "Two")
        found = self.shelf.compare_artifact("fares.csv", "version:1", "version:2")
        self.assertGreater(kept(), 0)
        self.assertEqual(self.tidy()["forgotten"], 0)
        with contextlib.closing(sqlite3.connect(self.own.data / "records.sqlite", timeout=60)) as records, records:
            records.execute("UPDATE shelves_cachedcomparison SET made = '2026-01-01'")
        self.assertGreater(self.tidy()["forgotten"], 0)
        self.assertEqual(self.shelf.compare_artifact("fares.csv", "version:1", "version:2").findings, found.findings)

    def test_versions_take_what_they_change(self) -> None:
        lines, versions = table(1), []
        for n in range(8):
            lines[n * 900] = b"%d,0,0.5\n" % n
            versions.append(b"".join(lines))
            commit_files(self.shelf, {"data/fares.csv": versions[-1]}, f"Fares {n}")
        terminal = Terminal(self, self.own)
        before = self.client.storage()
        self.assertGreater(before.waiting, 7 * len(versions[0]))
        self.assertIn("everyshelf storage tidy", terminal.run("storage", "show").stdout)
        told = terminal.run("storage", "tidy").stdout
        self.assertIn("kept as what they change of another", told)
        self.tidy()  # what the web process still added to is rewritten now
        after = self.client.storage()
        self.assertLess(after.stored, before.stored / 2)
        self.assertEqual((after.waiting, after.tidied is not None), (0, True))
        self.assertGreater(after.deltas, 6)
        self.assertGreater(after.saved, 3 * len(versions[0]) // 4)
        self.assertIn(f"{after.deltas} pieces", terminal.run("storage", "show").stdout)
        history = self.shelf.history("data/fares.csv")
        for version, data in zip(history, reversed(versions), strict=True):
            self.assertEqual(self.shelf.read("data/fares.csv", f"commit:{version.commit}"), data)
        self.assertEqual(terminal.json("storage", "show", "--json")["deltas"], after.deltas)
        self.assert_sound()

    def test_branches_and_comparisons_go_on(self) -> None:
        lines = table(2)
        commit_files(self.shelf, {"t.csv": b"".join(lines)}, "One")
        first = self.shelf.branch("main").head
        lines[50] = b"50,10,9.5\n"
        commit_files(self.shelf, {"t.csv": b"".join(lines)}, "Two")
        self.tidy()
        self.tidy()
        found = self.shelf.compare(f"commit:{first}", "main")
        self.assertEqual(found.artifacts[0].headline, "1 cell in column 3")
        commit_files(self.shelf, {"t.csv": b"".join(lines[:400])}, "Three")
        self.assertEqual(self.shelf.read("t.csv"), b"".join(lines[:400]))
        self.assert_sound()

    def test_only_those_who_run_it(self) -> None:
        author = self.own.client("author")
        for call in (author.storage, author.tidy_storage, lambda: list(author.unused_contents())):
            with self.assertRaises(ProblemError) as caught:
                call()
            self.assertEqual(caught.exception.status, 403)

    def test_a_backup_and_tidying_wait_for_each_other(self) -> None:
        with ContentStore(self.own.data / "segments").segments.place.alone():
            with self.assertRaises(ProblemError) as caught:
                self.tidy()
            self.assertEqual(caught.exception.code, "content.busy")
            self.assertTrue(caught.exception.hint)
        self.tidy()


class WorkbookTests(StorageCase):
    """Versions of files whose parts are deflated."""

    def test_versions_of_a_workbook_take_what_they_change(self) -> None:
        """Kept unpacked, and the same bytes however they are asked for."""
        versions = [workbook({n * 50: n, n * 70: "moved"}) for n in range(1, 7)]
        for n, data in enumerate(versions):
            commit_files(self.shelf, {"fares.xlsx": data, f"fares-{n}.xlsx": data}, f"Fares {n}")
        self.tidy()
        for _ in range(3):  # pieces of the form as it came are condemned, then removed
            self.tidy()
        self.assertLess(self.stored(), 2 * len(versions[0]))
        for version, data in zip(self.shelf.history("fares.xlsx"), reversed(versions), strict=True):
            ref = f"commit:{version.commit}"
            self.assertEqual(self.shelf.read("fares.xlsx", ref), data)
            part = httpx.get(
                f"{self.own.address}/api/v1/shelves/{self.shelf.key}/artifact/file",
                params={"path": "fares.xlsx", "ref": ref},
                headers={"Authorization": f"Bearer {self.own.token()}", "Range": "bytes=40000-44999"},
                timeout=300,
            )
            self.assertEqual((part.status_code, part.content), (206, data[40_000:45_000]))
        found = self.shelf.compare_artifact("fares.xlsx", "version:5", "version:6")
        self.assertTrue(found.findings)
        commit_files(self.shelf, {"copy.xlsx": versions[2]}, "Sent once more")
        self.assertEqual(self.shelf.read("copy.xlsx"), versions[2])
        for _ in range(3):  # the bytes that came are needed no more than before
            self.tidy()
        self.assertLess(self.stored(), 2 * len(versions[0]))
        self.assertEqual(self.shelf.read("copy.xlsx"), versions[2])
        self.assert_sound()


class ReclaimTests(StorageCase):
    def test_what_was_sent_and_never_used_goes_after_its_time(self) -> None:
        self.tidy()
        data = random.Random(1).randbytes(3_000_000)
        self.shelf.upload(data)
        done = self.tidy()
        self.assertEqual((done["contents"], self.is_stored(data)), (0, True))
        held = self.client.storage()
        self.assertGreaterEqual(held.unreached_bytes, len(data))
        terminal, identity = Terminal(self, self.own), hashlib.sha256(data).hexdigest()
        self.assertIn("sent and never used", terminal.run("storage", "show").stdout)
        (listed,) = [one for one in self.client.unused_contents() if one.content == identity]
        self.assertEqual((listed.size, listed.shelf), (len(data), self.shelf.key))
        self.assertEqual(listed.frees - listed.since, timedelta(hours=168))
        self.assertIn(f"{identity[:12]}     3.0 MB  {self.shelf.key}", terminal.run("storage", "unused").stdout)
        self.assertIn(identity, [one["content"] for one in terminal.json("storage", "unused", "--json")])
        self.tidy()
        self.assertEqual(self.shelf.missing([hashlib.sha256(data).hexdigest()]), [])  # and is held again
        self.tidy()
        self.age()
        self.assertEqual(self.tidy()["contents"], 1)  # none looked at: it goes, its bytes are condemned
        self.assertTrue(self.is_stored(data))
        before = self.stored()
        self.assertGreater(self.tidy()["removed"], 10)
        self.assertFalse(self.is_stored(data))
        self.assertLess(self.stored(), before - 2_900_000)
        self.assertEqual(len(self.shelf.missing([hashlib.sha256(data).hexdigest()])), 1)
        self.assert_sound()

    def test_what_is_used_in_time_stays(self) -> None:
        contents = [random.Random(n).randbytes(200_000) for n in (5, 6, 7)]
        ids = [self.shelf.upload(data).id for data in contents]
        self.tidy()
        self.age()
        self.shelf.commit("main", None, [ChangeRequest("a.bin", ids[0])], "In time")
        self.shelf.save("main", [Saving("b.bin", ids[1])])
        for _ in range(3):
            self.tidy()
            self.age()
        self.assertEqual(self.shelf.missing(ids), [ids[2]])
        self.assertEqual(self.shelf.read("a.bin"), contents[0])
        self.assert_sound()

    def test_sent_again_when_it_was_about_to_go(self) -> None:
        data = random.Random(8).randbytes(900_000)
        self.shelf.upload(data)
        self.tidy()
        self.age()
        self.tidy()  # condemned
        again = self.shelf.upload(data)
        commit = self.shelf.commit("main", None, [ChangeRequest("again.bin", again.id)], "Again").commit
        for _ in range(3):
            self.tidy()
        self.assertEqual(self.shelf.read("again.bin", f"commit:{commit}"), data)
        self.assert_sound()

    def test_an_upload_under_way_is_never_harmed(self) -> None:
        data = random.Random(9).randbytes(4_000_000)
        self.shelf.upload(data)
        self.tidy()
        self.age()
        with self.slow_upload(data) as finish:  # it meets pieces that are there: nothing is condemned yet
            self.tidy()
            self.tidy()
            self.tidy()
            identity = finish()
        self.shelf.commit("main", None, [ChangeRequest("slow.bin", identity)], "Slow")
        for _ in range(3):
            self.tidy()
            self.age()
        self.assertEqual(self.shelf.read("slow.bin"), data)
        self.assert_sound()

    @contextlib.contextmanager
    def slow_upload(self, data: bytes) -> Iterator[Callable[[], str]]:
        """The first half is sent; the second when the function is called, which gives the content's id."""
        half, go, ids = threading.Event(), threading.Event(), list[str]()

        def pieces() -> Iterator[bytes]:
            yield data[: len(data) // 2]
            half.set()
            go.wait()
            yield data[len(data) // 2 :]

        sending = threading.Thread(target=lambda: ids.append(self.shelf.upload(pieces(), len(data)).id))
        sending.start()

        def finish() -> str:
            go.set()
            sending.join()
            return ids[0]

        try:
            half.wait()
            yield finish
        finally:
            finish()


class DamagedTests(StorageCase):
    def test_nothing_is_freed_until_it_is_healed(self) -> None:
        kept = Path(tempfile.mkdtemp(prefix="es-storage-"))
        self.addCleanup(shutil.rmtree, kept, ignore_errors=True)
        data, unused = random.Random(31).randbytes(900_000), random.Random(32).randbytes(900_000)
        commit_files(self.shelf, {"model.bin": data}, "Model")
        self.shelf.upload(unused)
        self.tidy()
        self.tidy()
        self.age()
        segments = self.own.data / "segments"
        shutil.copytree(segments, kept / "segments")
        recipe = bytes.fromhex(hashlib.sha256(data).hexdigest())
        for path in segments.glob("*.seg"):
            at = path.read_bytes().find(recipe)  # the head of the record that lists its pieces
            if at >= 0:
                with path.open("r+b") as file:
                    file.seek(at + 60)
                    file.write(b"?")
        done = self.tidy()
        self.assertIn("everyshelf storage heal", done["held_back"])
        self.assertEqual((done["contents"], done["condemned"], done["removed"]), (0, 0, 0))
        self.assertTrue(self.is_stored(unused))
        terminal = Terminal(self, self.own)
        self.assertIn("nothing is freed", terminal.run("storage", "tidy").stdout)
        healed = terminal.run("storage", "heal", str(kept), "--data", str(self.own.data)).stdout
        self.assertIn("Replaced 1 piece", healed)
        self.assertIn("1 segment rewritten without the damage", healed)
        self.assertEqual(self.shelf.read("model.bin"), data)
        self.assertEqual(self.tidy()["held_back"], "")
        self.tidy()
        self.assertFalse(self.is_stored(unused))
        self.assert_sound()

    def test_a_parcel_heals_what_it_has(self) -> None:
        files = {"model.bin": random.Random(41).randbytes(900_000), "small.txt": b"harbour\n" * 50}
        commit_files(self.shelf, files, "Model")
        terminal = Terminal(self, self.own)
        terminal.run("parcel", "pack", "main", "--output", "all.zip", "--shelf", self.shelf.key)
        self.tidy()
        for path in (self.own.data / "segments").glob("*.seg"):
            raw = bytearray(path.read_bytes())
            for data in files.values():
                if (at := raw.find(data[:100])) >= 0:
                    raw[at + 10] ^= 1
            path.write_bytes(raw)
        self.own.kill_group()  # what it holds in memory does not count
        self.own.start()
        found = self.shelf.wait(self.shelf.verify()).result or {}
        self.assertTrue(found["problems"])
        healed = terminal.run("storage", "heal", "all.zip", "--data", str(self.own.data)).stdout
        self.assertRegex(healed, r"Replaced [1-9]")
        self.assertEqual({path: self.shelf.read(path) for path in files}, files)
        self.assertEqual((self.shelf.wait(self.shelf.verify()).result or {})["problems"], [])
        (terminal.folder / "no-parcel.zip").write_bytes(b"PK no")
        refused = terminal.run("storage", "heal", "no-parcel.zip", "--data", str(self.own.data), code=1).stderr
        self.assertIn("no-parcel", refused)
        self.assertNotIn("Traceback", refused)


class LoadTests(ServiceCase):
    """A sample; ``python -m bench tidying`` kills it two hundred times."""

    def test_nothing_acknowledged_is_lost(self) -> None:
        done = Campaign(seed=5, kills=1).run()
        self.assertEqual(done.problems, [])
        self.assertGreater(len(done.acknowledged), 8)
        self.assertGreater(done.tidied, 2)
        self.assertGreater(done.deltas, 0)
