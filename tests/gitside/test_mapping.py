"""The laws of the mapping: nothing is lost in either direction, and the same history has the same ids everywhere."""

from __future__ import annotations

import tempfile
import unittest
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta, timezone
from pathlib import Path

import msgspec
from hypothesis import given
from hypothesis import strategies as st

from everyshelf.core.errors import InvalidError
from everyshelf.core.history.commits import CommitData, Move
from everyshelf.core.history.trees import Entry
from everyshelf.gitside.idents import Ident, git_name, ident_line, parse_ident
from everyshelf.gitside.settings import MappingSettings
from tests.support.git_objects import ObjectFolder, OddCommit, odd_histories
from tests.support.laws import law
from tests.support.lone_shelf import LoneShelf

SMALL_NOTES = MappingSettings(note_bytes=2000, note_patterns=("*.json",))


@contextmanager
def room() -> Iterator[Path]:
    with tempfile.TemporaryDirectory(prefix="es-mapping-") as folder:
        yield Path(folder)


class FromGitAndBackTests(unittest.TestCase):
    """Law 2: a repository fetched into an empty shelf and sent to an empty repository has the same ids."""

    @law(300)
    @given(odd_histories(), st.sampled_from([MappingSettings(), SMALL_NOTES]))
    def test_every_commit_keeps_its_id(self, history: list[OddCommit], mapped: MappingSettings) -> None:
        with room() as folder:
            made = ObjectFolder(folder / "there").put_history(history)
            shelf = LoneShelf(folder / "shelf", mapped)
            pairs = shelf.fetch(folder / "there")
            back = shelf.send(folder / "back")
            self.assertEqual({g: back[pairs[g]] for g in set(made)}, {g: g for g in set(made)})


_WORDS = st.text(st.characters(exclude_categories=["Cs"], exclude_characters="\0"), max_size=30)
_LINES = _WORDS.map(lambda t: " ".join(t.split()).strip())
_PATHS = ["fares.csv", "data/zones.csv", "data/b.csv", "parts/part-1.csv", "parts/part-2.csv", "run.sh", "big.json"]


@st.composite
def additions(draw: st.DrawFn) -> list[dict[str, object]]:
    """What people do on a shelf, one commit each."""
    return [
        {
            "parents": draw(st.integers(0, 3)),
            "picks": draw(st.lists(st.integers(0, 99), min_size=3, max_size=3)),
            "puts": draw(
                st.dictionaries(st.sampled_from(_PATHS), st.binary(max_size=20) | st.just(b"large"), max_size=3)
            ),
            "gone": draw(st.sampled_from([None, None, *_PATHS])),
            "move": draw(
                st.sampled_from([None, None, ("fares.csv", "data/fares -> new.csv"), ("run.sh", "bin/run.sh")])
            ),
            "whole": draw(st.sampled_from([None, None, None, True, False])),
            "author": draw(_WORDS.filter(str.strip)),
            "zone": draw(st.sampled_from([0, 60, -330])),
            "micros": draw(st.sampled_from([0, 1, 999_999])),
            "summary": draw(_LINES.filter(bool)),
            "description": draw(_WORDS | st.just("a\n\nTask: X") | st.just("\n\nb\n\n")),
            "labels": draw(st.dictionaries(_WORDS, _WORDS, max_size=2)),
            "tasks": draw(st.lists(_WORDS, max_size=2)),
        }
        for _ in range(draw(st.integers(1, 6)))
    ]


def add_all(shelf: LoneShelf, acts: list[dict[str, object]]) -> None:
    """Commit on the shelf, each act onto what the ones before left."""
    for number, act in enumerate(acts):
        known = list(shelf.commits)
        picks = [known[p % len(known)] for p in act["picks"]] if known else []  # type: ignore[attr-defined]
        parents = list(dict.fromkeys(picks))[: act["parents"]]  # type: ignore[misc]
        before = shelf.commits[parents[0]].data.root if parents else shelf.trees.empty
        changes: dict[str, Entry | None] = {}
        for path, data in act["puts"].items():  # type: ignore[attr-defined]
            changes[path] = shelf.entry(path.rpartition("/")[2], data * 600 if data == b"large" else data)
        if act["gone"] and act["gone"] not in changes:
            changes[act["gone"]] = None  # type: ignore[index]
        moves = []
        if act["move"] and (old := shelf.trees.find(before, act["move"][0])):  # type: ignore[index]
            source, target = act["move"]  # type: ignore[misc]
            changes |= {source: None, target: Entry(target.rpartition("/")[2], "artifact", old.id, old.size)}
            moves.append(Move("artifact", source, target))
        try:
            root = shelf.trees.apply(before, changes)
        except InvalidError:  # a file is where a folder would have to be
            root, moves = before, []
        folder = shelf.trees.find(root, "parts")
        if act["whole"] is not None and folder is not None:
            make = shelf.trees.whole if act["whole"] else shelf.trees.parted
            root = shelf.trees.apply(root, {"parts": make("parts", folder.id)})
        zone = timezone(timedelta(minutes=act["zone"]))  # type: ignore[arg-type]
        time = datetime(2026, 3, 1, 9, number, 0, act["micros"], zone)  # type: ignore[arg-type]
        data = CommitData(
            root=root,
            parents=parents,
            author=act["author"],  # type: ignore[arg-type]
            time=time.isoformat(timespec="microseconds"),
            summary=act["summary"],  # type: ignore[arg-type]
            description=act["description"],  # type: ignore[arg-type]
            labels=act["labels"],  # type: ignore[arg-type]
            tasks=act["tasks"],  # type: ignore[arg-type]
            moves=moves,
        )
        shelf.add(data, time.astimezone(UTC) + timedelta(seconds=number, microseconds=act["micros"]))  # type: ignore[arg-type]


class FromTheShelfAndBackTests(unittest.TestCase):
    """Law 1: a shelf's history sent and fetched into an empty shelf says the same, and has the same ids when it is sent."""

    def assert_same(self, folder: Path, shelf: LoneShelf, mapped: MappingSettings, *, held: bool) -> None:
        sent = shelf.send(folder / "sent")
        other = LoneShelf(folder / "other", mapped)
        if held:  # what notes stand for is brought by other means
            for commit in shelf.commits.values():
                for _, entry in shelf.trees.files(commit.data.root):
                    other.store.put(shelf.store.read(entry.id))
        fetched = other.fetch(folder / "sent")
        again = other.send(folder / "again")
        for uid, commit in shelf.commits.items():
            there = other.commits[fetched[sent[uid]]]
            self.assertEqual(again[fetched[sent[uid]]], sent[uid], commit.data)
            if held:
                self.assertEqual(there.data.root, commit.data.root)
                self.assertEqual(fetched[sent[uid]], uid)
            same = [
                msgspec.structs.replace(
                    c.data, parents=[], root="", git="", moves=[Move("", m.before, m.after) for m in c.data.moves]
                )
                for c in (there, commit)
            ]
            self.assertEqual(same[0], same[1])
            self.assertEqual(there.recorded, commit.recorded)
            self.assertEqual(there.data.parents, [fetched[sent[p]] for p in commit.data.parents])

    @law(200)
    @given(additions(), st.sampled_from([MappingSettings(), SMALL_NOTES]), st.booleans())
    def test_a_shelf_alone(self, acts: list[dict[str, object]], mapped: MappingSettings, held: bool) -> None:
        with room() as folder:
            shelf = LoneShelf(folder / "shelf", mapped)
            add_all(shelf, acts)
            self.assert_same(folder, shelf, mapped, held=held or mapped is not SMALL_NOTES)

    @law(200)
    @given(odd_histories(4), additions(), st.sampled_from([MappingSettings(), SMALL_NOTES]))
    def test_a_shelf_that_builds_on_a_repository(
        self, history: list[OddCommit], acts: list[dict[str, object]], mapped: MappingSettings
    ) -> None:
        with room() as folder:
            ObjectFolder(folder / "there").put_history(history)
            shelf = LoneShelf(folder / "shelf", mapped)
            shelf.fetch(folder / "there")
            add_all(shelf, acts)
            self.assert_same(folder, shelf, mapped, held=True)


class IdentTests(unittest.TestCase):
    """Names as Git can hold them."""

    def test_a_name_is_read_as_it_was_written(self) -> None:
        moment = datetime(2026, 3, 1, tzinfo=UTC)
        for name in ("Ines", "0\xa0", " .Åse, ", "a<b>", "\u2003", "x\x85.", "<>"):
            line = ident_line(name, moment)
            self.assertEqual(parse_ident(line), Ident(git_name(name), moment), name)
            self.assertEqual(ident_line(git_name(name), moment), line)
