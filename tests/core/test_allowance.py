"""An answer may take some memory for any file, and more for a large one; what it took is given back."""

from __future__ import annotations

import tempfile
import threading
import unittest
from collections.abc import Callable
from pathlib import Path

from everyshelf.core.errors import InvalidError, LimitError
from everyshelf.core.reading.allowance import (
    FOR_EACH_BYTE,
    FOR_EACH_PACKED_BYTE,
    HELD_BYTES,
    LEAST_BYTES,
    memory_for,
    resident,
)
from everyshelf.core.reading.messages import CompareFiles, FileAt, MergeFiles, OutlineFile, RunQuery
from everyshelf.core.reading.worker import MEMORY_BYTES, Worker
from tests.core.test_hostile_files import CASES
from tests.support.hostile import zipped

_MOST_BYTES = 500 * 1024 * 1024


class AllowanceTests(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory(prefix="es-allowance-")
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def file(self, name: str, data: bytes) -> FileAt:
        path = self.folder / name
        path.write_bytes(data)
        return FileAt(name, str(path))

    def sized(self, name: str, size: int) -> str:
        path = self.folder / name
        with path.open("wb") as file:
            file.truncate(size)
        return str(path)

    def test_it_grows_with_all_that_is_read(self) -> None:
        small, large = self.sized("small", 0), self.sized("large", 10_000_000)
        grown = LEAST_BYTES + 10_000_000 * FOR_EACH_BYTE
        asked = {
            "outline": OutlineFile(file=FileAt("a", large)),
            "two": CompareFiles(before=FileAt("a", small), after=FileAt("a", large), limit=1),
            "beside": OutlineFile(file=FileAt("a", small, {"b": large})),
            "merge": MergeFiles(
                name="a",
                files=(small, small, large),
                output="",
                kind=None,
                prefer=None,
                decisions={},
                names=("target", "source"),
            ),
            "tables": RunQuery(sql="", tables={"t": large}, lists={}, most=1),
            "lists": RunQuery(sql="", tables={}, lists={"l": ("commits", large)}, most=1),
            "answers": RunQuery(sql="", tables={}, lists={}, most=1, answers={"k": large}),
        }
        for name, request in asked.items():
            self.assertEqual(memory_for(request, MEMORY_BYTES), grown, name)
        self.assertEqual(memory_for(OutlineFile(file=FileAt("a", small)), MEMORY_BYTES), LEAST_BYTES)
        packed = self.file("packed.zip", zipped({"a": b""}))
        more = Path(packed.path).stat().st_size * FOR_EACH_PACKED_BYTE
        self.assertEqual(memory_for(OutlineFile(file=packed), MEMORY_BYTES), LEAST_BYTES + more)
        Path(packed.path).unlink()
        self.assertEqual(memory_for(OutlineFile(file=FileAt("a", str(self.folder))), MEMORY_BYTES), grown, "a folder")
        self.assertEqual(memory_for(OutlineFile(file=FileAt("a", large)), LEAST_BYTES + 9), LEAST_BYTES + 9)
        self.assertEqual(memory_for(OutlineFile(file=FileAt("a", large)), 1000), 1000, "a process with little")
        self.assertEqual(memory_for(OutlineFile(file=FileAt("a", "/nowhere")), MEMORY_BYTES), LEAST_BYTES)

    def peak(self, worker: Worker, act: Callable[[], object]) -> int:
        """The most bytes that the reading process holds while it is asked."""
        done, most = threading.Event(), [0]

        def look() -> None:
            while not done.wait(0.01):
                if worker.pid is not None:
                    most[0] = max(most[0], resident(worker.pid))

        looking = threading.Thread(target=look)
        looking.start()
        try:
            act()
        except (LimitError, InvalidError):
            pass
        finally:
            done.set()
            looking.join()
        self.assertGreater(most[0], 0)
        return most[0]

    def test_small_files_and_queries_made_to_hurt_take_no_more(self) -> None:
        worker = Worker()
        self.addCleanup(worker.close)
        for name in ("bomb.xlsx", "columns.csv"):
            file = self.file(name, CASES[name])
            self.assertLess(self.peak(worker, lambda file=file: worker.outline(file)), _MOST_BYTES, name)  # type: ignore[misc]
        for sql in ("SELECT list(range) FROM range(100000000)", "SELECT repeat('x', 1000000) FROM range(100000)"):
            self.assertLess(self.peak(worker, lambda sql=sql: worker.query(sql, {}, {}, 10)), _MOST_BYTES, sql)  # type: ignore[misc]

    def test_what_a_large_file_took_is_given_back(self) -> None:
        worker = Worker()
        self.addCleanup(worker.close)
        fields = b",".join(b'"f%d": {"name": "pier %d", "open": true}' % (n, n) for n in range(400_000))
        file = self.file("large.json", b"{" + fields + b"}")
        self.assertGreater(self.peak(worker, lambda: worker.outline(file)), HELD_BYTES, "a file too small to tell")
        self.assertTrue(worker.pid is None or resident(worker.pid) <= HELD_BYTES)
        self.assertNotIn(worker.outline(self.file("small.json", b'{"a": 1}')).read_as, ("text", "bytes"))


if __name__ == "__main__":
    unittest.main()
