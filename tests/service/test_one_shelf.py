"""One shelf alone from a backup: all of it, on another machine, and nothing of the others."""

from __future__ import annotations

import random
import shutil
import sqlite3
import tempfile
import unittest
from contextlib import closing
from pathlib import Path

from everyshelf.client import Client, ProblemError, Saving, ShelfClient
from everyshelf.core.errors import BrokenError, MissingError
from everyshelf.service.backups.folder import BackupFolder
from everyshelf.service.backups.making import make_backup
from everyshelf.service.backups.opening import open_backups
from everyshelf.service.keeping.one_shelf import keep_only, restore_shelf
from everyshelf.service.keeping.owners import way_to_shelf
from tests.service.test_backups import nothing
from tests.support.bucket import CREDENTIALS, BucketServer
from tests.support.factories import ServiceCase, Terminal, commit_files
from tests.support.service import PASSWORD, Service
from tests.support.waiting import until

SHARED = random.Random(1).randbytes(400_000)
PRIVATE = random.Random(2).randbytes(400_000)


class OneShelfCase(ServiceCase):
    """An installation with two shelves: ``fares``, with some of everything, and ``berths``, of which nobody may know."""

    own: Service
    fares: ShelfClient

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.own = Service(settings={"EVERYSHELF_WORKERS": "1", "EVERYSHELF_TIDY_HOURS": "0", **CREDENTIALS})
        cls.addClassCleanup(cls.own.stop)
        client = cls.own.client()
        for name in ("ines", "oskar"):
            client.add_person(name, name.capitalize(), PASSWORD)
        cls.fares = client.shelf(client.make_shelf("Fares", key="fares").key)
        cls.berths = client.shelf(client.make_shelf("Berths", key="berths").key)
        cls.fares.set_member("ines", "author")
        cls.berths.set_member("oskar", "author")
        lines = [b"%d,%.6f\n" % (n, random.Random(n).random()) for n in range(9000)]
        for number in range(3):
            lines[number * 900] = b"%d,0.5\n" % number
            files = {"data/fares.csv": b"".join(lines), "model.bin": SHARED, "notes.md": b"# About harbours\n"}
            commit_files(cls.fares, dict(files), f"Fares {number}")
        cls.lines = b"".join(lines)
        cls.fares.make_branch("ines/try", "main")
        ines = cls.own.client("ines").shelf("fares")
        commit_files(ines, {"notes.md": b"# About harbours and piers\n"}, "Piers", "ines/try")
        ines.save("ines/try", [Saving("draft.txt", ines.upload(b"in a draft\n").id)])
        cls.fares.make_tag("one", "main")
        cls.fares.make_environment("test")
        cls.fares.wait(cls.fares.promote("one", "test"))
        cls.fares.bind("test", "FEED_TOKEN", "hunter2")
        commit_files(cls.berths, {"secret-berths.bin": PRIVATE, "model.bin": SHARED}, "Zanzibar is not told")
        commit_files(cls.own.client("oskar").shelf("berths"), {"oskars.txt": b"Zanzibar"}, "Zanzibar again")
        cls.own.client().wait(cls.own.client().tidy_storage())  # some of it is kept as deltas

    def setUp(self) -> None:
        super().setUp()
        self.folder = Path(tempfile.mkdtemp(prefix="es-one-shelf-"))
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)

    def serve(self, data: Path) -> Client:
        service = Service(data, settings={"EVERYSHELF_WORKERS": "1"})
        self.addCleanup(service.stop)
        self.again = service
        return service.client()


class RestoringTests(OneShelfCase):
    def test_all_of_it_and_nothing_of_the_others(self) -> None:
        terminal, into = Terminal(self, self.own), self.folder / "alone"
        kept, keys = str(self.folder / "kept"), str(self.folder / "keys")
        terminal.run("backup", "make", kept, "--data", str(self.own.data), "--keys", keys)
        told = terminal.run("backup", "restore", kept, "--into", str(into), "--shelf", "fares", "--keys", keys).stdout
        self.assertIn("Restored the shelf fares of", told)
        written = b"".join(path.read_bytes() for path in into.rglob("*") if path.is_file())
        for word in (b"Zanzibar", b"secret-berths", b"oskar", b"berths"):
            self.assertFalse(word in written, word)
        size = sum(path.stat().st_size for path in (into / "segments").iterdir())
        self.assertLess(size, 2 * len(SHARED))  # what is private of the other shelf, and random, is not there
        client = self.serve(into)
        self.assertEqual([one.key for one in client.shelves()], ["fares"])
        shelf = client.shelf("fares")
        self.assertEqual((shelf.wait(shelf.verify()).result or {})["problems"], [])
        self.assertEqual([one.commit for one in shelf.commits()], [one.commit for one in self.fares.commits()])
        self.assertEqual((shelf.read("data/fares.csv"), shelf.read("model.bin")), (self.lines, SHARED))
        for number, version in enumerate(reversed(list(shelf.history("data/fares.csv")))):
            self.assertIn(b"%d,0.5\n" % number, shelf.read("data/fares.csv", f"commit:{version.commit}"))
        self.assertEqual({one.name for one in client.accounts()}, {"owner", "ines"})
        self.assertEqual({m.person: m.role for m in shelf.members()}, {"owner": "owner", "ines": "author"})
        drafts = self.again.client("ines").shelf("fares").drafts()
        self.assertEqual(
            [(one.branch, [point.path for point in one.entries]) for one in drafts], [("ines/try", ["draft.txt"])]
        )
        self.assertEqual([one.name for one in shelf.tags()], ["one"])
        self.assertEqual([one.name for one in shelf.environments()], ["test"])
        acts = [(entry.act, entry.person) for entry in shelf.log()]
        self.assertEqual(acts[-len(acts) :], [(entry.act, entry.person) for entry in self.fares.log()][-len(acts) :])
        with self.subTest("tokens of the other installation open nothing"), self.assertRaises(ProblemError) as caught:
            Client(self.again.address, self.own.token()).shelves()
        self.assertEqual(caught.exception.status, 401)
        with self.subTest("it goes on"):
            until(lambda: client.find("harbours").items, "its words are read again")
            commit_files(shelf, {"more.txt": b"more"}, "More")
            shelf.merge("ines/try", "main")
            self.assertEqual(shelf.read("notes.md"), b"# About harbours and piers\n")
            client.wait(client.tidy_storage())
            self.assertEqual(shelf.read("model.bin"), SHARED)

    def test_from_a_bucket(self) -> None:
        server = BucketServer()
        self.addCleanup(server.close)
        make_backup(self.own.data, "s3://versions/kept", nothing, endpoint=server.endpoint)
        found = open_backups("s3://versions/kept", server.endpoint)
        before = server.bucket("kept").names()
        restore_shelf(found, found.newest(), "berths", self.folder / "alone", nothing)
        self.assertEqual(server.bucket("kept").names(), before, "a backup is only read")
        client = self.serve(self.folder / "alone")
        self.assertEqual([one.key for one in client.shelves()], ["berths"])
        shelf = client.shelf("berths")
        self.assertEqual((shelf.read("secret-berths.bin"), shelf.read("model.bin")), (PRIVATE, SHARED))
        self.assertEqual((shelf.wait(shelf.verify()).result or {})["problems"], [])

    def test_what_is_wrong_is_told_and_nothing_is_written(self) -> None:
        kept, into = self.folder / "kept", self.folder / "alone"
        make_backup(self.own.data, kept, nothing)
        found = BackupFolder.open(kept)
        with self.assertRaises(MissingError) as caught:
            restore_shelf(found, found.newest(), "nowhere", into, nothing)
        self.assertEqual((caught.exception.code, caught.exception.hint), ("backup.shelf", "It has: berths, fares."))
        largest = max((kept / "segments").iterdir(), key=lambda path: path.stat().st_size)
        raw = bytearray(largest.read_bytes())
        for at in range(2000, len(raw), 5000):
            raw[at] ^= 1
        largest.write_bytes(raw)
        with self.assertRaises(BrokenError) as broken:
            restore_shelf(found, found.newest(), "fares", into, nothing)
        self.assertTrue(broken.exception.hint)
        self.assertFalse(into.exists())


class RecordsTests(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "records.sqlite"
        with closing(sqlite3.connect(self.path)) as records:
            records.executescript("""
                CREATE TABLE shelves_shelf (id INTEGER PRIMARY KEY, key TEXT, store TEXT);
                CREATE TABLE auth_user (id INTEGER PRIMARY KEY, is_staff INTEGER);
                CREATE TABLE log_logentry (id INTEGER PRIMARY KEY, shelf TEXT);
                CREATE TABLE page (id INTEGER PRIMARY KEY, shelf_id INTEGER NOT NULL REFERENCES shelves_shelf(id),
                                   next_id INTEGER REFERENCES page(id), by_id INTEGER REFERENCES auth_user(id));
                CREATE TABLE line (id INTEGER PRIMARY KEY, page_id INTEGER NOT NULL REFERENCES page(id), text TEXT);
                CREATE TABLE link (id INTEGER PRIMARY KEY, line_id INTEGER REFERENCES line(id),
                                   far_id INTEGER NOT NULL REFERENCES page(id));
                CREATE TABLE later (id INTEGER PRIMARY KEY, text TEXT);
                CREATE TRIGGER log_stays BEFORE DELETE ON log_logentry BEGIN SELECT RAISE(ABORT, 'stays'); END;
                INSERT INTO shelves_shelf VALUES (1, 'one', 'far'), (2, 'two', '');
                INSERT INTO auth_user VALUES (1, 1), (2, 0), (3, 0);
                INSERT INTO log_logentry VALUES (1, 'one'), (2, 'two'), (3, '');
                INSERT INTO page VALUES (1, 1, 2, 2), (2, 2, NULL, 3), (3, 1, NULL, 1);
                INSERT INTO line VALUES (1, 1, 'kept'), (2, 2, 'gone');
                INSERT INTO link VALUES (1, 1, 1), (2, 2, 2), (3, 1, 2), (4, 2, 1);
                INSERT INTO later VALUES (1, 'of no shelf');
            """)

    def rows(self, table: str) -> list[tuple[object, ...]]:
        with closing(sqlite3.connect(self.path)) as records:
            return records.execute(f"SELECT * FROM {table} ORDER BY 1").fetchall()

    def test_the_way_of_a_row_to_its_shelf(self) -> None:
        with closing(sqlite3.connect(self.path)) as records:
            for table, shelves in (("page", [1, 2, 1]), ("line", [1, 2]), ("shelves_shelf", [1, 2])):
                way = way_to_shelf(records, table)
                assert way is not None
                rows = records.execute(f"SELECT {way.shelf}.id FROM {table}{way.joins} ORDER BY {table}.id")
                self.assertEqual([row[0] for row in rows], shelves, table)
            self.assertIsNone(way_to_shelf(records, "later"))

    def test_rows_of_other_shelves_and_of_none_go(self) -> None:
        keep_only(self.path, "one")
        self.assertEqual(self.rows("shelves_shelf"), [(1, "one", "")])
        self.assertEqual(self.rows("page"), [(1, 1, None, 2), (3, 1, None, 1)])  # what led to another is empty
        self.assertEqual(self.rows("line"), [(1, 1, "kept")])
        self.assertEqual([row[0] for row in self.rows("link")], [1, 4])
        self.assertEqual(self.rows("later"), [])
        self.assertEqual(self.rows("log_logentry"), [(1, "one")])
        self.assertEqual([row[0] for row in self.rows("auth_user")], [1, 2])
        with self.assertRaises(sqlite3.IntegrityError), closing(sqlite3.connect(self.path)) as records:
            records.execute("DELETE FROM log_logentry")  # its guard is back
        self.assertNotIn(b"gone", self.path.read_bytes())

    def test_no_such_shelf_changes_nothing(self) -> None:
        before = self.path.read_bytes()
        with self.assertRaises(MissingError):
            keep_only(self.path, "three")
        self.assertEqual(self.path.read_bytes(), before)
