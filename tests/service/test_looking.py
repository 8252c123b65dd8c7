"""Looking at what is there: history, versions, text, outlines, comparison of one artifact."""

from __future__ import annotations

from everyshelf.client import ChangeRequest, CommitMessage, ProblemError
from tests.support.factories import ServiceCase


class HistoryTests(ServiceCase):
    """Who, when, why."""

    def test_commits_carry_what_was_said(self) -> None:
        content = self.shelf.upload(b"1").id
        self.shelf.commit(
            "main",
            None,
            [ChangeRequest("a.txt", content)],
            CommitMessage(
                "First",
                description="More about it.\nIn two lines.",
                labels={"trainer": "0.9"},
                tasks=["SK-1", "SK-2"],
            ),
        )
        found = next(iter(self.shelf.commits()))
        self.assertEqual(
            (found.summary, found.description, found.labels, found.tasks, found.author, found.merge),
            ("First", "More about it.\nIn two lines.", {"trainer": "0.9"}, ["SK-1", "SK-2"], "owner", False),
        )
        self.assertEqual([(a["path"], a["version"]) for a in found.artifacts], [("a.txt", 1)])

    def test_long_history_comes_in_pages(self) -> None:
        for n in range(30):
            self.put({"a.txt": b"%d" % n}, f"commit {n}")
        self.assertEqual([c.summary for c in self.shelf.commits(limit=3)], ["commit 29", "commit 28", "commit 27"])
        self.assertEqual(len({c.commit for c in self.shelf.commits()}), 30)

    def test_past_comes_in_with_its_own_times(self) -> None:
        from datetime import UTC, datetime

        content = self.shelf.upload(b"1").id
        made = self.shelf.commit(
            "main",
            None,
            [ChangeRequest("a.txt", content)],
            CommitMessage("Then", author="ines", time=datetime(2026, 2, 3, 4, 5, tzinfo=UTC)),
        )
        self.assertEqual((made.author, made.recorded), ("ines", datetime(2026, 2, 3, 4, 5, tzinfo=UTC)))
        self.put({"a.txt": b"2"})
        self.assertEqual(self.shelf.read("a.txt", "at:2026-02-03"), b"1")
        self.assertEqual(list(self.shelf.artifacts("at:2026-02-02")), [])

    def test_bad_summaries_are_refused(self) -> None:
        content = self.shelf.upload(b"1").id
        for summary in ("", "   ", "two\nlines", "x" * 301):
            with self.subTest(summary=summary[:10]), self.assertRaises(ProblemError) as caught:
                self.shelf.commit("main", None, [ChangeRequest("a.txt", content)], summary)
            self.assertIn(caught.exception.code, ("commit.summary", "input.invalid"))

    def test_removed_artifact_keeps_its_history(self) -> None:
        self.put({"a.txt": b"1", "b.txt": b"1"})
        before = self.shelf.artifact("a.txt").artifact
        self.put({"a.txt": None})
        with self.assertRaises(ProblemError) as caught:
            self.shelf.artifact("a.txt")
        self.assertEqual(caught.exception.code, "artifact.missing")
        self.put({"a.txt": b"back"})
        self.assertEqual(self.shelf.artifact("a.txt").artifact, before)
        self.assertEqual([v.removed for v in self.shelf.history("a.txt")], [False, True, False])

    def test_new_artifact_at_a_path_left_by_a_move_is_another(self) -> None:
        self.put({"a.txt": b"old"})
        old = self.shelf.artifact("a.txt")
        head = self.shelf.branch("main").head
        fresh = self.shelf.upload(b"fresh").id
        self.shelf.commit(
            "main", head, [ChangeRequest("moved.txt", old.content, "a.txt"), ChangeRequest("a.txt", fresh)], "swap"
        )
        self.assertEqual(self.shelf.artifact("moved.txt").artifact, old.artifact)
        self.assertNotEqual(self.shelf.artifact("a.txt").artifact, old.artifact)
        self.assertEqual(self.shelf.artifact("a.txt").version, 1)

    def test_two_branches_count_versions_together(self) -> None:
        self.put({"a.txt": b"1"})
        self.shelf.make_branch("try")
        self.put({"a.txt": b"2"}, branch="try")
        self.put({"a.txt": b"3"})
        self.assertEqual([(v.version, v.here) for v in self.shelf.history("a.txt")], [(3, True), (2, False), (1, True)])
        self.assertEqual(self.shelf.artifact("a.txt", "try").version, 2)


class ReadingTests(ServiceCase):
    """Text in any encoding, outlines, and one artifact compared."""

    def test_text_is_read_in_a_found_or_chosen_encoding(self) -> None:
        self.put({"a.txt": "Fähre".encode("latin-1") * 30, "b.bin": b"\x00\x01"})
        self.assertTrue(self.shelf.text("a.txt")["text"].startswith("Fähre"))
        self.assertEqual(self.shelf.text("a.txt", encoding="cp850")["text"][:2], "Fõ")
        for path, encoding, status in (("b.bin", None, 422), ("a.txt", "utf-8", 422), ("a.txt", "nope", 400)):
            with self.subTest(path=path, encoding=encoding), self.assertRaises(ProblemError) as caught:
                self.shelf.text(path, encoding=encoding)
            self.assertEqual(caught.exception.status, status)

    def test_long_text_is_cut_at_a_line(self) -> None:
        self.put({"a.txt": b"0123456789\n" * 300_000})
        found = self.shelf.text("a.txt")
        self.assertEqual((found["truncated"], found["size"]), (True, 3_300_000))
        self.assertTrue(found["text"].endswith("9\n"))

    def test_outline_of_a_version(self) -> None:
        self.put({"p.json": b'{"steps": [{"id": "a", "next": "b"}, {"id": "b"}]}'})
        self.put({"p.json": b'{"steps": [{"id": "a", "next": "c"}, {"id": "c"}]}'})
        found = self.shelf.outline("p.json", version=1)
        self.assertEqual([p.path for p in found.parts[0].parts], ["/step:a", "/step:b"])
        self.assertEqual(found.kind, "pipeline")

    def test_one_artifact_is_compared_between_anything(self) -> None:
        self.put({"p.json": b'{"limit": 1}'})
        self.shelf.make_tag("t")
        self.put({"p.json": b'{"limit": 2}'})
        for before, after in (("tag:t", "main"), ("version:1", "version:2"), ("tag:t", "version:2")):
            found = self.shelf.compare_artifact("p.json", before, after)
            self.assertEqual([(f.field, f.before, f.after) for f in found.findings], [("limit", 1, 2)])
            self.assertEqual((found.before.version, found.after.version), (1, 2))
        self.assertTrue(self.shelf.compare_artifact("p.json", "main", "main").equal)
        with self.assertRaises(ProblemError) as caught:
            self.shelf.compare_artifact("none.json", "tag:t")
        self.assertEqual(caught.exception.code, "artifact.missing")
        with self.assertRaises(ProblemError) as caught:
            self.shelf.compare_artifact("p.json", "version:1", "version:9")
        self.assertEqual(caught.exception.code, "version.missing")

    def test_added_and_removed_are_one_finding_each(self) -> None:
        self.put({"a.json": b'{"a": [1, 2, 3]}'})
        self.shelf.make_tag("t")
        self.put({"a.json": None, "b.json": b'{"b": {"c": 1}}'})
        found = self.shelf.compare("tag:t")
        self.assertEqual(
            [(a.path, a.state, len(a.findings)) for a in found.artifacts],
            [("a.json", "gone", 1), ("b.json", "new", 1)],
        )
        self.assertIn("1 new artifact, 1 gone", found.sentence)

    def test_empty_branch_compares_with_anything(self) -> None:
        self.shelf.make_branch("empty")
        self.put({"a.txt": b"1"})
        self.assertEqual(self.shelf.compare("empty", "main").counts["new"], 1)
        self.assertEqual(self.shelf.compare("main", "main").sentence, "Nothing differs.")

    def test_ignored_fields_of_the_shelf_count(self) -> None:
        self.put({"shelf.toml": b'[fields]\nignore = ["stamp"]\n', "a.json": b'{"a": 1, "stamp": 1}'})
        self.shelf.make_tag("t")
        self.put({"a.json": b'{"a": 1, "stamp": 2}'})
        self.assertEqual(self.shelf.compare("tag:t").artifacts[0].findings, [])

    def test_kind_changes_are_told(self) -> None:
        self.put({"thing.json": b'{"a": 1}'})
        self.shelf.make_tag("t")
        self.put({"thing.json": b'{"cells": [], "metadata": {}, "nbformat": 4}'})
        self.assertIn("read as settings before and as notebook after", self.shelf.compare("tag:t").artifacts[0].note)
