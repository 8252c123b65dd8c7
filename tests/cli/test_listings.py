"""Listings on a shelf of 500 real paths with names that repeat: at 60, 80 and 120 columns, and in a pipe."""

from __future__ import annotations

import random
import unittest
from collections import Counter
from pathlib import Path
from typing import ClassVar

import django

from everyshelf.cli.layout import Column, Listing, shorten_paths, width_of
from everyshelf.client import ChangeRequest
from everyshelf.core.history.names import distinct_names, nearest, nearest_paths
from tests.support.factories import ServiceCase, Terminal, commit_files

COUNT = 500
WIDTHS = (60, 80, 120)


def real_paths(count: int = COUNT) -> list[str]:
    """Paths as people have them: many folders, and the same file names over and over."""
    root = Path(django.__file__).parent
    found = sorted(
        p.relative_to(root).as_posix() for p in root.rglob("*") if p.suffix in (".py", ".html", ".txt", ".js")
    )
    return sorted(random.Random(1).sample(found, count))


class PathTests(unittest.TestCase):
    """Paths in little room."""

    def test_different_paths_stay_different(self) -> None:
        paths = real_paths(1000)
        for room in (12, 20, 37, 60):
            shown = shorten_paths(paths, room)
            self.assertEqual(len(set(shown.values())), len(paths), room)
            cut = [text for path, text in shown.items() if text != path]
            self.assertTrue(all(width_of(text) <= room for text in cut), room)
            self.assertTrue(cut)

    def test_the_file_name_stays(self) -> None:
        path = "services/pipelines/nightly/passenger-counts.json"
        self.assertEqual(shorten_paths([path], 36)[path], "services/…/passenger-counts.json")
        self.assertEqual(shorten_paths([path], 44)[path], "services/…/nightly/passenger-counts.json")
        self.assertEqual(shorten_paths([path], 24)[path], "…/passenger-counts.json")
        self.assertEqual(shorten_paths([path], 16)[path], "passe…ounts.json")

    def test_names_tell_apart(self) -> None:
        names = distinct_names(["app/init.py", "web/init.py", "web/a/b.txt", "c.txt", "x/app/init.py", "init.py"])
        self.assertEqual(
            names,
            {
                "app/init.py": "app/init.py",
                "web/init.py": "web/init.py",
                "x/app/init.py": "x/app/init.py",
                "web/a/b.txt": "b.txt",
                "c.txt": "c.txt",
                "init.py": "init.py",
            },
        )
        self.assertEqual(len(set(distinct_names(real_paths()).values())), COUNT)

    def test_what_was_meant(self) -> None:
        self.assertEqual(nearest("Sprng-2", ["spring-1", "spring-2", "winter"]), ["spring-2", "spring-1"])
        self.assertEqual(nearest("win", ["spring-1", "winter-4"]), ["winter-4"])
        self.assertEqual(nearest("zzz", ["spring-1"]), [])
        self.assertEqual(
            nearest_paths("Fares.csv", ["data/fares.csv", "old/fares.csv"]), ["data/fares.csv", "old/fares.csv"]
        )
        self.assertEqual(nearest_paths("data/fare.csv", ["data/fares.csv", "data/tides.csv"]), ["data/fares.csv"])

    def test_columns_give_way_in_order(self) -> None:
        listing = Listing((Column(2), Column(13, path=True), Column(40, text=True), Column(70)))
        listing.row("edited", "data/passengers/of-the-north.csv", "a summary of what was done there", "today 09:58")
        for room in (100, 80, 70):
            [line] = listing.lines(room)
            self.assertLessEqual(width_of(line), room)
            self.assertIn("today 09:58", line)
        self.assertIn("a summary of what was done there", listing.lines(100)[0])
        self.assertIn("of-the-north.csv  a summary", listing.lines(80)[0])
        self.assertEqual(len(listing.lines(40)[0].split("\n")), 3)  # what does not fit goes on below


class ListingTests(ServiceCase):
    """Every listing of a shelf that is not tidy."""

    paths: ClassVar[list[str]]

    def setUp(self) -> None:
        super().setUp()
        self.paths = real_paths()
        self.commit(self.paths, "one", "Everything")
        self.shelf.make_tag("first")
        test = self.shelf.make_environment("test", fed_from="main")
        self.shelf.make_environment("production", fed_from="main")
        self.shelf.wait(self.shelf.promote("first", "test"))
        self.assertEqual(test.name, "test")
        self.commit(self.paths[::2], "two", "Half of it")
        self.shelf.make_tag("second")
        self.terminal = Terminal(self, self.service)
        self.terminal.run("take", self.shelf.key, "desk")
        self.terminal.folder = self.terminal.home / "desk"
        for path in self.paths[1::2]:
            self.terminal.write(path, b"three " + path.encode())

    def commit(self, paths: list[str], word: str, summary: str) -> None:
        """Commit artifacts with seven contents among them."""
        contents = [self.shelf.upload(f"{word} {n}\n".encode()).id for n in range(7)]
        changes = [ChangeRequest(path, contents[n % 7]) for n, path in enumerate(paths)]
        self.shelf.commit("main", self.shelf.branch("main").head, changes, summary)

    def check(self, *arguments: str, shown: int, code: int = 0) -> None:
        """No two lines of artifacts alike, none wider than the terminal, and in a pipe nothing cut."""
        for columns in WIDTHS:
            lines = self.terminal.seen(*arguments, columns=columns).splitlines()
            rows = [line for line in lines if line.startswith("  ") and ("." in line or "/" in line)]
            rows = [
                line for line in rows if not line.startswith("    ") or line.startswith("    same")
            ]  # findings may be alike
            self.assertGreaterEqual(len(rows), shown, (arguments, columns))
            twice = [line for line, count in Counter(rows).items() if count > 1]
            self.assertEqual(twice, [], (arguments, columns))
            wide = [line for line in lines if width_of(line) > columns and "…" in line]
            self.assertEqual(wide, [], (arguments, columns))
        whole = self.terminal.run(*arguments, code=code).stdout
        self.assertNotIn("…", whole, arguments)

    def test_no_two_lines_of_a_listing_are_alike(self) -> None:
        self.check("browse", shown=COUNT)
        self.check("pending", shown=200)
        self.check("pending", "--all", shown=COUNT - 50)
        self.check("compare", "first", "main", shown=COUNT // 2)
        self.check("history", "--limit", "5", shown=0)

    def test_many_artifacts_are_told_by_folder(self) -> None:
        self.shelf.wait(self.shelf.promote("second", "production"))
        for arguments in (("rehearse", "second", "test"), ("env", "compare", "test", "production")):
            text = self.terminal.run(*arguments).stdout
            self.assertRegex(text, r"(?m)^  contrib/admin/\S*/ \d+ artifacts?$")
            self.check(*arguments, shown=20)

    def test_patterns_name_artifacts(self) -> None:
        wanted = [p for p in self.paths[1::2] if p.endswith(".html")]
        found = self.terminal.json("pending", "*.html")
        self.assertEqual([a["path"] for a in found["artifacts"]], wanted)
        some = self.terminal.json("commit", "--summary", "Pages", "contrib/*.html", "*.js")
        self.assertEqual(
            sorted(a["path"] for a in some["artifacts"]),
            [p for p in self.paths[1::2] if (p.startswith("contrib/") and p.endswith(".html")) or p.endswith(".js")],
        )
        unchanged, changed = self.paths[0], next(p for p in self.paths[1::2] if p.endswith(".py"))
        made = self.terminal.json("commit", "--summary", "As a shell puts them", unchanged, changed)
        self.assertEqual([a["path"] for a in made["artifacts"]], [changed])
        alone = self.terminal.run("commit", "--summary", "x", unchanged, code=1)
        self.assertIn(f"{unchanged} has not changed", alone.stderr)
        missed = self.terminal.run("pending", changed.replace(".py", "x.py"), code=1).stderr
        self.assertIn(f"Did you mean {changed}", missed)

    def test_a_bare_tag_is_a_ref_and_a_miss_suggests(self) -> None:
        self.assertEqual(len(self.terminal.json("compare", "first", "second")["artifacts"]), COUNT // 2)
        self.assertEqual(len(self.terminal.json("browse", "--at", "first")), COUNT)
        for arguments, meant in (
            (("compare", "frist", "main"), "Did you mean first?"),
            (("rehearse", "secnd", "test"), "Did you mean second?"),
            (("rehearse", "second", "tst"), "Did you mean test?"),
            (("browse", self.paths[0].replace(".", "s.")), f"Did you mean {self.paths[0]}"),
        ):
            self.assertIn(meant, self.terminal.run(*arguments, code=1).stderr)


class CompletionTests(ServiceCase):
    """What the shell offers."""

    def offered(self, *words: str) -> list[str]:
        self.terminal.set("COMP_WORDS", " ".join(("everyshelf", *words)))
        self.terminal.set("COMP_CWORD", str(len(words)))
        self.terminal.set("_EVERYSHELF_COMPLETE", "bash_complete")
        process = self.terminal.start()
        assert process.stdout is not None
        return [line.partition(",")[2] for line in process.stdout.read().splitlines() if line]

    def test_refs_artifacts_environments_and_shelves(self) -> None:
        commit_files(self.shelf, {"data/fares.csv": b"id\n1\n", "data/tides.csv": b"id\n2\n"}, "Both")
        self.shelf.make_tag("spring-2")
        self.shelf.make_environment("production")
        self.terminal = Terminal(self, self.service)
        self.terminal.run("take", self.shelf.key, "desk")
        self.terminal.folder = self.terminal.home / "desk"
        self.terminal.write("data/fares.csv", b"id\n3\n")
        for words, expected in (
            (("compare", "tag:s"), ["tag:spring-2"]),
            (("compare", "spring-2", "m"), ["main"]),
            (("compare", "spring-2", "main", "data/t"), ["data/tides.csv"]),
            (("commit", "da"), ["data/fares.csv"]),
            (("promote", "spring-2", "p"), ["production"]),
            (("take", self.shelf.key[:-1]), [self.shelf.key]),
        ):
            found: list[str] = []
            for _ in range(20):  # a busy service may not answer within the two seconds that a shell is kept waiting
                found = found or self.offered(*words)
            self.assertEqual(found, expected)
        self.service_gone()
        self.assertEqual(self.offered("rehearse", "s"), [])

    def service_gone(self) -> None:
        self.terminal.folder = self.terminal.home
        self.terminal.set("EVERYSHELF_ADDRESS", "http://127.0.0.1:9")
