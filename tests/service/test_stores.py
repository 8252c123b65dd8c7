"""Several stores: a shelf says where its bytes live, whoever writes into it and however."""

from __future__ import annotations

import json
import random
import shutil
import tempfile
import threading
import unittest
from pathlib import Path

import httpx

from everyshelf.client import ChangeRequest, Client, ProblemError, ShelfClient
from everyshelf.client.models import Saving
from everyshelf.core.content.place import FolderPlace
from everyshelf.core.content.store import ContentStore
from everyshelf.core.content.stores import MAIN
from everyshelf.service.keeping.needed import Needed
from everyshelf.service.keeping.reaching import ANYWHERE, Reached
from tests.service.test_git_served import run_git
from tests.support.bucket import CREDENTIALS, BucketServer
from tests.support.factories import ServiceCase, Terminal, commit_files
from tests.support.service import Service
from tests.support.waiting import until

# What a shelf reaches, read from copies of the segments of its store and of nothing else.
_ALONE = """
import json, shutil, sys, tempfile
from pathlib import Path
from everyshelf.core.content.place import FolderPlace
from everyshelf.core.content.store import ContentStore
from everyshelf.core.content.stores import store_of
from everyshelf.service.base.config import get_config
from everyshelf.service.keeping.needed import Needed
from everyshelf.service.keeping.reaching import Reached, follow_records
from everyshelf.service.shelves.models import Shelf
shelf = Shelf.objects.get(key=KEY)
data = get_config().data
with tempfile.TemporaryDirectory() as here, tempfile.TemporaryDirectory() as apart:
    for path in (data / "segments").glob("*.seg"):
        shutil.copy(path, here)
        if store_of(path.name) == shelf.store:
            shutil.copy(path, apart)
    whole, alone = ContentStore(Path(here)), ContentStore(Path(apart))
    reached = Reached(whole)
    follow_records(get_config().database, reached, lambda *_: None, shelf.pk)
    known = sorted(one.hex() for one in reached.contents if whole.has(one.hex()))
    print(json.dumps([len(known), [one for one in known if alone.verify(one) is not None]]))
"""


class StoresCase(ServiceCase):
    """A service of its own with the store ``annex``, whose segments stay in the data folder."""

    own: Service
    more: dict[str, str] = {}

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.own = Service(settings={"EVERYSHELF_WORKERS": "2", "EVERYSHELF_TIDY_HOURS": "0", **cls.more})
        cls.addClassCleanup(cls.own.stop)
        client = cls.own.client()
        client.add_person("author", "Author", "a-password-for-tests")
        client.make_store("annex", "folder")

    def setUp(self) -> None:
        self.client: Client = self.own.client()
        self.folder = Path(tempfile.mkdtemp(prefix="es-stores-"))
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)

    def make(self, store: str = "main", client: Client | None = None) -> ShelfClient:
        client = client or self.client
        name = f"Stores {random.randrange(10**9)}"
        return client.shelf(client.make_shelf(name, store=store).key)

    def tidy(self, times: int = 2) -> None:
        for _ in range(times):
            self.client.wait(self.client.tidy_storage())

    def move(self, shelf: ShelfClient, store: str) -> dict[str, object]:
        moving = shelf.change_store(store).moving
        return (self.client.wait(moving).result if moving is not None else None) or {}

    def assert_lives_there(self, shelf: ShelfClient) -> int:
        """All that a shelf reaches is read from its store alone; gives how many contents that are."""
        count, wrong = json.loads(self.own.run_python(f"KEY = {shelf.key!r}\n{_ALONE}"))
        self.assertEqual(wrong, [])
        return int(count)


class NeededTests(unittest.TestCase):
    """What a store must have."""

    def test_what_lies_whole_where_it_is_needed_is_not_needed_elsewhere(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            named = Reached(ContentStore(Path(folder)))
            ids = [bytes([n]) * 32 for n in range(5)]
            for store, one in ((MAIN, ids[0]), ("annex", ids[1]), ("annex", ids[2]), (ANYWHERE, ids[3])):
                named.of(store).add_file(one)
            held = {"annex": {ids[4]}}  # came after what is gathered was gathered
            with self.subTest("nothing is gathered"):
                self.assertEqual(Needed(named).in_store(MAIN, held), set(ids))
                self.assertEqual(Needed(named).in_store("annex", held), set(ids))
            needed = Needed(named, {"annex": {ids[1]}, MAIN: {ids[0], ids[3]}})  # ids[2] could not be copied
            self.assertEqual(needed.in_store(MAIN, held), {ids[0], ids[2], ids[3], ids[4]})
            self.assertEqual(needed.in_store("annex", held), {ids[1], ids[2], ids[4]})


class WritingTests(StoresCase):
    def test_whatever_is_written_lies_in_the_store_of_the_shelf(self) -> None:
        shelf = self.make("annex")
        self.assertEqual(shelf.info().store, "annex")
        files = {f"data/{n}.bin": random.Random(n).randbytes(n * 90_000 + 1) for n in range(5)}
        commit_files(shelf, {**files, "fares.csv": b"zone,fare\nZ1,4\n"}, "First")
        shelf.make_branch("try", "main")
        commit_files(shelf, {"notes.txt": b"about fares\n"}, "More", "try")
        commit_files(shelf, {"fares.csv": b"zone,fare\nZ1,6\n"}, "Dearer", "main")
        shelf.merge("try", "main")
        shelf.save("main", [Saving("draft.txt", shelf.upload(b"in a draft\n").id)])
        token = self.own.token("owner")
        with httpx.Client(auth=("owner", token)) as http:
            address = f"{self.own.address}/dav/{shelf.key}/draft/main/written.bin"
            self.assertEqual(http.put(address, content=random.Random(9).randbytes(400_000)).status_code, 201)
        git = f"{self.own.address.replace('//', f'//owner:{token}@')}/git/{shelf.key}.git"
        run_git("clone", "-q", git, str(self.folder / "clone"), folder=self.folder)
        (self.folder / "clone" / "pushed.bin").write_bytes(random.Random(8).randbytes(300_000))
        run_git("add", "-A", folder=self.folder / "clone")
        run_git("commit", "-q", "-m", "Pushed", folder=self.folder / "clone")
        run_git("push", "-q", "origin", "HEAD", folder=self.folder / "clone")
        self.assertGreater(self.assert_lives_there(shelf), 20)
        shelf.commit_draft("main", "The draft")
        self.tidy(1)  # versions are kept as deltas where they lie
        self.assertGreater(self.assert_lives_there(shelf), 22)
        for path, data in files.items():
            self.assertEqual(shelf.read(path), data)

    def test_what_a_job_writes_lies_there_too(self) -> None:
        """A promotion notes what it put where."""
        given, shelf = self.make(), self.make("annex")
        files = {f"data/{n}.bin": random.Random(n).randbytes(60_000) for n in range(3)}
        commit_files(given, dict(files), "Given")
        given.pack("main", self.folder / "given.parcel.zip")
        commit_files(shelf, {"own.txt": b"own"}, "Own")
        shelf.unpack_parcel(shelf.upload(self.folder / "given.parcel.zip").id)
        self.assertGreaterEqual(self.assert_lives_there(shelf), 6)
        shelf.commit_draft("main", "Given")
        shelf.make_environment("test", fed_from="main")
        shelf.make_tag("one", "main")
        before = self.assert_lives_there(shelf)
        self.assertIsNotNone(shelf.wait(shelf.promote("one", "test")).result)
        self.assertGreater(self.assert_lives_there(shelf), before)
        for path, data in files.items():
            self.assertEqual(shelf.read(path), data)

    def test_what_is_copied_from_another_store_follows_with_tidying(self) -> None:
        given, shelf = self.make(), self.make("annex")
        data = random.Random(80).randbytes(400_000)
        for number in range(2):
            commit_files(given, {"model.bin": data[number:]}, f"Model {number}")
        shelf.copy(given.key, "model.bin")
        self.assertEqual(shelf.read("model.bin"), data[1:])
        self.tidy(1)
        self.assertGreater(self.assert_lives_there(shelf), 4)
        self.tidy()
        self.assert_lives_there(given)
        self.assertEqual((given.read("model.bin"), shelf.read("model.bin")), (data[1:], data[1:]))

    def test_two_shelves_with_the_same_files_in_two_stores(self) -> None:
        data = {"same.bin": random.Random(30).randbytes(500_000)}
        first, second = self.make(), self.make("annex")
        commit_files(first, dict(data), "Files")
        before = self.client.storage().stored
        commit_files(second, dict(data), "Files")
        self.assertGreater(self.client.storage().stored, before + 450_000)
        third = self.make("annex")
        commit_files(third, dict(data), "Files")
        self.assertLess(self.client.storage().stored, before + 900_000)
        for shelf in (first, second, third):
            self.assert_lives_there(shelf)
        self.tidy()
        for shelf in (first, second, third):
            self.assert_lives_there(shelf)
            self.assertEqual(shelf.read("same.bin"), data["same.bin"])


class MovingTests(StoresCase):
    def test_there_and_back_while_people_commit(self) -> None:
        shelf, other = self.make(), self.make()
        files = {f"data/{n}.bin": random.Random(n).randbytes(n * 70_000 + 1) for n in range(6)}
        lines = [b"%d,%.6f\n" % (n, random.Random(n).random()) for n in range(9000)]
        for number in range(4):
            lines[number * 900] = b"%d,0.5\n" % number
            files["fares.csv"] = b"".join(lines)
            commit_files(shelf, dict(files), f"Fares {number}")
        commit_files(other, {"same.bin": files["data/5.bin"]}, "The same")
        self.tidy(1)
        stop = threading.Event()
        committed: list[tuple[str, bytes]] = []
        failed: list[BaseException] = []

        def write() -> None:
            mine = self.own.client().shelf(shelf.key)
            try:
                while not stop.is_set():
                    data = random.randbytes(60_000)
                    change = ChangeRequest("live.bin", mine.upload(data).id)
                    committed.append((mine.commit("main", mine.branch("main").head, [change], "More").commit, data))
                    stop.wait(0.1)
            except BaseException as error:
                failed.append(error)

        thread = threading.Thread(target=write)
        thread.start()
        try:
            for store in ("annex", "main", "annex"):
                before = len(committed)
                self.assertGreaterEqual(self.move(shelf, store)["pieces"], 0)
                until(lambda before=before: failed or len(committed) > before + 2, "commits")  # type: ignore[misc]
        finally:
            stop.set()
            thread.join()
        self.assertEqual(failed, [])
        self.assertGreater(self.move(shelf, "annex").get("pieces", 1), -1)
        self.assert_lives_there(shelf)
        self.tidy(3)
        self.assert_lives_there(shelf)
        self.assert_lives_there(other)
        for commit, data in committed:
            self.assertEqual(shelf.read("live.bin", f"commit:{commit}"), data)
        for path, data in files.items():
            self.assertEqual(shelf.read(path), data)
        self.assertEqual((shelf.wait(shelf.verify()).result or {})["problems"], [])
        acts = [entry.act for entry in shelf.log()]
        self.assertEqual(acts.count("shelf.moved"), 3)

    def test_bytes_are_freed_where_a_shelf_lay_and_its_store_can_go(self) -> None:
        self.client.make_store("for-a-while", "folder")
        shelf = self.make("for-a-while")
        data = random.Random(50).randbytes(900_000)
        commit_files(shelf, {"large.bin": data}, "Large")
        with self.assertRaises(ProblemError) as caught:
            self.client.remove_store("for-a-while")
        self.assertEqual((caught.exception.code, caught.exception.status), ("storage.in_use", 403))
        self.assertIn(shelf.key, str(caught.exception))
        self.move(shelf, "main")
        with self.assertRaises(ProblemError) as caught:
            self.client.remove_store("for-a-while")
        self.assertIn("still has segments", str(caught.exception))
        self.tidy(3)
        until(lambda: self._is_removed("for-a-while"), "its segments are gone")
        self.assertEqual(self.client.stores(), ["main", "annex"])
        self.assertEqual(shelf.read("large.bin"), data)
        self.assert_lives_there(shelf)

    def _is_removed(self, name: str) -> bool:
        """Requests that began before may hold its bytes for a while."""
        try:
            self.client.remove_store(name)
        except ProblemError:
            self.tidy(1)
            return False
        return True

    def test_it_waits_for_a_backup_and_goes_on_after_a_cancel(self) -> None:
        shelf = self.make()
        commit_files(shelf, {"a.bin": random.Random(70).randbytes(200_000)}, "A")
        with FolderPlace(self.own.data / "segments").alone():
            shelf.change_store("annex")
            until(lambda: "a backup or tidying" in getattr(shelf.store().moving, "note", ""), "it waits")
            self.client.cancel(getattr(shelf.store().moving, "job", ""))
            until(lambda: getattr(shelf.store().moving, "state", "") == "cancelled", "it is cancelled while it waits")
        self.assertEqual(getattr(shelf.change_store("annex").moving, "ended", None), False)
        until(lambda: getattr(shelf.store().moving, "state", "") == "done", "it goes on")
        self.assert_lives_there(shelf)

    def test_killed_while_it_is_copied(self) -> None:
        shelf = self.make()
        files = {f"data/{n}.bin": random.Random(n).randbytes(200_000) for n in range(40)}
        commit_files(shelf, dict(files), "Files")
        shelf.change_store("annex")
        self.own.kill_group()
        self.own.start()
        until(lambda: getattr(shelf.store().moving, "state", "") == "done", "the job goes on after a restart")
        self.assert_lives_there(shelf)
        for path, data in files.items():
            self.assertEqual(shelf.read(path), data)


class RightsTests(StoresCase):
    def test_who_may(self) -> None:
        author = self.own.client("author")
        self.assertIn("annex", author.stores())
        theirs = self.make("annex", author)
        self.assertEqual(theirs.change_store("main").store, "main")
        for act in (
            lambda: author.make_store("mine", "folder"),
            lambda: author.remove_store("annex"),
            lambda: author.move_storage("folder", store="annex"),
        ):
            with self.assertRaises(ProblemError) as caught:
                act()
            self.assertEqual(caught.exception.status, 403)
        ours = self.make()
        ours.set_member("author", "keeper")
        with self.assertRaises(ProblemError) as caught:
            author.shelf(ours.key).change_store("annex")
        self.assertEqual(caught.exception.status, 403)

    def test_what_is_wrong_is_told(self) -> None:
        for name, to, code, status in (
            ("annex", "folder", "storage.made", 409),
            ("main", "folder", "storage.made", 409),
            ("An annex", "folder", "storage.name", 400),
            ("other", "elsewhere", "storage.address", 400),
            ("other", "/", "storage.address", 400),
            ("other", "s3://versions/x", "destination.host", 403),
            ("other", "/proc/nowhere", "storage.out_of_reach", 502),
            ("other", "/etc/passwd/below", "storage.out_of_reach", 502),
        ):
            with self.subTest(name=name, to=to), self.assertRaises(ProblemError) as caught:
                self.client.make_store(name, to)
            self.assertEqual((caught.exception.code, caught.exception.status), (code, status))
        for act in (
            lambda: self.make("nowhere"),
            lambda: self.make().change_store("nowhere"),
            lambda: self.client.move_storage("folder", store="nowhere"),
            lambda: self.client.remove_store("nowhere"),
        ):
            with self.assertRaises(ProblemError) as caught:
                act()
            self.assertEqual((caught.exception.code, caught.exception.status), ("storage.no_store", 404))
        with self.assertRaises(ProblemError) as caught:
            self.client.remove_store("main")
        self.assertEqual(caught.exception.code, "storage.in_use")
        with self.assertRaises(ProblemError) as caught:
            self.client.make_store("other", str(self.own.data / "inner"))
        self.assertEqual(caught.exception.code, "storage.taken")
        self.assertNotIn("other", self.client.stores())

    def test_in_the_terminal(self) -> None:
        terminal = Terminal(self, self.own)
        made = terminal.run("storage", "make", "disk", str(self.folder / "disk"))
        self.assertIn("Made the store disk", made.stdout)
        self.assertIn("everyshelf shelf make NAME --store disk", made.stdout)
        key = terminal.json("shelf", "make", "On a disk", "--store", "disk", "--json")["key"]
        shelf = self.client.shelf(key)
        commit_files(shelf, {"a.txt": b"a" * 5000}, "A")
        terminal.set("EVERYSHELF_SHELF", key)
        self.assertIn("Its bytes live in the store disk", terminal.run("shelf", "show").stdout)
        terminal.run("storage", "move", str(self.folder / "disk"), "--store", "disk")
        told = terminal.run("storage", "show").stdout
        self.assertRegex(told, r"disk +\S+/disk +1 shelf, \d")
        self.assertTrue(list((self.folder / "disk").glob("disk~*.seg")))
        moved = terminal.run("shelf", "change", "--store", "main").stdout
        self.assertRegex(moved, r"On a disk: its bytes live in the store main; \d+ pieces, .* copied\.")
        self.assertIn("0 pieces", terminal.run("shelf", "change", "--store", "main").stdout)
        self.assertIn("still has segments", terminal.run("storage", "remove", "disk", code=4).stderr)


class BucketTests(StoresCase):
    """A store in a bucket beside the main one in the data folder."""

    server: BucketServer
    more = CREDENTIALS

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.server = BucketServer(cls)
        client = cls.own.client()
        client.make_store("far", "s3://versions/far", endpoint=cls.server.endpoint)

    def objects(self) -> list[str]:
        return [name for name in self.server.bucket("far").names() if name.endswith(".seg")]

    def sent(self) -> ShelfClient:
        shelf = self.make("far")
        self.files = {f"data/{n}.bin": random.Random(n).randbytes(n * 80_000 + 1) for n in range(5)}
        commit_files(shelf, dict(self.files), "Files")
        moving = self.client.move_storage("s3://versions/far", store="far", endpoint=self.server.endpoint)
        self.client.wait(moving)
        until(lambda: self.client.storage().stores[-1].to_move == 0, "all of it is sent")
        return shelf

    def test_only_what_lives_there_is_sent_there(self) -> None:
        here = self.make()
        commit_files(here, {"here.bin": random.Random(60).randbytes(300_000)}, "Here")
        shelf = self.sent()
        self.assertTrue(self.objects())
        self.assertTrue(all(name.startswith("far~") for name in self.objects()))
        self.assertEqual(
            [p.name for p in (self.own.data / "segments").glob("far~*.dir") if p.with_suffix(".seg").exists()], []
        )
        for path, data in self.files.items():
            self.assertEqual(shelf.read(path), data)
        states = {one.name: one for one in self.client.storage().stores}
        self.assertEqual((states["far"].to_move, states["main"].home), (0, ""))
        self.assertGreater(states["far"].at_home, 700_000)

    def test_while_it_is_away_shelves_of_other_stores_go_on(self) -> None:
        shelf, here = self.sent(), self.make()
        commit_files(here, {"same.bin": self.files["data/4.bin"]}, "Here")
        self.own.kill_group()
        shutil.rmtree(self.own.data / "fetched", ignore_errors=True)
        self.own.start()
        self.server.stop()
        try:
            with self.assertRaises(ProblemError) as caught:
                shelf.read("data/4.bin")
            self.assertEqual((caught.exception.code, caught.exception.status), ("storage.out_of_reach", 502))
            self.assertEqual(here.read("same.bin"), self.files["data/4.bin"])
            commit_files(here, {"more.bin": random.Random(61).randbytes(300_000)}, "More")
            self.assertEqual((here.wait(here.verify()).result or {})["problems"], [])
        finally:
            self.server.start()
        until(lambda: self._reads(shelf), "it answers again")

    def _reads(self, shelf: ShelfClient) -> bool:
        try:
            return shelf.read("data/4.bin") == self.files["data/4.bin"]
        except ProblemError:
            return False

    def test_a_backup_has_all_stores(self) -> None:
        shelf = self.sent()
        terminal = Terminal(self, self.own)
        terminal.run("backup", "make", str(self.folder / "backup"), "--data", str(self.own.data))
        terminal.run(
            "backup", "restore", "--unsigned", str(self.folder / "backup"), "--into", str(self.folder / "back")
        )
        back = Service(self.folder / "back", settings={"EVERYSHELF_WORKERS": "1"})
        self.addCleanup(back.stop)
        client = back.client()
        for path, data in self.files.items():
            self.assertEqual(client.shelf(shelf.key).read(path), data)
        self.assertIn("far", client.stores())
        commit_files(client.shelf(shelf.key), {"more.txt": b"more"}, "More")
        client.make_store("far", str(self.folder / "disk"))
        client.wait(client.move_storage(str(self.folder / "disk"), store="far"))
        self.assertTrue(list((self.folder / "disk").glob("far~*.seg")))
        self.assertEqual(client.shelf(shelf.key).read("more.txt"), b"more")
