"""Backups in a bucket: made, listed, checked, restored, healed from, and what becomes of outages and damage."""

from __future__ import annotations

import os
import shutil
import tempfile
import threading
from datetime import timedelta
from pathlib import Path
from typing import Any
from unittest import mock

from everyshelf.client import ProblemError
from everyshelf.core.errors import BrokenError, EveryShelfError, InvalidError, MissingError, OutOfReachError
from everyshelf.service.backups import in_bucket
from everyshelf.service.backups.checking import check_moment
from everyshelf.service.backups.in_bucket import BackupBucket
from everyshelf.service.backups.making import make_backup
from everyshelf.service.backups.opening import open_backups
from everyshelf.service.backups.restoring import restore_moment
from everyshelf.service.backups.retention import keep_newest
from tests.support.bucket import CREDENTIALS, BucketServer
from tests.support.factories import ServiceCase, Terminal, commit_files
from tests.support.service import Service


def nothing(done: int, total: int, note: str) -> None:
    """Progress that nobody looks at."""


class BucketCase(ServiceCase):
    """The shared service has data; the backups lie in a bucket on loopback, below a prefix of the test."""

    server: BucketServer

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.server = BucketServer(cls)

    def setUp(self) -> None:
        super().setUp()
        self.folder = Path(tempfile.mkdtemp(prefix="es-backup-test-"))
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)
        self.addCleanup(setattr, self.server, "fault", None)
        self.below = f"kept/{self.id().rpartition('.')[2]}"
        self.place = f"s3://versions/{self.below}"
        self.fares = b"zone,fare\nZ01,4.50\n"
        self.put({"data/fares.csv": self.fares, "model.bin": os.urandom(300_000)}, "Fares")

    def make(self, **options: Any) -> Any:
        return make_backup(self.service.data, self.place, nothing, endpoint=self.server.endpoint, **options)

    def opened(self) -> BackupBucket:
        found = open_backups(self.place, self.server.endpoint)
        assert isinstance(found, BackupBucket)
        return found

    def problems(self, moment: str = "") -> list[str]:
        found = self.opened()
        return check_moment(found, found.newest(moment), nothing).problems

    def objects(self, kind: str = "") -> dict[str, int]:
        return {n: size for n, size in self.server.bucket(self.below).names().items() if n.startswith(kind)}

    def refused(self, error: type[EveryShelfError], code: str, call: Any) -> None:
        with self.assertRaises(error) as caught:
            call()
        self.assertEqual(caught.exception.code, code)
        self.assertTrue(caught.exception.hint)


class MakingTests(BucketCase):
    """Through the functions that commands and jobs call."""

    def test_the_next_one_sends_what_is_new_and_each_is_restored_as_it_was(self) -> None:
        first = self.make()
        before = self.objects("segments/")
        self.put({"later.bin": os.urandom(50_000)}, "Later")
        second = self.make()
        after = self.objects("segments/")
        self.assertLessEqual(before.items(), after.items(), "an object was written over")
        self.assertLess(len(after) - len(before), len(before) + 1)
        self.assertEqual((self.problems(first.name), self.problems()), ([], []))
        self.assertEqual(self.opened().names(), [first.name, second.name])
        for moment, paths in ((first.name, 2), ("", 3)):
            found, into = self.opened(), self.folder / f"restored-{paths}"
            restore_moment(found, found.newest(moment), into, nothing)
            again = Service(into)
            self.addCleanup(again.stop)
            shelf = again.client().shelf(self.shelf.key)
            self.assertEqual(len(list(shelf.artifacts())), paths)
            self.assertEqual(shelf.read("data/fares.csv"), self.fares)
            self.assertEqual((shelf.wait(shelf.verify()).result or {})["problems"], [])
            again.stop()

    def test_where_other_objects_lie_nothing_is_written(self) -> None:
        self.server.bucket(self.below).write("mine.txt", b"mine")
        self.refused(InvalidError, "backup.taken", self.make)
        self.assertEqual(list(self.objects()), ["mine.txt"])
        self.refused(MissingError, "backup.missing", self.opened)
        self.refused(InvalidError, "storage.address", lambda: open_backups("s3://NO_BUCKET/x", self.server.endpoint))
        keys = self.service.data / "secret-key"
        inside = (keys, self.service.data / "inside")
        self.refused(InvalidError, "backup.place", lambda: self.make(keys=inside))

    def test_the_keys_are_not_among_it(self) -> None:
        self.shelf.make_environment("test")
        self.put({"shelf.toml": b'[bindings]\nFEED_TOKEN = {in = "settings/*", secret = true}\n'}, "Rules")
        self.shelf.bind("test", "FEED_TOKEN", "hunter2")
        key = self.service.data.with_name(f"{self.service.data.name}.key")
        self.make(keys=(key, self.folder / "keys"))
        bucket = self.server.bucket(self.below)
        held = b"".join(b"".join(bucket.pieces(name)) for name in bucket.names())
        for kept in (key, self.service.data / "secret-key"):
            self.assertNotIn(kept.read_bytes().strip(), held)

    def test_a_bucket_that_goes_away_leaves_the_earlier_moments_as_they_were(self) -> None:
        first = self.make()
        self.server.asked.clear()
        self.put({"sooner.bin": os.urandom(400_000)}, "Sooner")
        second = self.make()
        needed = len(self.server.asked)
        self.put({"later.bin": os.urandom(400_000)}, "Later")
        for calls in range(1, needed, 3):
            left = calls

            def fault(environ: dict[str, Any], app: Any, start_response: Any) -> Any:
                nonlocal left
                left -= 1
                if left >= 0:
                    return app(environ, start_response)
                start_response("503 Slow Down", [("Content-Length", "0")])
                return [b""]

            self.server.fault = fault
            with mock.patch("everyshelf.storage.bucket._TRIES", 1):
                self.refused(OutOfReachError, "storage.out_of_reach", self.make)
            self.server.fault = None
            self.assertEqual(self.opened().names(), [first.name, second.name], calls)
        self.assertEqual((self.problems(first.name), self.problems(second.name)), ([], []))
        third = self.make()
        self.assertEqual((self.opened().names()[2:], self.problems()), ([third.name], []))

    def test_damage_is_named_not_restored_and_made_good(self) -> None:
        moment = self.make()
        largest = max(moment.segments, key=lambda one: one.size)
        bucket, name = self.server.bucket(self.below), f"segments/{largest.name}-{largest.size}"
        whole = b"".join(bucket.pieces(name))
        bucket.write(name, whole[:-40] + bytes([whole[-40] ^ 1]) + whole[-39:])
        self.assertIn(largest.name, " ".join(self.problems()))
        found = self.opened()
        self.refused(BrokenError, "backup.damaged", lambda: restore_moment(found, moment, self.folder / "r", nothing))
        self.assertFalse((self.folder / "r").exists())
        self.make(reread=True)
        self.assertEqual((self.problems(moment.name), self.problems()), ([], []))
        bucket.remove([name])
        self.assertIn(f"segment {largest.name}: it is not there", self.problems())
        self.make()
        self.assertEqual((self.problems(moment.name), self.problems()), ([], []))
        bucket.write(f"moments/{moment.name}/moment.json", b"{")
        self.assertEqual(self.opened().unreadable(), [moment.name])

    def test_old_ones_are_dropped_and_what_none_needs_a_day_later(self) -> None:
        names = [self.make().name for _ in range(4)]
        bucket = self.server.bucket(self.below)
        bucket.write("segments/of-no-moment.seg-1", b"x")
        self.assertEqual(keep_newest(self.opened(), 2), names[:2])
        self.assertEqual(self.opened().names(), names[2:])
        self.assertIn("segments/of-no-moment.seg-1", self.objects())
        self.assertEqual([n for n in self.objects("moments/") if names[0] in n], [])
        with mock.patch.object(in_bucket, "_UNNEEDED_FOR", timedelta(seconds=-60)):
            keep_newest(self.opened(), 1)
        self.assertNotIn("segments/of-no-moment.seg-1", self.objects())
        self.assertEqual((self.opened().names(), self.problems()), (names[3:], []))

    def test_two_at_once_both_count(self) -> None:
        made: list[Any] = []
        both = [threading.Thread(target=lambda: made.append(self.make())) for _ in range(2)]
        for one in both:
            one.start()
        for one in both:
            one.join()
        self.assertEqual(len({one.name for one in made}), 2, "two moments of one name")
        for one in made:
            self.assertEqual(self.problems(one.name), [])


class CommandTests(BucketCase):
    """The commands, and the service by itself."""

    def test_from_make_to_restore_and_to_heal(self) -> None:
        terminal = Terminal(self, self.service)
        at = (self.place, "--endpoint", self.server.endpoint)
        own = Service()
        self.addCleanup(own.stop)
        shelf = own.client().shelf(own.client().make_shelf("Own").key)
        commit_files(shelf, {"model.bin": (model := os.urandom(300_000))}, "A model")
        data = str(own.data)
        done = terminal.run("backup", "make", *at, "--data", data, "--keys", str(self.folder / "keys")).stdout
        self.assertIn("read back", done)
        self.assertIn(f"everyshelf backup check {self.place} --endpoint {self.server.endpoint}", done)
        terminal.run("backup", "make", *at, "--data", data, "--keep", "1")
        self.assertIn(f"1 moment in {self.place}", terminal.run("backup", "list", *at).stdout)
        self.assertIn("Nothing is missing or damaged", terminal.run("backup", "check", *at).stdout)
        terminal.run("backup", "restore", "--unsigned", *at, "--into", str(self.folder / "new"))
        self.assertTrue((self.folder / "new" / "records.sqlite").exists())
        own.kill_group()
        for segment in (own.data / "segments").glob("*.seg"):
            whole = segment.read_bytes()
            if len(whole) > 100_000:
                segment.write_bytes(whole[:50_000] + bytes(40) + whole[50_040:])
        healed = terminal.run("storage", "heal", *at, "--data", data).stdout
        self.assertRegex(healed, r"Replaced [1-9]\d* pieces?")
        own.start()
        self.assertEqual(own.client().shelf(shelf.key).read("model.bin"), model)

    def test_the_service_keeps_them_there_by_itself(self) -> None:
        settings = {"EVERYSHELF_BACKUP": self.place, "EVERYSHELF_BACKUP_ENDPOINT": self.server.endpoint, **CREDENTIALS}
        own = Service(settings=settings)
        self.addCleanup(own.stop)
        client = own.client()
        # Its moment is there a little before the job has ended, and another job is made only then.
        while not (found := client.backups()).moments or (found.job and found.job.state in ("waiting", "running")):
            self.assertNotEqual(found.job.state if found.job else "", "failed", found.job)
            threading.Event().wait(0.1)
        self.assertEqual((found.folder, found.problem), (self.place, ""))
        self.assertEqual(client.wait(client.make_backup()).state, "done")
        self.assertEqual(len(client.backups().moments), 2)
        self.server.stop()
        try:
            found = client.backups()
            self.assertIn("does not answer", found.problem)
            with self.assertRaises(ProblemError) as caught:
                client.wait(client.make_backup())
            self.assertEqual(caught.exception.code, "storage.out_of_reach")
        finally:
            self.server.start()

    def test_without_a_bucket_it_is_said(self) -> None:
        terminal = Terminal(self, self.service)
        said = terminal.run("backup", "list", "s3://versions/none", "--endpoint", self.server.endpoint, code=1).stderr
        self.assertIn("is not a place of backups", said)
