"""Unfolding and folding: byte for byte what nobody edited, exactly the edit where somebody did, nothing outside."""

from __future__ import annotations

import io
import json
import tempfile
import unittest
import zipfile
from pathlib import Path
from typing import Any

import yaml
from hypothesis import given
from hypothesis import strategies as st

from everyshelf.core.errors import InvalidError
from everyshelf.core.unfolding import fold, packed, read_folder, unfold, unpacked_files, write_folder
from tests.support.factories import compared, told
from tests.support.laws import law
from tests.support.published import published

TEXTS = st.text(st.characters(exclude_categories=["Cs"]), max_size=40)
LINES = st.lists(TEXTS, min_size=2, max_size=5).map("\n".join)
VALUES = st.recursive(
    st.none()
    | st.booleans()
    | st.integers(-(10**20), 10**20)
    | st.floats(allow_nan=False, allow_infinity=False)
    | TEXTS
    | LINES,
    lambda below: st.lists(below, max_size=4) | st.dictionaries(TEXTS, below, max_size=4),
    max_leaves=12,
)
APPS = st.fixed_dictionaries(
    {
        "screens": st.lists(st.fixed_dictionaries({"name": TEXTS, "controls": VALUES}), min_size=1, max_size=4),
        "scripts": st.lists(st.fixed_dictionaries({"name": TEXTS, "code": LINES}), max_size=3),
        "rest": VALUES,
    }
)


def app(screens: list[dict[str, Any]], indent: int | None = 2) -> bytes:
    return json.dumps({"app": "gangway", "screens": screens}, indent=indent).encode()


class RoundTripTests(unittest.TestCase):
    """What nobody edited comes back byte for byte."""

    @law(100)
    @given(APPS, st.sampled_from([None, 1, 2, 4]), st.booleans(), st.booleans())
    def test_json(self, tree: Any, indent: int | None, ascii_only: bool, crlf: bool) -> None:
        text = json.dumps(tree, indent=indent, ensure_ascii=ascii_only)
        data = (text.replace("\n", "\r\n") if crlf else text).encode()
        self.assertEqual(fold(unfold("app.json", data, kind="app").files).data, data)

    @law(100)
    @given(APPS, st.sampled_from([None, "|", '"']))
    def test_yaml(self, tree: Any, style: str | None) -> None:
        data = yaml.safe_dump(tree, default_style=style, allow_unicode=True, sort_keys=False).encode()
        try:
            unfolded = unfold("app.yaml", data, kind="app")
        except InvalidError:
            return  # signs YAML itself refuses
        self.assertEqual(fold(unfolded.files).data, data)

    @law(100)
    @given(st.lists(st.tuples(TEXTS, LINES), min_size=1, max_size=4), st.booleans())
    def test_xml(self, cases: list[tuple[str, str]], cdata: bool) -> None:
        from xml.sax.saxutils import escape, quoteattr

        def body(text: str) -> str:
            return f"<![CDATA[{text}]]>" if cdata and "]]>" not in text else escape(text)

        inner = "\n".join(f"  <case name={quoteattr(n)}>\n    <script>{body(t)}</script>\n  </case>" for n, t in cases)
        data = f"<project>\n{inner}\n</project>\n".encode()
        try:
            unfolded = unfold("tests.xml", data, kind="tests")
        except InvalidError:
            return  # signs XML itself refuses
        self.assertEqual(fold(unfolded.files).data, data)

    @law(100)
    @given(
        st.dictionaries(
            st.text("abcABC/. \\", min_size=1, max_size=12), st.binary(max_size=200), min_size=1, max_size=6
        ),
        st.sampled_from([zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED, zipfile.ZIP_BZIP2]),
        st.integers(1, 9),
    )
    def test_zip(self, members: dict[str, bytes], method: int, level: int) -> None:
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w", method, compresslevel=level) as archive:
            for name, content in members.items():
                archive.writestr(name, content)
        try:
            unfolded = unfold("all.zip", out.getvalue())
        except InvalidError:
            self.assertFalse(any(v for n, v in members.items() if not n.endswith("/")))
            return
        self.assertEqual(fold(unfolded.files).data, out.getvalue())
        for path in unfolded.files:
            self.assertNotIn("..", Path(path).parts)
            self.assertFalse(path.startswith("/"))

    def test_published_notebooks(self) -> None:
        count = 0
        for name, data in published("notebook", (".ipynb",)):
            with self.subTest(file=name):
                try:
                    unfolded = unfold(name.rpartition("/")[2], data)
                except InvalidError as error:
                    self.assertNotIn("would not fold back", error.message)
                    continue
                self.assertEqual(fold(unfolded.files).data, data)
                count += 1
        self.assertGreater(count, 60)

    def test_other_encodings(self) -> None:
        for encoding in ("utf-16", "utf-8-sig", "latin-1"):
            data = app([{"name": "Abfahrt", "note": "für\nalle"}]).decode().replace("\\u00fc", "ü").encode(encoding)
            unfolded = unfold("app.json", data, kind="app")
            self.assertEqual(fold(unfolded.files).data, data, encoding)
            self.assertEqual(unfolded.files["texts/Abfahrt.note.txt"].decode(), "für\nalle")


class EditTests(unittest.TestCase):
    """An edited part is that edit in the file, and nothing else."""

    def edited(self, name: str, data: bytes, file: str, old: str, new: str, **options: Any) -> tuple[bytes, list[Any]]:
        files = unfold(name, data, **options).files
        self.assertIn(old, files[file].decode())
        files[file] = files[file].decode().replace(old, new).encode()
        after = fold(files).data
        return after, told(compared(data, after, name, **options))

    def test_screen_of_an_app(self) -> None:
        for indent in (None, 2):
            padding = [{"name": f"label {n}", "text": "x" * 30} for n in range(8)]
            data = app([{"name": "Scan", "controls": padding}, {"name": "Result", "controls": []}], indent)
            after, findings = self.edited("app.json", data, "screens/Scan.json", "label 3", "label three", kind="app")
            self.assertEqual(len(findings), 1)
            self.assertEqual(len(after), len(data) + 4)

    def test_script_in_yaml_stays_a_block(self) -> None:
        data = (
            b"app: gangway\nscripts:\n  - name: Open\n    code: |\n      one\n      two\n  - name: Shut\n    code: x\n"
        )
        after, _ = self.edited("app.yaml", data, "texts/Open.code.txt", "two", "2 # pier", kind="app")
        self.assertEqual(after, data.replace(b"two", b"2 # pier"))

    def test_cell_of_a_notebook(self) -> None:
        cells = [
            {"cell_type": "code", "source": ["a = 1\n", "b = 2"], "outputs": [], "execution_count": 3, "metadata": {}}
        ]
        data = json.dumps({"cells": cells, "metadata": {}, "nbformat": 4, "nbformat_minor": 4}, indent=1).encode()
        after, findings = self.edited("n.ipynb", data, "cells/001.py", "b = 2", "b = 3\nc = 4")
        self.assertEqual(json.loads(after)["cells"][0]["source"], ["a = 1\n", "b = 3\n", "c = 4"])
        self.assertEqual([f[2] for f in findings], ["source"])

    def test_code_in_xml_is_escaped_again(self) -> None:
        data = b'<tests><case name="one"><script>a &lt; 1\nb</script></case><case name="two"/></tests>'
        after, _ = self.edited("t.xml", data, "texts/script.txt", "a < 1", "a < 2 && c", kind="tests")
        self.assertEqual(after, data.replace(b"a &lt; 1", b"a &lt; 2 &amp;&amp; c"))

    def test_member_of_a_zip(self) -> None:
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr(zipfile.ZipInfo("a.txt", (2020, 2, 3, 4, 5, 6)), "one")
            archive.writestr("b/c.bin", b"\0" * 500)
        files = unfold("all.zip", out.getvalue()).files
        files["members/a.txt"] = b"another"
        files["members/new.txt"] = b"added"
        del files["members/b/c.bin"]
        with zipfile.ZipFile(io.BytesIO(fold(files).data)) as archive:
            self.assertIsNone(archive.testzip())
            self.assertEqual(archive.namelist(), ["a.txt", "new.txt"])
            self.assertEqual(archive.read("a.txt"), b"another")
            self.assertEqual(archive.getinfo("a.txt").date_time, (2020, 2, 3, 4, 5, 6))

    def test_part_taken_out_and_part_added_by_hand(self) -> None:
        data = app([{"name": n, "controls": []} for n in ("One", "Two", "Three")])
        files = unfold("app.json", data, kind="app").files
        frame = files["app.json"].decode()
        files["app.json"] = frame.replace('"unfolded:screens/Two.json"', '"unfolded:screens/Four.json"').encode()
        files["screens/Four.json"] = b'{"name": "Four"}\n'
        folded = fold(files)
        self.assertEqual([s["name"] for s in json.loads(folded.data)["screens"]], ["One", "Four", "Three"])
        self.assertEqual(folded.notes, ("screens/Two.json is named nowhere and was left out",))


class RefusalTests(unittest.TestCase):
    """What cannot be done says why, and nothing is written."""

    def refused(self, files: dict[str, bytes], code: str) -> str:
        with self.assertRaises(InvalidError) as raised:
            fold(files)
        self.assertEqual(raised.exception.code, code)
        return raised.exception.message

    def test_folding(self) -> None:
        files = unfold("app.json", app([{"name": "One"}, {"name": "Two"}]), kind="app").files
        self.assertIn(
            "screens/One.json", self.refused({k: v for k, v in files.items() if "One" not in k}, "fold.missing")
        )
        self.refused({**files, "screens/One.json": b"{"}, "fold.syntax")
        self.refused({**files, "screens/One.json": b'"unfolded:screens/One.json"'}, "fold.loop")
        self.refused({**files, "screens/One.json": b"\xff\xfe"}, "fold.text")
        self.refused({k: v for k, v in files.items() if k != "fold.json"}, "fold.manifest")
        for broken in (
            b"{",
            b"[]",
            files["fold.json"].replace(b'"version": 1', b'"version": 9'),
            files["fold.json"].replace(b'"name": "app.json"', b'"name": "../x"'),
        ):
            self.refused({**files, "fold.json": broken}, "fold.manifest")

    def test_unfolding(self) -> None:
        for name, data in (
            ("a.py", b"x = 1\n"),
            ("a.json", b'{"a": 1}'),
            ("a.json", b"{"),
            ("e.json", b""),
            ("a.zip", b"PK\x03\x04" + b"x" * 90),
            ("r.xml", b"<testsuite><testcase name='a'>\n</testcase></testsuite>"),
        ):
            with self.subTest(name=name), self.assertRaises(InvalidError) as raised:
                unfold(name, data)
            self.assertEqual(raised.exception.code, "unfold.impossible")

    def test_names_that_lead_elsewhere_stay_inside(self) -> None:
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w") as archive:
            for name in ("../../evil", "/abs", "C:\\x", "a", "a/b", "A", "con\nfusing"):
                archive.writestr(name, name)
        unfolded = unfold("all.zip", out.getvalue())
        self.assertEqual(len([f for f in unfolded.files if f.startswith("members/")]), 7)
        with tempfile.TemporaryDirectory() as folder:
            write_folder(Path(folder) / "in", unfolded)
            self.assertEqual([p.name for p in Path(folder).iterdir()], ["in"])
            self.assertEqual(fold(read_folder(Path(folder) / "in")).data, out.getvalue())

    def test_a_bomb_is_not_unpacked(self) -> None:
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
            for n in range(5):
                with archive.open(f"{n}.bin", "w") as member:
                    for _ in range(100):
                        member.write(b"\0" * 1_000_000)
        with self.assertRaisesRegex(InvalidError, "more than"):
            unfold("bomb.zip", out.getvalue())


class FolderTests(unittest.TestCase):
    """In a folder nothing stale is left, and nothing of anybody else is touched."""

    def test_unfolding_again_leaves_no_stale_parts(self) -> None:
        with tempfile.TemporaryDirectory() as place:
            folder = Path(place) / "app.unfolded"
            write_folder(folder, unfold("a.json", app([{"name": "One"}, {"name": "Old"}]), kind="app"))
            (folder / "notes.txt").write_text("mine")
            removed = write_folder(folder, unfold("a.json", app([{"name": "One"}, {"name": "New"}]), kind="app"))
            self.assertEqual(removed, ["screens/Old.json"])
            self.assertEqual(
                sorted(p.name for p in folder.rglob("*.*") if p.is_file()),
                ["New.json", "One.json", "a.json", "fold.json", "notes.txt"],
            )
            self.assertIn("notes.txt is named nowhere", fold(read_folder(folder)).notes[0])

    def test_edits_that_were_not_folded_are_never_overwritten(self) -> None:
        data = app([{"name": "One", "text": "a"}, {"name": "Two"}])
        for part in ("screens/One.json", "a.json"):
            with self.subTest(part=part), tempfile.TemporaryDirectory() as place:
                folder = Path(place) / "a.json.unfolded"
                write_folder(folder, unfold("a.json", data, kind="app"))
                file = folder / part
                file.write_bytes(file.read_bytes() + b"\n\n")
                edited = file.read_bytes()
                with self.assertRaises(InvalidError) as raised:
                    write_folder(folder, unfold("a.json", data, kind="app"))
                self.assertEqual((raised.exception.code, file.read_bytes()), ("unfold.edited", edited))
                # Folded, they may be unfolded again.
                write_folder(folder, unfold("a.json", fold(read_folder(folder)).data, kind="app"), over_edits=True)
                write_folder(folder, unfold("a.json", data, kind="app"))
                self.assertEqual(fold(read_folder(folder)).data, data)

    def test_a_folder_of_something_else_is_left_alone(self) -> None:
        with tempfile.TemporaryDirectory() as place:
            (Path(place) / "mine.txt").write_text("mine")
            with self.assertRaises(InvalidError) as raised:
                write_folder(Path(place), unfold("a.json", app([{"name": "One"}, {"name": "Two"}]), kind="app"))
            self.assertEqual(raised.exception.code, "unfold.taken")
            self.assertEqual([p.name for p in Path(place).iterdir()], ["mine.txt"])

    def test_a_packed_folder_is_the_same_folder(self) -> None:
        unfolded = unfold("a.json", app([{"name": "One"}, {"name": "Two"}]), kind="app")
        self.assertEqual(unpacked_files(packed(unfolded)), unfolded.files)
        self.assertEqual(
            packed(unfolded), packed(unfold("a.json", app([{"name": "One"}, {"name": "Two"}]), kind="app"))
        )


if __name__ == "__main__":
    unittest.main()
