"""What a pack would take is known before it is unpacked, and nothing in it brings the reader down."""

from __future__ import annotations

import hashlib
import io
import os
import random
import subprocess
import tempfile
import unittest
import zlib
from pathlib import Path

from everyshelf.core.errors import InvalidError, LimitError
from everyshelf.gitside.pack_limits import MIB, PackLimits, check_pack
from tests.support.git import run_git
from tests.support.packs import delta_bomb, head, pack


def _check(data: bytes, limits: PackLimits | None = None) -> int:
    return check_pack(io.BytesIO(data), limits or PackLimits(), lambda: None)


class PackTests(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        folder = Path(tempfile.mkdtemp(prefix="es-pack-"))
        cls.addClassCleanup(subprocess.run, ["rm", "-rf", str(folder)], check=True)
        run_git("init", "-q", "-b", "main", ".", folder=folder)
        rng = random.Random(3)
        lines = [f"{n},{rng.random()}" for n in range(4_000)]
        for step in range(12):
            lines[rng.randrange(len(lines))] = f"changed {step}"
            (folder / "t.csv").write_text("\n".join(lines))
            (folder / f"noise{step}").write_bytes(os.urandom(300_000))
            run_git("add", "-A", folder=folder)
            run_git("commit", "-q", "-m", f"step {step}", folder=folder)
        run_git("tag", "-a", "-m", "a tag", "one", folder=folder)
        cls.packs = [
            subprocess.run(
                ["git", "pack-objects", "--all", "--revs", "--stdout", "-q", *options],
                cwd=folder,
                input=b"",
                capture_output=True,
                check=True,
            ).stdout
            for options in (["--delta-base-offset"], [])
        ]
        cls.objects = int(run_git("rev-list", "--all", "--objects", "--count", folder=folder).stdout)

    def test_packs_of_git_are_gone_through_to_the_end(self) -> None:
        for data in self.packs:
            self.assertEqual(_check(data), self.objects)

    def test_each_limit_acts(self) -> None:
        for limits in (
            PackLimits(objects=self.objects - 1),
            PackLimits(blob=200_000),
            PackLimits(delta=1_000),
            PackLimits(unpacked=MIB),
            PackLimits(commit=10),
            PackLimits(tree=20),
            PackLimits(depth=1),
        ):
            with self.subTest(limits):
                with self.assertRaises(LimitError) as caught:
                    _check(self.packs[0], limits)
                self.assertEqual(caught.exception.code, "git.size")

    def test_a_small_pack_that_stands_for_gigabytes_is_refused(self) -> None:
        data = delta_bomb()
        self.assertLess(len(data), 20_000)
        with self.assertRaises(LimitError):
            _check(data)
        zeros = pack([(3, 100 * MIB, zlib.compress(bytes(100 * MIB), 9))])
        self.assertEqual(_check(zeros), 1)
        with self.assertRaises(LimitError):
            _check(zeros, PackLimits(unpacked=10 * MIB))

    def test_what_lies_about_its_size_is_damaged(self) -> None:
        for size in (5, 50, 1 << 40):
            with self.subTest(size), self.assertRaises((InvalidError, LimitError)):
                _check(pack([(3, size, zlib.compress(b"ten bytes."))]))

    def test_whatever_is_damaged_is_told(self) -> None:
        rng, data = random.Random(5), self.packs[0]
        small = pack([(3, 10, zlib.compress(b"ten bytes.")), (6, 4, b"\x05" + zlib.compress(b"\x0a\x0a\x90\x0a"))])
        for number in range(400):
            changed = bytearray(data if number % 2 else small)
            for _ in range(rng.randrange(1, 4)):
                changed[rng.randrange(len(changed))] = rng.randrange(256)
            if number % 3 == 0:
                del changed[rng.randrange(len(changed)) :]
            try:
                _check(bytes(changed))
            except (InvalidError, LimitError):
                pass  # told; anything else fails the test

    def test_long_numbers_end(self) -> None:
        body = b"\xff" * 40
        data = b"PACK" + (2).to_bytes(4, "big") + (1).to_bytes(4, "big") + body
        with self.assertRaises(InvalidError):
            _check(data + hashlib.sha1(data, usedforsecurity=False).digest())
        self.assertEqual(head(3, 10), b"\x3a")


if __name__ == "__main__":
    unittest.main()
