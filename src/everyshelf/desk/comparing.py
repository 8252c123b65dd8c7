"""The desk compared with a state of its shelf, on this machine: the service is asked only for contents the desk lacks.

1. Paths whose contents differ are found by their ids, files of a folder kept whole under that folder.
2. A new path with the content of exactly one that is gone is that artifact, moved; as ``find_states`` and the shelf do.
3. Each artifact there on both sides is compared by meaning in a reading process.
"""

from __future__ import annotations

import tempfile
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from everyshelf.core.answers.comparisons import Compared
from everyshelf.core.answers.states import ArtifactState, ComparedArtifact, Parted, RefAnswer, StateComparison
from everyshelf.core.outline.model import EFFECTS
from everyshelf.desk.kinds import files_beside, kinds_on_desk

if TYPE_CHECKING:
    from everyshelf.client import ShelfClient
    from everyshelf.core.reading.worker import Worker
    from everyshelf.desk.desk import Desk
    from everyshelf.desk.states import Item

Progress = Callable[[int, int, str], None]
_OTHER_WAY: dict[ArtifactState, ArtifactState] = {"new": "gone", "gone": "new", "edited": "edited", "moved": "moved"}


@dataclass(frozen=True)
class _Pair:
    """An artifact that differs: what is on the desk (None: nothing), and content ids of its files at the ref by path.

    ``beside``: content ids at the ref, by name, of files that belong to it. ``old_path``: where it was at the ref.
    """

    path: str
    item: Item | None
    contents: dict[str, str]
    beside: dict[str, str] = field(default_factory=dict)
    old_path: str = ""

    @property
    def state(self) -> ArtifactState:
        """new, gone, moved or edited, as seen from the ref."""
        if not self.contents:
            return "new"
        if self.item is None:
            return "gone"
        return "moved" if self.old_path else "edited"


def compare_desk(
    desk: Desk, shelf: ShelfClient, ref: str, artifact: str | None, progress: Progress, *, backwards: bool = False
) -> StateComparison:
    """Compare ``ref`` with the desk (``backwards``: the desk with ``ref``), or one artifact of both.

    Returns artifacts, counts, effects and a sentence, as the service does for two states of the shelf.
    """
    from everyshelf.core.compare.sentences import rank_of, states_sentence
    from everyshelf.core.history.names import distinct_names
    from everyshelf.core.reading.worker import WHOLE_SECONDS, Worker

    parted = _parted(desk, shelf, ref)
    pairs = _moved(_pairs(desk, shelf, f"commit:{parted.commit}" if parted else ref))
    if artifact is not None:
        path = desk.as_path(artifact)
        pairs = [p for p in pairs if path in (p.path, p.old_path)]
    worker, names = Worker(deadline_seconds=WHOLE_SECONDS), distinct_names(p.path for p in pairs)
    artifacts: list[ComparedArtifact] = []
    kinds = kinds_on_desk(desk, [p.item for p in pairs if p.item is not None])
    try:
        with tempfile.TemporaryDirectory() as scratch:
            for done, pair in enumerate(pairs):
                progress(done, len(pairs), pair.path)
                compared = _compared(desk, shelf, worker, Path(scratch, str(done)), pair, kinds, backwards=backwards)
                compared.name = names[pair.path]
                artifacts.append(compared)
    finally:
        worker.close()
    states = Counter(artifact.state for artifact in artifacts)
    counts: dict[ArtifactState, int] = {state: states[state] for state in _OTHER_WAY}
    sides = RefAnswer(ref=ref), RefAnswer(ref="desk", kind="desk")
    return StateComparison(
        from_=sides[1] if backwards else sides[0],
        to=sides[0] if backwards else sides[1],
        artifacts=sorted(artifacts, key=lambda a: (rank_of(a), a.path)),
        counts=counts,
        effects={effect: sum(a.effects.get(effect, 0) for a in artifacts) for effect in EFFECTS},
        sentence=states_sentence(artifacts) + (f" {_left_out(parted)}" if parted else ""),
        pending=0,
        same=None,
        job=None,
        parted=parted,
    )


def _parted(desk: Desk, shelf: ShelfClient, ref: str) -> Parted | None:
    """Where the desk's line parted from another branch that went on since; None for any other ref."""
    if ":" in ref or ref == (desk.home.branch or desk.home.ref) or not desk.home.commit:
        return None
    found = shelf.parted(ref, f"commit:{desk.home.commit}")
    return found if found.commit else None


def _left_out(parted: Parted) -> str:
    from everyshelf.core.compare.sentences import count_noun

    return f"{parted.ref} has {count_noun(parted.newer, 'newer commit')}, left out here."


def _pairs(desk: Desk, shelf: ShelfClient, ref: str) -> list[_Pair]:
    """What differs between the desk and a ref; a folder kept whole is one artifact."""
    from everyshelf.desk.states import find_wholes
    from everyshelf.desk.store import load_entries

    items = {i.path: i for i in desk.states() if i.state not in ("gone", "blocked")}
    if ref == (desk.home.branch or desk.home.ref):
        there = {p: e.content for p, e in load_entries(desk.root).items()}
        wholes = find_wholes(desk.root)
    else:
        artifacts = [a for a in shelf.artifacts(ref, files=True) if not a.in_place]
        there = {a.path: a.content for a in artifacts}
        if ref.startswith("tag:") and (selection := shelf.tag(ref.removeprefix("tag:")).selection) is not None:
            items = {p: i for p, i in items.items() if any(p == one or p.startswith(f"{one}/") for one in selection)}
        wholes = sorted({a.within for a in artifacts if a.within} | set(find_wholes(desk.root)))
    pairs: dict[str, _Pair] = {}
    for path in sorted(items.keys() | there.keys()):
        if (items[path].content if path in items else None) == there.get(path):
            continue
        whole = next((w for w in wholes if path.startswith(f"{w}/")), None)
        if whole is None:
            content = there.get(path)
            held = {path: content} if content is not None else {}
            pairs[path] = _Pair(path, items.get(path), held, _beside_at(path, there))
        elif whole not in pairs:
            inside = {p: c for p, c in there.items() if p.startswith(f"{whole}/")}
            item = next((i for p, i in items.items() if p.startswith(f"{whole}/")), None)
            pairs[whole] = _Pair(whole, item, inside)
    return list(pairs.values())


def _moved(pairs: list[_Pair]) -> list[_Pair]:
    """Pairs with a path that is gone and one that came with the same content, each the only one with it, made one."""
    came = Counter(p.item.content for p in pairs if p.item is not None and p.state == "new")
    left: dict[str, list[_Pair]] = {}
    for pair in pairs:
        if pair.state == "gone" and list(pair.contents) == [pair.path]:
            left.setdefault(pair.contents[pair.path], []).append(pair)
    told, taken = [], set()
    for pair in pairs:
        content = pair.item.content or "" if pair.item is not None and pair.state == "new" else ""
        old = left.get(content, [])
        if content and came[content] == 1 and len(old) == 1:
            taken.add(old[0].path)
            told.append(_Pair(pair.path, pair.item, old[0].contents, old_path=old[0].path))
        else:
            told.append(pair)
    return [pair for pair in told if pair.path not in taken]


def _beside_at(path: str, there: dict[str, str]) -> dict[str, str]:
    from everyshelf.core.kinds.beside import belonging, may_have_beside

    if not may_have_beside(path):
        return {}
    folder, _, name = path.rpartition("/")
    siblings = {p.rpartition("/")[2]: c for p, c in there.items() if p.rpartition("/")[0] == folder}
    return {sibling: siblings[sibling] for sibling in belonging(name, siblings)}


def _compared(
    desk: Desk,
    shelf: ShelfClient,
    worker: Worker,
    scratch: Path,
    pair: _Pair,
    kinds: dict[str, str],
    *,
    backwards: bool,
) -> ComparedArtifact:
    path, item = pair.path, pair.item
    kind = kinds[item.path] if item is not None else _kind_before(desk, next(iter(pair.contents)))
    if pair.state != "edited" or item is None:
        return _unread(pair, kind, backwards=backwards)
    from everyshelf.core.compare.options import CompareOptions
    from everyshelf.core.compare.sentences import effect_of, headline
    from everyshelf.core.kinds.rules import parse_rules
    from everyshelf.core.reading.messages import FileAt

    beside = {name: scratch / "beside" / name for name in pair.beside}
    wanted = [(scratch / "old" / place, content) for place, content in pair.contents.items()]
    for old, content in (*wanted, *((beside[name], content) for name, content in pair.beside.items())):
        old.parent.mkdir(parents=True, exist_ok=True)
        desk.write_base(content, old, shelf)
    sides = [(scratch / "old" / path, beside), (desk.root / path, files_beside(desk.root / path))]
    before, after = (
        FileAt(path, str(file), {name: str(near) for name, near in held.items()})
        for file, held in (reversed(sides) if backwards else sides)
    )
    rules = desk.root / "shelf.toml"
    text = rules.read_text(errors="replace") if rules.is_file() else ""
    found = worker.compare(before, after, CompareOptions(parse_rules(text)))
    return ComparedArtifact(
        **{name: getattr(found, name) for name in Compared.__struct_fields__},
        path=path,
        old_path=path,
        name="",
        state="edited",
        pending=False,
        effect=effect_of(found) if found.findings else None,
        headline=headline(found) if found.findings else found.note,
    )


def _unread(pair: _Pair, kind: str, *, backwards: bool) -> ComparedArtifact:
    """An artifact that came, went or moved, whatever it holds."""
    state = _OTHER_WAY[pair.state] if backwards else pair.state
    return ComparedArtifact(
        path=pair.path,
        old_path=pair.old_path or pair.path,
        name="",
        state=state,
        pending=False,
        kind=kind,
        effect="alters",
        headline=f"moved from {pair.old_path}" if pair.old_path else state,
        counts={},
        effects={"breaks": 0, "alters": 1, "cosmetic": 0},
        judged=True,
        findings=[],
        read_as="",
        note="",
        truncated=False,
    )


def _kind_before(desk: Desk, path: str) -> str:
    from everyshelf.desk.store import load_entries

    entry = load_entries(desk.root).get(path)
    return entry.kind if entry else "opaque"
