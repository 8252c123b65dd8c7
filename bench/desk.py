"""T28: committing, taking and looking at a desk of 20,000 files, against Git doing the same.

Both work on files that were written once and synced; each step is measured twice, ours and Git's in turn.
"""

from __future__ import annotations

import dataclasses
import json
import os
import random
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

from tests.support.service import PASSWORD, Service

from bench.measure import Figure

FILES = 20_000
UNCHANGED = 50_000
_ROUNDS = 2
# What cannot be less in Python: asking the system about every file.
_LOOK = """
import os

def look(folder):
    for entry in os.scandir(folder):
        if entry.is_dir(follow_symlinks=False):
            look(entry.path)
        else:
            entry.stat(follow_symlinks=False)

look(".")
"""


def desk() -> Iterator[Figure]:
    """All of them."""
    home = Path(tempfile.mkdtemp(prefix="es-bench-"))
    service = Service()
    bench = _Bench(home, service)
    commit, git_commit, take, git_take = [], [], [], []
    for number in range(_ROUNDS):
        files = bench.files(number, FILES)
        git_commit.append(bench.git_commit(files))
        commit.append(bench.commit(files, number))
        git_take.append(bench.timed("git", "clone", "-q", "--no-local", str(files), str(home / f"clone-{number}")))
        take.append(bench.ours("take", f"shelf-{number}", str(home / f"taken-{number}")))
        for name in (f"clone-{number}", f"taken-{number}", f"desk-{number}"):
            shutil.rmtree(home / name)
    yield _against("commit of 20,000 new files of 1 to 16 kB from a desk", commit, git_commit, 3)
    yield _against("take of 20,000 files", take, git_take, 2)
    yield from bench.pending()
    service.stop()
    shutil.rmtree(home)


def _against(what: str, ours: list[float], git: list[float], most: float) -> Figure:
    ratio = statistics.median(ours) / statistics.median(git)
    detail = f"{statistics.median(ours):.1f} against {statistics.median(git):.1f} s"
    return Figure("T28", f"{what}, against git", ratio, f"<= {most}", ratio <= most, detail)


class _Bench:
    def __init__(self, home: Path, service: Service) -> None:
        self.home = home
        self._environment = {**os.environ, "EVERYSHELF_CONFIG": str(home / "config"), "EVERYSHELF_PASSWORD": PASSWORD}
        self._command = str(Path(sys.executable).parent / "everyshelf")
        self.ours("connect", service.address, "--name", "owner")

    def files(self, seed: int, count: int) -> Path:
        """A Git repository whose files were never committed."""
        rng, folder = random.Random(seed), self.home / f"files-{seed}-{count}"
        words = [f"harbour{n}" for n in range(3_000)]
        for n in range(count):
            file = folder / f"area-{n % 211:03d}" / f"artifact-{n:06d}.{'json' if n % 3 else 'csv'}"
            file.parent.mkdir(parents=True, exist_ok=True)
            size = rng.randint(1_000, 16_000)
            if n % 3:
                file.write_text(json.dumps({"number": n, "text": " ".join(rng.choices(words, k=size // 9))}))
            else:
                rows = (f"{k},{rng.random():.4f},{rng.choice(words)}\n" for k in range(size // 20))
                file.write_text("stop,delay,harbour\n" + "".join(rows))
        subprocess.run(["git", "init", "-q", str(folder)], check=True)
        os.sync()
        return folder

    def git_commit(self, files: Path) -> float:
        """Seconds of adding and committing all."""
        who = ["-c", "user.name=Ines", "-c", "user.email=ines@skerry.example"]
        return self.timed("git", "add", ".", cwd=files) + self.timed("git", *who, "commit", "-qm", "All", cwd=files)

    def commit(self, files: Path, number: int) -> float:
        """Seconds of committing the same files from a desk."""
        self.ours("shelf", "make", f"shelf-{number}")
        place = self.home / f"desk-{number}"
        self.ours("take", f"shelf-{number}", str(place))
        for folder in files.glob("area-*"):
            shutil.copytree(folder, place / folder.name)
        os.sync()
        return self.ours("commit", "--summary", "All", cwd=place)

    def pending(self) -> Iterator[Figure]:
        """States of 50,000 unchanged files, remembered as on any other day."""
        files = self.files(9, UNCHANGED)
        self.git_commit(files)
        self.commit(files, 9)
        place = self.home / "desk-9"
        for folder in (files, place):
            for file in folder.glob("area-*/*"):
                os.utime(file, (1_700_000_000, 1_700_000_000))
        self.timed("git", "status", "--short", cwd=files)
        self.ours("pending", cwd=place)
        ours, git, looks = [], [], []
        for _ in range(5):
            git.append(self.timed("git", "status", "--short", cwd=files))
            ours.append(self.ours("pending", cwd=place))
            looks.append(self.timed(sys.executable, "-c", _LOOK, cwd=place))
        figure = _against("pending, 50,000 unchanged files", ours, git, 3)
        detail = (
            f"{figure.detail}; a process that only asks for every file's size and time: {statistics.median(looks):.2f}"
        )
        yield dataclasses.replace(figure, detail=detail)

    def ours(self, *arguments: str, cwd: Path | None = None) -> float:
        """Seconds of one of our commands."""
        return self.timed(self._command, *arguments, cwd=cwd)

    def timed(self, *command: str, cwd: Path | None = None) -> float:
        """Seconds of a command that succeeds."""
        start = time.perf_counter()
        subprocess.run(command, cwd=cwd or self.home, env=self._environment, check=True, capture_output=True)
        return time.perf_counter() - start
