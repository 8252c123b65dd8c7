"""``draft``: what is pending, kept on the server, from a desk and without one."""

from __future__ import annotations

import os
import signal
import subprocess
import threading
import time
from collections.abc import Callable
from typing import TYPE_CHECKING
from unittest import mock

from everyshelf.desk.desk import Desk
from everyshelf.desk.watching import watch
from tests.cli.test_merging import TerminalCase
from tests.service.test_merging import flow

if TYPE_CHECKING:
    from everyshelf.desk.states import Item


class DraftTests(TerminalCase):
    """Saved on a desk, looked at, brought back, committed."""

    def desk(self) -> None:
        self.put({"flow.json": flow(), "b.txt": b"1\n"})
        self.terminal.run("take", self.shelf.key, "desk")
        self.terminal.folder = self.terminal.folder / "desk"

    def test_a_desks_edits_are_saved_and_a_selection_committed(self) -> None:
        self.desk()
        self.terminal.write("flow.json", flow(weigh_timeout=45))
        self.terminal.write("c.txt", b"c\n")
        self.assertIn("2 pending changes in your draft on main", self.terminal.run("draft", "save").stdout)
        self.terminal.write("flow.json", flow(weigh_timeout=46))
        self.terminal.run("draft", "save", "flow.json")
        newest, first = (p["point"] for p in self.terminal.json("draft", "points", "flow.json")["points"])
        self.assertEqual(newest, 3)
        self.terminal.run("draft", "restore", str(first))
        done = self.terminal.run("draft", "commit", "flow.json", "--summary", "Weigh longer").stdout
        self.assertIn("Committed to main", done)
        self.assertEqual(self.shelf.read("flow.json"), flow(weigh_timeout=45))
        found = self.terminal.json("draft", "list")["drafts"]
        self.assertEqual([(e["path"], e["state"]) for e in found[0]["entries"]], [("c.txt", "new")])
        self.assertIn("in ", self.terminal.run("draft", "points").stdout)
        self.assertIn("No pending changes on main", self.terminal.run("draft", "discard", "--all").stdout)
        self.assertIn("No draft has pending changes", self.terminal.run("draft", "list").stdout)

    def test_how_long_drafts_are_kept_is_shown_and_changed(self) -> None:
        self.desk()
        said = self.terminal.run("draft", "keeping").stdout.split("\n")
        self.assertEqual(
            [line.split(maxsplit=1)[-1] for line in said[:2]],
            ["points kept as long as the shelf", "kept as long as the shelf"],
        )
        self.terminal.write("b.txt", b"2\n")
        self.terminal.run("draft", "save")
        said = self.terminal.run("draft", "keeping", "--drafts", "60", "--save-points", "1").stdout
        self.assertIn("kept for 60 days after they were last saved", said)
        self.assertIn("kept for 1 day after they no longer count", said)
        self.assertIn(", kept until ", self.terminal.run("draft", "list").stdout)
        found = self.terminal.json("draft", "keeping", "--drafts", "always")
        self.assertEqual(found, {"save_points": 1, "drafts": None, "due_points": 0, "due_changes": 0})
        self.assertIn(
            "neither a number of days nor always",
            self.terminal.run("draft", "keeping", "--drafts", "-3", code=2).stderr,
        )
        self.assertIn("7", self.terminal.run("draft", "keeping", "--drafts", "2", code=1).stderr)

    def test_wrong_use_is_told(self) -> None:
        self.desk()
        self.assertIn("give --all", self.terminal.run("draft", "discard", code=2).stderr)
        self.assertIn("you have no draft", self.terminal.run("draft", "points", code=1).stderr.lower())
        self.terminal.write("b.txt", b"2\n")
        self.terminal.run("draft", "save")
        self.assertIn("not pending", self.terminal.run("draft", "discard", "none.txt", code=1).stderr)


class WatchTests(TerminalCase):
    """``take --watch``: edits are on the server as they are made."""

    def setUp(self) -> None:
        super().setUp()
        self.put({"flow.json": flow(), "b.txt": b"1\n"})
        self.terminal.run("take", self.shelf.key, "desk")
        self.terminal.folder = self.terminal.folder / "desk"

    def watcher(self) -> subprocess.Popen[str]:
        process = self.terminal.start("take", "--watch")
        self.addCleanup(process.stdout.close)  # type: ignore[union-attr]
        self.addCleanup(process.wait)
        self.addCleanup(process.kill)
        self.wait_for(lambda: "Watching" in process.stdout.readline())  # type: ignore[union-attr]
        return process

    @staticmethod
    def wait_for(condition: Callable[[], bool], seconds: float = 300) -> None:
        end = time.monotonic() + seconds
        while not condition():
            if time.monotonic() > end:
                raise AssertionError("waited in vain")
            time.sleep(0.1)

    def entries(self) -> dict[str, str]:
        return {e.path: e.state for d in self.shelf.drafts() for e in d.entries}

    def test_each_edit_is_saved_and_what_goes_back_is_pending_no_more(self) -> None:
        self.watcher()
        self.terminal.write("flow.json", flow(weigh_timeout=45))
        self.wait_for(lambda: self.entries() == {"flow.json": "edited"})
        self.terminal.write("new.txt", b"n\n")
        (self.terminal.folder / "b.txt").unlink()
        self.wait_for(lambda: self.entries() == {"flow.json": "edited", "new.txt": "new", "b.txt": "gone"})
        self.terminal.write("b.txt", b"1\n")
        (self.terminal.folder / "new.txt").unlink()
        self.wait_for(lambda: self.entries() == {"flow.json": "edited"})

    def test_every_saved_edit_is_there_after_the_watcher_was_killed(self) -> None:
        process = self.watcher()
        for n in range(5):
            self.terminal.write("b.txt", b"state %d\n" % n)
            self.wait_for(lambda n=n: len(self.shelf_points()) == n + 1)  # type: ignore[misc]
        process.send_signal(signal.SIGKILL)
        self.assertEqual(self.shelf_points(), [b"state %d\n" % n for n in range(5)])
        self.terminal.write("b.txt", b"while nobody watched\n")
        self.watcher()
        self.wait_for(lambda: self.shelf_points()[-1] == b"while nobody watched\n")

    def test_an_edit_made_before_the_system_reports_changes_is_saved(self) -> None:
        desk, stop = Desk.find(self.terminal.folder), threading.Event()
        edits = iter([lambda: self.terminal.write("b.txt", b"just after the first look\n")])
        states = desk.states

        def looked() -> list[Item]:
            found = states()
            next(edits, lambda: None)()
            return found

        end = threading.Timer(300, stop.set)
        end.start()
        self.addCleanup(end.cancel)
        with mock.patch.object(desk, "states", looked):
            rounds = watch(desk, self.shelf, stop)
            self.assertEqual([next(rounds).saved, next(rounds).saved], [[], [("b.txt", "edited")]])
            rounds.close()

    def shelf_points(self) -> list[bytes]:
        if not self.shelf.drafts():
            return []
        trail = self.shelf.save_points("main", "b.txt")
        return [self.shelf.content(p.content or "") for p in reversed(trail)]

    def test_a_file_that_cannot_be_read_is_named_and_the_rest_goes_on(self) -> None:
        process = self.watcher()
        (self.terminal.folder / "b.txt").unlink()
        os.mkfifo(self.terminal.folder / "b.txt")
        self.terminal.write("c.txt", b"c\n")
        self.wait_for(lambda: self.entries().get("c.txt") == "new")
        self.wait_for(lambda: "b.txt" in process.stdout.readline())  # type: ignore[union-attr]
