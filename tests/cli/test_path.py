"""The whole path on the command line: from a folder on a desk to production and back."""

from __future__ import annotations

import os
from pathlib import Path

from tests.support.factories import ServiceCase, Terminal, commit_files


class PathTests(ServiceCase):
    """Each command as a person runs it, with --json where a script would."""

    def setUp(self) -> None:
        super().setUp()
        self.terminal = Terminal(self, self.service)
        self.terminal.run("take", self.shelf.key, "desk")
        self.terminal.folder = self.terminal.home / "desk"

    def first_commit(self) -> None:
        self.terminal.write("fares.csv", b"id,fare\n1,2\n2,3\n")
        self.terminal.write("flows/load.json", b'{"steps": [{"id": "a", "next": "b"}, {"id": "b", "next": ""}]}')
        self.terminal.write("notes.txt", b"first\n")
        self.terminal.run("commit", "--summary", "First")

    def states(self) -> dict[str, str]:
        return {a["path"]: a["state"] for a in self.terminal.json("pending")["artifacts"]}

    def test_from_first_commit_to_production_and_back(self) -> None:
        run, parse = self.terminal.run, self.terminal.json
        self.first_commit()
        self.assertEqual(self.states(), {})
        run("tag", "make", "one", "--note", "as it runs")
        self.terminal.write("fares.csv", b"id,fare\n1,2\n2,4\n3,5\n")
        self.terminal.write(
            "flows/load.json",
            b'{"steps": [{"id": "a", "next": "c"}, {"id": "b", "next": ""}, {"id": "c", "next": "b"}]}',
        )
        os.rename(self.terminal.folder / "notes.txt", self.terminal.folder / "readme.txt")
        self.assertEqual(self.states(), {"fares.csv": "edited", "flows/load.json": "edited", "readme.txt": "moved"})
        self.assertIn("3 pending changes on this desk", run("pending").stdout)
        offline = parse("compare")
        self.assertEqual(offline["effects"]["breaks"], 0)
        made = parse("commit", "--summary", "Second", "--label", "source=sheet", "--task", "SK-1")
        self.assertEqual((made["labels"], made["tasks"], len(made["artifacts"])), ({"source": "sheet"}, ["SK-1"], 3))
        run("tag", "make", "two")
        found = parse("compare", "tag:one", "main")
        self.assertEqual(found["counts"], {"new": 0, "edited": 2, "moved": 1, "gone": 0})
        self.assertEqual(parse("compare", "version:1", "version:2", "fares")["table"]["cells"]["fare"]["changed"], 1)
        self.assertIn("1 cell in fare, 1 row added", run("compare", "tag:one", "main", "fares.csv").stdout)
        run("compare", "tag:one", "main", "--fail-on", "alters", code=6)
        self.promote_both(run, parse)
        self.assertEqual([v["version"] for v in parse("history", "fares.csv")], [2, 1])
        self.assertEqual(len(parse("history")), 2)
        self.assertEqual(parse("verify")["problems"], [])

    def promote_both(self, run, parse) -> None:  # type: ignore[no-untyped-def]
        for name, options in (("test", ["--fed-from", "main"]), ("production", ["--earlier-first"])):
            run("env", "make", name, *options)
        self.assertEqual(parse("rehearse", "one", "production", code=4)["not_met"], 1)
        self.assertIn("NOT MET", run("rehearse", "one", "production", code=4).stdout)
        refused = parse("promote", "one", "production", code=4)
        self.assertEqual(refused["problem"]["code"], "gate.not_met")
        run("promote", "tag:one", "test")
        self.assertEqual(
            parse("rehearse", "two", "test")["counts"], {"added": 1, "changed": 2, "removed": 1, "same": 0}
        )
        self.assertEqual(parse("promote", "two", "test", "--reason", "spring")["verified"], 3)
        folder = next(Path(e["address"]) for e in parse("env", "list") if e["name"] == "test")
        self.assertEqual((folder / "now/fares.csv").read_bytes(), b"id,fare\n1,2\n2,4\n3,5\n")
        run("rollback", "test")
        self.assertEqual((folder / "now/fares.csv").read_bytes(), b"id,fare\n1,2\n2,3\n")
        self.assertEqual([d["tag"] for d in parse("env", "show", "test")], ["one", "two", "one"])

    def test_every_state_has_its_word(self) -> None:
        self.first_commit()
        folder = self.terminal.folder
        (folder / "notes.txt").unlink()
        self.terminal.write("fares.csv", b"changed")
        self.terminal.write("new.yaml", b"a: 1\n")
        os.rename(folder / "flows/load.json", folder / "flows/nightly.json")
        os.symlink("/etc/hostname", folder / "link")
        self.terminal.write("bad\\name.txt", b"x")
        self.assertEqual(
            self.states(),
            {
                "notes.txt": "gone",
                "fares.csv": "edited",
                "new.yaml": "new",
                "flows/nightly.json": "moved",
                "link": "blocked",
                "bad\\name.txt": "blocked",
            },
        )
        text = self.terminal.run("pending").stdout
        self.assertIn("4 pending changes on this desk, 2 blocked", text)
        self.assertIn("symbolic link", text)
        self.terminal.run("commit", "--summary", "The rest goes on")
        self.assertEqual({s for s in self.states().values()}, {"blocked"})

    def test_same_length_edit_within_one_tick_is_seen(self) -> None:
        self.first_commit()
        file = self.terminal.folder / "notes.txt"
        stamp = file.stat()
        file.write_bytes(b"FIRST\n")
        os.utime(file, ns=(stamp.st_atime_ns, stamp.st_mtime_ns))
        self.assertEqual(self.states(), {"notes.txt": "edited"})

    def test_ignored_files_never_show_up(self) -> None:
        self.terminal.write("shelf.toml", b'[ignore]\npatterns = ["*.log", "out/"]\n')
        self.terminal.write("run.log", b"x")
        self.terminal.write("out/big.csv", b"x")
        self.terminal.write("keep.txt", b"x")
        self.assertEqual(set(self.states()), {"shelf.toml", "keep.txt"})

    def test_selection_leaves_the_rest_pending(self) -> None:
        self.first_commit()
        for name in ("fares.csv", "notes.txt"):
            self.terminal.write(name, b"edited")
        self.terminal.run("commit", "--summary", "One of two", "fares")
        self.assertEqual(self.states(), {"notes.txt": "edited"})
        self.assertIn(
            "this desk has no artifact named",
            self.terminal.run("commit", "--summary", "x", "elsewhere", code=1).stderr.lower(),
        )

    def test_discarding_puts_aside_and_restoring_brings_back(self) -> None:
        self.first_commit()
        self.terminal.write("notes.txt", b"worse\n")
        self.terminal.run("discard", "notes.txt")
        self.assertEqual((self.terminal.folder / "notes.txt").read_bytes(), b"first\n")
        aside = list((self.terminal.folder / ".everyshelf/discarded").rglob("notes.txt"))
        self.assertEqual([a.read_bytes() for a in aside], [b"worse\n"])
        self.terminal.write("notes.txt", b"second\n")
        self.terminal.run("commit", "--summary", "Second")
        self.terminal.run("restore", "notes.txt", "--at", "version:1")
        self.assertEqual((self.terminal.folder / "notes.txt").read_bytes(), b"first\n")
        self.assertEqual(self.states(), {})

    def test_others_changes_are_taken_and_own_edits_kept(self) -> None:
        self.first_commit()
        commit_files(
            self.shelf, {"fares.csv": b"theirs", "notes.txt": b"theirs", "late.txt": b"new"}, "By someone else"
        )
        self.terminal.write("notes.txt", b"mine")
        self.terminal.run("commit", "--summary", "Behind", code=3)
        taken = self.terminal.run("take", code=3)
        self.assertIn("left as you have them: notes.txt", taken.stderr)
        self.assertEqual((self.terminal.folder / "fares.csv").read_bytes(), b"theirs")
        self.assertEqual((self.terminal.folder / "notes.txt").read_bytes(), b"mine")
        self.assertEqual((self.terminal.folder / "late.txt").read_bytes(), b"new")
        # Whatever was taken meanwhile, the colleague's version is not overwritten unasked.
        self.terminal.run("commit", "--summary", "Behind", code=3)
        refused = self.terminal.json("commit", "--summary", "Both", "--merge", code=3)
        self.assertEqual([c["path"] for c in refused["problem"]["conflicts"]], ["notes.txt"])
        self.terminal.run("commit", "--summary", "Mine", "--merge", "--prefer", "desk")
        self.assertEqual(self.shelf.read("notes.txt"), b"mine")
        self.assertEqual((self.states(), self.terminal.run("take").returncode), ({}, 0))

    def test_branches_merge_with_conflict_as_exit_code(self) -> None:
        self.first_commit()
        self.terminal.run("branch", "make", "ines/try", "--note", "a question")
        commit_files(self.shelf, {"notes.txt": b"theirs"}, "There", "ines/try")
        commit_files(self.shelf, {"notes.txt": b"ours"}, "Here")
        problem = self.terminal.json("merge", "ines/try", code=3)["problem"]
        self.assertEqual([c["path"] for c in problem["conflicts"]], ["notes.txt"])
        self.assertEqual(self.terminal.json("merge", "ines/try", "--prefer", "source", "--delete")["taken"], 1)
        self.assertEqual([b["name"] for b in self.terminal.json("branch", "list")], ["main"])
        self.assertEqual(self.shelf.read("notes.txt"), b"theirs")

    def test_service_out_of_reach_has_its_code(self) -> None:
        self.first_commit()
        self.terminal.run("history", "--address", "http://127.0.0.1:9", "--shelf", "x", code=5)
        self.assertEqual(self.terminal.json("pending")["counts"]["same"], 3)  # needs no service

    def test_refusals_and_mistakes_have_theirs(self) -> None:
        self.terminal.run("commit", code=2)
        self.terminal.run("nothing-of-the-kind", code=2)
        self.terminal.run("browse", "--shelf", "no-such-shelf", code=1)
        self.shelf.set_member("reader", "reader")
        reader = Terminal(self, self.service, "reader")
        self.assertEqual(
            reader.json("branch", "make", "x", "--shelf", self.shelf.key, code=4)["problem"]["code"], "rights.role"
        )

    def test_desk_never_writes_through_a_link(self) -> None:
        self.first_commit()
        outside = self.terminal.home / "outside"
        outside.mkdir()
        os.symlink(outside, self.terminal.folder / "data")
        commit_files(self.shelf, {"data/trap.txt": b"x"}, "A folder of that name")
        self.assertIn("outside the desk", self.terminal.run("take", code=1).stderr)
        self.assertEqual(list(outside.iterdir()), [])

    def test_token_from_the_environment_is_enough(self) -> None:
        made = self.terminal.json("token", "make", f"robot {self.shelf.key}", "--scope", "read")
        self.terminal.environment |= {"EVERYSHELF_TOKEN": made["value"], "EVERYSHELF_CONFIG": "/nonexistent"}
        self.assertIn(self.shelf.key, [s["key"] for s in self.terminal.json("shelf", "list")])
        self.assertEqual(self.terminal.json("branch", "make", "x", code=4)["problem"]["code"], "rights.scope")
