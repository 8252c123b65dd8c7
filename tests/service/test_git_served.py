"""A shelf as a Git repository: the real ``git`` program clones, fetches and pushes."""

from __future__ import annotations

import concurrent.futures
import random
import shutil
import subprocess
import tempfile
import time
from pathlib import Path

import httpx

from everyshelf.client import ShelfClient
from tests.support.factories import ServiceCase, commit_files
from tests.support.git import run_git
from tests.support.laws import SHARE
from tests.support.service import Service
from tests.support.waiting import until

_KILLED = 50 if SHARE >= 1 else 6


class GitCase(ServiceCase):
    """A shelf with a few commits, and a folder for clones."""

    def setUp(self) -> None:
        super().setUp()
        self.put({"data/fares.csv": b"zone,fare\nZ1,4\nZ2,5\n", "apps/board.json": b'{"title": "Board"}\n'}, "First")
        self.put({"data/fares.csv": b"zone,fare\nZ1,4\nZ2,6\n"}, "Dearer")
        self.home = Path(tempfile.mkdtemp(prefix="es-clones-"))
        self.addCleanup(shutil.rmtree, self.home, ignore_errors=True)

    def address(self, person: str = "owner", scopes: list[str] | None = None) -> str:
        token = self.service.token(person, scopes)
        return f"{self.service.address.replace('//', f'//{person}:{token}@')}/git/{self.shelf.key}.git"

    def clone(self, name: str = "clone", *options: str, person: str = "owner") -> Path:
        run_git("clone", "-q", *options, self.address(person), str(self.home / name), folder=self.home)
        return self.home / name

    def work(self, clone: Path, files: dict[str, bytes], message: str = "Work") -> str:
        for path, data in files.items():
            (clone / path).parent.mkdir(parents=True, exist_ok=True)
            (clone / path).write_bytes(data)
        run_git("add", "-A", folder=clone)
        run_git("commit", "-q", "-m", message, folder=clone)
        return run_git("rev-parse", "HEAD", folder=clone).stdout.strip()

    def push(self, clone: Path, *arguments: str, code: int = 0) -> str:
        done = run_git("push", *(arguments or ("origin", "HEAD")), folder=clone, code=code)
        return done.stderr

    def content(self, path: str, ref: str = "main") -> bytes:
        target = self.home / "content"
        self.shelf.download(path, target, ref)
        return target.read_bytes()


class ReadingTests(GitCase):
    """Clone and fetch, whole and in part."""

    def test_a_clone_has_what_the_shelf_has(self) -> None:
        self.shelf.make_tag("spring", note="Spring fares")
        clone = self.clone()
        self.assertEqual((clone / "data/fares.csv").read_bytes(), b"zone,fare\nZ1,4\nZ2,6\n")
        said = run_git("log", "--format=%s|%an|%(trailers:key=Shelf-commit,valueonly,separator=)", folder=clone).stdout
        newest = next(iter(self.shelf.commits()))
        self.assertEqual(said.splitlines()[0], f"Dearer|owner|{newest.commit}")
        self.assertEqual(run_git("tag", "-n1", folder=clone).stdout.split(None, 1), ["spring", "Spring fares\n"])
        self.assertEqual(run_git("fsck", "--strict", folder=clone).stdout, "")

    def test_a_fetch_brings_what_came_since(self) -> None:
        clone = self.clone()
        self.shelf.make_branch("quiet", "main")
        self.put({"data/fares.csv": b"zone,fare\nZ1,9\n"}, "Later", "quiet")
        run_git("fetch", "-q", folder=clone)
        self.assertEqual(run_git("log", "-1", "--format=%s", "origin/quiet", folder=clone).stdout, "Later\n")

    def test_parts_of_a_history(self) -> None:
        shallow = self.clone("shallow", "--depth=1")
        self.assertEqual(run_git("rev-list", "--count", "HEAD", folder=shallow).stdout, "1\n")
        bare = self.clone("blobless", "--filter=blob:none", "--no-checkout")
        missing = run_git("rev-list", "--objects", "--missing=print", "--all", folder=bare).stdout
        self.assertEqual(missing.count("?"), 3)
        self.assertIn("Z2,5", run_git("show", "HEAD~1:data/fares.csv", folder=bare).stdout)

    def test_a_repository_that_is_lost_or_damaged_is_made_again(self) -> None:
        before = run_git("rev-parse", "HEAD", folder=self.clone("one")).stdout
        (folder,) = (f for f in (self.service.data / "git").glob("*.git") if self._is_mine(f, before.strip()))
        shutil.rmtree(folder)
        self.assertEqual(run_git("rev-parse", "HEAD", folder=self.clone("two")).stdout, before)
        for file in (folder / "objects").rglob("*"):
            if file.is_file():
                file.unlink()
        self.put({"more.csv": b"a,b\n1,2\n"}, "More")
        three = self.clone("three")
        self.assertEqual(run_git("rev-parse", "HEAD~1", folder=three).stdout, before)

    def test_locks_that_a_killed_process_left(self) -> None:
        before = run_git("rev-parse", "HEAD", folder=self.clone("one")).stdout
        (folder,) = (f for f in (self.service.data / "git").glob("*.git") if self._is_mine(f, before.strip()))
        for lock in ("packed-refs.lock", "refs/heads/main.lock"):
            (folder / lock).touch()
        self.put({"more.csv": b"a,b\n1,2\n"}, "More")
        self.assertEqual(run_git("rev-parse", "HEAD~1", folder=self.clone("two")).stdout, before)

    @staticmethod
    def _is_mine(folder: Path, commit: str) -> bool:
        return run_git("cat-file", "-e", commit, folder=folder, code=None).returncode == 0

    def test_who_may_read(self) -> None:
        refused = run_git("clone", self.address("stranger"), "x", folder=self.home, code=128).stderr
        self.assertIn(f"there is no shelf '{self.shelf.key}' that you may see", refused)
        wrong = self.address().replace(self.service.token(), "es_wrong")
        refused = run_git("clone", wrong, "x", folder=self.home, code=128).stderr
        self.assertIn("The token is not known here, or was revoked. Make another: everyshelf token make NAME", refused)


class PushTests(GitCase):
    """What is pushed becomes commits of the shelf, or is refused in one line."""

    def test_ten_commits_with_a_merge(self) -> None:
        clone = self.clone()
        for number in range(4):
            self.work(clone, {f"a/{number}.txt": b"a\n"}, f"a{number}")
        run_git("checkout", "-q", "-b", "side", "HEAD~2", folder=clone)
        for number in range(5):
            self.work(clone, {f"b/{number}.txt": b"b\n"}, f"b{number}\n\nTask: SK-{number}")
        run_git("checkout", "-q", "main", folder=clone)
        run_git("merge", "-q", "--no-ff", "-m", "Both", "side", folder=clone)
        self.assertIn("10 commits recorded on main", self.push(clone, "origin", "main"))
        commits = list(self.shelf.commits())
        self.assertEqual(len(commits), 12)
        self.assertEqual((commits[0].summary, len(commits[0].parents)), ("Both", 2))
        self.assertEqual({t for c in commits for t in c.tasks}, {f"SK-{n}" for n in range(5)})
        self.assertEqual(commits[1].author, "Purser")
        again = self.clone("again")
        for ref in ("HEAD", "HEAD^2"):
            ids = [run_git("rev-parse", ref, folder=c).stdout for c in (clone, again)]
            self.assertEqual(*ids)
        job = self.shelf.wait(self.shelf.verify())
        self.assertEqual(job.result["problems"], [])

    def test_what_git_alone_knows_stays(self) -> None:
        clone = self.clone()
        (clone / "latest").symlink_to("data/fares.csv")
        self.work(clone, {"run.sh": b"#!/bin/sh\n"}, "Link")
        (clone / "run.sh").chmod(0o755)
        run_git("commit", "-q", "-a", "-m", "Mode", "--author=Åse <aase@pier.example>", folder=clone)
        tip = run_git("rev-parse", "HEAD", folder=clone).stdout
        self.push(clone)
        kinds = {row.path: row.kind for row in self.shelf.artifacts()}
        self.assertEqual(kinds["latest"], "opaque")
        self.assertIn(b'link = "data/fares.csv"', self.content("latest"))
        self.put({"data/fares.csv": b"zone,fare\nZ1,1\n", "run.sh": b"#!/bin/sh\ntrue\n"}, "On the shelf")
        again = self.clone("again")
        self.assertEqual(run_git("rev-parse", "HEAD~1", folder=again).stdout, tip)
        self.assertTrue((again / "latest").is_symlink())
        self.assertTrue((again / "run.sh").stat().st_mode & 0o100)

    def test_artifacts_stay_themselves(self) -> None:
        clone = self.clone()
        run_git("mv", "data/fares.csv", "data/prices.csv", folder=clone)
        run_git("commit", "-q", "-m", "Moved", folder=clone)
        self.work(clone, {"data/prices.csv": b"zone,fare\nZ1,4\nZ2,7\n"}, "Edited")
        run_git("rm", "-q", "apps/board.json", folder=clone)
        run_git("commit", "-q", "-m", "Removed", folder=clone)
        self.work(clone, {"apps/board.json": b'{"title": "Back"}\n', "data/fares.csv": b"zone,fare\nZ9,9\n"}, "Back")
        self.push(clone)
        told = {path: [v.version for v in self.shelf.history(path)] for path in ("data/prices.csv", "apps/board.json")}
        self.assertEqual(told["data/prices.csv"], [4, 3, 2, 1])
        self.assertEqual([n for n in told["apps/board.json"] if n], [2, 1])
        rows = {row.path: row.version for row in self.shelf.artifacts()}
        self.assertEqual(rows, {"apps/board.json": 2, "data/fares.csv": 1, "data/prices.csv": 4})
        self.assertEqual(self.shelf.wait(self.shelf.verify()).result["problems"], [])

    def test_each_refusal_says_what_to_do(self) -> None:
        self.put({"shelf.toml": b'[ignore]\npatterns = ["*.tmp"]\n'}, "Rules")
        for name, files, said in (
            ("ignored", {"x.tmp": b"x"}, "adds x.tmp, which shelf.toml ignores. Take it out of that commit"),
            ("path", {"aux/x": b"x"}, "has 'aux/x', which cannot be the path of an artifact. Rename it"),
            ("rules", {"shelf.toml": b"[ignore\n"}, "Correct it in that commit and push again."),
            (
                "note",
                {
                    "big.csv": b'# Every Shelf content note: x\nform = 1\nsha256 = "%s"\nsize = 9\nkind = "dataset"\n'
                    % (b"a" * 64)
                },
                "has a content note at big.csv, and the shelf does not hold what it stands for",
            ),
        ):
            with self.subTest(name):
                clone = self.clone(name)
                self.work(clone, files)
                head = self.shelf.branch("main").head
                self.assertIn(said, self.push(clone, code=1))
                self.assertEqual(self.shelf.branch("main").head, head)

    def test_refs_that_a_shelf_does_not_take(self) -> None:
        self.shelf.make_tag("spring")
        clone = self.clone()
        self.work(clone, {"x.txt": b"x\n"})
        self.assertIn("neither a branch nor a tag", self.push(clone, "origin", "HEAD:refs/notes/x", code=1))
        self.assertIn("tags neither move nor go", self.push(clone, "-f", "origin", "HEAD:refs/tags/spring", code=1))
        self.assertIn("tags neither move nor go", self.push(clone, "--delete", "origin", "spring", code=1))
        self.assertIn("the main branch cannot be deleted", self.push(clone, "--delete", "origin", "main", code=1))
        run_git("commit", "-q", "--amend", "-m", "Rewritten", folder=clone)
        run_git("reset", "-q", "--hard", "HEAD~2", folder=clone)
        self.work(clone, {"y.txt": b"y\n"})
        said = self.push(clone, "-f", "origin", "HEAD:main", code=1)
        self.assertIn("main has commits that yours are not built on. Run git pull", said)

    def test_rights_and_guards(self) -> None:
        self.shelf.set_member("author", "author")
        self.shelf.set_member("reader", "reader")
        self.shelf.guard_branch("main")
        clone = self.clone(person="author")
        self.work(clone, {"x.txt": b"x\n"})
        said = self.push(clone, code=1)
        self.assertIn("remote: main is guarded. Push to a branch of your own and open a proposal:", said)
        self.assertIn("git push origin HEAD:refs/heads/author/work && everyshelf proposal open author/work", said)
        self.push(clone, "origin", "HEAD:author/work")
        self.assertEqual(self.content("x.txt", "author/work"), b"x\n")
        self.assertIn("needs the role keeper", self.push(clone, "origin", "HEAD:refs/tags/t1", code=1))
        other = self.clone("other", person="reader")
        self.work(other, {"y.txt": b"y\n"})
        self.assertIn("needs the role author; you are reader", self.push(other, "origin", "HEAD:mine", code=1))
        address = self.address("author", ["read"])
        self.assertIn("this token lacks the scope write", self.push(clone, address, "HEAD:mine", code=128))

    def test_tags_come_and_go_out_as_they_were(self) -> None:
        clone = self.clone()
        run_git("tag", "-a", "-m", "Signed off\n\nby Åse", "summer", folder=clone)
        run_git("tag", "light", "HEAD~1", folder=clone)
        self.push(clone, "origin", "--tags")
        tags = {tag.name: tag for tag in self.shelf.tags()}
        self.assertEqual((tags["summer"].note, tags["summer"].created_by), ("Signed off\n\nby Åse", "Purser"))
        again = self.clone("again")
        for name in ("summer", "light"):
            ids = [run_git("rev-parse", name, folder=c).stdout for c in (clone, again)]
            self.assertEqual(*ids)

    def test_all_or_nothing_where_it_is_asked_for(self) -> None:
        clone = self.clone()
        self.work(clone, {"x.txt": b"x\n"})
        self.push(clone, "--atomic", "origin", "HEAD:fine", "HEAD:refs/notes/x", code=1)
        self.assertNotIn("fine", [branch.name for branch in self.shelf.branches()])
        self.push(clone, "origin", "HEAD:fine", "HEAD:refs/notes/x", code=1)
        self.assertIn("fine", [branch.name for branch in self.shelf.branches()])

    def test_of_ten_at_once_one_wins_and_the_others_get_there(self) -> None:
        clones = [self.clone(f"c{n}") for n in range(10)]
        tips = [self.work(clone, {f"{n}.txt": b"x\n"}) for n, clone in enumerate(clones)]
        with concurrent.futures.ThreadPoolExecutor(10) as pool:
            both = [("push", "origin", "main", f"HEAD:refs/heads/own/{n}") for n in range(10)]
            ended = list(pool.map(lambda c, given: run_git(*given, folder=c, code=None), clones, both))
            self.assertEqual(sorted(done.returncode for done in ended), [0] + [1] * 9)
            for done in ended:
                if done.returncode:
                    self.assertTrue("not built on" in done.stderr or "fetch first" in done.stderr, done.stderr)
            rounds = list(pool.map(self._push_until_it_is_there, clones))
        self.assertLessEqual(max(rounds), 10)  # somebody gets there in each round
        self.assertEqual(
            {row.path for row in self.shelf.artifacts()} & {f"{n}.txt" for n in range(10)},
            {f"{n}.txt" for n in range(10)},
        )
        heads = run_git("ls-remote", "origin", "refs/heads/own/*", folder=clones[0]).stdout.split()[::2]
        self.assertEqual(sorted(heads), sorted(tips))

    def _push_until_it_is_there(self, clone: Path) -> int:
        for number in range(12):
            if run_git("push", "origin", "main", folder=clone, code=None).returncode == 0:
                return number
            run_git("pull", "-q", "--rebase", folder=clone)
        raise AssertionError("a push never got there")

    def test_damaged_pushes(self) -> None:
        address = f"{self.service.address}/git/{self.shelf.key}.git/git-receive-pack"
        headers = {"Authorization": f"Bearer {self.service.token()}"}
        line = f"{'0' * 40} {'a' * 40} refs/heads/x\0 report-status\n".encode()
        framed = b"%04x%s0000" % (len(line) + 4, line)
        for body in (b"", b"zzzz", b"00ff", framed, framed + b"PACK", framed + b"PACK\0\0\0\2\0\0\0\1" + b"\0" * 30):
            answer = httpx.post(address, headers=headers, content=body)
            self.assertLess(answer.status_code, 500, body)
        packed = httpx.post(address, headers={**headers, "Content-Encoding": "gzip"}, content=b"no gzip")
        self.assertLess(packed.status_code, 500)
        self.assertEqual([branch.name for branch in self.shelf.branches()], ["main"])


class DescribingTests(GitCase):
    """Each commit under both of its ids."""

    def test_both_ids_and_what_is_kept(self) -> None:
        self.assertEqual([row.git for row in self.shelf.git_commits().items], [None, None])
        clone = self.clone()
        for number in range(4):
            self.work(clone, {f"{number}.sh": b"x\n"}, f"c{number}\n\n\nodd message\n")
            (clone / f"{number}.sh").chmod(0o755)
        run_git("commit", "-q", "-a", "-m", "Modes", folder=clone)
        self.push(clone)
        page = self.shelf.git_commits(limit=3)
        self.assertEqual((page.address, page.total), (f"/git/{self.shelf.key}.git", 7))
        rest = self.shelf.git_commits(limit=100, cursor=page.next or "")
        rows = [*page.items, *rest.items]
        ids = run_git("rev-list", "HEAD", folder=clone).stdout.split()
        self.assertEqual([row.git for row in rows], ids)
        self.assertEqual([row.came for row in rows], [True] * 5 + [False] * 2)
        self.assertEqual(rows[0].kept, ["author with address and time zone", "3.sh as Git has it"])
        self.assertEqual(rows[5].kept, [])

    def test_a_commit_names_all_its_parents_wherever_the_page_ends(self) -> None:
        commits = list(self.shelf.commits())
        address = f"{self.service.address}/api/v1/shelves/{self.shelf.key}/commits?limit=1"
        headers = {"Authorization": f"Bearer {self.service.token()}"}
        (row,) = httpx.get(address, headers=headers).json()["items"]
        self.assertEqual(row["parents"], [commits[1].commit])


class KilledTests(GitCase):
    """Whatever is killed during a push: it is taken whole or not at all."""

    def setUp(self) -> None:
        self.service = Service()
        self.addCleanup(self.service.stop)
        self.client = self.service.client()
        self.shelf = self.client.shelf(self.client.make_shelf("Killed").key)
        commit_files(self.shelf, {"a.csv": b"a,b\n1,2\n"}, "First")
        self.home = Path(tempfile.mkdtemp(prefix="es-clones-"))
        self.addCleanup(shutil.rmtree, self.home, ignore_errors=True)

    def test_a_push_is_taken_whole_or_not_at_all(self) -> None:
        clone = self.clone()
        rng = random.Random(20)
        head = run_git("rev-parse", "HEAD", folder=clone).stdout.strip()
        for number in range(_KILLED):
            for step in range(3):
                self.work(clone, {f"f{number}-{step}.csv": b"a,b\n%d,%d\n" % (number, step)}, f"{number} {step}")
            tip = run_git("rev-parse", "HEAD", folder=clone).stdout.strip()
            pushing = subprocess.Popen(
                ["git", "push", "-q", "origin", "main"], cwd=clone, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
            )
            time.sleep(rng.random() * 0.4)
            if number % 3:
                self.service.kill_group()
                pushing.wait()
                self.service.start()
                acknowledged = pushing.returncode == 0
            else:
                pushing.kill()
                acknowledged = pushing.wait() == 0
            there = self._remote_head(clone)
            self.assertIn(there, (tip,) if acknowledged else (head, tip))
            self.push(clone, "-q", "origin", "main")
            head = tip
        self.assertEqual(self._remote_head(clone), head)
        with self.service.client() as client:
            shelf: ShelfClient = client.shelf(self.shelf.key)
            self.assertEqual(len(list(shelf.commits())), 1 + 3 * _KILLED)
            problems = shelf.wait(shelf.verify()).result["problems"]
        self.assertEqual(problems, [])
        (folder,) = (self.service.data / "git").glob("*.git")
        until(lambda: run_git("fsck", "--full", folder=folder, code=None).returncode == 0, "the repository is damaged")

    def _remote_head(self, clone: Path) -> str:
        return run_git("ls-remote", "origin", "refs/heads/main", folder=clone).stdout.split()[0]
