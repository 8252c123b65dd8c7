"""What is pushed to do harm is refused early, takes little, and keeps nobody waiting."""

from __future__ import annotations

import concurrent.futures
import os
import shutil
import signal
import subprocess
import tempfile
import time
from pathlib import Path

import httpx

from everyshelf.client import ShelfClient
from tests.support import packs
from tests.support.factories import ServiceCase
from tests.support.git import run_git

_NONE = "0" * 40


class PushCase(ServiceCase):
    def setUp(self) -> None:
        super().setUp()
        self.put({"a.csv": b"zone,fare\nZ1,4\n"}, "First")
        self.home = Path(tempfile.mkdtemp(prefix="es-pushes-"))
        self.addCleanup(shutil.rmtree, self.home, ignore_errors=True)

    def post(self, body: bytes, person: str = "owner", seconds: float = 300) -> str:
        """Send a push, and give what the person who pushed would read."""
        done = httpx.post(
            f"{self.service.address}/git/{self.shelf.key}.git/git-receive-pack",
            content=body,
            auth=(person, self.service.token(person)),
            headers={"Content-Type": "application/x-git-receive-pack-request"},
            timeout=seconds,
        )
        self.assertIn(done.status_code, (200, 503), done.text)
        return done.content.decode("utf-8", "replace")

    def objects(self, objects: list[tuple[str, bytes]], ref: str = "refs/heads/try") -> str:
        tip = packs.object_id(*objects[-1])
        return self.post(packs.push_body(ref, _NONE, tip, packs.whole(objects)))

    def address(self, person: str = "owner") -> str:
        return f"{self.service.address.replace('//', f'//{person}:{self.service.token(person)}@')}/git/{self.shelf.key}.git"

    def branches(self) -> list[str]:
        return sorted(branch.name for branch in self.shelf.branches())


class RightsFirstTests(PushCase):
    """Rights are asked from the commands, before a byte of the pack is read."""

    def test_a_reader_is_refused_whatever_the_pack_is(self) -> None:
        self.shelf.set_member("reader", "reader")
        for data in (packs.delta_bomb(), b"PACK and nothing that makes sense", b""):
            said = self.post(packs.push_body("refs/heads/try", _NONE, "1" * 40, data), "reader")
            self.assertIn("unpack ok", said)
            self.assertIn("to branch on", said)
        self.assertEqual(self.branches(), ["main"])

    def test_all_or_nothing_is_refused_before_the_pack_as_well(self) -> None:
        self.shelf.set_member("author", "author")
        self.shelf.guard_branch("main")
        lines = [
            f"{_NONE} {'1' * 40} refs/heads/fine\0report-status side-band-64k atomic",
            f"{_NONE} {'1' * 40} refs/tags/one",
        ]
        body = b"".join(b"%04x" % (len(line) + 4) + line.encode() for line in lines) + b"0000" + b"PACKnonsense"
        said = self.post(body, "author")
        self.assertIn("unpack ok", said)
        self.assertIn("atomic push refused", said)


class SizeTests(PushCase):
    """What would take too much is refused with a sentence."""

    def test_a_delta_that_makes_gigabytes(self) -> None:
        said = self.post(packs.push_body("refs/heads/try", _NONE, "1" * 40, packs.delta_bomb()))
        self.assertIn("sent as a delta", said)
        self.assertIn("this service takes 134,217,728", said)

    def test_trees_that_stand_for_ten_thousand_million_files(self) -> None:
        began = time.process_time()
        said = self.objects(packs.tree_bomb(10, 10))
        self.assertIn("changes more than 500,000 files", said)
        self.assertLess(time.process_time() - began, 60)
        self.assertEqual(self.branches(), ["main"])

    def test_folders_three_thousand_deep(self) -> None:
        self.assertIn("folders more than 200 deep", self.objects(packs.deep(3_000)))

    def test_a_message_of_fifty_megabytes(self) -> None:
        blob = ("blob", b"1\n")
        tree = ("tree", packs.tree([("100644", "a.txt", packs.object_id(*blob))]))
        long = packs.commit(packs.object_id(*tree), "x" * 50_000_000)
        self.assertIn("a commit of 50,000,", self.objects([blob, tree, ("commit", long)]))

    def test_refs_that_name_no_commit(self) -> None:
        blob = ("blob", b"1\n")
        tree = ("tree", packs.tree([("100644", "a.txt", packs.object_id(*blob))]))
        commit = ("commit", packs.commit(packs.object_id(*tree)))
        self.assertIn("is a blob, and refs/heads/try has to name a commit", self.objects([commit, tree, blob]))
        self.assertIn("is a tree, and refs/heads/try has to name a commit", self.objects([blob, commit, tree]))
        self.assertIn("names no commit", self.objects([commit, tree, blob], "refs/tags/odd"))
        body = packs.push_body("refs/heads/try", _NONE, "1" * 40, packs.whole([blob, tree, commit]))
        self.assertIn("is not in what was pushed", self.post(body))
        self.assertIn("refs/notes/x is neither a branch nor a tag", self.objects([blob, tree, commit], "refs/notes/x"))

    def test_packs_that_lack_what_they_name(self) -> None:
        blob = ("blob", b"1\n")
        tree = ("tree", packs.tree([("100644", "a.txt", packs.object_id(*blob))]))
        commit = ("commit", packs.commit(packs.object_id(*tree)))
        for objects in ([commit], [tree, commit]):
            self.assertIn("damaged or not allowed", self.objects(objects))
        orphan = ("commit", packs.commit(packs.object_id(*tree), parents=["2" * 40]))
        self.assertIn("damaged or not allowed", self.objects([blob, tree, orphan]))
        self.assertEqual(self.branches(), ["main"])


class WaitingTests(PushCase):
    """Nobody waits for another person's push."""

    def test_three_thousand_branches_are_an_ordinary_push(self) -> None:
        run_git("clone", "-q", self.address(), "clone", folder=self.home)
        clone = self.home / "clone"
        tip = run_git("rev-parse", "HEAD", folder=clone).stdout.strip()
        stream = [f"reset refs/heads/b{n:04}\nfrom {tip}\n" for n in range(2_000)]
        for n in range(1_000):
            stream.append(
                f"commit refs/heads/c{n:04}\ncommitter Purser <p@skerry.example> {1700000000 + n} +0000\ndata 2\nc\n"
                f"from {tip}\nM 644 inline f{n % 10}.txt\ndata {len(str(n)) + 1}\n{n}\n\n"
            )
        subprocess.run(["git", "fast-import", "--quiet"], cwd=clone, input="".join(stream).encode(), check=True)
        run_git("push", "-q", "origin", "--all", folder=clone)
        self.assertEqual(len(self.shelf.branches()), 3_001)
        self.shelf.make_branch("later", "main")
        run_git("push", "-q", "origin", "--all", folder=clone)

    def test_a_client_that_leaves_leaves_no_work(self) -> None:
        run_git("clone", "-q", self.address(), "clone", folder=self.home)
        clone = self.home / "clone"
        for number in range(400):
            (clone / "a.csv").write_text(f"zone,fare\nZ1,{number}\n")
            run_git("commit", "-q", "-a", "-m", f"step {number}", folder=clone)
        pushing = subprocess.Popen(
            ["git", "push", "-q", "origin", "HEAD:refs/heads/gone"], cwd=clone, start_new_session=True
        )
        left = None
        for _ in range(2_000):
            busy = list((self.service.data / "git").glob("*.git/objects/incoming-*"))
            if busy:
                left = busy[0]
                break
            time.sleep(0.005)
        os.killpg(pushing.pid, signal.SIGKILL)
        pushing.wait()
        self.assertIsNotNone(left)
        for _ in range(1_200):
            if not list((self.service.data / "git").glob("*.git/objects/incoming-*")):
                break
            time.sleep(0.05)
        else:
            self.fail("what was pushed is still worked on")
        run_git("push", "-q", "origin", "HEAD:refs/heads/gone", folder=clone)
        self.assertIn("gone", self.branches())

    def test_ten_people_push_at_the_same_time(self) -> None:
        for number in range(10):
            run_git("clone", "-q", self.address(), f"c{number}", folder=self.home)
            (self.home / f"c{number}" / f"f{number}.txt").write_text(f"{number}\n")
            run_git("add", "-A", folder=self.home / f"c{number}")
            run_git("commit", "-q", "-m", f"by {number}", folder=self.home / f"c{number}")

        def push(number: int) -> int:
            clone = self.home / f"c{number}"
            done = run_git("push", "-q", "origin", f"HEAD:refs/heads/p{number}", folder=clone, code=None)
            main = run_git("push", "-q", "origin", "HEAD:main", folder=clone, code=None)
            assert done.returncode == 0, done.stderr
            return main.returncode

        with concurrent.futures.ThreadPoolExecutor(10) as pool:
            ends = list(pool.map(push, range(10)))
        self.assertEqual(ends.count(0), 1)  # one is built on the newest commit, the others are told
        self.assertEqual(self.branches(), sorted(["main", *(f"p{number}" for number in range(10))]))
        shelf: ShelfClient = self.shelf
        self.assertEqual(shelf.wait(shelf.verify()).result["problems"], [])


if __name__ == "__main__":
    import unittest

    unittest.main()
