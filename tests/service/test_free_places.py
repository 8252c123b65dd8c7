"""Where a new environment can live: what lies in the places of this installation and belongs to no environment."""

from __future__ import annotations

import shutil
import sqlite3
from contextlib import closing
from pathlib import Path

from everyshelf.client import ProblemError
from tests.support.factories import ServiceCase, Terminal


class FreePlacesTests(ServiceCase):
    """Folders and files below the service's own place; those of other tests are left aside by their names."""

    def setUp(self) -> None:
        super().setUp()
        self.place = self.service.data / "environments"
        self.own = self.place / f"own-{self.shelf.key}"
        self.own.mkdir(parents=True)
        self.addCleanup(shutil.rmtree, self.own)

    def offered(self, destination: str = "folder", name: str = "") -> dict[str, str]:
        found = self.shelf.free_places(destination, name)
        ours = (str(self.own), str(self.place.resolve() / self.shelf.key))
        return {Path(p.address).name: p.what for p in found if p.address.startswith(ours)}

    def test_empty_folders_are_offered_after_the_one_that_is_made(self) -> None:
        for name in ("quay", "harbour/inner"):
            (self.own / name).mkdir(parents=True)
        (self.own / "full").mkdir()
        (self.own / "full/file.txt").write_text("there")
        (self.own / "elsewhere").symlink_to("/tmp", target_is_directory=True)
        self.assertEqual(self.offered(name="live"), {"live": "new", "quay": "empty", "inner": "empty"})
        self.assertEqual(self.shelf.free_places(name="live")[0].what, "new")
        self.assertEqual(self.offered(name="../live"), {"quay": "empty", "inner": "empty"})

    def test_databases_are_told_by_their_first_bytes(self) -> None:
        with closing(sqlite3.connect(self.own / "bookings.data")) as records:
            records.execute("CREATE TABLE vessels (code TEXT)")
        (self.own / "named.sqlite").write_bytes(b"not a database")
        self.assertEqual(self.offered("database"), {"bookings.data": "database"})
        self.assertEqual(self.offered("database", "live"), {"live.sqlite": "new", "bookings.data": "database"})

    def test_what_belongs_to_an_environment_is_not_offered(self) -> None:
        (self.own / "quay").mkdir()
        (self.own / "harbour").mkdir()
        made = self.shelf.make_environment("live", address=str(self.own / "quay"))
        self.assertEqual(self.offered(), {"harbour": "empty"})
        self.shelf.remove_environment("live")
        self.assertEqual(self.offered(), {"harbour": "empty", "quay": "empty"})
        self.assertEqual(made.address, str(self.own / "quay"))

    def test_every_place_that_is_offered_can_be_had(self) -> None:
        (self.own / "quay").mkdir()
        with closing(sqlite3.connect(self.own / "bookings.sqlite")) as records:
            records.execute("CREATE TABLE vessels (code TEXT)")
        for destination in ("folder", "database"):
            for n, place in enumerate(self.shelf.free_places(destination, "first")):
                if self.shelf.key in place.address:
                    settings = {"destination": destination, "address": place.address, "subfolder": "bookings"}
                    made = self.shelf.make_environment(f"{destination}-{n}", **settings)
                    self.assertEqual(made.address, place.address)

    def test_a_place_with_very_many_entries_is_listed_in_part(self) -> None:
        for n in range(260):
            (self.own / f"berth-{n:03}").mkdir()
        self.assertLessEqual(len(self.shelf.free_places()), 200)

    def test_a_destination_without_a_list_is_a_problem(self) -> None:
        with self.assertRaises(ProblemError) as caught:
            self.shelf.free_places("platform")
        self.assertEqual((caught.exception.status, caught.exception.code), (400, "environment.destination"))

    def test_at_the_command_line(self) -> None:
        terminal = Terminal(self, self.service)
        terminal.set("EVERYSHELF_SHELF", self.shelf.key)
        (self.own / "quay").mkdir()
        said = terminal.run("env", "places", "--name", "live").stdout
        self.assertIn("made with it", said)
        self.assertIn(f"everyshelf env make live --folder {self.place.resolve() / self.shelf.key / 'live'}", said)
        self.assertIn(
            "--subfolder FOLDER --database", terminal.run("env", "places", "--databases", "--name", "live").stdout
        )
