"""Backups of an installation that runs: from the command line, by the service itself, and what becomes of damage."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import tempfile
import threading
from pathlib import Path
from resource import RLIMIT_FSIZE, setrlimit
from typing import Any
from unittest import mock

from bench.backups import Campaign

from everyshelf.client import ProblemError
from everyshelf.client.models import ChangeRequest
from everyshelf.core.content.place import FolderPlace
from everyshelf.core.content.scanning import iter_records
from everyshelf.core.errors import BrokenError, ConflictError, EveryShelfError, InvalidError, MissingError, StorageError
from everyshelf.service.backups import checking
from everyshelf.service.backups.checking import check_moment
from everyshelf.service.backups.folder import BackupFolder
from everyshelf.service.backups.making import make_backup
from everyshelf.service.backups.restoring import restore_moment
from everyshelf.service.backups.retention import keep_newest
from tests.support.factories import ServiceCase, Terminal, commit_files
from tests.support.service import Service


def nothing(done: int, total: int, note: str) -> None:
    """Progress that nobody looks at."""


class CampaignTests(ServiceCase):
    """A sample; ``python -m bench backups`` takes a hundred of each."""

    def test_under_load_and_killed(self) -> None:
        done = Campaign(seed=7, backups=2, cut_short=3, serve_every=2).run()
        self.assertEqual(done.problems, [])
        self.assertGreater(len(done.acknowledged), 8)
        self.assertGreater(done.served, 1)


class FolderCase(ServiceCase):
    """The shared service has data; the backup lies in a folder of the test."""

    def setUp(self) -> None:
        super().setUp()
        self.folder = Path(tempfile.mkdtemp(prefix="es-backup-test-"))
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)
        self.data = self.service.data
        self.kept = self.folder / "kept"
        self.put({"data/fares.csv": b"zone,fare\nZ01,4.50\n", "model.bin": os.urandom(300_000)}, "Fares")

    def make(self, **options: Any) -> Any:
        return make_backup(self.data, self.kept, nothing, **options)

    def problems(self, moment: str = "") -> list[str]:
        found = BackupFolder.open(self.kept)
        return check_moment(found, found.newest(moment), nothing).problems

    def refused(self, error: type[EveryShelfError], code: str, call: Any) -> EveryShelfError:
        with self.assertRaises(error) as caught:
            call()
        self.assertEqual(caught.exception.code, code)
        self.assertTrue(caught.exception.hint)
        return caught.exception


class MakingTests(FolderCase):
    def test_the_next_one_adds_what_is_new(self) -> None:
        first = self.make()
        before = {one.name: one.stat().st_ino for one in (self.kept / "segments").iterdir()}
        self.put({"more.bin": (more := os.urandom(50_000))}, "More")
        second = self.make()
        self.assertEqual((self.problems(first.name), self.problems(second.name)), ([], []))
        copied = sum(s.size for s in second.segments) - sum(s.size for s in first.segments)
        self.assertGreaterEqual(copied, len(more))
        self.assertLess(copied, 200_000)
        self.assertEqual({name: (self.kept / "segments" / name).stat().st_ino for name in before}, before)
        self.assertEqual(BackupFolder.open(self.kept).names(), [first.name, second.name])

    def test_an_earlier_moment_is_restored_as_it_was(self) -> None:
        first = self.make()
        self.put({"later.txt": b"later\n"}, "Later")
        self.make()
        found = BackupFolder.open(self.kept)
        for moment, paths in ((first.name, 2), ("", 3)):
            into = self.folder / f"restored-{paths}"
            restore_moment(found, found.newest(moment), into, nothing)
            again = Service(into)
            self.addCleanup(again.stop)
            shelf = again.client().shelf(self.shelf.key)
            self.assertEqual(len(list(shelf.artifacts())), paths)
            self.assertEqual(shelf.read("data/fares.csv"), b"zone,fare\nZ01,4.50\n")
            self.assertEqual((shelf.wait(shelf.verify()).result or {})["problems"], [])
            again.stop()

    def test_the_keys_lie_apart_and_open_secrets_again(self) -> None:
        self.shelf.make_environment("test")
        self.put({"shelf.toml": b'[bindings]\nFEED_TOKEN = {in = "settings/*", secret = true}\n'}, "Rules")
        self.shelf.bind("test", "FEED_TOKEN", "hunter2")
        key = self.data.with_name(f"{self.data.name}.key")
        self.make(keys=(key, self.folder / "keys"))
        held = b"".join(one.read_bytes() for one in self.kept.rglob("*") if one.is_file())
        for kept in (key, self.data / "secret-key"):
            self.assertNotIn(kept.read_bytes().strip(), held)
        found, into = BackupFolder.open(self.kept), self.folder / "again"
        restore_moment(found, found.newest(), into, nothing, keys=(self.folder / "keys", into.with_name("again.key")))
        self.assertEqual(into.with_name("again.key").read_bytes(), key.read_bytes())
        (other := self.folder / "other.key").write_bytes(b"of another installation")
        given = (self.folder / "keys", other)
        new = self.folder / "new"
        self.refused(
            InvalidError, "backup.taken", lambda: restore_moment(found, found.newest(), new, nothing, keys=given)
        )
        self.assertEqual((other.read_bytes(), new.exists()), (b"of another installation", False))
        self.assertEqual(
            [p.stat().st_mode & 0o77 for p in (into, into.with_name("again.key"), into / "secret-key")], [0] * 3
        )

    def test_where_nothing_can_be_written(self) -> None:
        (self.folder / "other").mkdir()
        (self.folder / "other" / "file.txt").write_text("mine")
        for error, code, data, target, keys in (
            (InvalidError, "backup.place", self.data, self.data / "inside", None),
            (InvalidError, "backup.taken", self.data, self.folder / "other", None),
            (InvalidError, "backup.place", self.data, self.kept, self.kept / "keys"),
            (MissingError, "backup.data", self.folder / "other", self.kept, None),
            (StorageError, "backup.storage", self.data, self.folder / "other" / "file.txt" / "below", None),
        ):
            given = (self.data / "secret-key", keys) if keys else None
            self.refused(error, code, lambda d=data, t=target, g=given: make_backup(d, t, nothing, keys=g))
        self.assertEqual((self.folder / "other" / "file.txt").read_text(), "mine")
        self.make()
        with BackupFolder.open(self.kept).alone():
            self.refused(ConflictError, "backup.busy", self.make)

    def test_damage_is_named_not_restored_and_healed(self) -> None:
        moment = self.make()
        largest = max(moment.segments, key=lambda one: one.size)
        path = self.kept / "segments" / largest.name
        whole = path.read_bytes()
        path.write_bytes(whole[: len(whole) // 2] + bytes([whole[len(whole) // 2] ^ 1]) + whole[len(whole) // 2 + 1 :])
        self.assertIn(largest.name, " ".join(self.problems()))
        found = BackupFolder.open(self.kept)
        self.refused(BrokenError, "backup.damaged", lambda: restore_moment(found, moment, self.folder / "r", nothing))
        self.assertFalse((self.folder / "r").exists())
        self.make(reread=True)
        self.assertEqual((self.problems(moment.name), self.problems()), ([], []))
        records = self.kept / "moments" / moment.name / "records.sqlite.zst"
        records.write_bytes(records.read_bytes()[:-30])
        self.assertTrue(self.problems(moment.name))
        self.refused(BrokenError, "backup.damaged", lambda: restore_moment(found, moment, self.folder / "r", nothing))
        path.unlink()
        self.assertIn(largest.name, " ".join(self.problems()))
        self.make()
        self.assertEqual(self.problems(), [])

    def test_a_content_that_is_missing_is_named(self) -> None:
        only_here = self.shelf.upload(os.urandom(2_000)).id
        base = self.put({"other.txt": b"other\n"}, "Another").commit
        self.shelf.commit("main", base, [ChangeRequest("only-here.bin", only_here)], "One more")
        moment = self.make()
        found = BackupFolder.open(self.kept)
        self.assertEqual(check_moment(found, moment, nothing).problems, [])
        place = FolderPlace(found.segments)
        moment.segments = [
            one
            for one in moment.segments
            if bytes.fromhex(only_here) not in {record.id for _, record in iter_records(place, one.name)}
        ]
        with mock.patch.object(checking, "_MOST_TOLD", 100_000):  # others had their contents in that segment, too
            problems = check_moment(found, moment, nothing).problems
        self.assertIn(f"the content {only_here[:12]} is not in the backup", problems)

    def test_old_ones_are_dropped_with_what_only_they_needed(self) -> None:
        names = [self.make().name for _ in range(4)]
        found = BackupFolder.open(self.kept)
        (found.segments / "of-no-moment.seg").write_bytes(b"x")
        self.assertEqual(keep_newest(found, 2), names[:2])
        self.assertEqual(found.names(), names[2:])
        self.assertFalse((found.segments / "of-no-moment.seg").exists())
        self.assertEqual((self.problems(names[2]), self.problems()), ([], []))
        self.assertEqual(keep_newest(found, 2), [])

    def test_a_moment_that_cannot_be_read_keeps_all_bytes(self) -> None:
        first, second = self.make(), self.make()
        (self.kept / "moments" / first.name / "moment.json").write_text("{")
        found = BackupFolder.open(self.kept)
        (found.segments / "of-the-first.seg").write_bytes(b"x")
        self.make()
        self.assertEqual(found.unreadable(), [first.name])
        listed = Terminal(self, self.service).run("backup", "list", str(self.kept)).stdout
        self.assertIn(f"{first.name} cannot be read; its bytes are kept", listed)
        keep_newest(found, 2)
        self.assertEqual(next(one.name for one in found.all()), second.name)
        self.refused(MissingError, "backup.missing", lambda: found.newest("20200101T000000Z"))


class CommandTests(FolderCase):
    def test_from_make_to_restore(self) -> None:
        terminal = Terminal(self, self.service)
        done = terminal.run(
            "backup", "make", str(self.kept), "--data", str(self.data), "--keys", str(self.folder / "keys")
        )
        self.assertIn("read back", done.stdout)
        self.assertIn("everyshelf backup check", done.stdout)
        terminal.run("backup", "make", str(self.kept), "--data", str(self.data), "--keep", "1")
        listed = json.loads(terminal.run("backup", "list", str(self.kept), "--json").stdout)
        self.assertEqual(len(listed["moments"]), 1)
        self.assertIn("1 moment in", terminal.run("backup", "list", str(self.kept)).stdout)
        self.assertIn("Nothing is missing or damaged", terminal.run("backup", "check", str(self.kept)).stdout)
        restored = terminal.run("backup", "restore", "--unsigned", str(self.kept), "--into", str(self.folder / "new"))
        self.assertIn("secrets of environments have to be set again", restored.stdout)
        self.assertTrue((self.folder / "new" / "records.sqlite").exists())

    def test_a_backup_of_nobody_known_asks_first(self) -> None:
        terminal, keys = Terminal(self, self.service), self.folder / "keys"
        terminal.run("backup", "make", str(self.kept), "--data", str(self.data), "--keys", str(keys))
        restore = ("backup", "restore", str(self.kept))
        done = terminal.run(*restore, "--into", str(self.folder / "one"), code=1)
        self.assertIn("the key of its installation was not given", done.stderr)
        terminal.run(*restore, "--into", str(self.folder / "two"), "--keys", str(keys))
        (said,) = (self.kept / "moments").glob("*/moment.json")
        written = json.loads(said.read_text())
        said.write_text(json.dumps({**written, "added": written["added"] + 1}))
        done = terminal.run(*restore, "--into", str(self.folder / "three"), "--keys", str(keys), code=1)
        self.assertIn("is not signed with that key", done.stderr)
        self.assertIn("--unsigned", done.stderr)
        self.assertFalse((self.folder / "three").exists())

    def test_nothing_in_a_backup_decides_about_paths_or_settings(self) -> None:
        (self.data / "everyshelf.toml").write_text('places = "/"\n')
        self.addCleanup((self.data / "everyshelf.toml").unlink)
        moment = self.make()
        said = self.kept / "moments" / moment.name / "moment.json"
        whole = json.loads(said.read_text())
        segment = whole["segments"][0]
        outside = f"../../{'a' * 32}.seg"
        for changed in (
            {"segments": [{**segment, "name": outside}]},
            {"segments": [{**segment, "name": f"/{'a' * 32}.seg"}]},
            {"segments": [{**segment, "name": "records.sqlite"}]},
            {"segments": [segment, segment]},
            {"segments": [{**segment, "size": -1}]},
            {"segments": [{**segment, "blake3": "../x"}]},
            {"name": "../elsewhere"},
            {"records": "no hash"},
        ):
            said.write_text(json.dumps({**whole, **changed}))
            with self.subTest(changed):
                self.refused(BrokenError, "backup.damaged", lambda: BackupFolder.open(self.kept).newest(moment.name))
        said.write_text(json.dumps(whole))
        found = BackupFolder.open(self.kept)
        restore_moment(found, found.newest(moment.name), self.folder / "r", nothing)
        self.assertFalse((self.folder / "r" / "everyshelf.toml").exists())
        self.assertEqual((self.folder / "r" / "everyshelf.toml.from-backup").read_text(), 'places = "/"\n')

    def test_damage_ends_with_a_failing_code(self) -> None:
        terminal = Terminal(self, self.service)
        moment = self.make()
        (self.kept / "segments" / moment.segments[0].name).unlink()
        done = terminal.run("backup", "check", str(self.kept), "--json", code=1)
        self.assertTrue(json.loads(done.stdout)["problems"])
        done = terminal.run(
            "backup", "restore", "--unsigned", str(self.kept), "--into", str(self.folder / "new"), code=1
        )
        self.assertIn("backup.damaged", done.stderr)
        self.assertNotIn("Traceback", done.stderr)
        done = terminal.run("backup", "make", str(self.kept), code=2)
        self.assertIn("--data", done.stderr)

    def test_what_cannot_be_read_is_told_apart_from_what_cannot_be_written(self) -> None:
        """A backup that is whole must not be called damaged because the disk it is restored to is full."""
        moment = self.make()
        new = str(self.folder / "new")
        for shelf in ([], ["--shelf", self.shelf.key]):
            command = [
                sys.executable,
                "-m",
                "everyshelf.cli.main",
                "backup",
                "restore",
                "--unsigned",
                str(self.kept),
                "--into",
                new,
                *shelf,
            ]
            full = subprocess.run(
                command,
                capture_output=True,
                text=True,
                check=False,
                preexec_fn=lambda: setrlimit(RLIMIT_FSIZE, (9_000, 9_000)),
            )
            self.assertEqual(full.returncode, 1, full.stderr)
            self.assertIn(f"{new} could not be written: File too large", full.stderr)
            self.assertIn("The backup is as it was", full.stderr)
        terminal = Terminal(self, self.service)
        segment = self.kept / "segments" / moment.segments[0].name
        segment.unlink()
        segment.mkdir()  # what gives an error when it is read
        for shelf in ([], ["--shelf", self.shelf.key]):
            done = terminal.run("backup", "restore", "--unsigned", str(self.kept), "--into", new, *shelf, code=1)
            self.assertIn(f"{segment} cannot be read: Is a directory", done.stderr)
            self.assertIn("backup.unread", done.stderr)
        done = terminal.run("backup", "check", str(self.kept), "--json", code=1)
        self.assertIn(str(segment), " ".join(json.loads(done.stdout)["problems"]))
        self.assertFalse(Path(new).exists())
        self.assertEqual([one.name for one in self.folder.iterdir() if one.name.startswith(".new")], [])


class ServiceTests(ServiceCase):
    def test_only_who_runs_the_installation(self) -> None:
        for call in (self.client_of("keeper").backups, self.client_of("keeper").make_backup):
            with self.assertRaises(ProblemError) as caught:
                call()
            self.assertEqual(caught.exception.status, 403)
        found = self.client.backups()
        self.assertEqual((found.folder, found.hours, found.keep, found.moments), ("", 24, 14, []))
        with self.assertRaises(ProblemError) as caught:
            self.client.make_backup()
        self.assertEqual((caught.exception.status, caught.exception.code), (400, "backup.unset"))

    def test_the_schedule_and_when_asked(self) -> None:
        folder = Path(tempfile.mkdtemp(prefix="es-scheduled-"))
        self.addCleanup(shutil.rmtree, folder, ignore_errors=True)
        settings = {"EVERYSHELF_BACKUP": str(folder / "kept"), "EVERYSHELF_BACKUP_KEEP": "2"}
        service = Service(settings=settings)
        self.addCleanup(service.stop)
        client = service.client()
        while not (found := client.backups()).moments:  # the first is made by itself, soon after the start
            self.assertNotEqual(found.job.state if found.job else "", "failed", found.job)
            threading.Event().wait(0.1)
        shelf = client.shelf(client.make_shelf("Backed up").key)
        commit_files(shelf, {"a.txt": b"a\n"}, "One")
        for _ in range(2):
            job = client.wait(client.make_backup())
            self.assertEqual(job.state, "done")
        found = client.backups()
        self.assertEqual((len(found.moments), found.keep), (2, 2))
        self.assertEqual(found.moments[-1].name, (job.result or {})["name"])
        self.assertEqual([entry.words for entry in client.log(act="backup")][:1], ["began a backup of"])
        code = "import sys; from everyshelf.cli.main import run; run()"
        done = subprocess.run(
            [sys.executable, "-c", code, "backup", "make"],
            env={**os.environ, "EVERYSHELF_ADDRESS": service.address, "EVERYSHELF_TOKEN": service.token()},
            capture_output=True,
            text=True,
            check=True,
        )
        self.assertIn("Backed up as", done.stdout)
