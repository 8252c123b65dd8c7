"""What a reading process is asked, and the answer to each: tagged structs, one JSON line each way.

A request names files, never holds them. Its ``task`` is its tag, and ``ANSWERS`` says what it is answered with.
"""

from __future__ import annotations

from typing import Any

import msgspec

from everyshelf.core.answers.base import Answer
from everyshelf.core.answers.tables import TableAnswer
from everyshelf.core.answers.uses import WantedPart
from everyshelf.core.editing.edits import CellEdit, FieldEdit
from everyshelf.core.merge.model import Decision, Side
from everyshelf.decoding import from_json

MOST_PARTS = 10_000  # of an outline that is shown


class FileAt(msgspec.Struct, frozen=True):
    """A file on disk under the name it goes by; ``beside``: paths of files that belong to it, by name."""

    name: str
    path: str
    beside: dict[str, str] = {}


class FileHead(msgspec.Struct, frozen=True):
    """The first bytes of a file, and the size of all."""

    name: str
    head: bytes
    size: int


class Request(msgspec.Struct, tag_field="task", kw_only=True):
    """``rules``: the text of the shelf's ``shelf.toml``; ``memory``: bytes that the answer may take."""

    rules: str = ""
    memory: int = 0


class RecogniseFiles(Request, tag="recognise"):
    """Tell the kind of each file."""

    files: list[FileHead]


class RecogniseFolder(Request, tag="recognise-folder"):
    """Tell the kind of a folder kept whole."""

    name: str
    files: list[FileHead]


class OutlineFile(Request, tag="outline"):
    """Tell what a file is made of; read it as ``kind`` where one is named. ``most``: parts that are listed."""

    file: FileAt
    kind: str | None = None
    most: int = MOST_PARTS


class FindUses(Request, tag="uses"):
    """Find the places of a file that use each of the wanted parts."""

    file: FileAt
    wanted: list[WantedPart]


class FindNames(Request, tag="names"):
    """Find what a file names, and what it offers others by name."""

    file: FileAt


class FindPlaces(Request, tag="places"):
    """List the places of a file in which words are looked for."""

    file: FileAt


class Fingerprint(Request, tag="fingerprint"):
    """Make the fingerprint of a table."""

    file: FileAt


class ReadRows(Request, tag="page"):
    """Read some of the rows a comparison kept; only of an ``action``, or changed in a ``column``."""

    file: FileAt
    start: int
    count: int
    action: str = ""
    column: str = ""
    table: str = ""


class KeepTable(Request, tag="keep-table"):
    """Keep a table in ``output`` so that it can be paged; ``table``: which one, of a database."""

    file: FileAt
    output: str
    table: str = ""


class ReadTable(Request, tag="read-table"):
    """Read a page of a kept table, sorted by columns and with conditions on them."""

    file: FileAt
    start: int
    count: int
    sort: list[str] = []
    where: list[str] = []


class PutBindings(Request, tag="bind"):
    """Put the values of an environment into an artifact. The bytes go through the pipe, never to a file: values may be
    secret."""

    name: str
    data: bytes
    values: dict[str, str]


class ReadMetrics(Request, tag="measured"):
    """Read the metrics that a file states."""

    file: FileAt


class ReadResults(Request, tag="results"):
    """Count the results in a file of test results."""

    file: FileAt


class UnpackParcel(Request, tag="unpack"):
    """Check a parcel, and write those of its artifacts into ``output`` whose digest ``present`` does not have."""

    file: FileAt
    output: str
    present: dict[str, str]


class CompareFiles(Request, tag="compare"):
    """Compare two files (see ``CompareOptions``); ``as_text``: by lines, and why not as their kind."""

    before: FileAt
    after: FileAt
    limit: int
    kind: str | None = None
    key: tuple[str, ...] = ()
    rows: str | None = None
    as_text: str = ""


class MergeFiles(Request, tag="merge"):
    """Merge three versions of a file: base, target, source. ``decisions``: by id of the conflict; ``names``: what the
    sides are called in sentences. The result goes to ``output`` where nothing is left to settle."""

    name: str
    files: tuple[str, str, str]
    output: str
    kind: str | None
    prefer: Side | None
    decisions: dict[str, Decision]
    names: tuple[str, str]


class EditFile(Request, tag="edit"):
    """Write a file with its text, fields or cells changed to ``output``."""

    file: FileAt
    output: str
    text: str | None
    fields: list[FieldEdit]
    cells: list[CellEdit]


class ReadCells(Request, tag="cells"):
    """Read a small delimited table as texts."""

    file: FileAt


class FollowParts(Request, tag="follow"):
    """Find where parts of an older version are in a newer one."""

    before: FileAt
    after: FileAt
    parts: list[str]


class StepBetween(Request, tag="step"):
    """Tell what the parts of a file carried over from an older version."""

    before: FileAt
    after: FileAt


class RowsBetween(Request, tag="row-blocks"):
    """Turn the rows that a comparison kept in ``file`` (of one table, or of several by name) into blocks by their keys,
    in ``output``."""

    file: FileAt
    output: str
    tables: dict[str, TableAnswer]


class RunQuery(Request, tag="query"):
    """Run a query over kept tables (view: path), lists (view: name and path) and answers that were written before
    (view: path), and give its first rows; with ``output``, write all of them there in a ``form``."""

    sql: str
    tables: dict[str, str]
    lists: dict[str, tuple[str, str]]
    most: int
    answers: dict[str, str] = {}
    output: str = ""
    form: str = ""


class FindRow(Request, tag="find-row"):
    """Find the row of a table whose key has these cells."""

    file: FileAt
    columns: list[str]
    cells: list[str]


class LinesBetween(Request, tag="lines"):
    """Tell what the lines of a text carried over from an older version; without one, how many there are."""

    before: FileAt | None
    after: FileAt


class DrawFiles(Request, tag="drawing"):
    """Draw a file, or two versions of it in one drawing."""

    before: FileAt | None
    after: FileAt
    kind: str | None


class UnfoldFile(Request, tag="unfold"):
    """Unfold a file into a zip at ``output``."""

    file: FileAt
    output: str


class FoldFile(Request, tag="fold"):
    """Fold a zip of parts into a file at ``output``."""

    file: FileAt
    output: str


AnyRequest = (
    RecogniseFiles
    | RecogniseFolder
    | OutlineFile
    | FindUses
    | FindNames
    | FindPlaces
    | Fingerprint
    | ReadRows
    | KeepTable
    | ReadTable
    | PutBindings
    | ReadMetrics
    | ReadResults
    | UnpackParcel
    | CompareFiles
    | MergeFiles
    | EditFile
    | ReadCells
    | FollowParts
    | StepBetween
    | LinesBetween
    | RowsBetween
    | FindRow
    | RunQuery
    | DrawFiles
    | UnfoldFile
    | FoldFile
)


class Unpacked(Answer):
    """The name of a parcel and the SHA-256 of every artifact in it, by path."""

    name: str
    digests: dict[str, str]


class FoundRow(Answer):
    """A row by column; null where the table does not have it."""

    cells: dict[str, str | None] | None = None


class ReaderProblem(msgspec.Struct):
    """Why a request was not answered; ``family``: the sort of error, by which interfaces answer."""

    message: str
    code: str
    hint: str = ""
    family: str = ""


class Reply(msgspec.Struct, omit_defaults=True):
    """One line back: the answer still in its JSON form, or a problem; before it, lines that say how many parts of how
    many are ``done``, or why other processes ``missed`` their part."""

    answer: msgspec.Raw = msgspec.Raw(b"")
    problem: ReaderProblem | None = None
    done: tuple[int, int] | None = None
    missed: str = ""


class Spreading(msgspec.Struct, frozen=True):
    """The processes that a reading process may use for large tables: what opens them (``module:function``, called with
    ``address``), and from how many rows on."""

    opener: str
    address: str
    rows: int


def request_from(line: bytes) -> AnyRequest:
    """The request on a line. Raises ``msgspec.ValidationError`` for a task that is not known."""
    request: AnyRequest = from_json(line, AnyRequest)
    return request


def line_of(message: Any) -> bytes:
    """A request or reply as a line."""
    return msgspec.json.encode(message, enc_hook=str) + b"\n"
