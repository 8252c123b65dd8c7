"""A parcel of another shelf, unpacked in the browser."""

from __future__ import annotations

import tempfile
import zipfile
from pathlib import Path

from everyshelf.client import ChangeRequest, ProblemError
from tests.console.test_together import TwoBrowsersCase


class ParcelTests(TwoBrowsersCase):
    """Checked as a whole, then in one's own draft."""

    def test_what_a_parcel_brings_is_in_the_draft_and_a_tampered_one_is_refused_by_name(self) -> None:
        self.put({"notes/tides.txt": b"high at four\n", "fares.csv": b"zone,fare\n1,3.5\n", "same.txt": b"same\n"})
        self.shelf.make_tag("one")
        other = self.make_shelf()
        upload = other.upload(b"zone,fare\n1,3.0\n"), other.upload(b"same\n")
        changes = [ChangeRequest("fares.csv", upload[0].id), ChangeRequest("same.txt", upload[1].id)]
        other.commit("main", None, changes, "what is here")
        with tempfile.TemporaryDirectory(prefix="es-parcel-") as folder:
            file, bad = Path(folder, "one.parcel.zip"), Path(folder, "bad.parcel.zip")
            self.shelf.pack("tag:one", file)
            with zipfile.ZipFile(file) as whole, zipfile.ZipFile(bad, "w") as tampered:
                for name in whole.namelist():
                    tampered.writestr(name, whole.read(name).replace(b"high at four", b"high at five"))
            self.browser.open(f"{self.service.address}/s/{other.key}/branches")
            self.browser.press("Unpack a parcel")
            self.browser.field("Parcel").send_keys(str(bad))
            self.browser.press("Check and unpack")
            self.browser.see("tides.txt")
            self.assertEqual(other.drafts(), [])
            self.browser.field("Parcel").send_keys(str(file))
            self.browser.press("Check and unpack")
            self.browser.see("2 artifacts of")
            self.browser.see("1 were there already")
            self.assertEqual(self.browser.axe(), [])
            self.assertEqual(other.read("fares.csv", "draft:main"), b"zone,fare\n1,3.5\n")
            again = other.unpack_parcel(other.upload(file).id)
            self.assertEqual((again["artifacts"], again["same"]), ([], 3))
            with self.assertRaises(ProblemError) as caught:
                other.unpack_parcel("0" * 64)
            self.assertEqual(caught.exception.code, "content.missing")
