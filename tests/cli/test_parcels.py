"""Parcels between installations and folders, on the command line."""

from __future__ import annotations

import zipfile

from everyshelf.client import ProblemError
from tests.support.factories import ServiceCase, Terminal

FLOW = b'{"steps": [{"id": "load", "run": "scripts/load.py", "table": "data/fares.csv"}]}\n'
RULES = b'[bindings]\nROLE = {in = "flows/*"}\n'


class ParcelTests(ServiceCase):
    """Packed here, unpacked there."""

    def setUp(self) -> None:
        super().setUp()
        self.files = {
            "data/fares.csv": b"id,fare\n1,2\n",
            "scripts/load.py": b"print('${ROLE}')\n",
            "flows/night.json": FLOW,
        }
        self.put({**self.files, "other.txt": b"x"})
        self.shelf.make_tag("one")
        self.terminal = Terminal(self, self.service)
        self.terminal.set("EVERYSHELF_SHELF", self.shelf.key)
        self.file = str(self.terminal.folder / "one.parcel.zip")

    def test_a_tag_goes_to_another_shelf_and_into_a_folder(self) -> None:
        run = self.terminal.run
        self.assertIn("4 artifacts packed", run("parcel", "pack", "tag:one", "--output", self.file).stdout)
        shown = run("parcel", "show", self.file).stdout
        self.assertIn(f"from {self.shelf.key}, tag:one", shown)
        self.assertIn("data/fares.csv", shown)
        self.assertIn("4 artifacts, all checksums match", run("parcel", "verify", self.file).stdout)
        folder = self.terminal.folder / "unpacked"
        self.assertIn("4 artifacts unpacked", run("parcel", "unpack", self.file, "--output", str(folder)).stdout)
        self.assertEqual((folder / "flows/night.json").read_bytes(), FLOW)
        elsewhere = self.make_shelf()
        made = run("parcel", "unpack", self.file, "--shelf", elsewhere.key, "--summary", "From the other office")
        self.assertIn("4 artifacts", made.stdout)
        self.assertEqual(
            {a.path: elsewhere.read(a.path) for a in elsewhere.artifacts()}, {**self.files, "other.txt": b"x"}
        )
        self.assertEqual(next(elsewhere.commits()).labels["parcel ref"], "tag:one")

    def test_packing_twice_gives_the_same_bytes(self) -> None:
        packed = []
        for _ in range(2):
            self.terminal.run("parcel", "pack", "tag:one", "--output", self.file)
            packed.append((self.terminal.folder / "one.parcel.zip").read_bytes())
        self.assertEqual(packed[0], packed[1])

    def test_a_selection_comes_with_what_it_needs(self) -> None:
        alone = self.terminal.json("parcel", "pack", "tag:one", "--only", "flows/night.json", "--output", self.file)
        self.assertEqual(alone["artifacts"], 1)
        self.terminal.run(
            "parcel", "pack", "tag:one", "--only", "flows/night.json", "--dependencies", "--output", self.file
        )
        told = self.terminal.json("parcel", "show", self.file)
        self.assertEqual([f["path"] for f in told["files"]], ["data/fares.csv", "flows/night.json", "scripts/load.py"])
        self.assertTrue(told["dependencies"])

    def test_bindings_are_named_and_never_filled_in(self) -> None:
        self.put({"shelf.toml": RULES, "flows/ask.json": b'{"ask": "${ROLE}"}\n'})
        self.shelf.make_environment("test")
        self.shelf.bind("test", "ROLE", "a-secret-4711", secret=True)
        self.terminal.run("parcel", "pack", "main", "--output", self.file)
        told = {f["path"]: f["bindings"] for f in self.terminal.json("parcel", "show", self.file)["files"]}
        self.assertEqual(told["flows/ask.json"], ["ROLE"])
        with zipfile.ZipFile(self.file) as archive:
            for name in archive.namelist():
                self.assertNotIn(b"4711", archive.read(name))

    def test_a_changed_one_is_refused_by_name_and_nothing_is_committed(self) -> None:
        self.terminal.run("parcel", "pack", "tag:one", "--output", self.file)
        with zipfile.ZipFile(self.file) as archive:
            files = {n: archive.read(n) for n in archive.namelist()}
        with zipfile.ZipFile(self.file, "w") as archive:
            for name, data in files.items():
                archive.writestr(name, data.replace(b"1,2", b"1,9") if name.endswith("fares.csv") else data)
        elsewhere = self.make_shelf()
        for arguments in (("verify", self.file), ("unpack", self.file, "--shelf", elsewhere.key)):
            said = self.terminal.run("parcel", *arguments, code=1).stderr
            self.assertIn("data/data/fares.csv", said)
        self.assertEqual(list(elsewhere.artifacts()), [])

    def test_what_is_not_there_cannot_be_packed(self) -> None:
        self.assertIn(
            "nothing.csv is not there",
            self.terminal.run(
                "parcel", "pack", "tag:one", "--only", "nothing.csv", "--output", self.file, code=1
            ).stderr,
        )
        with self.assertRaises(ProblemError):
            self.shelf.pack("tag:never", self.terminal.folder / "x.zip")
