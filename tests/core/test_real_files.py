"""Real files that were not written for this project: whatever packages on this machine happen to ship.

Each is read, compared with itself written differently, and with one value changed; the expected findings come from the
change itself, which this module makes with the standard library alone.
"""

from __future__ import annotations

import csv
import io
import json
import random
import sysconfig
import unittest
import xml.etree.ElementTree as ET
from collections import Counter
from pathlib import Path
from typing import Any

import yaml

from everyshelf.core.compare.artifact import ArtifactSide, compare_artifacts
from everyshelf.core.kinds.recognise import recognise
from tests.support.factories import compared

PLACES = [
    Path(sysconfig.get_paths()["purelib"]),
    Path(__file__).parents[2] / "console" / "node_modules",
    Path("/usr/share"),
]
MOST_BYTES = 300_000


def real_files(suffixes: tuple[str, ...], most: int) -> list[Path]:
    """Up to ``most`` files from the places, evenly over them, the same ones each time."""
    found: list[Path] = []
    for place in PLACES:
        if place.is_dir():
            own = sorted(
                p
                for s in suffixes
                for p in place.rglob(f"*{s}")
                if p.is_file() and not p.is_symlink() and 2 < p.stat().st_size < MOST_BYTES
            )
            found += random.Random(1).sample(own, min(most // 2, len(own)))
    return found[:most]


def leaf_paths(tree: Any, path: tuple[Any, ...] = ()) -> list[tuple[Any, ...]]:
    if isinstance(tree, dict):
        return [p for k, v in tree.items() for p in leaf_paths(v, (*path, k))]
    if isinstance(tree, list):
        return [p for k, v in enumerate(tree) for p in leaf_paths(v, (*path, k))]
    return [path] if path else []


def changed_at(tree: Any, path: tuple[Any, ...], value: Any) -> Any:
    copy = json.loads(json.dumps(tree))
    holder = copy
    for key in path[:-1]:
        holder = holder[key]
    holder[path[-1]] = value
    return copy


class JsonFilesTests(unittest.TestCase):
    """Every JSON file found."""

    def trees(self) -> list[tuple[Path, Any]]:
        result = []
        for path in real_files((".json",), 160):
            try:
                result.append((path, json.loads(path.read_text(encoding="utf-8-sig"))))
            except (ValueError, UnicodeDecodeError):
                continue
        self.assertGreater(len(result), 40)
        return result

    def test_written_differently_is_no_finding(self) -> None:
        fell_back = Counter()
        for path, tree in self.trees():
            with self.subTest(path=path.name):
                turned = json.dumps(tree, indent=7, sort_keys=True, ensure_ascii=True).encode()
                found = compare_artifacts(
                    ArtifactSide(path.name, path.read_bytes()), ArtifactSide(path.name, turned)
                ).as_json()
                fell_back[found["kind"], found["read_as"] == "text"] += 1
                if found["read_as"] != "text":
                    self.assertEqual([f for f in found["findings"] if f["effect"] != "cosmetic"], [])
        texts = sum(n for (_, text), n in fell_back.items() if text)
        print(f"JSON: {sum(fell_back.values())} files, {texts} fell back to text")
        self.assertLess(texts, sum(fell_back.values()) / 20)

    def test_one_changed_leaf_is_one_finding_with_both_values(self) -> None:
        rng, exact, tried = random.Random(7), 0, 0
        for path, tree in self.trees():
            leaves = [p for p in leaf_paths(tree) if isinstance(p[-1], str)]
            if not leaves or recognise(path.name, path.read_bytes()).kind in ("dataset", "tests"):
                continue
            where = rng.choice(leaves)
            found = compared(tree, changed_at(tree, where, "a value nobody had before"), path.name)
            if found["read_as"] == "text":
                continue
            tried += 1
            self.assertFalse(found["equal"], f"{path} {where}")
            told = [
                f
                for f in found["findings"]
                if f["after"] == "a value nobody had before" or f["action"] in ("renamed", "added")
            ]
            self.assertTrue(told, f"{path} {where}: {found['findings'][:3]}")
            exact += len(found["findings"]) == 1
        print(f"JSON: {exact} of {tried} single changes told as exactly one finding")
        self.assertGreater(exact, tried * 0.9)

    def test_removed_member_is_one_finding(self) -> None:
        rng, exact, tried = random.Random(8), 0, 0
        for path, tree in self.trees():
            if not isinstance(tree, dict) or len(tree) < 2:
                continue
            gone = rng.choice(sorted(tree))
            found = compared(tree, {k: v for k, v in tree.items() if k != gone}, path.name)
            if found["read_as"] == "text" or recognise(path.name, json.dumps(tree).encode()).kind != found["kind"]:
                continue
            tried += 1
            self.assertFalse(found["equal"], f"{path} without {gone}")
            exact += len(found["findings"]) == 1 and found["findings"][0]["action"] == "removed"
        print(f"JSON: {exact} of {tried} removed members told as exactly one removal")
        self.assertGreater(exact, tried * 0.85)


class YamlFilesTests(unittest.TestCase):
    """Every YAML file found."""

    def test_comments_and_layout_are_no_finding(self) -> None:
        read = 0
        for path in real_files((".yml", ".yaml"), 120):
            data = path.read_bytes()
            try:
                tree = yaml.safe_load(data)
            except (yaml.YAMLError, UnicodeDecodeError, ValueError):
                continue
            if not isinstance(tree, dict | list) or data.startswith((b"%", b"\xef\xbb\xbf")):
                continue
            with self.subTest(path=path.name):
                found = compare_artifacts(
                    ArtifactSide(path.name, data), ArtifactSide(path.name, b"# one more comment\n" + data)
                ).as_json()
                self.assertEqual(found["findings"], [], path)
                read += found["read_as"] != "text"
        self.assertGreater(read, 5)


class XmlFilesTests(unittest.TestCase):
    """Every XML and SVG file found."""

    def test_written_differently_is_no_finding(self) -> None:
        read = tried = 0
        for path in real_files((".xml", ".svg"), 120):
            data = path.read_bytes()
            try:
                root = ET.fromstring(data)
            except (ET.ParseError, ValueError):
                continue
            if b"<!ENTITY" in data or b"<!DOCTYPE" in data:
                continue
            tried += 1
            turned = ET.tostring(root, encoding="utf-8", xml_declaration=True)
            found = compare_artifacts(ArtifactSide(path.name, data), ArtifactSide(path.name, turned)).as_json()
            with self.subTest(path=path):
                if found["read_as"] != "text":
                    read += 1
                    self.assertEqual([f for f in found["findings"] if f["effect"] != "cosmetic"], [])
        print(f"XML: {read} of {tried} files read as elements")
        self.assertTrue(tried == 0 or read > tried * 0.9)


class AnyFileTests(unittest.TestCase):
    """Every other file: an answer, whatever it holds."""

    def test_every_kind_of_file_gets_an_answer(self) -> None:
        files = real_files(
            (
                ".csv",
                ".toml",
                ".ini",
                ".cfg",
                ".md",
                ".txt",
                ".html",
                ".css",
                ".js",
                ".ts",
                ".py",
                ".png",
                ".gz",
                ".woff2",
                ".map",
                ".so",
            ),
            200,
        )
        self.assertGreater(len(files), 60)
        for path in files:
            data = path.read_bytes()
            with self.subTest(path=path):
                found = compare_artifacts(
                    ArtifactSide(path.name, data), ArtifactSide(path.name, data + b"\n#\n")
                ).as_json()
                self.assertIn(found["read_as"], ("text", "bytes", found["kind"]))
                self.assertTrue(
                    compare_artifacts(ArtifactSide(path.name, data), ArtifactSide(path.name, data)).as_json()["equal"]
                )

    def test_tables_keep_every_row(self) -> None:
        tried = 0
        for path in real_files((".csv",), 60):
            try:
                text = path.read_text(encoding="utf-8")
                rows = [r for r in csv.reader(io.StringIO(text)) if r]
            except (UnicodeDecodeError, csv.Error):
                continue
            if len(rows) < 4 or len({len(r) for r in rows}) > 1 or len(rows[0]) < 2:
                continue
            tried += 1
            out = io.StringIO()
            csv.writer(out, delimiter=";", quoting=csv.QUOTE_ALL).writerows(rows)
            found = compare_artifacts(
                ArtifactSide(path.name, text.encode()), ArtifactSide(path.name, out.getvalue().encode())
            ).as_json()
            with self.subTest(path=path):
                self.assertEqual([f for f in found["findings"] if f["effect"] != "cosmetic"], [])
        print(f"CSV: {tried} tables kept every row")


class SweepTests(unittest.TestCase):
    """Files of every format found, a dozen each, saved again with other line ends."""

    SUFFIXES = [
        ".json",
        ".yaml",
        ".yml",
        ".xml",
        ".toml",
        ".ini",
        ".cfg",
        ".conf",
        ".properties",
        ".md",
        ".html",
        ".svg",
        ".py",
        ".sql",
        ".js",
        ".mjs",
        ".ts",
        ".sh",
        ".csv",
        ".rst",
        ".xsl",
        ".service",
        ".desktop",
    ]

    def test_other_line_ends_change_nothing_and_no_reader_fails(self) -> None:
        seen, fell_back = Counter(), Counter()
        for suffix in self.SUFFIXES:
            for path in real_files((suffix,), 24):
                data = path.read_bytes()
                if b"\0" in data:
                    continue
                other = data.replace(b"\r\n", b"\n").replace(b"\n", b"\r\n")
                found = compare_artifacts(ArtifactSide(path.name, data), ArtifactSide(path.name, other)).as_json()
                with self.subTest(path=str(path)):
                    self.assertEqual([f for f in found["findings"] if f["effect"] != "cosmetic"], [])
                    self.assertNotIn("its reader failed", found["note"])
                seen[found["kind"]] += 1
                fell_back[found["kind"]] += found["note"].startswith("compared as")
        for kind, count in sorted(seen.items()):
            print(f"    {kind}: {count} real files, {fell_back[kind]} fell back to text")
        self.assertGreater(sum(seen.values()), 100)
        self.assertLess(sum(fell_back.values()) * 4, sum(seen.values()))
