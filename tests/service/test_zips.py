"""Folders, some artifacts and whole states as a zip."""

from __future__ import annotations

import io
import random
import tempfile
import zipfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import httpx

from everyshelf.client import ProblemError
from tests.support.factories import ServiceCase, Terminal
from tests.support.waiting import until

_FIRST = b"zone,fare\nZ1,4\n"


class ZipTests(ServiceCase):
    """What lies in it, and who may take it."""

    def setUp(self) -> None:
        super().setUp()
        self.put({"data/fares.csv": _FIRST, "data/old/tides.csv": b"t\n1\n", "café/notes.md": b"# Notes\n"}, "First")
        self.shelf.make_tag("one")
        self.put({"data/fares.csv": b"zone,fare\nZ1,9\n"}, "Dearer")
        self.home = Path(self.enterContext(tempfile.TemporaryDirectory(prefix="es-zip-")))

    def taken(self, ref: str | None = None, folder: str = "", paths: list[str] | None = None) -> dict[str, bytes]:
        target = self.home / "taken.zip"
        self.shelf.download_zip(target, ref, folder=folder, paths=paths or [])
        with zipfile.ZipFile(target) as found:
            self.assertIsNone(found.testzip())
            return {name: found.read(name) for name in found.namelist()}

    def address(self) -> str:
        return f"{self.service.address}/api/v1/shelves/{self.shelf.key}/zip"

    def headers(self) -> dict[str, str]:
        return {"Authorization": f"Bearer {self.service.token()}"}

    def test_all_of_a_state_a_folder_and_some_artifacts(self) -> None:
        everything = self.taken("tag:one")
        self.assertEqual(set(everything), {"data/fares.csv", "data/old/tides.csv", "café/notes.md"})
        self.assertEqual(everything["data/fares.csv"], _FIRST)
        self.assertEqual(self.taken()["data/fares.csv"], b"zone,fare\nZ1,9\n")
        self.assertEqual(set(self.taken(folder="data/")), {"data/fares.csv", "data/old/tides.csv"})
        self.assertEqual(set(self.taken(folder="data/old")), {"old/tides.csv"})
        self.assertEqual(
            set(self.taken(paths=["café/notes.md", "data/fares.csv"])), {"café/notes.md", "data/fares.csv"}
        )
        self.assertEqual(self.taken("at:2001-01-01"), {})

    def test_the_same_state_gives_the_same_bytes(self) -> None:
        answers = [httpx.get(self.address(), params={"ref": "tag:one"}, headers=self.headers()) for _ in range(2)]
        self.assertEqual(answers[0].content, answers[1].content)
        self.assertEqual(answers[0].headers["content-type"], "application/zip")
        self.assertIn(f"{self.shelf.key}.zip", answers[0].headers["content-disposition"])

    def test_a_folder_kept_whole(self) -> None:
        rows = {f"counts/part-{n}.csv": b"a\n%d\n" % n for n in range(3)}
        self.put({**rows, "counts/_SUCCESS": b""}, "Counts")
        self.assertEqual(self.taken(paths=["counts"]), {**rows, "counts/_SUCCESS": b""})
        self.assertEqual(set(self.taken(folder="counts")), {*rows, "counts/_SUCCESS"})

    def test_what_is_not_there(self) -> None:
        for said, code in (
            ({"folder": "nothing"}, "folder.missing"),
            ({"folder": "data/fares.csv"}, "folder.missing"),
            ({"paths": ["data/none.csv"]}, "artifact.missing"),
            ({"ref": "tag:none"}, "tag.missing"),
        ):
            with self.subTest(said), self.assertRaises(ProblemError) as caught:
                self.taken(**said)  # type: ignore[arg-type]
            self.assertEqual(caught.exception.code, code)
        self.assertEqual(list(self.home.iterdir()), [])

    def test_only_some_at_once_and_a_place_is_free_again(self) -> None:
        large = random.Random(3).randbytes(16 << 20)
        self.put({"large.bin": large}, "Large")
        with httpx.Client(headers=self.headers(), timeout=120) as client, ThreadPoolExecutor(12) as many:
            answers = list(many.map(lambda _: client.get(self.address()), range(12)))
            refused = [answer for answer in answers if answer.status_code != 200]
            self.assertTrue(refused)
            self.assertEqual({(one.status_code, one.json()["code"]) for one in refused}, {(422, "zip.busy")})
            for answer in answers:
                if answer.status_code == 200:
                    with zipfile.ZipFile(io.BytesIO(answer.content)) as found:
                        self.assertEqual(found.read("large.bin"), large)
            for _ in range(6):  # taken and not read to the end
                with client.stream("GET", self.address()) as answer:
                    self.assertEqual(answer.status_code, 200)
                    next(answer.iter_bytes())
                until(
                    lambda: client.get(self.address(), params={"folder": "café"}).status_code == 200, "a place is free"
                )

    def test_on_the_command_line(self) -> None:
        terminal = Terminal(self, self.service)
        terminal.set("EVERYSHELF_SHELF", self.shelf.key)
        said = terminal.run("browse", "data", "--at", "tag:one", "--zip", "data.zip").stdout
        self.assertIn("data at tag:one written to data.zip", said)
        with zipfile.ZipFile(terminal.folder / "data.zip") as found:
            self.assertEqual(found.read("data/fares.csv"), _FIRST)
        self.assertIn("no folder 'nothing'", terminal.run("browse", "nothing", "--zip", "x.zip", code=1).stderr)
