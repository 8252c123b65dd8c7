"""A.3 and C.1: who may name which address, and that removing takes away only what was put there."""

from __future__ import annotations

import subprocess
from pathlib import Path

from everyshelf.client import ProblemError, ShelfClient
from tests.support.factories import ServiceCase, commit_files


class AddressCase(ServiceCase):
    """Two shelves: one's own, and another that its owner does not share."""

    def setUp(self) -> None:
        super().setUp()
        self.put({"a.json": b'{"a": 1}\n'})
        self.shelf.make_tag("one")
        made = self.client_of("stranger").make_shelf(f"Private {id(self)}")
        self.other = self.client_of("stranger").shelf(made.key)
        commit_files(self.other, {"secret.txt": b"the crew's wages\n"}, "First")
        self.other.make_tag("one")
        self.places = self.service.data / "environments"
        self.base = f"addr{id(self)}"

    def refused(self, shelf: ShelfClient, name: str, address: str, destination: str = "folder", **more: str) -> str:
        with self.assertRaises(ProblemError) as caught:
            shelf.make_environment(name, destination=destination, address=address, **more)
        return caught.exception.code

    def deploy(self, shelf: ShelfClient, environment: str) -> None:
        shelf.wait(shelf.promote("one", environment))


class OwnershipTests(AddressCase):
    """No address is equal to, above or below another's."""

    def test_matrix(self) -> None:
        """Every kind of address against every other, from the same shelf and from another."""
        b = self.base
        git = self.service.repositories / f"{b}.git"
        subprocess.run(["git", "init", "-q", "--bare", str(git)], check=True)
        taken = {
            "folder": ("folder", f"{b}/folder/deep", {}),
            "database": ("database", f"{b}/data/x.sqlite", {"subfolder": "records"}),
            "git": ("git", f"{git}#main:apps", {}),
            "platform": ("platform", "http://127.0.0.1:11/space/one", {}),
            "server": ("database", "postgresql+psycopg://me@127.0.0.1:5432/harbour", {"subfolder": "records"}),
        }
        for name, (destination, address, more) in taken.items():
            self.shelf.make_environment(f"t-{name}", destination=destination, address=address, **more)
        refused = [
            ("folder", f"{b}/folder/deep", {}),
            ("folder", f"{b}/folder/deep/er", {}),
            ("folder", f"{b}/folder", {}),
            ("folder", b, {}),
            ("folder", f"{b}/other/../folder/deep", {}),
            ("folder", f"{b}/data/x.sqlite/below", {}),
            ("folder", f"{git}/objects/x", {}),
            ("database", f"{b}/data/x.sqlite", {"subfolder": "other"}),
            ("database", f"{b}/folder/deep/current.sqlite", {"subfolder": "other"}),
            ("git", f"{git}#main:apps", {}),
            ("git", f"{git}#main", {}),
            ("git", f"{git}#main:apps/inner", {}),
            ("platform", "http://127.0.0.1:11/space/one", {}),
            ("platform", "http://127.0.0.1:11/space", {}),
            ("platform", "http://127.0.0.1:11/space/one/deeper", {}),
            ("platform", "http://localhost:11/space/one/", {}),
            ("database", "postgresql+psycopg://you@localhost/harbour", {"subfolder": "other"}),
        ]
        for shelf in (self.shelf, self.other):
            for number, (destination, address, more) in enumerate(refused):
                with self.subTest(address=address, shelf=shelf.key):
                    code = self.refused(shelf, f"x{number}", address, destination, **more)
                    self.assertIn(code, ("environment.taken", "environment.folder", "environment.address"))
        # Beside them there is room, on one's own shelf in the same repository, too.
        self.shelf.make_environment("beside", destination="git", address=f"{git}#main:settings")
        self.shelf.make_environment("branch", destination="git", address=f"{git}#other")
        self.shelf.make_environment("folder2", address=f"{b}/folder/other")
        self.assertEqual(self.refused(self.other, "repo", f"{git}#third", "git"), "environment.taken")

    def test_a_folder_with_something_in_it_is_somebodys(self) -> None:
        (self.places / self.base).mkdir(parents=True)
        (self.places / self.base / "notes.txt").write_text("not ours")
        self.assertEqual(self.refused(self.shelf, "x", self.base), "environment.folder")

    def test_what_is_no_address_is_said_to_be_none(self) -> None:
        for destination, address in (
            ("platform", "http://[::1/x"),
            ("platform", "http://127.0.0.1:99999/x"),
            ("git", "git@example.org:x/y.git"),
            ("git", "git://git@example.org/x.git"),
            ("git", "ext::sh -c id"),
            ("folder", "x" * 300),
            ("folder", "a\u0000b"),
            ("folder", "a\nb"),
            ("database", "postgresql+psycopg://h/d?sslkey=/etc/passwd"),
            ("database", "postgresql+psycopg://h/d?service=x"),
            ("database", "postgresql+psycopg:///d?host=/tmp"),
            ("database", "duckdb:///x.db"),
        ):
            with self.subTest(address=address):
                more = {"subfolder": "records"} if destination == "database" else {}
                code = self.refused(self.shelf, "x", address, destination, **more)
                self.assertIn(code, ("environment.address", "environment.folder", "input.invalid"))

    def test_hosts_that_are_not_listed_are_not_called(self) -> None:
        for destination, address in (
            ("platform", "http://10.0.0.1/space"),
            ("git", "https://example.org/x.git"),
            ("database", "postgresql+psycopg://169.254.169.254/d"),
        ):
            more = {"subfolder": "records"} if destination == "database" else {}
            self.assertEqual(self.refused(self.shelf, "x", address, destination, **more), "destination.host")


class RemovingTests(AddressCase):
    """Ending a trial environment takes away what was put there, and nothing else."""

    def test_only_what_was_put_there_goes(self) -> None:
        trial = self.shelf.make_trial("try", "one", days=1)
        folder = Path(trial.address)
        self.deploy(self.shelf, "try")
        self.assertTrue((folder / "now" / "a.json").is_file())
        (folder / "notes.txt").write_text("somebody's")
        self.shelf.remove_environment("try")
        self.assertEqual([p.name for p in folder.iterdir()], ["notes.txt"])

    def test_an_empty_folder_goes_too(self) -> None:
        trial = self.shelf.make_trial("try", "one", days=1)
        self.deploy(self.shelf, "try")
        self.shelf.remove_environment("try")
        self.assertFalse(Path(trial.address).exists())

    def test_a_trial_cannot_be_put_over_a_deployment(self) -> None:
        self.other.make_environment("live", address=f"{self.base}/live")
        self.deploy(self.other, "live")
        for address in (f"{self.base}/live", self.base, f"{self.base}/live/deployed"):
            with self.assertRaises(ProblemError):
                self.shelf.make_trial("try", "one", days=1, address=address)
        self.assertTrue((self.places / self.base / "live/now/secret.txt").is_file())


class LinkTests(AddressCase):
    """No link in an environment's folder leads the service anywhere."""

    def deployed(self) -> Path:
        folder = Path(self.shelf.make_environment("live", address=f"{self.base}/live", fed_from="main").address)
        self.deploy(self.shelf, "live")
        return folder

    def test_a_link_is_drift_and_is_never_read(self) -> None:
        folder = self.deployed()
        there = (folder / "now").resolve()
        (there / "leak.txt").symlink_to(self.service.data / "secret-key")
        (there / "leak").symlink_to(self.service.data)
        found = {d["path"]: d["where"] for d in self.shelf.drift("live")["artifacts"]}
        self.assertEqual(found, {"leak": "added there", "leak.txt": "added there"})
        with self.assertRaises(ProblemError) as caught:
            self.shelf.capture("live", branch="main", paths=["leak.txt"])
        self.assertEqual(caught.exception.code, "destination.missing")
        self.assertEqual([d.entries for d in self.shelf.drafts()], [])

    def test_a_folder_that_became_a_link_is_refused(self) -> None:
        folder = self.deployed()
        key = (folder / "now").resolve().name
        outside = self.service.data / "segments"
        before = sorted(p.name for p in outside.iterdir())
        (folder / "deployed" / key).rename(folder / "deployed" / "aside")
        (folder / "deployed" / key).symlink_to(outside)
        with self.assertRaises(ProblemError) as caught:
            self.shelf.drift("live")
        self.assertEqual(caught.exception.code, "destination.foreign")
        self.assertEqual(sorted(p.name for p in outside.iterdir()), before)
