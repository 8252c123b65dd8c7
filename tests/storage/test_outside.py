"""Data in the place where it lies: each sort of place gives the bytes that were registered, or says why it cannot."""

from __future__ import annotations

import os
import random
import shutil
import tempfile
import time
import unittest
from collections.abc import Callable
from pathlib import Path
from typing import Any

import boto3
import httpx
from hypothesis import given
from hypothesis import strategies as st

from everyshelf.core.content.content_file import ContentFile
from everyshelf.core.content.outside import ChangedError, OutsideNote, Stamp, blocks_of, draw_note, range_of_block
from everyshelf.core.content.store import ContentStore
from everyshelf.core.errors import EveryShelfError, InvalidError, OutOfReachError, RefusedError, StorageError
from everyshelf.destinations.reach import Reach, ReachTransport
from everyshelf.storage.outside.buckets import Buckets, ObjectAddress, parse_object
from everyshelf.storage.outside.folders import Folders
from everyshelf.storage.outside.places import PIECE_BYTES, Found, Keys, OutsidePlace
from everyshelf.storage.outside.web import Web
from tests.support.bucket import CREDENTIALS, BucketServer, breaking_off, refusing
from tests.support.laws import law
from tests.support.web_files import WebFiles

LARGE = random.Random(7).randbytes(2 * PIECE_BYTES + 17)
KEYS = Keys(CREDENTIALS["AWS_ACCESS_KEY_ID"], CREDENTIALS["AWS_SECRET_ACCESS_KEY"])
RANGES = ((0, len(LARGE)), (5, 6), (PIECE_BYTES - 1, PIECE_BYTES + 1), (len(LARGE) - 3, len(LARGE)), (9, 9))


class Laws:
    """What holds for every sort of place; ``put`` writes a file there and gives its address."""

    place: OutsidePlace
    put: Callable[[str, bytes], str]
    remove: Callable[[str], None]

    def found(self, name: str, data: bytes) -> Found:
        address = self.put(name, data)
        (only,) = self.place.listed(address)
        return only

    def read(self, found: Found, start: int = 0, stop: int | None = None) -> bytes:
        stop = found.stamp.size if stop is None else stop
        return b"".join(self.place.read(found.address, found.stamp, start, stop))

    def test_any_range_is_read(self) -> None:
        found = self.found("large.bin", LARGE)
        self.assertEqual((found.name, found.stamp.size), ("", len(LARGE)))  # type: ignore[attr-defined]
        for start, stop in RANGES:
            self.assertEqual(self.read(found, start, stop), LARGE[start:stop], (start, stop))  # type: ignore[attr-defined]

    def test_an_empty_file_is_read(self) -> None:
        self.assertEqual(self.read(self.found("empty.csv", b"")), b"")  # type: ignore[attr-defined]

    def test_bytes_of_the_same_length_are_noticed(self) -> None:
        found = self.found("rows.csv", b"a,b\n1,2\n")
        self.put("rows.csv", b"a,b\n1,3\n")
        for start, stop in ((0, 8), (0, 1), (3, 3)):
            with self.assertRaises(ChangedError) as caught:  # type: ignore[attr-defined]
                self.read(found, start, stop)
            self.assertEqual(caught.exception.code, "in_place.changed")  # type: ignore[attr-defined]

    def test_another_length_is_told(self) -> None:
        found = self.found("rows.csv", b"a,b\n1,2\n")
        self.put("rows.csv", b"a,b\n")
        with self.assertRaises(ChangedError) as caught:  # type: ignore[attr-defined]
            self.read(found)
        self.assertIn("it had 8 bytes then and has 4 now", caught.exception.message)  # type: ignore[attr-defined]

    def test_what_is_gone_is_missing(self) -> None:
        found = self.found("rows.csv", b"a,b\n")
        self.remove("rows.csv")
        for call in (lambda: self.read(found), lambda: self.place.stamp(found.address)):
            with self.assertRaises(FileNotFoundError):  # type: ignore[attr-defined]
                call()

    def test_where_nothing_is(self) -> None:
        address = self.put("rows.csv", b"x")
        with self.assertRaises(InvalidError) as caught:  # type: ignore[attr-defined]
            list(self.place.listed(address.replace("rows.csv", "others.csv")))
        self.assertEqual(caught.exception.code, "in_place.nothing")  # type: ignore[attr-defined]


class FolderTests(Laws, unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="es-outside-"))
        self.addCleanup(shutil.rmtree, self.folder)
        self.data = self.folder / "data"
        self.data.mkdir()
        # In production two seconds, for disks whose clock has such steps; here one step of the system's own is enough.
        self.place = Folders((self.data,), pause=lambda _: time.sleep(0.05))

    def put(self, name: str, data: bytes) -> str:  # type: ignore[override]
        (self.data / name).parent.mkdir(parents=True, exist_ok=True)
        (self.data / name).write_bytes(data)
        return str(self.data / name)

    def remove(self, name: str) -> None:  # type: ignore[override]
        (self.data / name).unlink()

    def refused(self, address: str) -> None:
        for call in (
            lambda: list(self.place.listed(address)),
            lambda: self.place.stamp(address),
            lambda: list(self.place.read(address, Stamp(1), 0, 1)),
        ):
            with self.assertRaises(RefusedError) as caught:
                call()
            self.assertEqual(caught.exception.code, "in_place.folder")

    def test_a_folder_is_listed_in_order_with_what_is_left_out(self) -> None:
        for name in ("b/2.csv", "b/1.csv", "a.csv"):
            self.put(name, b"x")
        (self.data / "link.csv").symlink_to(self.data / "a.csv")
        (self.data / "elsewhere").symlink_to(self.folder)
        os.mkfifo(self.data / "pipe")
        (Path(os.fsdecode(os.fsencode(self.data) + b"/\xff.csv"))).write_bytes(b"x")
        found = list(self.place.listed(str(self.data)))
        self.assertEqual([one.name for one in found if not one.why_not], ["a.csv", "b/1.csv", "b/2.csv"])
        left = {one.name: one.why_not for one in found if one.why_not}
        self.assertEqual(left["link.csv"], "it is a link")
        self.assertEqual(left["elsewhere"], "it is a link")
        self.assertEqual(left["pipe"], "it is not an ordinary file")
        self.assertEqual(left["\\xff.csv"], "its name is not UTF-8")

    def test_nothing_is_read_outside_the_folders_that_are_allowed(self) -> None:
        (self.folder / "secret.txt").write_text("secret")
        (self.folder / "data-too").mkdir()
        (self.folder / "data-too" / "x.csv").write_text("x")
        (self.data / "way").symlink_to(self.folder)
        for address in (
            str(self.folder / "secret.txt"),
            f"{self.data}/../secret.txt",
            f"{self.data}/way/secret.txt",
            str(self.folder / "data-too" / "x.csv"),
            "relative.csv",
            f"{self.data}/\0",
            "/",
        ):
            self.refused(address)
        with self.assertRaises(RefusedError):
            list(self.place.listed(f"{self.data}/way"))
        (self.data / "inside").symlink_to(self.data / "real")
        address = self.put("real/a.csv", b"x")
        self.assertEqual([one.address for one in self.place.listed(f"{self.data}/inside")], [address])
        nowhere = Folders(())
        with self.assertRaises(RefusedError) as caught:
            list(nowhere.listed(str(self.data)))
        self.assertIn("EVERYSHELF_IN_PLACE", caught.exception.hint)

    def test_what_is_the_service_s_own_is_never_read(self) -> None:
        self.put("own/records.sqlite", b"x")
        self.put("a.csv", b"x")
        self.place = Folders((self.data,), never=(self.data / "own",), pause=lambda _: time.sleep(0.05))
        self.assertEqual([one.name for one in self.place.listed(str(self.data))], ["a.csv"])
        self.refused(str(self.data / "own" / "records.sqlite"))
        self.refused(str(self.data / "own"))

    def test_a_file_that_becomes_a_link_is_not_followed(self) -> None:
        found = self.found("rows.csv", b"secret")
        (self.folder / "secret.txt").write_text("secret")
        self.remove("rows.csv")
        (self.data / "rows.csv").symlink_to(self.folder / "secret.txt")
        with self.assertRaises(EveryShelfError):
            self.read(found)

    def test_a_file_that_carries_its_old_time_is_noticed(self) -> None:
        found = self.found("rows.csv", b"a,b\n1,2\n")
        path = self.data / "rows.csv"
        before = path.stat()
        path.write_bytes(b"a,b\n1,3\n")
        os.utime(path, ns=(before.st_atime_ns, before.st_mtime_ns))
        with self.assertRaises(ChangedError) as caught:
            self.read(found)
        self.assertIn("its length and time are the same", caught.exception.message)

    def test_a_file_written_while_it_is_read_gives_nothing_of_the_new(self) -> None:
        found = self.found("large.bin", LARGE)
        given: list[bytes] = []
        with self.assertRaises(ChangedError):
            for piece in self.place.read(found.address, found.stamp, 0, len(LARGE)):
                given.append(piece)
                with (self.data / "large.bin").open("r+b") as file:
                    file.seek(PIECE_BYTES)
                    file.write(b"another")
        self.assertEqual(b"".join(given), LARGE[:PIECE_BYTES])

    def test_a_file_that_was_just_written_is_waited_for(self) -> None:
        waited: list[float] = []

        def pause(seconds: float) -> None:
            waited.append(seconds)
            self.put("fresh.csv", b"two")  # an edit within the same step of the clock

        path = self.put("fresh.csv", b"one")
        (found,) = Folders((self.data,), pause=pause).listed(path)
        self.assertEqual(len(waited), 1)
        self.assertGreater(waited[0], 0)
        self.assertEqual(self.read(found), b"two")

    def test_what_may_not_be_read_is_told(self) -> None:
        if os.geteuid() == 0:
            self.skipTest("root reads everything")
        found = self.found("rows.csv", b"x")
        (self.data / "rows.csv").chmod(0)
        with self.assertRaises(OutOfReachError):
            self.read(found)


class WebTests(Laws, unittest.TestCase):
    server: WebFiles

    @classmethod
    def setUpClass(cls) -> None:
        cls.server = WebFiles(cls)

    def setUp(self) -> None:
        one = self.server
        one.files, one.says, one.breaks, one.status, one.ranges, one.moved, one.token = (
            {},
            ("ETag",),
            0,
            0,
            True,
            {},
            "",
        )
        self.place = Web(ReachTransport(Reach(("127.0.0.1",))))

    def put(self, name: str, data: bytes) -> str:  # type: ignore[override]
        self.server.files[f"/{name}"] = data
        return f"{self.server.address}/{name}"

    def remove(self, name: str) -> None:  # type: ignore[override]
        del self.server.files[f"/{name}"]

    def problem(self, call: Callable[[], object]) -> EveryShelfError:
        with self.assertRaises(EveryShelfError) as caught:
            call()
        return caught.exception

    def test_the_time_tells_where_no_tag_does(self) -> None:
        self.server.says = ("Weak", "Last-Modified")
        found = self.found("rows.csv", b"a,b\n1,2\n")
        self.assertEqual(found.stamp.etag, "")
        self.assertEqual(self.read(found), b"a,b\n1,2\n")
        self.put("rows.csv", b"a,b\n1,3\n")
        self.assertEqual(self.problem(lambda: self.read(found)).code, "in_place.changed")

    def test_without_anything_that_tells_it_is_refused(self) -> None:
        for says in ((), ("Weak",)):
            self.server.says = says
            address = self.put("rows.csv", b"x")
            self.assertEqual(self.problem(lambda at=address: list(self.place.listed(at))).code, "in_place.stamp")  # type: ignore[misc]

    def test_a_server_without_ranges_is_refused(self) -> None:
        self.server.ranges = False
        address = self.put("large.bin", LARGE)
        self.assertEqual(self.problem(lambda: list(self.place.listed(address))).code, "in_place.ranges")

    def test_an_answer_that_breaks_off_goes_on_from_there(self) -> None:
        found = self.found("large.bin", LARGE)
        self.server.breaks, self.server.asked = 2, []
        self.assertEqual(self.read(found), LARGE)
        self.assertEqual(len(self.server.asked), 3)
        starts = [int(asked.removeprefix("bytes=").partition("-")[0]) for _, asked in self.server.asked]
        self.assertEqual(starts, sorted(set(starts)))

    def test_a_server_that_fails_is_asked_again_and_then_left(self) -> None:
        found = self.found("rows.csv", b"abc")
        self.server.status, self.server.asked = 503, []
        self.assertEqual(self.problem(lambda: self.read(found)).code, "in_place.out_of_reach")
        self.assertEqual(len(self.server.asked), 3)
        self.server.status = 0
        self.assertEqual(self.read(found), b"abc")

    def test_a_token_opens_it_and_goes_to_this_server_only(self) -> None:
        self.server.token = "skerry"
        address = self.put("rows.csv", b"abc")
        self.assertEqual(self.problem(lambda: list(self.place.listed(address))).code, "in_place.refused")
        self.place = Web(ReachTransport(Reach(("127.0.0.1",))), Keys(secret="skerry"))
        (found,) = self.place.listed(address)
        self.assertEqual(self.read(found), b"abc")

    def test_a_redirect_leads_no_further_than_the_service_may_call(self) -> None:
        self.put("rows.csv", b"abc")
        self.server.moved = {
            "/moved.csv": "/rows.csv",
            "/inside.csv": "http://10.0.0.7/secret",
            "/round.csv": "/round.csv",
        }
        (found,) = self.place.listed(f"{self.server.address}/moved.csv")
        self.assertEqual(self.read(found), b"abc")
        inside = self.problem(lambda: list(self.place.listed(f"{self.server.address}/inside.csv")))
        self.assertEqual(inside.code, "destination.host")
        around = self.problem(lambda: list(self.place.listed(f"{self.server.address}/round.csv")))
        self.assertEqual(around.code, "in_place.address")

    def test_a_server_that_is_away(self) -> None:
        place = Web(httpx.HTTPTransport())
        away = self.problem(lambda: list(place.listed("http://127.0.0.1:9/rows.csv")))
        self.assertEqual(away.code, "in_place.out_of_reach")

    def test_a_folder_of_the_web_is_not_listed(self) -> None:
        self.put("", b"<html>")
        self.assertEqual(
            self.problem(lambda: list(self.place.listed(f"{self.server.address}/"))).code, "in_place.address"
        )


class BucketTests(Laws, unittest.TestCase):
    server: BucketServer

    @classmethod
    def setUpClass(cls) -> None:
        cls.server = BucketServer(cls)
        cls.client = boto3.client(
            "s3",
            endpoint_url=cls.server.endpoint,
            aws_access_key_id=KEYS.key_id,
            aws_secret_access_key=KEYS.secret,
            region_name="us-east-1",
        )

    def setUp(self) -> None:
        self.called: list[tuple[str, int]] = []
        self.place = Buckets(lambda host, port: self.called.append((host, port)), KEYS)
        self.below = f"{self.id().rpartition('.')[2]}/"
        self.addCleanup(setattr, self.server, "fault", None)

    def put(self, name: str, data: bytes) -> str:  # type: ignore[override]
        self.client.put_object(Bucket="versions", Key=self.below + name, Body=data)
        return str(ObjectAddress("versions", self.below + name, self.server.endpoint))

    def remove(self, name: str) -> None:  # type: ignore[override]
        self.client.delete_object(Bucket="versions", Key=self.below + name)

    def problem(self, call: Callable[[], object]) -> EveryShelfError:
        with self.assertRaises(EveryShelfError) as caught:
            call()
        return caught.exception

    def test_a_prefix_is_listed_and_what_only_begins_like_it_is_not(self) -> None:
        for name in ("trips/2.csv", "trips/1.csv", "trips/a b%20?.csv", "trips-old/3.csv", "trips/empty/"):
            self.put(name, b"x")
        at = str(ObjectAddress("versions", f"{self.below}trips", self.server.endpoint))
        for address in (at, at.replace("trips?", "trips/?")):
            found = list(self.place.listed(address))
            self.assertEqual([one.name for one in found], ["1.csv", "2.csv", "a b%20?.csv"])
            self.assertEqual([self.read(one) for one in found], [b"x"] * 3)

    def test_a_long_listing_comes_in_pages(self) -> None:
        for number in range(1_005):
            self.put(f"many/{number:04}.csv", b"")
        at = str(ObjectAddress("versions", f"{self.below}many/", self.server.endpoint))
        self.assertEqual([one.name for one in self.place.listed(at)], [f"{n:04}.csv" for n in range(1_005)])

    def test_an_answer_that_breaks_off_goes_on_from_there(self) -> None:
        found = self.found("large.bin", LARGE)
        self.server.fault = breaking_off(2)
        self.assertEqual(self.read(found), LARGE)

    def test_a_service_that_does_not_know_conditions(self) -> None:
        def fault(environ: dict[str, Any], app: Any, start_response: Any) -> Any:
            environ.pop("HTTP_IF_MATCH", None)
            return app(environ, start_response)

        found = self.found("rows.csv", b"a,b\n1,2\n")
        self.put("rows.csv", b"a,b\n1,3\n")
        self.server.fault = fault
        self.assertEqual(self.problem(lambda: self.read(found)).code, "in_place.changed")

    def test_refusals_are_told_apart(self) -> None:
        found = self.found("rows.csv", b"abc")
        self.server.fault = refusing("AccessDenied")
        refused = self.problem(lambda: self.read(found))
        self.assertEqual(refused.code, "in_place.refused")
        self.assertIn("set-credentials", refused.hint)
        self.server.fault = refusing("SlowDown", "400 Bad Request")
        self.assertEqual(self.problem(lambda: self.read(found)).code, "in_place.out_of_reach")
        self.server.fault = None
        nowhere = str(ObjectAddress("no-bucket-here", "x/", self.server.endpoint))
        self.assertEqual(self.problem(lambda: list(self.place.listed(nowhere))).code, "in_place.nothing")

    def test_the_host_is_asked_about_before_each_call(self) -> None:
        def may_not(host: str, port: int) -> None:
            raise RefusedError(f"may not call {host}:{port}", code="destination.host")

        found = self.found("rows.csv", b"abc")
        self.assertEqual(set(self.called), {("127.0.0.1", self.server.port)})
        self.place = Buckets(may_not, KEYS)
        asked = len(self.server.asked)
        self.assertEqual(self.problem(lambda: self.read(found)).code, "destination.host")
        self.assertEqual(len(self.server.asked), asked)

    @law(100)
    @given(
        st.text(st.characters(blacklist_categories=["Cs", "Cc"]), min_size=1), st.sampled_from(["", "http://h:9000"])
    )
    def test_any_key_is_written_and_read(self, key: str, endpoint: str) -> None:
        address = ObjectAddress("versions", key, endpoint)
        self.assertEqual(parse_object(str(address)), address)


class _Known:
    """An outside of bytes at hand."""

    def __init__(self, data: bytes) -> None:
        self.data = data

    def read(self, note: OutsideNote, start: int, stop: int) -> object:
        """In small pieces."""
        return (self.data[at : min(at + 999, stop)] for at in range(start, stop, 999))

    def check(self, note: OutsideNote) -> None:
        """Say that they changed, once they did."""
        if len(self.data) != note.stamp.size:
            raise ChangedError("changed")

    def local(self, note: OutsideNote) -> None:
        """Nowhere."""


class StoreTests(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="es-outside-"))
        self.addCleanup(shutil.rmtree, self.folder)
        self.known = _Known(LARGE)
        self.store = ContentStore(self.folder, outside=self.known)  # type: ignore[arg-type]
        self.addCleanup(self.store.close)
        self.info = self.store.put_outside(draw_note("/data/large.bin", Stamp(len(LARGE)), "3"))

    def test_it_reads_as_any_other_content(self) -> None:
        identity, store = self.info.id, self.store
        self.assertEqual((store.size(identity), store.has(identity)), (len(LARGE), True))
        self.assertEqual(store.read(identity), LARGE)
        self.assertEqual(b"".join(store.iter_range(identity, 10, 2_000)), LARGE[10:2_000])
        self.assertEqual(b"".join(store.iter_range(identity, 10)), LARGE[10:])
        self.assertEqual(b"".join(store.iter_range(identity, 10**9)), b"")
        file = ContentFile(store, identity, 5, len(LARGE) - 5)
        file.seek(PIECE_BYTES)
        self.assertEqual(file.read(), LARGE[5 + PIECE_BYTES : -5])
        self.assertTrue(store.lies_outside(identity))
        self.assertIsNone(store.verify(identity))
        note = store.outside_note(identity)
        assert note is not None
        store.check_outside(note)
        self.known.data = b""
        self.assertRaises(ChangedError, store.check_outside, note)

    def test_two_notes_of_the_same_bytes_are_two_contents(self) -> None:
        self.assertNotEqual(self.store.put_outside(draw_note("/data/large.bin", Stamp(len(LARGE)), "3")), self.info)

    def test_a_store_that_reads_nothing_outside_says_so(self) -> None:
        self.store.sync()
        with self.assertRaises(StorageError) as caught:
            ContentStore(self.folder).read(self.info.id)
        self.assertEqual(caught.exception.code, "in_place.elsewhere")

    @law(100)
    @given(st.one_of(st.integers(0, 5 * PIECE_BYTES), st.integers(10**11, 10**13)))
    def test_blocks_cover_any_size_and_are_never_too_many(self, size: int) -> None:
        blocks = blocks_of(size)
        self.assertLessEqual(len(blocks), 65_536)
        self.assertEqual(sum(length for _, length in blocks), size)
        at = 0
        for name, length in blocks[:50] + blocks[-1:]:
            start, stop = range_of_block(name, size)
            self.assertEqual(stop - start, length)
            self.assertTrue(start == at or (name, length) == blocks[-1])
            at = stop
