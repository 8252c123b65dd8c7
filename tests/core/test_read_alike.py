"""Versions of one artifact are decoded alike: what nobody changed does not differ because an encoding was guessed twice."""

from __future__ import annotations

import functools
import tempfile
import unittest
from pathlib import Path

from everyshelf.core.compare.artifact import ArtifactSide, compare_artifacts
from everyshelf.core.compare.carried_lines import lines_between
from everyshelf.core.formats.text import decode, read_alike
from everyshelf.core.merge.artifact import Versions, merge_artifacts


class ReadAlikeTests(unittest.TestCase):
    @staticmethod
    @functools.cache
    def guesses() -> list[tuple[bytes, bytes]]:
        """Pairs that differ in one line, of which each alone is taken for another encoding."""
        found = []
        for encoding in ("cp1252", "iso8859-15", "mac-roman", "cp850"):
            for text in ("é", "é à", "ß ü", "œuvre é", "½ é ü", "Łódź", "Ўл", "ж", "ñ ¿"):
                try:
                    one = f"quay\n{text}\npier\n".encode(encoding)
                    other = f"quay\n{text}\npier {text * 3} ferry Ã\n".encode(encoding, "ignore")
                except UnicodeEncodeError:
                    continue
                if decode(one).encoding != decode(other).encoding and "utf-8" not in (
                    decode(one).encoding,
                    decode(other).encoding,
                ):
                    found.append((one, other))
        return found

    def test_a_change_in_one_line_is_one(self) -> None:
        pairs = self.guesses()
        self.assertGreater(len(pairs), 3, "the detector takes all of these alike; other texts are needed")
        for one, other in pairs:
            with self.subTest(one):
                with read_alike(one, other):
                    self.assertEqual(decode(one).encoding, decode(other).encoding)
                    self.assertEqual(decode(one).lines()[1], decode(other).lines()[1])
                found = compare_artifacts(ArtifactSide("a.txt", one), ArtifactSide("a.txt", other))
                self.assertNotIn("encoding", [f.field for f in found.findings])
                assert found.lines is not None
                self.assertEqual((found.lines.added, found.lines.removed), (1, 1))
                step = lines_between(one, other)
                self.assertNotIn(1, list(step.changed))

    def test_a_table_has_the_same_cells(self) -> None:
        for pair in self.guesses():
            with self.subTest(pair[0]), tempfile.TemporaryDirectory() as folder:
                sides = []
                for place, text in enumerate(pair):
                    first, second = text.split(b"\n")[1:3]
                    file = Path(folder, f"{place}.csv")
                    file.write_bytes(b"id,name\n1,%s\n2,x\n3,%s\n" % (first, second))
                    sides.append(ArtifactSide("a.csv", path=file))
                table = compare_artifacts(*sides).answer().table
                assert table is not None
                self.assertEqual(table.cells["name"].changed, 1)

    def test_what_says_its_encoding_keeps_it(self) -> None:
        utf, latin = "Möwe\n".encode(), "Möwe\n".encode("cp1252")
        with read_alike(utf, latin):
            self.assertEqual((decode(utf).encoding, decode(utf).text), ("utf-8", "Möwe\n"))
            self.assertEqual(decode(latin).text, "Möwe\n")
        with read_alike(utf[:2], utf):  # a sample may end within a character
            self.assertEqual(decode(utf).text, "Möwe\n")

    def test_a_merge_reads_all_three_alike(self) -> None:
        for one, other in self.guesses():
            target = one.replace(b"quay", b"harbour")
            merged = merge_artifacts(Versions("a.txt", one, target, other))
            self.assertEqual(merged.conflicts, [])
            self.assertEqual(merged.content, other.replace(b"quay", b"harbour"))


if __name__ == "__main__":
    unittest.main()
