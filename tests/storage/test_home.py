"""A store whose segments live in a bucket: what is read is what was stored, whatever breaks."""

from __future__ import annotations

import random
import shutil
import tempfile
import unittest
from collections.abc import Callable
from pathlib import Path
from unittest import mock

from hypothesis import given
from hypothesis import strategies as st

from everyshelf.core.content.compacting import compact
from everyshelf.core.content.healing import heal
from everyshelf.core.content.scanning import directory_name
from everyshelf.core.content.store import ContentStore
from everyshelf.core.errors import BrokenError, InvalidError, MissingError, OutOfReachError, RefusedError
from everyshelf.storage import home as home_module
from everyshelf.storage.addresses import Address, BucketAddress, parse_address, parse_bucket
from everyshelf.storage.away import Away
from everyshelf.storage.bucket import Bucket
from everyshelf.storage.fetched import BLOCK_BYTES
from everyshelf.storage.folder import Folder
from everyshelf.storage.home import HomePlace, away_at, open_place
from everyshelf.storage.mirror import BucketMirror
from everyshelf.storage.moving import move, settle, where
from tests.support.bucket import BucketServer, breaking_off, refusing
from tests.support.laws import law

EDGES = (0, 1, 100_000, 128 * 1024, 300_000, 3 * BLOCK_BYTES + 7)


class KilledError(Exception):
    """The process ended here."""


class AddressTests(unittest.TestCase):
    @law(100)
    @given(
        st.from_regex(r"[a-z0-9][a-z0-9-]{1,20}[a-z0-9]", fullmatch=True),
        st.lists(st.text(st.characters(min_codepoint=33, blacklist_categories=["C", "Z"]), min_size=1, max_size=8)),
        st.sampled_from(["", "http://127.0.0.1:9000", "https://objects.skerry.example"]),
    )
    def test_what_is_written_is_read(self, bucket: str, parts: list[str], endpoint: str) -> None:
        prefix = "/".join(part.replace("/", "") or "x" for part in parts)
        address = BucketAddress(bucket, prefix, endpoint)
        self.assertEqual(parse_bucket(str(address)).bucket, bucket)
        self.assertEqual(parse_bucket(str(address)).endpoint, endpoint)

    def test_what_is_no_address_is_refused(self) -> None:
        for text in (
            "", "versions", "s3://", "s3:///prefix", "s3://A_B/x", "http://versions/x", "s3://versions?endpoint=ftp://x",
            "s3://versions?endpoint=http://u:p@host", "s3://versions?region=x", "s3://versions?endpoint=http://h:port",
        ):  # fmt: skip
            with self.subTest(text), self.assertRaises(InvalidError) as caught:
                parse_bucket(text)
            self.assertEqual(caught.exception.code, "storage.address")

    def test_the_endpoint_of_the_address_counts_first(self) -> None:
        found = parse_bucket("s3://versions/a//b/?endpoint=http://one:1", "http://two")
        self.assertEqual((found.prefix, found.endpoint, found.host), ("a/b", "http://one:1", ("one", 1)))
        self.assertEqual(parse_bucket("s3://versions").host, ("s3.amazonaws.com", 443))


class HomeCase(unittest.TestCase):
    server: BucketServer
    away: type[Away] = Bucket

    @classmethod
    def setUpClass(cls) -> None:
        cls.server = BucketServer(cls)

    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="es-home-"))
        self.addCleanup(shutil.rmtree, self.folder)
        self.addCleanup(setattr, self.server, "fault", None)
        self.prefix = self.id().rpartition(".")[2]
        self.address = self.at(self.prefix)
        self.bucket = away_at(str(self.address))
        self.data = {}
        store = self.open()
        for number, size in enumerate(EDGES):
            data = random.Random(number).randbytes(size)
            self.data[store.put(data).id] = data
            store.segments.close()

    def at(self, prefix: str) -> Address:
        """Where segments can live away from the folder."""
        return self.server.address(prefix)

    def place(self) -> HomePlace:
        return open_place(self.folder)

    def open(self) -> ContentStore:
        store = ContentStore(self.place())
        self.addCleanup(store.close)
        return store

    def sent(self) -> HomePlace:
        place = self.place()
        settle(place, self.address)
        move(place)
        return place

    def segments_here(self) -> list[str]:
        return sorted(path.name for path in (self.folder / "segments").glob("*.seg"))

    def assert_all(self, store: ContentStore | None = None) -> None:
        store = store or self.open()
        for identity, data in self.data.items():
            self.assertEqual(store.read(identity), data)
            self.assertIsNone(store.verify(identity))

    def forget_fetched(self) -> None:
        shutil.rmtree(self.folder / "fetched", ignore_errors=True)


class MovingTests(HomeCase):
    def test_there_and_back(self) -> None:
        running = self.open()  # it has files open that are moved
        place = self.place()
        told: list[tuple[int, int]] = []
        settle(place, self.address)
        before = where(place)
        self.assertEqual(before.waiting_segments, len(EDGES))
        done = move(place, lambda part, total: told.append((part, total)))
        self.assertEqual((done.segments, done.bytes, done.cleared), (len(EDGES), before.waiting, 0))
        self.assertEqual((told[0][0], told[-1]), (0, (before.waiting, before.waiting)))
        self.assertEqual([part for part, _ in told], sorted(part for part, _ in told))
        self.assertEqual(self.segments_here(), [])
        self.assertEqual(len([one for one in self.bucket.names() if one.endswith(".seg")]), len(EDGES))
        self.assert_all(running)
        self.assert_all()
        self.assertEqual(move(place).segments, 0)
        settle(place, None)
        self.assertEqual(move(place).segments, len(EDGES))
        self.assertEqual(list(self.bucket.names()), ["everyshelf.json"])
        self.assert_all(running)
        self.assert_all()

    def test_from_one_bucket_to_another(self) -> None:
        place = self.sent()
        settle(place, self.at(f"{self.prefix}/other"))
        self.assertEqual(move(place).segments, len(EDGES))
        self.assertEqual([one for one in self.bucket.names() if "/" not in one], ["everyshelf.json"])
        self.assertEqual(self.segments_here(), [])
        self.assert_all()

    def test_what_is_stored_meanwhile_stays_here_until_it_is_sealed(self) -> None:
        place, store = self.sent(), self.open()
        identity = store.put(b"new" * 1000).id
        store.sync()
        self.assertEqual(move(place).segments, 0)
        self.assertEqual(self.open().read(identity), b"new" * 1000)
        place.ask_to_seal()
        store.segments.seal_if_asked()
        self.assertEqual(move(place).segments, 1)
        self.assertEqual(store.read(identity), b"new" * 1000)

    def test_compacting_reads_there_and_removes_there(self) -> None:
        place = self.sent()
        for number in range(16):  # small ones are rewritten as one
            store = self.open()
            data = random.Random(100 + number).randbytes(9000)
            self.data[store.put(data).id] = data
            store.close()
        move(place)
        reader = self.open()
        store = self.open()
        with store.segments.place.alone():
            self.assertGreater(compact(store.segments).segments, 16)
        self.assert_all(reader)
        move(place)
        self.assertEqual(len([one for one in self.bucket.names() if one.endswith(".seg")]), 1)
        self.assert_all(reader)
        self.assert_all()

    def test_a_run_that_is_killed_at_any_step_loses_nothing(self) -> None:
        steps = [
            ("send", self.away), ("digest", self.away), ("write_stub", HomePlace), ("drop_bytes", HomePlace),
            ("fetch", self.away), ("drop_stub", HomePlace), ("remove", self.away),
        ]  # fmt: skip
        for name, owner in steps:
            for after in (False, True):
                for back in (False, True):
                    with self.subTest(step=name, after=after, back=back):
                        self._killed(name, owner, after=after, back=back)

    def _killed(self, name: str, owner: type, *, after: bool, back: bool) -> None:
        place = self.place()
        settle(place, self.address)
        if back:
            move(place)
            settle(place, None)
        calls = 0
        original: Callable[..., object] = getattr(owner, name)

        def killed(*given: object, **named: object) -> object:
            nonlocal calls
            calls += 1
            if calls == 3:
                if after:
                    original(*given, **named)
                raise KilledError
            return original(*given, **named)

        with mock.patch.object(owner, name, killed):
            try:
                move(place)
            except KilledError:
                self.assert_all()
        move(self.place())
        self.assertEqual(where(self.place()).waiting_segments, 0)
        self.assert_all()
        settle(place, None)
        move(place)

    def test_one_run_at_a_time(self) -> None:
        first, second, waited = self.place(), self.place(), []

        def waiting() -> None:
            waited.append(1)
            raise KilledError

        with first.moving(self.fail), self.assertRaises(KilledError), second.moving(waiting):
            self.fail("both move")
        with second.moving(self.fail):
            self.assertEqual(waited, [1])

    def test_what_a_killed_run_left_in_the_bucket_is_cleared(self) -> None:
        place = self.sent()
        self.bucket.write("0123.seg", b"left")
        self.bucket.write("0123.dir", b"left")
        self.bucket.write("note.txt", b"not ours")
        self.assertEqual(move(place).cleared, 2)
        self.assertIn("note.txt", self.bucket.names())
        self.assert_all()

    def test_a_segment_that_is_removed_while_it_is_sent_does_not_come_back(self) -> None:
        place = self.place()
        settle(place, self.address)
        gone = self.segments_here()[-1]
        original = self.away.send

        def send(bucket: Away, name: str, *rest: object) -> None:
            original(bucket, name, *rest)  # type: ignore[arg-type]
            if name == gone:
                place.remove(name)
                place.remove(directory_name(name))

        with mock.patch.object(self.away, "send", send):
            move(place)
        self.assertNotIn(gone, place.names())
        self.assertNotIn(gone, self.bucket.names())

    def test_what_does_not_read_back_as_it_was_sent_stays_here(self) -> None:
        place = self.place()
        settle(place, self.address)
        with mock.patch.object(self.away, "digest", lambda *_: (1, "0")), self.assertRaises(OutOfReachError):
            move(place)
        self.assertEqual(len(self.segments_here()), len(EDGES))
        self.assert_all()


class FolderTests(MovingTests):
    """The same with another folder in place of a bucket."""

    away = Folder

    def at(self, prefix: str) -> Address:
        if not hasattr(self, "disk"):
            self.disk = Path(tempfile.mkdtemp(prefix="es-disk-"))
            self.addCleanup(shutil.rmtree, self.disk)
        return parse_address(str(self.disk / prefix.replace("/", "-")))

    def test_a_disk_that_is_not_mounted_is_out_of_reach(self) -> None:
        place = self.sent()
        mounted = self.disk / self.prefix
        mounted.rename(self.disk / "elsewhere")
        with self.subTest("nothing is there"), self.assertRaises(OutOfReachError) as caught:
            self.open().read(next(iter(self.data)))
        self.assertEqual(caught.exception.code, "storage.out_of_reach")
        mounted.mkdir()  # as an empty mount point is
        store = self.open()
        identity = store.put(b"taken in meanwhile").id
        store.close()
        with self.subTest("nothing is sent into it"), self.assertRaises(OutOfReachError):
            move(place)
        self.assertEqual(list(mounted.iterdir()), [])
        self.assertEqual(self.open().read(identity), b"taken in meanwhile")
        mounted.rmdir()
        (self.disk / "elsewhere").rename(mounted)
        self.assertEqual(move(place).segments, 1)
        self.assert_all()

    def test_a_folder_within_the_data_folder_or_of_another_installation_is_refused(self) -> None:
        with self.assertRaises(RefusedError):
            settle(self.place(), parse_address(str(self.folder / "segments" / "inner")))
        self.sent()
        other = HomePlace(self.disk / "other", self.disk / "fetched", 10**6)
        with self.assertRaises(RefusedError) as caught:
            settle(other, self.address)
        self.assertEqual(caught.exception.code, "storage.taken")

    def test_what_is_read_there_is_not_copied_here(self) -> None:
        self.sent()
        self.assert_all()
        self.assertLess(self.place().fetched.volume(), BLOCK_BYTES)


class TroubleTests(HomeCase):
    def test_while_it_is_away_nothing_is_called_damaged(self) -> None:
        place = self.sent()
        self.server.stop()
        try:
            store = self.open()
            with self.assertRaises(OutOfReachError) as caught:
                store.read(next(iter(self.data)))
            self.assertEqual(caught.exception.code, "storage.out_of_reach")
            identity = store.put(b"taken in meanwhile").id
            store.close()
            with self.assertRaises(OutOfReachError):
                move(place)
            self.assertEqual(self.open().read(identity), b"taken in meanwhile")
            with mock.patch.object(Bucket, "read", autospec=True, side_effect=Bucket.read) as tried:
                for _ in range(100):
                    with self.assertRaises(OutOfReachError):
                        self.open().read(next(iter(self.data)))
            self.assertLess(tried.call_count, 100)  # most were told at once
        finally:
            self.server.start()
        self.assertEqual(move(place).segments, 1)
        self.assert_all()

    def test_what_was_read_lately_is_read_without_it(self) -> None:
        self.sent()
        self.assert_all()
        asked = len(self.server.asked)
        identity = next(identity for identity, data in self.data.items() if len(data) == 100_000)
        self.assertEqual(self.open().read(identity), self.data[identity])
        self.assertEqual(len(self.server.asked), asked)

    def test_answers_that_break_off_are_asked_for_again(self) -> None:
        self.sent()
        self.server.fault = breaking_off(2)
        self.assert_all()
        self.forget_fetched()
        self.server.fault = breaking_off(10**6)
        with self.assertRaises(OutOfReachError):
            self.open().read(next(iter(self.data)))

    def test_refusals_name_their_remedy(self) -> None:
        self.sent()
        for told, code in (("AccessDenied", "storage.refused"), ("NoSuchBucket", "storage.bucket")):
            self.server.fault = refusing(told)
            with self.subTest(told), self.assertRaises(OutOfReachError) as caught:
                settle(self.place(), self.server.address("elsewhere"))
            self.assertEqual(caught.exception.code, code)
            self.assertTrue(caught.exception.hint)
        self.server.fault = None
        with (
            mock.patch.object(Bucket, "read", lambda *_: b"other"),
            self.assertRaises(OutOfReachError) as caught,
        ):
            settle(self.place(), self.server.address("elsewhere"))
        self.assertEqual(caught.exception.code, "storage.trial")
        self.assert_all()

    def test_blocks_that_are_damaged_here_are_fetched_again(self) -> None:
        self.sent()
        self.assert_all()
        for path in (self.folder / "fetched").rglob("*.val"):
            path.write_bytes(bytes(path.stat().st_size))
        self.assert_all()
        (self.folder / "fetched" / "cache.db").write_bytes(b"no database" * 1000)
        self.assert_all()
        self.forget_fetched()
        (self.folder / "fetched").mkdir()
        (self.folder / "fetched" / "cache.db").write_bytes(b"no database" * 1000)
        self.assert_all()
        self.assert_all()
        self.assertGreater(self.place().fetched.volume(), 3 * BLOCK_BYTES)

    def test_what_is_kept_here_is_bounded(self) -> None:
        self.sent()
        with mock.patch.object(home_module, "_CACHE_BYTES", BLOCK_BYTES):
            place = HomePlace(self.folder / "segments", self.folder / "fetched", BLOCK_BYTES)
            store = ContentStore(place)
            for _ in range(3):
                self.assert_all(store)
            self.assertLess(place.fetched.volume(), 3 * BLOCK_BYTES)
            store.close()

    def test_an_object_that_is_gone_or_changed_is_named_and_healed(self) -> None:
        place = self.sent()
        mirror = self.server.bucket(f"{self.prefix}-mirror")
        for name in self.bucket.names():
            mirror.write(name, b"".join(self.bucket.pieces(name)))
        names = sorted(name for name in self.bucket.names() if name.endswith(".seg"))
        self.bucket.remove([names[0]])
        size = place.size(names[1])
        self.bucket.write(names[1], bytes(size))
        store = self.open()
        wrong = [identity for identity in self.data if store.verify(identity) is not None]
        self.assertEqual(len(wrong), 2)
        settle(place, None)
        done = move(place)
        self.assertEqual((done.segments, done.missing, done.changed), (len(EDGES) - 1, [names[0]], [names[1]]))
        self.assertEqual(len([identity for identity in self.data if self.open().verify(identity) is not None]), 2)
        self.assertEqual(heal(store, BucketMirror(mirror)).damaged_there, 0)
        self.assert_all()
        self.assertEqual(where(place).waiting_segments, 0)
        self.assertNotIn(names[0], place.names())

    def test_a_directory_that_is_lost_is_made_from_the_bucket(self) -> None:
        self.sent()
        for path in (self.folder / "segments").glob("*.dir"):
            path.unlink()
        self.assert_all()
        self.assertEqual(len(list((self.folder / "segments").glob("*.dir"))), len(EDGES))

    def test_notes_that_are_damaged_are_named(self) -> None:
        place = self.sent()
        (self.folder / "segments" / ".home").write_bytes(b"?")
        with self.assertRaises(BrokenError) as caught:
            where(place)
        self.assertEqual(caught.exception.code, "storage.home")
        stub = next((self.folder / "segments").glob("*.away"))
        stub.write_bytes(b"{")
        with self.assertRaises(BrokenError):
            self.open()


class OwnerTests(HomeCase):
    def test_a_prefix_belongs_to_one_installation(self) -> None:
        place = self.sent()
        other = open_place(self.folder / "other")
        with self.assertRaises(RefusedError) as caught:
            settle(other, self.address)
        self.assertEqual(caught.exception.code, "storage.taken")
        self.assertEqual(other.home().address, "")
        settle(other, self.address, take_over=True)
        with self.assertRaises(RefusedError):
            move(place)  # removes nothing that the other one relies on
        self.assert_all(ContentStore(other))

    def test_after_the_machine_is_lost(self) -> None:
        self.sent()
        shutil.rmtree(self.folder / "segments")
        place = self.place()
        with self.assertRaises(MissingError):
            self.open().read(next(iter(self.data)))
        settle(place, self.address, take_over=True)
        self.assert_all()
