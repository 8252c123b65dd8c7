"""An installation whose versions live in a bucket: moved there and back while people work, away for a while, killed."""

from __future__ import annotations

import hashlib
import random
import shutil
import tempfile
import threading
from pathlib import Path
from typing import Any

from bench.moving import Moves
from bench.outages import Outages

from everyshelf.client import ChangeRequest, Client, Job, ProblemError, ShelfClient
from everyshelf.storage.bucket import Bucket
from tests.support.bucket import CREDENTIALS, BucketServer, refusing
from tests.support.factories import ServiceCase, Terminal, commit_files
from tests.support.service import Service
from tests.support.waiting import until


class BucketCase(ServiceCase):
    """A service of its own, and a bucket on loopback."""

    own: Service
    server: BucketServer
    more: dict[str, str] = {}

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.server = BucketServer(cls)
        cls.own = Service(settings={**CREDENTIALS, "EVERYSHELF_WORKERS": "2", "EVERYSHELF_TIDY_HOURS": "0", **cls.more})
        cls.addClassCleanup(cls.own.stop)
        cls.own.client().add_person("author", "Author", "a-password-for-tests")

    def setUp(self) -> None:
        self.client: Client = self.own.client()
        self.shelf: ShelfClient = self.client.shelf(self.client.make_shelf(f"Bucket {self.id()[-40:]}").key)
        self.addCleanup(setattr, self.server, "fault", None)
        self.at = f"s3://versions/{self.id().rpartition('.')[2]}"
        self.files = {f"data/{n}.bin": random.Random(n).randbytes(n * 40_000 + 1) for n in range(8)}

    def move(self, to: str) -> dict[str, Any]:
        endpoint = "" if to == "folder" else self.server.endpoint
        return self.client.wait(self.client.move_storage(to, endpoint=endpoint)).result or {}

    def segments_here(self) -> list[Path]:
        """Sealed ones: those that processes still add to have no directory."""
        found = (self.own.data / "segments").glob("*.seg")
        return [path for path in found if path.with_suffix(".dir").exists()]

    def objects(self, prefix: str = "") -> list[str]:
        return list(self.server.bucket(prefix or self.at.removeprefix("s3://versions/")).names())

    def assert_sound(self, shelf: ShelfClient | None = None) -> None:
        shelf = shelf or self.shelf
        for path, data in self.files.items():
            self.assertEqual(hashlib.sha256(shelf.read(path)).digest(), hashlib.sha256(data).digest(), path)
        self.assertEqual((shelf.wait(shelf.verify()).result or {})["problems"], [])

    def forget_fetched(self) -> None:
        """As if all that was read lately had been thrown out, in this process's memory too."""
        self.own.kill_group()
        shutil.rmtree(self.own.data / "fetched", ignore_errors=True)
        self.own.start()


def _segment_bytes(bucket: Bucket) -> int:
    return sum(size for name, size in bucket.names().items() if name.endswith(".seg"))


class MoveTests(BucketCase):
    def test_there_and_back_while_people_commit(self) -> None:
        commit_files(self.shelf, dict(self.files), "Files")
        stop, committed = threading.Event(), []
        failed: list[BaseException] = []

        def write(number: int) -> None:
            shelf = self.own.client().shelf(self.shelf.key)
            try:
                while not stop.is_set():
                    data = random.randbytes(60_000)
                    change = ChangeRequest(f"live/{number}.bin", shelf.upload(data).id)
                    try:
                        done = shelf.commit("main", shelf.branch("main").head, [change], "More", merge=True)
                    except ProblemError as error:
                        if error.status != 409:  # the other was quicker
                            raise
                        continue
                    committed.append((done.commit, change.path, data))
                    stop.wait(0.2)
            except BaseException as error:
                failed.append(error)

        threads = [threading.Thread(target=write, args=[n]) for n in range(2)]
        for thread in threads:
            thread.start()
        terminal = Terminal(self, self.own)
        try:
            for to in (self.at, "folder", self.at):
                before = len(committed)
                endpoint = () if to == "folder" else ("--endpoint", self.server.endpoint)
                self.assertIn("read back there", terminal.run("storage", "move", to, *endpoint).stdout)
                until(lambda before=before: failed or len(committed) > before + 3, "commits")  # type: ignore[misc]
        finally:
            stop.set()
            for thread in threads:
                thread.join()
        self.assertEqual(failed, [])
        self.move(self.at)
        self.assertEqual(self.segments_here(), [])
        told = terminal.run("storage", "show").stdout
        self.assertIn(f"{self.at} at {self.server.endpoint}", told)
        self.assertEqual(terminal.json("storage", "show", "--json")["to_move"], 0)
        for commit, path, data in committed:
            self.assertEqual(self.shelf.read(path, f"commit:{commit}"), data)
        self.assert_sound()
        self.move("folder")
        self.assertEqual(self.objects(), ["everyshelf.json"])
        self.assert_sound()

    def test_tidying_removes_what_lies_there(self) -> None:
        lines = [b"%d,%.6f\n" % (n, random.Random(n).random()) for n in range(9000)]
        versions = []
        for n in range(6):
            lines[n * 900] = b"%d,0.5\n" % n
            versions.append(b"".join(lines))
            commit_files(self.shelf, {"fares.csv": versions[-1]}, f"Fares {n}")
        self.move(self.at)
        before = self.client.storage()
        for _ in range(2):
            self.client.wait(self.client.tidy_storage())
        self.move(self.at)
        after = self.client.storage()
        self.assertLess(after.stored, before.stored - 3 * len(versions[0]) // 2)
        bucket = self.server.bucket(self.at.removeprefix("s3://versions/"))
        until(lambda: self.client.storage().at_home == _segment_bytes(bucket), "what is told is there")
        self.assertEqual(self.client.storage().to_move, 0)
        for version, data in zip(self.shelf.history("fares.csv"), reversed(versions), strict=True):
            self.assertEqual(self.shelf.read("fares.csv", f"commit:{version.commit}"), data)
        self.files = {}
        self.assert_sound()
        self.move("folder")

    def test_what_is_wrong_is_told(self) -> None:
        terminal = Terminal(self, self.own)
        for to, code, status in (
            ("elsewhere", "storage.address", 400),
            ("s3://versions/x?endpoint=http://10.1.2.3", "destination.host", 403),
            ("s3://versions/x", "destination.host", 403),
        ):
            with self.subTest(to), self.assertRaises(ProblemError) as caught:
                self.client.move_storage(to)
            self.assertEqual((caught.exception.code, caught.exception.status), (code, status))
        with self.assertRaises(ProblemError) as caught:
            self.own.client("author").move_storage("folder")
        self.assertEqual(caught.exception.status, 403)
        done = terminal.run("storage", "move", "s3://absent/x", "--endpoint", self.server.endpoint, code=1)
        self.assertIn("s3://absent/x at http://127.0.0.1", done.stderr)
        self.assertIn("Create the bucket", done.stderr)
        self.server.fault = refusing("InvalidAccessKeyId")
        done = terminal.run("storage", "move", self.at, "--endpoint", self.server.endpoint, code=1)
        self.assertIn("refuses the credentials", done.stderr)
        self.assertEqual(self.client.storage().home, "")

    def test_a_prefix_of_another_installation(self) -> None:
        commit_files(self.shelf, dict(self.files), "Files")
        self.move(self.at)
        other = Service(settings={**CREDENTIALS, "EVERYSHELF_WORKERS": "1"})
        self.addCleanup(other.stop)
        with self.assertRaises(ProblemError) as caught:
            theirs = other.client()
            theirs.wait(theirs.move_storage(self.at, endpoint=self.server.endpoint))
        self.assertEqual(caught.exception.code, "storage.taken")
        self.assert_sound()
        self.move("folder")


class TroubleTests(BucketCase):
    def test_while_it_is_away_commits_are_taken_and_sent_later(self) -> None:
        commit_files(self.shelf, dict(self.files), "Files")
        self.move(self.at)
        self.forget_fetched()
        self.server.stop()
        try:
            with self.assertRaises(ProblemError) as caught:
                self.shelf.read("data/7.bin")
            self.assertEqual((caught.exception.code, caught.exception.status), ("storage.out_of_reach", 502))
            self.assertIn("Nothing is lost", caught.exception.hint)
            late = random.Random(40).randbytes(70_000)
            self.files["late.bin"] = late
            identity = self.shelf.upload(late).id
            with self.assertRaises(ProblemError) as caught:
                self.move(self.at)
            self.assertEqual(caught.exception.code, "storage.out_of_reach")
            failed = self.client.storage().moving
            self.assertEqual(failed.state if failed else "", "failed")
        finally:
            self.server.start()
        until(lambda: self._committed("late.bin", identity), "it answers again")
        self.move(self.at)
        self.assertEqual(self.segments_here(), [])
        self.assert_sound()
        self.move("folder")

    def _committed(self, path: str, identity: str) -> bool:
        """The commit needs pieces of the bucket that were thrown out; for some seconds it is not asked again."""
        try:
            self.shelf.commit("main", self.shelf.branch("main").head, [ChangeRequest(path, identity)], "Late")
        except ProblemError as error:
            self.assertEqual(error.code, "storage.out_of_reach")
            return False
        return True

    def test_a_backup_holds_what_lies_there_and_heals_it(self) -> None:
        commit_files(self.shelf, dict(self.files), "Files")
        self.move(self.at)
        kept = Path(tempfile.mkdtemp(prefix="es-kept-"))
        self.addCleanup(shutil.rmtree, kept, ignore_errors=True)
        terminal = Terminal(self, self.own)
        data = ("--data", str(self.own.data))
        terminal.run("backup", "make", str(kept / "backup"), *data)
        self.server.stop()
        try:
            terminal.run("backup", "restore", "--unsigned", str(kept / "backup"), "--into", str(kept / "back"))
            back = Service(kept / "back", settings={"EVERYSHELF_WORKERS": "1"})
            self.addCleanup(back.stop)
            self.assert_sound(back.client().shelf(self.shelf.key))
        finally:
            self.server.start()
        bucket = self.server.bucket(self.at.removeprefix("s3://versions/"))
        mirror = self.server.bucket("mirror")
        for name in bucket.names():
            mirror.write(name, b"".join(bucket.pieces(name)))
        gone = [name for name in bucket.names() if name.endswith(".seg")]
        bucket.remove(gone)
        self.forget_fetched()
        self.assertNotEqual((self.shelf.wait(self.shelf.verify()).result or {})["problems"], [])
        endpoint = ("--endpoint", self.server.endpoint)
        self.assertIn("Replaced", terminal.run("storage", "heal", "s3://versions/mirror", *endpoint, *data).stdout)
        self.assert_sound()
        self.assertEqual(self.move("folder")["held_back"], "")
        self.assert_sound()


class SettingTests(BucketCase):
    """EVERYSHELF_STORE says where versions live."""

    @classmethod
    def setUpClass(cls) -> None:
        server = BucketServer()
        cls.more = {"EVERYSHELF_STORE": "s3://versions/settled", "EVERYSHELF_STORE_ENDPOINT": server.endpoint}
        cls.addClassCleanup(server.close)
        super().setUpClass()
        cls.settled = server

    def test_it_is_moved_there_without_a_word(self) -> None:
        commit_files(self.shelf, dict(self.files), "Files")
        until(lambda: self.client.storage().home, "settled")
        until(lambda: self._ended(), "moved")
        told = self.client.storage()
        self.assertEqual(told.home, f"s3://versions/settled at {self.settled.endpoint}")
        with self.assertRaises(ProblemError) as caught:
            self.move("folder")
        self.assertEqual((caught.exception.code, caught.exception.status), ("storage.settled", 403))
        until(self._all_there, "all is there")
        self.assert_sound()

    def _ended(self) -> Job | None:
        job = self.client.storage().moving
        return job if job is not None and job.ended else None

    def _all_there(self) -> bool:
        told = self.client.storage()
        return told.to_move == 0 and told.at_home > 0


class LoadTests(ServiceCase):
    """Samples; ``python -m bench moving`` kills it fifty times, ``python -m bench outages`` takes the bucket away a
    hundred times."""

    def test_nothing_acknowledged_is_lost_while_the_bucket_fails(self) -> None:
        done = Outages(seed=7, kills=1).run()
        self.assertEqual(done.problems, [])
        self.assertGreater(len(done.acknowledged), 6)
        self.assertGreaterEqual(sum(done.seen.values()), 4)

    def test_nothing_acknowledged_is_lost(self) -> None:
        done = Moves(seed=3, kills=1).run()
        self.assertEqual(done.problems, [])
        self.assertGreater(len(done.acknowledged), 6)
        self.assertGreater(done.moved, 0)
