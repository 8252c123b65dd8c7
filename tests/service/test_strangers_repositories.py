"""Nobody makes the service run a command, read or write a repository, by what they put where it looks."""

from __future__ import annotations

import os
import shutil
import tempfile
from pathlib import Path

from everyshelf.client import Client, ProblemError, ShelfClient
from tests.support.factories import ServiceCase, commit_files
from tests.support.git import run_git

_SETTINGS = (
    "[core]\n\tbare = true\n\trepositoryformatversion = 0\n\talternateRefsCommand = touch {0}\n\thooksPath = {1}\n"
)


class StrangerCase(ServiceCase):
    """A person with an account and nothing else."""

    stranger: Client
    theirs: ShelfClient

    def setUp(self) -> None:
        super().setUp()
        self.stranger = self.client_of("stranger")
        self.theirs = self.stranger.shelf(self.stranger.make_shelf(f"Theirs {self.shelf.key}").key)
        self.ran = Path(tempfile.mkdtemp(prefix="es-ran-"), "ran")
        self.addCleanup(shutil.rmtree, self.ran.parent, ignore_errors=True)

    def refused(self, code: str, act: object, *arguments: object, **named: object) -> ProblemError:
        with self.assertRaises(ProblemError) as caught:
            act(*arguments, **named)  # type: ignore[operator]
        self.assertEqual(caught.exception.code, code, caught.exception)
        return caught.exception

    def bare_repository(self) -> dict[str, bytes]:
        """Files that together are a repository whose settings run a command."""
        with tempfile.TemporaryDirectory() as folder:
            run_git("init", "-q", "--bare", "-b", "main", "r.git", folder=Path(folder))
            bare = Path(folder, "r.git")
            shutil.rmtree(bare / "hooks", ignore_errors=True)
            (bare / "config").write_text(_SETTINGS.format(self.ran, "hooks"))
            (bare / "objects/info/alternates").write_text(f"{self.service.data}/git\n")
            for name in ("objects/pack/keep", "refs/heads/keep"):
                (bare / name).write_text("")
            hook = bare / "hooks/pre-receive"
            hook.parent.mkdir()
            hook.write_text(f"#!/bin/sh\ntouch {self.ran}\n")
            return {str(p.relative_to(bare)): p.read_bytes() or b"\n" for p in bare.rglob("*") if p.is_file()}


class CommandTests(StrangerCase):
    """Files of a shelf never become settings of a program."""

    def test_a_promotion_never_writes_a_repository(self) -> None:
        for name, folder in (("top", ""), ("deep", "a/b/")):
            commit_files(self.theirs, {f"{folder}{p}": d for p, d in self.bare_repository().items()}, name, "main")
            self.theirs.make_tag(name)
            made = self.theirs.make_environment(name)
            problem = self.refused("destination.repository", self.theirs.promote, name, name)
            self.refused("destination.repository", self.theirs.rehearse, name, name)
            self.assertIn(folder.rstrip("/") or "HEAD", problem.problem["detail"])
            self.assertEqual([p for p in Path(made.address).rglob("*") if p.name == "HEAD"], [])
            commit_files(self.theirs, {f"{folder}HEAD": None}, "Gone")

    def test_a_folder_of_an_environment_is_no_address_of_a_link(self) -> None:
        made = self.theirs.make_environment("dev")
        bare = Path(made.address, "now")
        shutil.rmtree(made.address)
        run_git("init", "-q", "--bare", "-b", "main", str(bare), folder=self.service.data)
        (bare / "config").write_text(_SETTINGS.format(self.ran, "hooks"))
        (bare / "objects/info/alternates").write_text(f"{bare}/objects\n")
        for address in (str(bare), made.address, f"file://{bare}", str(bare.parent.parent)):
            self.refused("link.place", self.theirs.make_git_link, "own", address)
            self.refused(
                "environment.folder",
                self.theirs.make_environment,
                "git",
                destination="git",
                address=f"{address.removeprefix('file://')}#main",
            )
        self.assertFalse(self.ran.exists())

    def test_nothing_in_a_listed_repository_is_obeyed(self) -> None:
        """Settings, hooks, alternates and attributes of a repository that others can write to."""
        commit_files(self.shelf, {"a.txt": b"1\n"}, "One")
        bare = Path(tempfile.mkdtemp(prefix="hostile-", dir=self.service.repositories))
        run_git("init", "-q", "--bare", "-b", "main", str(bare), folder=bare)
        self.shelf.make_git_link("office", str(bare))
        self.shelf.wait(self.shelf.send_git_link("office"))
        settings = (
            _SETTINGS.format(self.ran, bare / "hooks")
            + f'[remote "origin"]\n\tpromisor = true\n\turl = {bare}\n\tuploadpack = touch {self.ran};\n'
            + f'[uploadpack]\n\tpackObjectsHook = touch {self.ran};\n[filter "x"]\n\tsmudge = touch {self.ran}\n'
        )
        (bare / "config").write_text(settings)
        (bare / "info").mkdir(exist_ok=True)
        (bare / "info/attributes").write_text("* filter=x\n")
        (bare / "hooks").mkdir(exist_ok=True)
        for name in ("pre-receive", "update", "post-receive", "post-update", "reference-transaction", "pre-push"):
            (bare / "hooks" / name).write_text(f"#!/bin/sh\ntouch {self.ran}\n")
            (bare / "hooks" / name).chmod(0o755)
        commit_files(self.shelf, {"a.txt": b"2\n"}, "Two")
        self.refused("git.hooks", self.shelf.wait, self.shelf.send_git_link("office"))
        self.shelf.wait(self.shelf.fetch_git_link("office"))
        self.shelf.change_git_link("office", way="fetch")
        self.shelf.test_git_link("office")
        self.assertFalse(self.ran.exists())

    def test_a_listed_repository_leads_nowhere_else(self) -> None:
        """Links, alternates and a common folder that point at what the service may read."""
        commit_files(self.shelf, {"secret.txt": b"wages\n"}, "One")
        secret = Path(tempfile.mkdtemp(prefix="secret-", dir=self.service.repositories))
        run_git("init", "-q", "--bare", "-b", "main", str(secret), folder=secret)
        self.shelf.make_git_link("office", str(secret))
        self.shelf.wait(self.shelf.send_git_link("office"))
        tip = run_git("rev-parse", "main", folder=secret).stdout.strip()

        def alternates(bare: Path) -> None:
            (bare / "objects/info").mkdir(exist_ok=True)
            (bare / "objects/info/alternates").write_text(f"{secret}/objects\n")
            (bare / "refs/heads/main").write_text(f"{tip}\n")

        def linked_objects(bare: Path) -> None:
            shutil.rmtree(bare / "objects")
            (bare / "objects").symlink_to(secret / "objects")

        def linked_pack(bare: Path) -> None:
            shutil.rmtree(bare / "objects/pack")
            (bare / "objects/pack").symlink_to(secret / "objects/pack")
            for folder in (secret / "objects").glob("[0-9a-f][0-9a-f]"):
                (bare / "objects" / folder.name).symlink_to(folder)
            (bare / "refs/heads/main").write_text(f"{tip}\n")

        def linked_refs(bare: Path) -> None:
            shutil.rmtree(bare / "refs/heads")
            (bare / "refs/heads").symlink_to(secret / "refs/heads")

        def common(bare: Path) -> None:
            (bare / "commondir").write_text(f"{secret}\n")

        for number, spoil in enumerate((alternates, linked_objects, linked_pack, linked_refs, common)):
            bare = Path(tempfile.mkdtemp(prefix="odd-", dir=self.service.repositories))
            run_git("init", "-q", "--bare", "-b", "main", str(bare), folder=bare)
            spoil(bare)
            self.theirs.make_git_link(f"odd{number}", str(bare), way="fetch")
            with self.subTest(spoil.__name__):
                try:
                    self.theirs.wait(self.theirs.fetch_git_link(f"odd{number}"))
                except ProblemError as error:
                    self.assertRegex(error.code, r"git\.(layout|missing|objects|failed|branch)")
                self.assertNotIn("secret.txt", [row.path for row in self.theirs.artifacts()])

    def test_what_is_sent_goes_nowhere_else(self) -> None:
        """A link in place of a folder of refs or packs does not make the service write behind it."""
        commit_files(self.theirs, {"a.txt": b"1\n"}, "One")
        victim = Path(tempfile.mkdtemp(prefix="es-victim-"))
        self.addCleanup(shutil.rmtree, victim, ignore_errors=True)
        for number, name in enumerate(("refs/heads", "objects/pack", "refs")):
            bare = Path(tempfile.mkdtemp(prefix="lead-", dir=self.service.repositories))
            run_git("init", "-q", "--bare", "-b", "main", str(bare), folder=bare)
            shutil.rmtree(bare / name)
            (bare / name).symlink_to(victim)
            self.theirs.make_git_link(f"lead{number}", str(bare), way="send")
            with self.subTest(name), self.assertRaises(ProblemError):
                self.theirs.wait(self.theirs.send_git_link(f"lead{number}"))
            self.assertEqual(os.listdir(victim), [])


class LocationTests(StrangerCase):
    """A location belongs to the shelf that took it first."""

    def setUp(self) -> None:
        super().setUp()
        commit_files(self.shelf, {"wages.txt": b"1\n"}, "One")
        self.bare = Path(tempfile.mkdtemp(prefix="claimed-", dir=self.service.repositories))
        run_git("init", "-q", "--bare", "-b", "main", str(self.bare), folder=self.bare)
        self.shelf.make_git_link("office", str(self.bare))
        self.shelf.wait(self.shelf.send_git_link("office"))

    def test_no_other_shelf_links_a_repository(self) -> None:
        for address in (str(self.bare), f"{self.bare}/", f"{self.bare.parent}/./{self.bare.name}"):
            self.refused("location.taken", self.theirs.make_git_link, "spy", address)
        self.refused(
            "environment.taken", self.theirs.make_environment, "spy", destination="git", address=f"{self.bare}#x"
        )
        # On its own shelf a branch of it may be an environment, too.
        self.shelf.make_environment("pages", destination="git", address=f"{self.bare}#pages")
        self.shelf.remove_git_link("office")
        self.refused("location.taken", self.theirs.make_git_link, "spy", str(self.bare))
        self.shelf.remove_environment("pages")
        self.theirs.make_git_link("spy", str(self.bare))

    def test_an_administrator_shares_it_on_purpose(self) -> None:
        self.refused("rights.role", self.stranger.locations)
        self.refused("rights.role", self.stranger.share_location, str(self.bare), self.theirs.key)
        self.refused("location.missing", self.client.share_location, "/nowhere", self.theirs.key)
        self.refused("shelf.missing", self.client.share_location, str(self.bare), "nobody")
        found = self.client.share_location(str(self.bare), self.theirs.key)
        (row,) = [one for one in found if one.address == str(self.bare)]
        self.assertEqual((row.shelf, row.use, row.shared_with), (self.shelf.key, "link", [self.theirs.key]))
        self.theirs.make_git_link("shared", str(self.bare), way="fetch")
        self.theirs.wait(self.theirs.fetch_git_link("shared"))
        self.client.unshare_location(str(self.bare), self.theirs.key)
        self.refused("location.taken", self.theirs.wait, self.theirs.fetch_git_link("shared"))
        self.refused("location.missing", self.client.unshare_location, str(self.bare), self.theirs.key)

    def test_lists_show_what_the_asker_may_use(self) -> None:
        made = self.shelf.make_environment("dev")
        inside = Path(made.address).parent / "left-over"
        inside.mkdir()
        addresses = [one.address for one in self.theirs.free_places("folder", "mine")]
        self.assertTrue(any(address.endswith("/mine") for address in addresses))
        self.assertEqual([a for a in addresses if self.shelf.key in Path(a).parts], [])
        self.assertIn(str(inside), [one.address for one in self.shelf.free_places("folder", "mine")])
        self.refused("environment.taken", self.theirs.make_environment, "spy", address=str(inside))


if __name__ == "__main__":
    import unittest

    unittest.main()
