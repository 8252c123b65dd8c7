"""Documents, archives and pictures, written by other libraries: text by paragraphs, members by name, pixels."""

from __future__ import annotations

import io
import json
import tarfile
import unittest
import zipfile
from typing import Any

from hypothesis import given
from hypothesis import strategies as st
from odf.opendocument import OpenDocumentText
from odf.style import ParagraphProperties, Style
from odf.text import H, List, ListItem, P
from PIL import Image, ImageDraw
from PIL.PngImagePlugin import PngInfo

from everyshelf.core.compare.sentences import headline
from everyshelf.core.kinds.recognise import recognise
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.tables.given import Given
from everyshelf.demo.documents import docx
from tests.support.factories import as_answer, compared, outlined
from tests.support.laws import law

Members = list[tuple[str, bytes]]


def zipped(members: Members, *, packing: int = zipfile.ZIP_DEFLATED, year: int = 2020) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", packing) as archive:
        for name, content in members:
            archive.writestr(zipfile.ZipInfo(name, (year, 1, 1, 0, 0, 0)), content, packing)
    return out.getvalue()


def tarred(members: Members) -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w") as archive:
        for name, content in members:
            info = tarfile.TarInfo(name)
            info.size = len(content)
            archive.addfile(info, io.BytesIO(content))
    return out.getvalue()


def odt(lines: list[str], *, tight: bool = False) -> bytes:
    document = OpenDocumentText()
    style = Style(name="Tight", family="paragraph")
    style.addElement(ParagraphProperties(margintop="0cm" if tight else "1cm"))
    document.automaticstyles.addElement(style)
    for line in lines:
        if line.startswith("# "):
            document.text.addElement(H(outlinelevel=1, text=line[2:]))
        elif line.startswith("- "):
            item = ListItem()
            item.addElement(P(text=line[2:]))
            listed = List()
            listed.addElement(item)
            document.text.addElement(listed)
        else:
            document.text.addElement(P(stylename=style, text=line))
    out = io.BytesIO()
    document.write(out)
    return out.getvalue()


def told(found: dict[str, Any]) -> list[tuple[Any, ...]]:
    return [(f["action"], f["type"], f["label"]) for f in found["findings"] if f["effect"] != "cosmetic"]


TERMS = ["# Carriage", "Tickets are valid for one day.", "- Bicycles travel free.", "# Refunds", "Ask at the desk."]


class DocumentTests(unittest.TestCase):
    """Texts in either standard."""

    def test_paragraphs_are_told_under_their_heading(self) -> None:
        later = [line.replace("one day", "two days") for line in TERMS]
        later.insert(4, "Bring the ticket.")
        for make, name in ((odt, "t.odt"), (docx, "t.docx")):
            with self.subTest(name=name):
                found = compared(make(TERMS), make(later), name)
                parts = {(f["action"], f["part"].split("/")[1]) for f in found["findings"] if f["effect"] != "cosmetic"}
                self.assertEqual(parts, {("changed", "section:Carriage"), ("added", "section:Refunds")})
                self.assertEqual(found["read_as"], "document")

    def test_looks_and_properties_are_cosmetic(self) -> None:
        found = compared(odt(TERMS), odt(TERMS, tight=True), "t.odt")
        self.assertEqual({f["effect"] for f in found["findings"]}, {"cosmetic"})

    def test_members_written_anew_mean_nothing(self) -> None:
        with zipfile.ZipFile(io.BytesIO(docx(TERMS))) as archive:
            members = [(n, archive.read(n)) for n in archive.namelist()]
        anew = [(n, c.replace(b"/>", b" />").replace(b"><w:p>", b">\n  <w:p>")) for n, c in reversed(members)]
        found = compared(docx(TERMS), zipped(anew, packing=zipfile.ZIP_STORED), "t.docx")
        self.assertEqual((found["findings"], found["read_as"]), ([], "document"))

    def test_what_was_struck_out_is_gone_and_what_was_put_in_counts(self) -> None:
        with zipfile.ZipFile(io.BytesIO(docx(["One line."]))) as archive:
            members = {n: archive.read(n) for n in archive.namelist()}
        body = b"<w:del><w:r><w:delText>One</w:delText></w:r></w:del><w:ins><w:r><w:t>Another</w:t></w:r></w:ins>"
        tracked = members["word/document.xml"].replace(b"<w:r><w:t>One line.", body + b"<w:r><w:t> line.")
        found = compared(docx(["One line."]), zipped([*{**members, "word/document.xml": tracked}.items()]), "t.docx")
        [finding] = [f for f in found["findings"] if f["effect"] != "cosmetic"]
        self.assertEqual((finding["before"], finding["after"]), ("One line.", "Another line."))

    def test_an_encrypted_document_is_refused_in_words(self) -> None:
        with zipfile.ZipFile(io.BytesIO(odt(TERMS))) as archive:
            members = {n: archive.read(n) for n in archive.namelist()}
        members["content.xml"] = bytes(range(256)) * 8
        listed = members["META-INF/manifest.xml"]
        members["META-INF/manifest.xml"] = listed.replace(b"</manifest:", b"<manifest:encryption-data/></manifest:", 1)
        shown = outlined(Given("t.odt", zipped([*members.items()])), Rules())
        self.assertIn("encrypted", shown["note"])


class ArchiveTests(unittest.TestCase):
    """Any zip or tar."""

    MEMBERS: Members = [
        ("a/conf.json", b'{"boat": "Tern", "calls": [7, 9]}'),
        ("notes.txt", b"one\ntwo\n"),
        ("plan.xml", b'<plan><call at="7" pier="A"/></plan>'),
        ("fares.csv", b"zone,fare\nA,1\nB,2\nC,3\n"),
    ]

    def test_order_time_stamps_and_compression_are_nothing(self) -> None:
        one = zipped(self.MEMBERS)
        for other in (
            zipped(self.MEMBERS[::-1], packing=zipfile.ZIP_STORED, year=2025),
            zipped(self.MEMBERS, packing=zipfile.ZIP_LZMA),
        ):
            found = compared(one, other, "kit.zip")
            self.assertEqual((found["findings"], found["read_as"]), ([], "archive"))

    def test_xml_written_otherwise_is_equal(self) -> None:
        later = dict(self.MEMBERS)
        later["plan.xml"] = b"<?xml version='1.0'?>\n<plan>\n  <call pier='A' at='7'></call>\n</plan>\n"
        self.assertEqual(compared(zipped(self.MEMBERS), zipped([*later.items()]), "kit.zip")["findings"], [])

    def test_each_member_is_told_as_what_it_is(self) -> None:
        later = dict(self.MEMBERS)
        later["a/conf.json"] = b'{"boat": "Skua", "calls": [7, 9]}'
        later["fares.csv"] = b"zone,fare\nA,1\nB,2.5\nC,3\nD,4\n"
        later["new.bin"] = b"\0\1"
        later["b/notes.txt"] = later.pop("notes.txt")
        for pack in (zipped, tarred):
            with self.subTest(pack=pack.__name__):
                found = compared(pack(self.MEMBERS), pack([*later.items()]), "kit.zip")
                self.assertEqual(
                    {(f["action"], f["part"].split("/")[1], f["type"]) for f in found["findings"]},
                    {
                        ("changed", "member:a%2Fconf.json", "settings"),
                        ("changed", "member:fares.csv", "column"),
                        ("added", "member:fares.csv", "rows"),
                        ("renamed", "member:b%2Fnotes.txt", "member"),
                        ("added", "member:new.bin", "member"),
                    },
                )

    def test_archives_within_archives_are_looked_into_and_come_to_an_end(self) -> None:
        def nested(value: int, levels: int) -> bytes:
            data = json.dumps({"depth": value}).encode()
            name = "inner.json"
            for _ in range(levels):
                data, name = zipped([(name, data)]), "inner.zip"
            return data

        self.assertEqual([f["type"] for f in compared(nested(1, 2), nested(2, 2), "a.zip")["findings"]], ["settings"])
        deep = compared(nested(1, 9), nested(2, 9), "a.zip")
        self.assertEqual([(f["field"], f["effect"]) for f in deep["findings"]], [("content", None)])
        self.assertFalse(deep["judged"])

    def test_a_zip_is_what_its_members_say_and_not_what_three_bytes_in_it_spell(self) -> None:
        noise = zipped([("a.bin", b"xl/word/ppt/opendocument." * 40)], packing=zipfile.ZIP_STORED)
        self.assertEqual(recognise("a.zip", noise).kind, "archive")
        self.assertEqual(recognise("lies.zip", docx(TERMS)).kind, "document")

    @law(40)
    @given(
        st.dictionaries(st.from_regex(r"[a-z]{1,6}(/[a-z]{1,6})?\.bin", fullmatch=True), st.binary(max_size=40)),
        st.data(),
    )
    def test_exactly_the_members_that_differ_are_told(self, old: dict[str, bytes], data: st.DataObject) -> None:
        names = sorted(old)
        gone = set(data.draw(st.lists(st.sampled_from(names), unique=True))) if names else set()
        new = {n: c for n, c in old.items() if n not in gone}
        changed = set(data.draw(st.lists(st.sampled_from(sorted(new)), unique=True))) if new else set()
        new |= {n: old[n] + b"\0changed\xff" for n in changed}
        found = compared(zipped([*old.items()]), zipped([*new.items()]), "a.zip")
        said = {(f["action"], f["label"].partition(" in ")[2] or f["label"]) for f in found["findings"]}
        self.assertEqual(said, {("removed", n) for n in gone} | {("changed", n) for n in changed})


def picture(*, dot: bool = False, size: tuple[int, int] = (120, 80), form: str = "PNG", **how: Any) -> bytes:
    image = Image.new("RGB", size, "white")
    draw = ImageDraw.Draw(image)
    draw.rectangle((10, 10, 60, 50), fill="navy")
    if dot:
        draw.rectangle((80, 20, 89, 24), fill="red")
    out = io.BytesIO()
    image.save(out, form, **how)
    return out.getvalue()


class PictureTests(unittest.TestCase):
    """Pixels."""

    def test_region_and_share_are_those_of_the_pixels_that_differ(self) -> None:
        found = compared(picture(), picture(dot=True), "p.png")
        self.assertEqual(found["picture"]["region"], {"x": 80, "y": 20, "width": 10, "height": 5})
        self.assertAlmostEqual(found["picture"]["share"], 50 / (120 * 80))
        self.assertEqual([(f["label"], f["effect"]) for f in found["findings"]], [("pixels", "alters")])

    def test_the_difference_picture_shows_exactly_those(self) -> None:
        import base64

        address = compared(picture(), picture(dot=True), "p.png")["picture"]["difference"]
        shown = Image.open(io.BytesIO(base64.b64decode(address.partition(",")[2])))
        self.assertEqual((shown.size, shown.getchannel("A").getbbox()), ((120, 80), (80, 20, 90, 25)))

    def test_written_with_another_compression_it_is_the_same_picture(self) -> None:
        found = compared(picture(compress_level=1), picture(compress_level=9), "p.png")
        self.assertEqual((found["findings"], found["read_as"]), ([], "picture"))

    def test_metadata_and_format_are_apart(self) -> None:
        note = PngInfo()
        note.add_text("Author", "Ida")
        found = compared(picture(), picture(pnginfo=note), "p.png")
        self.assertEqual(
            [(f["action"], f["label"], f["effect"]) for f in found["findings"]], [("added", "Author", "cosmetic")]
        )
        found = compared(picture(form="JPEG", quality=95), picture(dot=True, form="JPEG", quality=95), "p.jpg")
        self.assertEqual(headline(as_answer(found)), "pixels changed")

    def test_pictures_of_every_mode_are_compared(self) -> None:
        dots = {
            "1": 255,
            "L": 255,
            "LA": (255, 255),
            "P": 1,
            "RGB": (9, 99, 200),
            "RGBA": (9, 9, 9, 255),
            "I;16": 60_000,
        }
        for mode, dot in dots.items():
            with self.subTest(mode=mode):
                made = []
                for dotted in (False, True):
                    image = Image.new(mode, (40, 30))
                    if mode == "P":
                        image.putpalette([0, 0, 0, 255, 0, 0] + [0] * 762)
                    if dotted:
                        image.putpixel((7, 9), dot)
                    out = io.BytesIO()
                    image.save(out, "PNG")
                    made.append(out.getvalue())
                found = compared(made[0], made[1], "p.png")
                self.assertEqual(found["read_as"], "picture", found["note"])
                self.assertEqual(found["picture"]["region"], {"x": 7, "y": 9, "width": 1, "height": 1})

    def test_another_size_is_told_without_comparing_pixels(self) -> None:
        [finding] = compared(picture(), picture(size=(100, 80)), "p.png")["findings"]
        self.assertEqual((finding["before"], finding["after"]), ("120 × 80", "100 × 80"))

    def test_turned_by_its_metadata_it_is_what_is_seen(self) -> None:
        image = Image.open(io.BytesIO(picture()))
        upright, turned = io.BytesIO(), io.BytesIO()
        image.save(upright, "PNG")
        exif = Image.Exif()
        exif[0x0112] = 6
        image.rotate(90, expand=True).save(turned, "PNG", exif=exif)
        found = compared(upright.getvalue(), turned.getvalue(), "p.png")
        self.assertEqual({f["effect"] for f in found["findings"]}, {"cosmetic"}, found["findings"])


if __name__ == "__main__":
    unittest.main()
