"""The graph of who names whom at one state of a shelf, and at the main branches of the other shelves one may see.

It is never held as a whole: a node's links are found by the keys under which references to it are kept, and hold only
where the version that was read is the one in the state.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from functools import cached_property

from django.db.models import QuerySet

from everyshelf.core.answers.uses import FileReferences, Reference
from everyshelf.core.history.names import path_of_tail
from everyshelf.core.uses.impact import Link, Node, is_certain
from everyshelf.core.uses.names import TABULAR, files_meant, keys_for, keys_of, may_mean, may_mean_file, stem
from everyshelf.service.base.context import get_trees
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.actions.refs import Resolved
from everyshelf.service.shelves.actions.seen import versions_at
from everyshelf.service.shelves.actions.seen_shapes import SeenVersion
from everyshelf.service.shelves.actions.shelves import visible_shelves
from everyshelf.service.shelves.models import ArtifactVersion, Commit, Shelf
from everyshelf.service.uses.actions.reading import reader_mark, unpacked, words_wanted
from everyshelf.service.uses.models import NamedKey, NamesRead

_MOST_ALIKE = 500
_MOST_LINKS = 20_000
_AT_ONCE = 500
_MOST_READ = 10_000  # beyond, the answer says that there are more
# What only makes sense within one shelf: files lie beside each other there, and tables have short names.
_OF_ONE_SHELF = ("file:", "table:")
_READ_AT_ONCE = 200
_MOST_PLACES = 5000
# Artifacts that may hold a key; of each the readings of its versions, by their contents.
_Holders = dict[Node, dict[str, int]]
_HOLDS = "uses_namedkey.read_id IN (SELECT rowid FROM uses_words WHERE uses_words MATCH %s)"


@dataclass
class State:
    """One state of one shelf."""

    shelf: Shelf
    root: str
    commit: Commit | None
    _known: dict[str, str | None] = field(default_factory=dict)

    def content(self, path: str) -> str | None:
        """The content id of the artifact at a path; None where none is."""
        if not path or path.startswith(("/", "..")):
            return None
        if path not in self._known:
            entry = get_trees().find(self.root, path)
            self._known[path] = entry.id if entry is not None and entry.type != "folder" else None
        return self._known[path]

    def has(self, path: str) -> bool:
        """Whether an artifact is at this path."""
        return self.content(path) is not None

    def ending(self, name: str) -> list[str]:
        """The paths with this file name, in order; of very many, some."""
        # A range and no LIKE, for which SQLite would not use the index; "0" is what comes after "/".
        return self._by_tail(f"{name}/", f"{name}0")

    def named(self, name: str) -> list[str]:
        """The paths of tabular artifacts whose file name is this one with an ending."""
        found = self._by_tail(f"{name}.", f"{name}/")
        versions = self.versions(found)
        return [path for path in found if path in versions and versions[path].kind in TABULAR and stem(path) == name]

    def _by_tail(self, first: str, last: str) -> list[str]:
        of_shelf = ArtifactVersion.objects.filter(shelf=self.shelf, tail__gte=first, tail__lt=last)
        tails = of_shelf.order_by("tail").values_list("tail", flat=True).distinct()[:_MOST_ALIKE]
        return sorted(path for tail in tails if self.has(path := path_of_tail(tail)))

    def versions(self, paths: Iterable[str]) -> dict[str, SeenVersion]:
        """The versions at these paths."""
        contents = {path: content for path in paths if (content := self.content(path)) is not None}
        return versions_at(self.shelf, self.commit, contents)


class ShelfGraph:
    """Links of the artifacts of ``shelf`` at ``at``, and of other shelves the caller may see."""

    def __init__(self, caller: Caller, shelf: Shelf, at: Resolved) -> None:
        self._own = State(shelf, at.root, at.commit)
        self._caller = caller
        self._named: dict[Node, FileReferences | None] = {}
        self._seen: dict[Node, SeenVersion] = {}
        self._kinds: dict[Node, str] = {}
        self._meant: dict[tuple[Node, str, str], list[Node]] = {}
        self.cut = False  # whether more artifacts name something than are read

    @cached_property
    def states(self) -> dict[str, State]:
        """The states by key of their shelf, those of shelves that hold no commit left out."""
        found = {self._own.shelf.key: self._own}
        for shelf in visible_shelves(self._caller):
            if shelf.key not in found:
                main = shelf.branches.select_related("head").filter(name=shelf.main_branch).first()
                if main is not None and main.head is not None:
                    found[shelf.key] = State(shelf, main.head.root, main.head)
        return found

    @cached_property
    def _keys(self) -> dict[int, str]:
        return {state.shelf.pk: key for key, state in self.states.items()}

    def kind(self, node: Node) -> str:
        """The kind of an artifact."""
        if node not in self._kinds:
            self._learn([node])
        return self._kinds[node]

    def see(self, nodes: Iterable[Node]) -> dict[Node, SeenVersion]:
        """The versions of nodes, where they are there."""
        asked = list(nodes)
        by_shelf: dict[str, list[str]] = {}
        for node in asked:
            if node not in self._seen:
                by_shelf.setdefault(node.shelf, []).append(node.path)
        for key, paths in by_shelf.items():
            for path, version in self.states[key].versions(paths).items():
                self._seen[Node(key, path)] = version
        return {node: self._seen[node] for node in asked if node in self._seen}

    def named(self, node: Node) -> FileReferences | None:
        """What an artifact names and offers; None if it names nothing that could be read."""
        if node not in self._named:
            state = self.states[node.shelf]
            content = state.content(node.path)
            row = (
                NamesRead.objects.filter(version__shelf=state.shelf, version__path=node.path, version__content=content)
                .order_by("-pk")
                .values_list("found", flat=True)
                .first()
            )
            self._named[node] = unpacked(row) if row is not None and content else None
        return self._named[node]

    def links_to(
        self, asked: Sequence[tuple[Node, frozenset[str] | None]], *, writes: bool = False
    ) -> Iterator[Iterator[Link]]:
        """For each node the artifacts that read it, or that make it; with parts, those that may use one of them. What
        is not taken of the links of a node is not read."""
        role = NamedKey.Role.WRITES if writes else NamedKey.Role.READS
        self._learn([node for node, _ in asked])
        whole = [node for node, parts in asked if parts is None]
        holding = self._holders({node: self._keys_of(node) for node in whole}, None, role) if whole else {}
        for node, parts in asked:
            keys = self._keys_of(node)
            holders = holding if parts is None else self._holders({node: keys}, parts, role)
            yield self._links(holders.get(node, {}), node, keys)

    def _links(self, holders: _Holders, node: Node, keys: list[str]) -> Iterator[Link]:
        every = list(holders)
        self.cut = self.cut or len(every) > _MOST_READ
        for start in range(0, min(len(every), _MOST_READ), _READ_AT_ONCE):
            some = every[start : start + _READ_AT_ONCE]
            current: dict[Node, int] = {}
            for holder in some:
                content = self.states[holder.shelf].content(holder.path)
                if content in holders[holder]:
                    current[holder] = holders[holder][content]
            self._read(current)
            for holder in current:
                if (link := self._link(holder, node, keys)) is not None:
                    yield link

    def _learn(self, nodes: Iterable[Node]) -> None:
        """Read the kinds of nodes in one go."""
        unknown = [node for node in nodes if node not in self._kinds]
        if unknown:
            seen = self.see(unknown)
            for node in unknown:
                self._kinds[node] = seen[node].kind if node in seen else "opaque"

    def _keys_of(self, node: Node) -> list[str]:
        named = self.named(node)
        return keys_for(node.path, self.kind(node), named.offers if named is not None else ())

    def _link(self, holder: Node, node: Node, keys: list[str]) -> Link | None:
        named = self._named.get(holder)
        if named is None:
            return None
        meaning = [(one, exact) for one in named.names for exact in self._means(one, holder, node, keys)]
        if not meaning:
            return None
        return Link(holder, tuple(one for one, _ in meaning), named, any(exact for _, exact in meaning))

    def links_from(self, node: Node, *, writes: bool | None = None) -> list[tuple[Reference, Node]]:
        """What an artifact names, as far as it is there; what it writes, or what it only reads."""
        named = self.named(node)
        found = []
        for one in named.names if named is not None else ():
            if writes is None or one.writes == writes:
                found += [(one, target) for target in self.meant(one, node)]
        return found

    def meant(self, named: Reference, holder: Node) -> list[Node]:
        """The artifacts a reference means: of its own shelf first; on others only where none of its own does."""
        key = holder, named.what, f"{named.shelf} {named.text}"
        if key not in self._meant:
            self._meant[key] = self._find_meant(named, holder)
        return self._meant[key]

    def _find_meant(self, named: Reference, holder: Node) -> list[Node]:
        state = self.states[holder.shelf]
        if named.what == "file":
            return [Node(holder.shelf, path) for path in files_meant(named, holder.path, state)]
        if named.what == "address":
            other = self.states.get(named.shelf)
            return [Node(named.shelf, named.text)] if other is not None and other.has(named.text) else []
        for key in keys_of(named):
            own = self._offering(key, [state])
            if named.what == "table" and not own:
                own = [Node(holder.shelf, path) for path in state.named(key.partition(":")[2])]
            found = own or ([] if key.startswith(_OF_ONE_SHELF) else self._offering(key, self._others(holder.shelf)))
            found = [node for node in found if node != holder]
            if found or own:
                return found
        return []

    def _others(self, key: str) -> list[State]:
        return [state for other, state in self.states.items() if other != key]

    def _offering(self, key: str, states: list[State]) -> list[Node]:
        if not states:
            return []
        by_key = {state.shelf.pk: state for state in states}
        rows = NamedKey.objects.filter(key=key, role=NamedKey.Role.OFFERS, shelf__in=by_key, read__reader=reader_mark())
        found = dict.fromkeys(
            Node(self._keys[shelf], path)
            for shelf, path, content in _where(rows)
            if by_key[shelf].content(path) == content
        )
        return sorted(found, key=lambda node: (node.shelf, node.path))

    def _holders(
        self, keys: dict[Node, list[str]], parts: frozenset[str] | None, role: NamedKey.Role
    ) -> dict[Node, _Holders]:
        """By node the artifacts of which a version holds one of its keys."""
        by_key: dict[str, list[Node]] = {}
        for node, own in keys.items():
            for key in own:
                by_key.setdefault(key, []).append(node)
        found: dict[Node, _Holders] = {}
        every = list(by_key)
        for start in range(0, len(every), _AT_ONCE):
            rows = NamedKey.objects.filter(key__in=every[start : start + _AT_ONCE], role=role, shelf__in=self._keys)
            meant = self._meant_by(rows, by_key)
            rows = rows.filter(read__reader=reader_mark())
            places = {by_holder for _, _, by_holder, _ in meant}
            if len(places) <= _MOST_PLACES:  # a statement takes some thirty thousand values
                rows = rows.filter(beside__in=places)
            if parts is not None and all(any(map(str.isalnum, part)) for part in parts):
                rows = rows.extra(where=[_HOLDS], params=[words_wanted(sorted(parts))])  # noqa: S610  (a constant)
            of_version = ("read", "read__version__path", "read__version__content")
            said = list(rows.values_list("key", "name", "beside", "shelf", *of_version)[: _MOST_LINKS + 1])
            self.cut = self.cut or len(said) > _MOST_LINKS
            for key, name, by_holder, shelf, read, path, content in said[:_MOST_LINKS]:
                for node in meant.get((key, name, by_holder, shelf), ()):
                    holder = Node(self._keys[shelf], path)
                    if node != holder:
                        found.setdefault(node, {}).setdefault(holder, {})[content] = read
        return found

    def _meant_by(
        self, rows: QuerySet[NamedKey], by_key: dict[str, list[Node]]
    ) -> dict[tuple[str, str, str, int], list[Node]]:
        """What each key may mean, with the file name and its place beside the holder and the shelf they are found in;
        without reading any artifact. Left out are those that mean something else."""
        found: dict[tuple[str, str, str, int], list[Node]] = {}
        for key, name, by_holder, shelf in rows.order_by().values_list("key", "name", "beside", "shelf").distinct():
            state = self.states[self._keys[shelf]]
            nodes = [
                node
                for node in by_key[key]
                if not name or (node.shelf == state.shelf.key and may_mean(name, by_holder, node.path, state))
            ]
            if nodes:
                found[key, name, by_holder, shelf] = nodes
        return found

    def _read(self, holders: dict[Node, int]) -> None:
        """Read what holders name, by number of the reading."""
        unknown = {read: holder for holder, read in holders.items() if holder not in self._named}
        if unknown:
            some = NamesRead.objects.filter(pk__in=list(unknown)).values_list("pk", "found")
            for read, found in some:
                self._named[unknown[read]] = unpacked(found)

    def _means(self, one: Reference, holder: Node, node: Node, keys: list[str]) -> list[bool]:
        """Whether a reference means the node: nothing, or whether that is exact."""
        if one.what == "file" and (holder.shelf != node.shelf or not may_mean_file(one, node.path)):
            return []
        if one.what == "address" and (one.shelf, one.text) != (node.shelf, node.path):
            return []
        if not set(keys_of(one)).intersection(keys):
            return []
        meant = self.meant(one, holder)
        return [len(meant) == 1 and is_certain(one, holder, node)] if node in meant else []


def _where(rows: QuerySet[NamedKey]) -> Iterable[tuple[int, str, str]]:
    return rows.values_list("shelf", "read__version__path", "read__version__content")[:_MOST_LINKS]
