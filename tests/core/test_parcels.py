"""Parcels: the same in gives the same out, and nothing of one is believed."""

from __future__ import annotations

import hashlib
import io
import shutil
import tempfile
import unittest
import zipfile
from collections.abc import Callable
from pathlib import Path
from unittest import mock

from hypothesis import given
from hypothesis import strategies as st

from everyshelf.core.errors import EveryShelfError, InvalidError, StorageError
from everyshelf.core.history.paths import check_path
from everyshelf.core.parcel import Packed, Parcel, pack
from tests.support.laws import law

FILES = {"data/fares.csv": b"id,fare\n1,2\n", "flows/night 100%.json": b"{}\n", "notes.md": b"# Tern\n" * 5000}
ABOUT = {"format": 1, "shelf": "skerry-line", "ref": "tag:spring-2", "commit": "ab" * 32, "summary": "Two\nlines"}


def packed(files: dict[str, bytes]) -> bytes:
    out = io.BytesIO()
    pack(
        out, "skerry-line-spring-2", [Packed(p, lambda d=d: iter([d]), {"kind": "x"}) for p, d in files.items()], ABOUT
    )  # type: ignore[misc]
    return out.getvalue()


def is_path(text: str) -> bool:
    try:
        check_path(f"data/{text}")
    except EveryShelfError:
        return False
    return len(text.encode()) < 200


class ParcelCase(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def parcel(self, data: bytes) -> Parcel:
        file = self.folder / "some.parcel.zip"
        file.write_bytes(data)
        found = Parcel(file)
        self.addCleanup(found.close)
        return found

    def changed(
        self, change: Callable[[dict[str, bytes]], None], entries: list[zipfile.ZipInfo] | None = None
    ) -> bytes:
        """A good parcel with its files changed, packed again without mending any checksum."""
        with zipfile.ZipFile(io.BytesIO(packed(FILES))) as archive:
            files = {n: archive.read(n) for n in archive.namelist()}
        change(files)
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w") as archive:
            for name, data in files.items():
                archive.writestr(name, data)
            for entry in entries or []:
                archive.writestr(entry, b"x")
        return out.getvalue()

    def refused(self, data: bytes, code: str, name: str) -> None:
        with self.assertRaises(InvalidError) as caught:
            self.parcel(data).unpack(self.folder / "out")
        self.assertEqual(caught.exception.code, code)
        self.assertIn(name, caught.exception.message)
        self.assertFalse((self.folder / "out").exists(), "something was written")


class PackingTests(ParcelCase):
    """What goes in comes out, and nothing of when it was packed."""

    def test_the_same_artifacts_give_the_same_bytes(self) -> None:
        self.assertEqual(packed(FILES), packed(dict(reversed(FILES.items()))))

    def test_what_was_packed_comes_out(self) -> None:
        found = self.parcel(packed(FILES))
        self.assertEqual(found.verify(), 3)
        self.assertEqual({p: b"".join(found.read(p)) for p in found.digests}, FILES)
        self.assertEqual(found.about, ABOUT)
        self.assertEqual([a["kind"] for a in found.artifacts()], ["x"] * 3)
        found.unpack(self.folder / "out")
        self.assertEqual({p: (self.folder / "out" / p).read_bytes() for p in FILES}, FILES)

    def test_it_is_a_bag_as_the_standard_says(self) -> None:
        with zipfile.ZipFile(io.BytesIO(packed(FILES))) as archive:
            top = "skerry-line-spring-2"
            self.assertTrue(archive.read(f"{top}/bagit.txt").startswith(b"BagIt-Version: 1.0\n"))
            self.assertIn(
                f"Payload-Oxum: {sum(map(len, FILES.values()))}.3\n".encode(), archive.read(f"{top}/bag-info.txt")
            )
            for manifest in ("manifest-sha256.txt", "tagmanifest-sha256.txt"):
                for line in archive.read(f"{top}/{manifest}").decode().splitlines():
                    digest, _, name = line.partition("  ")
                    data = archive.read(f"{top}/{name.replace('%25', '%')}")
                    self.assertEqual(hashlib.sha256(data).hexdigest(), digest, name)

    @law(100)
    @given(st.dictionaries(st.text(min_size=1, max_size=30).filter(is_path), st.binary(max_size=300), max_size=6))
    def test_any_artifacts_come_out_as_they_went_in(self, files: dict[str, bytes]) -> None:
        folded = {p.casefold() for p in files}
        below = any(a != b and a.casefold().startswith(f"{b.casefold()}/") for a in files for b in files)
        if len(folded) < len(files) or below or not files:
            return  # no folder could hold them
        with tempfile.NamedTemporaryFile(suffix=".zip") as file:
            file.write(packed(files))
            file.flush()
            found = Parcel(Path(file.name))
            self.assertEqual(found.verify(), len(files))
            self.assertEqual({p: b"".join(found.read(p)) for p in found.digests}, files)
            found.close()


class HostileParcelTests(ParcelCase):
    """Refused by name of the file, and nothing is written."""

    def test_every_file_is_held_to_its_checksum(self) -> None:
        names = list(zipfile.ZipFile(io.BytesIO(packed(FILES))).namelist())
        for name in names:
            if name.endswith(("bagit.txt", "manifest-sha256.txt")):
                continue  # these are read first, and refused in other words
            with self.subTest(name=name):
                data = self.changed(lambda files, n=name: files.update({n: files[n] + b" "}))  # type: ignore[misc]
                self.refused(data, "parcel.tampered", name.partition("/")[2])

    def test_what_is_missing_or_more_than_was_packed_is_named(self) -> None:
        top = "skerry-line-spring-2"
        self.refused(self.changed(lambda f: f.pop(f"{top}/data/notes.md") and None), "parcel.tampered", "data/notes.md")
        more = self.changed(lambda f: f.update({f"{top}/data/more.txt": b"x"}))
        self.refused(more, "parcel.tampered", "data/more.txt")
        self.refused(self.changed(lambda f: f.pop(f"{top}/bagit.txt") and None), "parcel.unreadable", "bagit.txt")

    def test_a_checksum_changed_with_its_file_is_found_by_the_other_manifest(self) -> None:
        def change(files: dict[str, bytes]) -> None:
            name = "skerry-line-spring-2/manifest-sha256.txt"
            old, new = (hashlib.sha256(d).hexdigest().encode() for d in (FILES["data/fares.csv"], b"forged"))
            files[name] = files[name].replace(old, new)
            files["skerry-line-spring-2/data/data/fares.csv"] = b"forged"

        self.refused(self.changed(change), "parcel.tampered", "manifest-sha256.txt")

    def test_names_that_reach_outside_or_hide_something(self) -> None:
        top = "skerry-line-spring-2"
        for name in (
            f"{top}/../../etc/cron.d/x",
            "/etc/passwd",
            f"{top}/data/a\\b",
            f"{top}/data/NOTES.md",
            f"{top}/data/nul",
        ):
            with self.subTest(name=name):
                self.refused(
                    self.changed(lambda f, n=name: f.update({n: b"x"})), "parcel.unsafe", name.split("/")[-1][:1]
                )  # type: ignore[misc]

    def test_links_are_refused(self) -> None:
        link = zipfile.ZipInfo("skerry-line-spring-2/data/link")
        link.external_attr = 0o120777 << 16
        self.refused(self.changed(lambda f: None, [link]), "parcel.unsafe", "data/link")

    def test_what_is_no_parcel_is_said(self) -> None:
        for data in (b"", b"junk", packed(FILES)[:-40], b"PK\x05\x06" + bytes(18)):
            with self.subTest(data=data[:4]):
                self.refused(data, "parcel.unreadable", "some.parcel.zip")

    def test_one_that_claims_more_than_the_disk_holds_is_stopped_before_it_is_read(self) -> None:
        data = bytearray(packed({"a.bin": bytes(2000)}))
        at = data.index(b"PK\x01\x02")  # the directory's first entry: its size stands 24 bytes behind
        data[at + 24 : at + 28] = (0x02000000).to_bytes(4, "little")
        few = shutil.disk_usage("/")._replace(free=1 << 20)
        with mock.patch("shutil.disk_usage", return_value=few), self.assertRaises(StorageError) as caught:
            self.parcel(bytes(data)).unpack(self.folder / "out")
        self.assertIn("unpacks to", caught.exception.message)
        self.assertFalse((self.folder / "out").exists())

    def test_one_that_would_unpack_to_far_too_much_is_not_safe(self) -> None:
        """C.4: whatever room there is, a few bytes that stand for gigabytes are not unpacked."""
        data = bytearray(packed({"a.bin": bytes(2000)}))
        at = data.index(b"PK\x01\x02")
        data[at + 24 : at + 28] = (0xFFFFFFF0).to_bytes(4, "little")
        for act in (lambda p: p.unpack(self.folder / "out"), lambda p: p.verify()):
            with self.assertRaises(InvalidError) as caught:
                act(self.parcel(bytes(data)))
            self.assertEqual(caught.exception.code, "parcel.unsafe")

    def test_what_packs_very_well_is_no_danger(self) -> None:
        self.assertEqual(self.parcel(packed({"a.bin": bytes(20_000_000)})).unpack(self.folder / "out"), 1)

    def test_a_folder_that_holds_something_is_left_alone(self) -> None:
        (self.folder / "full").mkdir()
        (self.folder / "full" / "mine.txt").write_text("mine")
        with self.assertRaises(InvalidError) as caught:
            self.parcel(packed(FILES)).unpack(self.folder / "full")
        self.assertEqual(caught.exception.code, "parcel.occupied")


if __name__ == "__main__":
    unittest.main()
