"""The client of one shelf: contents, artifacts, history, branches, comparison, environments."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from pathlib import Path
from typing import Any
from urllib.parse import quote

import msgspec

from everyshelf.client.environments import EnvironmentsPart
from everyshelf.client.errors import UnreachableError
from everyshelf.client.events import EventsPart
from everyshelf.client.exchange import ExchangePart
from everyshelf.client.experiments import ExperimentsPart
from everyshelf.client.in_place import InPlacePart
from everyshelf.client.jobs import Progress, wait_for
from everyshelf.client.looking_back import LookingBackPart
from everyshelf.client.merging import MergingPart
from everyshelf.client.models import (
    Artifact,
    ArtifactVersion,
    Branch,
    ChangeRequest,
    Commit,
    CommitListed,
    CommitMessage,
    Content,
    Job,
    Shelf,
    Tag,
)
from everyshelf.client.news import NewsPart
from everyshelf.client.people import PeoplePart
from everyshelf.client.proposals import ProposalsPart
from everyshelf.client.saved_views import SavedViewsPart
from everyshelf.client.tasks import TasksPart
from everyshelf.core.answers.drawings import Drawing
from everyshelf.core.answers.files import ArtifactCells, UnfoldedAnswer
from everyshelf.core.answers.outlines import OutlineAnswer
from everyshelf.core.answers.queries import QueryAnswer
from everyshelf.core.answers.states import ArtifactComparison, Parted, StateComparison
from everyshelf.core.answers.tables import RowPage, TableRows
from everyshelf.decoding import converted

_PAGE = 1000
_IDS_PER_REQUEST = 5000
_MANY, MOST_IN_MANY = 500, 2 * 1024 * 1024  # files of one call, and their bytes


class ShelfClient(
    PeoplePart,
    MergingPart,
    ProposalsPart,
    ExperimentsPart,
    EnvironmentsPart,
    ExchangePart,
    EventsPart,
    TasksPart,
    NewsPart,
    SavedViewsPart,
    InPlacePart,
    LookingBackPart,
):
    """One shelf of a service."""

    def info(self) -> Shelf:
        """The shelf in numbers."""
        return self._transport.get(self._base, Shelf)

    # --- contents ----------------------------------------------------------

    def upload(self, source: bytes | Path | Iterable[bytes], size: int | None = None) -> Content:
        """Store bytes, a file, or pieces; streamed, never whole in memory unless given so."""
        path = f"{self._base}/contents"
        if isinstance(source, bytes):
            return self._transport.put_again(path, lambda: _pieces_of(source), len(source), Content)
        if isinstance(source, Path):
            return self._transport.put_again(path, lambda: _pieces_of_file(source), source.stat().st_size, Content)
        return self._transport.put_bytes(path, source, size, Content)

    def upload_many(self, files: Iterable[Path]) -> Iterator[Content]:
        """Store small files, many in one call; gives their contents in order. A large one is sent by itself."""
        batch: list[bytes] = []
        held = 0
        for file in files:
            size = file.stat().st_size
            if size > MOST_IN_MANY:
                yield from self._sent(batch)
                batch, held = [], 0
                yield self.upload(file)
                continue
            batch.append(file.read_bytes())
            held += size
            if held >= MOST_IN_MANY or len(batch) >= _MANY:
                yield from self._sent(batch)
                batch, held = [], 0
        yield from self._sent(batch)

    def _sent(self, batch: list[bytes]) -> list[Content]:
        if not batch:
            return []
        body = b"".join(len(data).to_bytes(8, "big") + data for data in batch)
        path = f"{self._base}/contents/many"
        return self._transport.put_bytes(path, _pieces_of(body), len(body), dict[str, list[Content]])["contents"]

    def missing(self, ids: Iterable[str]) -> list[str]:
        """Those content ids the shelf does not hold."""
        wanted, missing = list(dict.fromkeys(ids)), []
        for start in range(0, len(wanted), _IDS_PER_REQUEST):
            body = {"ids": wanted[start : start + _IDS_PER_REQUEST]}
            answer = self._transport.send("POST", f"{self._base}/contents/missing", body, dict[str, list[str]])
            missing += answer["missing"]
        return missing

    def content(self, identity: str, *, start: int = 0, stop: int | None = None) -> bytes:
        """Bytes of a content, or of a range of it (stop excluded)."""
        headers = {"Range": f"bytes={start}-{'' if stop is None else stop - 1}"} if start or stop is not None else None
        with self._transport.stream(f"{self._base}/contents/{identity}", headers=headers) as pieces:
            return b"".join(pieces)

    def read_many(self, sizes: Mapping[str, int]) -> Iterator[tuple[str, bytes]]:
        """Contents with their bytes, many in one call: id -> size of small ones (see ``MOST_IN_MANY``).

        Raises ``UnreachableError`` where the bytes that came are not those of the id.
        """
        batch: list[str] = []
        held = 0
        for identity, size in sizes.items():
            if batch and (held + size > MOST_IN_MANY or len(batch) >= _MANY):
                yield from self._read(batch)
                batch, held = [], 0
            batch.append(identity)
            held += size
        if batch:
            yield from self._read(batch)

    def _read(self, identities: list[str]) -> Iterator[tuple[str, bytes]]:
        data = self._transport.bytes_of("POST", f"{self._base}/contents/many", {"ids": identities})
        at = 0
        for identity in identities:
            start = at + 8
            at = start + int.from_bytes(data[start - 8 : start], "big")
            content = data[start:at]
            if hashlib.sha256(content).hexdigest() != identity:
                raise UnreachableError(
                    f"the content {identity[:12]} came damaged", code="service.foreign", hint="Ask again."
                )
            yield identity, content

    def download_content(self, identity: str, target: Path) -> None:
        """A content into a file, in pieces."""
        with self._transport.stream(f"{self._base}/contents/{identity}") as pieces, target.open("wb") as file:
            for piece in pieces:
                file.write(piece)

    def pack(self, ref: str, target: Path, *, only: list[str] | None = None, dependencies: bool = False) -> None:
        """A state, or a selection of it, as a parcel into a file; ``dependencies`` adds what the selection names."""
        wanted = "true" if dependencies else None
        address = f"{self._base}/parcel"
        with (
            self._transport.stream(address, ref=ref, only=only or None, dependencies=wanted) as pieces,
            target.open("wb") as file,
        ):
            for piece in pieces:
                file.write(piece)

    # --- artifacts ---------------------------------------------------------

    def artifacts(
        self, ref: str | None = None, folder: str | None = None, *, files: bool = False, **sought: str
    ) -> Iterator[Artifact]:
        """Everything at a ref, by path; pages are fetched as they are needed.

        ``files``: every file of a folder kept whole, instead of the folder. ``sought`` filters and sorts: ``kind``,
        ``by`` (author of the last change), ``effect`` (of it), ``words`` (in path, summary or author), ``label`` (of
        the last commit: KEY or KEY=VALUE), ``since`` (a date or time), ``state`` (edited: what you have changed on this
        branch and not committed; same: the rest), ``sort`` (path, kind, version, summary, who, when, size, effect;
        with a minus the other way round).
        """
        if sought:
            yield from self._arranged(ref, folder, sought)
            return
        for row in self._pages("artifacts", ref=ref, folder=folder, files="true" if files else None):
            yield converted(row, Artifact)

    def _arranged(self, ref: str | None, folder: str | None, sought: dict[str, str]) -> Iterator[Artifact]:
        """Page by page, all of the state that the first page was of."""
        start, total = 0, 1
        while start < total:
            query = {"folder": folder, "sort": "path", **sought}
            page = self._transport.get(
                f"{self._base}/artifacts", dict[str, Any], ref=ref, start=start, limit=_PAGE, **query
            )
            yield from converted(page["items"], list[Artifact])
            start, total = start + len(page["items"]), page["total"] if page["items"] else 0
            if page["commit"] and not (ref or "").startswith("draft"):
                ref = f"commit:{page['commit']}"

    def artifact(self, path: str, ref: str | None = None, version: int | None = None) -> Artifact:
        """One artifact at a ref or version."""
        return self._transport.get(f"{self._base}/artifact", Artifact, path=path, ref=ref, version=version)

    def history(self, path: str, ref: str | None = None, limit: int | None = None) -> list[ArtifactVersion]:
        """Versions of an artifact, newest first: all of them, or ``limit``."""
        rows = self._pages("artifact/history", limit, path=path, ref=ref)
        return converted(list(rows), list[ArtifactVersion])

    def outline(self, path: str, ref: str | None = None, version: int | None = None) -> OutlineAnswer:
        """What an artifact is made of."""
        return self._transport.get(f"{self._base}/artifact/outline", OutlineAnswer, path=path, ref=ref, version=version)

    def rows(
        self,
        path: str,
        ref: str | None = None,
        version: int | None = None,
        *,
        table: str = "",
        start: int = 0,
        count: int = 100,
        sort: Sequence[str] = (),
        where: Sequence[str] = (),
    ) -> TableRows:
        """Some rows of a table of any size; waits for the job that reads a large one first.

        ``sort``: columns, with a minus before the name the other way round; ``where``: conditions such as
        ``fare over 10``, which all hold; ``table``: which one, of a database.
        """
        given = {"path": path, "ref": ref, "version": version, "table": table, "start": start, "count": count}
        wanted = {**given, "sort": list(sort), "where": list(where)}
        return self._transport.get(f"{self._base}/artifact/rows", TableRows, **wanted)

    def query(self, sql: str, ref: str | None = None, *, limit: int = 100) -> QueryAnswer:
        """The first rows of a query, at most 1,000, as texts. Tables are artifacts in quotes, ``'PATH[#TABLE][@REF]'``;
        those without a ref are meant at ``ref``. Lists of the shelf: commits, artifacts, versions, findings, runs."""
        return self._transport.get(f"{self._base}/query", QueryAnswer, sql=sql, ref=ref, limit=limit)

    def table(self, path: str, ref: str | None = None, *, table: str = "") -> Any:
        """A whole table as a ``pyarrow.Table``, whatever its format; ``table``: of a database or a workbook, which."""
        name = (f"{path}#{table}" if table else path).replace("'", "''")
        return self.query_table(f"SELECT * FROM '{name}'", ref)  # noqa: S608  (a query of our own language)

    def query_table(self, sql: str, ref: str | None = None, *, limit: int | None = None) -> Any:
        """All rows of a query, at most five million, as a ``pyarrow.Table``."""
        import pyarrow as pa

        with pa.ipc.open_stream(self.query_bytes(sql, ref, limit=limit)) as reader:
            return reader.read_all()

    def query_bytes(self, sql: str, ref: str | None = None, *, form: str = "arrow", limit: int | None = None) -> bytes:
        """All rows of a query as an Arrow stream or, with the form ``parquet``, as a Parquet file."""
        return self._transport.raw(f"{self._base}/query/file", sql=sql, ref=ref, form=form, limit=limit)

    def drawing(self, path: str, ref: str | None = None, version: int | None = None) -> Drawing:
        """A pipeline or workflow as nodes and edges; without nodes where its kind has no drawing."""
        return self._transport.get(f"{self._base}/artifact/drawing", Drawing, path=path, ref=ref, version=version)

    def unfolded(self, path: str, ref: str | None = None, version: int | None = None) -> UnfoldedAnswer:
        """An artifact's parts as files with their texts, and notes."""
        return self._transport.get(
            f"{self._base}/artifact/unfolded", UnfoldedAnswer, path=path, ref=ref, version=version
        )

    def unfolded_zip(self, path: str, ref: str | None = None, version: int | None = None) -> bytes:
        """All its parts in one zip, with what is needed to fold them again."""
        address = f"{self._base}/artifact/unfolded/file"
        with self._transport.stream(address, path=path, ref=ref, version=version) as pieces:
            return b"".join(pieces)

    def fold(self, content: str) -> dict[str, Any]:
        """The content (``id``, ``size``, ``name``, ``notes``) that a zip of parts, uploaded before, folds to."""
        return self._transport.send("POST", f"{self._base}/contents/fold", {"content": content}, dict[str, Any])

    def edit_content(
        self,
        path: str,
        content: str,
        *,
        text: str | None = None,
        parts: list[dict[str, Any]] | None = None,
        cells: list[dict[str, Any]] | None = None,
        ref: str = "",
    ) -> Content:
        """A content that differs from ``content`` in nothing but its text, fields (``part``, ``field``, ``value``) or
        cells (``row``, ``column``, ``value``, ``was``); save it into a draft, or commit it."""
        body = {"path": path, "content": content, "text": text, "parts": parts or [], "cells": cells or [], "ref": ref}
        return self._transport.send("POST", f"{self._base}/contents/edit", body, Content)

    def cells(self, path: str, ref: str | None = None) -> ArtifactCells:
        """A small table as texts: ``content``, ``columns``, ``rows``; ``note`` says why there are none."""
        return self._transport.get(f"{self._base}/artifact/cells", ArtifactCells, path=path, ref=ref)

    def download(self, path: str, target: Path, ref: str | None = None, *, version: int | None = None) -> None:
        """An artifact into a file, in pieces; a folder kept whole as a zip."""
        address = f"{self._base}/artifact/file"
        with self._transport.stream(address, path=path, ref=ref, version=version) as pieces, target.open("wb") as file:
            for piece in pieces:
                file.write(piece)

    def download_zip(
        self, target: Path, ref: str | None = None, *, folder: str = "", paths: Sequence[str] = ()
    ) -> None:
        """What lies in a folder (everything if none is named), or these artifacts, as a zip into a file."""
        address = f"{self._base}/zip"
        part = target.with_name(f".{target.name}.part")
        try:
            with (
                self._transport.stream(address, ref=ref, folder=folder or None, path=list(paths) or None) as pieces,
                part.open("wb") as file,
            ):
                for piece in pieces:
                    file.write(piece)
            part.replace(target)
        finally:
            part.unlink(missing_ok=True)

    def text(
        self, path: str, ref: str | None = None, *, version: int | None = None, encoding: str | None = None
    ) -> dict[str, Any]:
        """The beginning of an artifact as text."""
        return self._transport.get(
            f"{self._base}/artifact/text", dict[str, Any], path=path, ref=ref, version=version, encoding=encoding
        )

    def read(self, path: str, ref: str | None = None, version: int | None = None) -> bytes:
        """The bytes of an artifact."""
        with self._transport.stream(f"{self._base}/artifact/file", path=path, ref=ref, version=version) as pieces:
            return b"".join(pieces)

    # --- history -----------------------------------------------------------

    def commits(self, ref: str | None = None, limit: int | None = None, **sought: str) -> Iterator[CommitListed]:
        """Commits in the line of a ref, newest first; filtered by ``sought``.

        ``start`` (a ref: what its line lacks), ``since`` and ``until`` (dates or times), ``by``, ``label`` (KEY or
        KEY=VALUE), ``task``, ``path`` (an artifact under all of its names, or a folder), ``kind``, ``effect``,
        ``words`` (in the summary or the description); ``order="oldest"`` turns them round.
        """
        if "start" in sought:
            sought["from"] = sought.pop("start")
        for row in self._pages("commits", limit=limit, ref=ref, **sought):
            yield converted(row, CommitListed, strict=False)

    def commit(
        self,
        branch: str,
        base: str | None,
        changes: list[ChangeRequest],
        message: str | CommitMessage,
        *,
        merge: bool = False,
        prefer: str | None = None,
        key: str = "",
    ) -> Commit:
        """Commit changes onto a branch whose head is believed to be ``base``; all or nothing.

        ``message``: what is said of the commit, or its summary alone.
        ``key``: who asks again with the same key and changes gets the commit that was made, and no second one.
        """
        body = {
            "branch": branch,
            "base": base,
            "changes": changes,
            "merge": merge,
            "prefer": prefer,
            **msgspec.structs.asdict(CommitMessage(message) if isinstance(message, str) else message),
        }
        return self._transport.send("POST", f"{self._base}/commits", body, Commit, key)

    def restore(self, branch: str, ref: str, path: str | None = None, summary: str = "") -> Commit:
        """Bring an artifact, or the whole shelf, back to an older state as a new commit."""
        body = {"branch": branch, "ref": ref, "path": path, "summary": summary}
        return self._transport.send("POST", f"{self._base}/restore", body, Commit)

    def copy(
        self, source: str, path: str, *, version: int | None = None, to: str = "", branch: str = "", summary: str = ""
    ) -> dict[str, Any]:
        """Copy an artifact of the shelf ``source`` here, as of a version, with the versions it comes from."""
        body = {
            "shelf": source,
            "path": path,
            "version": version,
            "to": to,
            "branch": branch,
            "summary": summary,
        }
        return self._transport.send("POST", f"{self._base}/copies", body, dict[str, Any])

    # --- branches and tags -------------------------------------------------

    def branches(self, words: str = "") -> list[Branch]:
        """All branches, or those with ``words`` in their names: the main branch, then the others by name."""
        return converted(list(self._pages("branches", words=words or None)), list[Branch])

    def branch(self, name: str) -> Branch:
        """One branch; raises ``ProblemError`` (404) if it is missing."""
        return self._transport.get(f"{self._base}/branches/{quote(name)}", Branch)

    def make_branch(self, name: str = "", start: str = "", note: str = "") -> Branch:
        """A branch from any ref; without a name, one of the person and what ``note`` says."""
        return self._transport.send(
            "POST", f"{self._base}/branches", {"name": name, "start": start, "note": note}, Branch
        )

    def delete_branch(self, name: str) -> None:
        """Drop a branch; its commits stay."""
        self._transport.send("DELETE", f"{self._base}/branches/{quote(name)}")

    def guard_branch(self, name: str, guarded: bool = True) -> Branch:
        """Let only keepers commit to it."""
        return self._transport.send("PATCH", f"{self._base}/branches/{quote(name)}", {"guarded": guarded}, Branch)

    def tag(self, name: str) -> Tag:
        """One tag, with its commit and what it selects."""
        return self._transport.get(f"{self._base}/tags/{quote(name)}", Tag)

    def tags(self, words: str = "", limit: int | None = None) -> list[Tag]:
        """All tags, or those with ``words`` in their names; newest first: all of them, or ``limit``."""
        return converted(list(self._pages("tags", limit, words=words or None)), list[Tag])

    def make_tag(
        self,
        name: str,
        ref: str = "",
        note: str = "",
        selection: list[str] | None = None,
        created: datetime | None = None,
        created_by: str | None = None,
    ) -> Tag:
        """A name that never moves."""
        body = {
            "name": name,
            "ref": ref,
            "note": note,
            "selection": selection,
            "created": created,
            "created_by": created_by,
        }
        return self._transport.send("POST", f"{self._base}/tags", body, Tag)

    # --- comparison --------------------------------------------------------

    def compare(self, before: str, after: str | None = None, on_progress: Progress | None = None) -> StateComparison:
        """Compare two states; waits for the job that works out what takes long.

        A branch or draft is compared from where it parted from the branch ``before`` (``parted`` in the answer says
        so); a commit, a tag or a moment is that state and no other.
        """
        while True:
            found = self._transport.get(f"{self._base}/compare", StateComparison, from_=before, to=after)
            if not found.job:
                return found
            self.wait(self._transport.get(f"jobs/{found.job}", Job), on_progress)

    def parted(self, before: str, after: str | None = None) -> Parted:
        """Where two states parted: ``commit`` (None if one comes from the other), ``head`` of the first, and how many
        ``newer`` commits it has."""
        return self._transport.get(f"{self._base}/compare/parted", Parted, from_=before, to=after)

    def compare_artifact(
        self, path: str, before: str, after: str | None = None, on_progress: Progress | None = None
    ) -> ArtifactComparison:
        """All findings of one artifact; refs may be version:N. Waits for the job that compares large contents."""
        address = f"{self._base}/compare/artifact"
        while True:
            found = self._transport.get(address, ArtifactComparison, path=path, from_=before, to=after)
            if not found.job:
                return found
            self.wait(self._transport.get(f"jobs/{found.job}", Job), on_progress)

    def compare_rows(
        self,
        path: str,
        before: str,
        after: str | None = None,
        *,
        start: int = 0,
        count: int = 100,
        action: str | None = None,
        column: str | None = None,
        table: str | None = None,
    ) -> RowPage:
        """Rows of a table that differ: ``rows``, ``total`` and ``start``; only of an action, or changed in a column.

        ``table``: which one, where the artifact holds several.
        """
        wanted = {"start": str(start), "count": str(count), "action": action, "column": column, "table": table}
        address = f"{self._base}/compare/rows"
        return self._transport.get(address, RowPage, path=path, from_=before, to=after, **wanted)

    def compare_drawing(self, path: str, before: str, after: str | None = None) -> Drawing:
        """Two versions of a pipeline or workflow in one drawing."""
        return self._transport.get(f"{self._base}/compare/drawing", Drawing, path=path, from_=before, to=after)

    def compare_report(
        self,
        before: str,
        after: str | None = None,
        *,
        path: str | None = None,
        form: str = "html",
        on_progress: Progress | None = None,
    ) -> str:
        """A comparison as one HTML page, Markdown ("md") or JSON; waits until it is worked out."""
        if path is None:
            self.compare(before, after, on_progress)
        address = f"{self._base}/compare/report"
        return self._transport.text(address, path=path, from_=before, to=after, form=form)

    def verify(self) -> Job:
        """Start re-reading the whole shelf; see ``wait``."""
        return self._transport.send("POST", f"{self._base}/verify", None, Job)

    def wait(self, job: Job, on_progress: Progress | None = None) -> Job:
        """Wait until a job ended; raises ``ProblemError`` if it failed or was cancelled."""
        return wait_for(self._transport, job, on_progress)


def _pieces_of_file(file: Path) -> Iterator[bytes]:
    with file.open("rb") as opened:
        while piece := opened.read(1 << 20):
            yield piece


def _pieces_of(data: bytes) -> Iterator[bytes]:
    view = memoryview(data)
    for start in range(0, len(view), 1 << 20):
        yield bytes(view[start : start + (1 << 20)])
