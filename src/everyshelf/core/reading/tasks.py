"""What a reading process is asked to do: plain data in, plain data out."""

from __future__ import annotations

import contextlib
from base64 import b64decode, b64encode
from collections.abc import Callable
from dataclasses import asdict
from pathlib import Path
from typing import Any

from everyshelf.core.compare.artifact import ArtifactSide, compare_artifacts, compare_as_text
from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.compressed import bare_name, decompressed, is_compressed
from everyshelf.core.kinds.naming import names_in, offered_by
from everyshelf.core.kinds.peeking import is_table, recognise_given, table_of_folder
from everyshelf.core.kinds.reading import read_outline, recognise_file
from everyshelf.core.kinds.recognise import recognise
from everyshelf.core.kinds.references import Wanted, uses_of
from everyshelf.core.kinds.registry import BYTES_FORMATS
from everyshelf.core.kinds.rules import Rules, parse_rules
from everyshelf.core.merge.model import Decision, SideNames
from everyshelf.core.outline.model import Part, child_path, plain
from everyshelf.core.tables.given import Given, given_at
from everyshelf.core.tables.keep import Keep

_MAX_PARTS = 5_000
_MOST_TEXT = 4 * 1024 * 1024
_PARSED_RULES: dict[str, Rules] = {}


def answer(request: dict[str, Any]) -> dict[str, Any]:
    """The result of one request; see ``worker`` for its form. Raises ``KeyError`` for a task nobody knows."""
    return _TASKS[request["task"]](request, _rules(request.get("rules") or ""))


def _recognise(request: dict[str, Any], rules: Rules) -> dict[str, Any]:
    return {"kinds": [recognise(name, b64decode(head), size).kind for name, head, size in request["files"]]}


def _recognise_folder(request: dict[str, Any], rules: Rules) -> dict[str, Any]:
    files = tuple(Given(name, b64decode(head)) for name, head, _ in request["files"])
    recognition = table_of_folder(Given(request["name"], files=files))
    return {"kind": recognition.kind if recognition is not None else "opaque"}


def _outline(request: dict[str, Any], rules: Rules) -> dict[str, Any]:
    name, path = request["file"]
    given = given_at(name, Path(path))
    return _folder_json(given) if Path(path).is_dir() else outline_json(given, rules, request.get("kind"))


def _uses(request: dict[str, Any], rules: Rules) -> dict[str, Any]:
    name, path = request["file"]
    return {"uses": uses_json(name, Path(path).read_bytes(), rules, request["wanted"])}


def _names(request: dict[str, Any], rules: Rules) -> dict[str, Any]:
    name, path = request["file"]
    return names_json(name, Path(path).read_bytes(), rules)


def _fingerprint(request: dict[str, Any], rules: Rules) -> dict[str, Any]:
    name, path = request["file"]
    return fingerprint_json(given_at(name, Path(path)), rules)


def _page(request: dict[str, Any], rules: Rules) -> dict[str, Any]:
    from everyshelf.core.compare.databases import rows_file
    from everyshelf.core.tables.engine import borrowed_engine
    from everyshelf.core.tables.kept import page

    wanted = {name: request[name] for name in ("action", "column")}
    path = Path(request["file"][1])
    path = rows_file(path, request["table"]) if request.get("table") else path
    if not path.is_file():
        return {"rows": [], "total": 0, "start": request["start"]}
    with borrowed_engine() as engine:
        return page(engine, path, request["start"], request["count"], **wanted)


def _bind(request: dict[str, Any], rules: Rules) -> dict[str, Any]:
    from everyshelf.core.promotion.bindings import bind

    bound = bind(request["name"], b64decode(request["data"]), rules, request["values"])
    return {"data": b64encode(bound.data).decode(), "used": bound.used, "missing": bound.missing}


def _measured(request: dict[str, Any], rules: Rules) -> dict[str, Any]:
    from everyshelf.core.runs.measured import read_measured

    name, path = request["file"]
    return asdict(read_measured(name, Path(path).read_bytes()))


def _results(request: dict[str, Any], rules: Rules) -> dict[str, Any]:
    from everyshelf.core.runs.results import read_results

    name, path = request["file"]
    return asdict(read_results(Path(path).read_bytes(), name))


def _unpack(request: dict[str, Any], rules: Rules) -> dict[str, Any]:
    from everyshelf.core.parcel import Parcel

    parcel, present = Parcel(Path(request["file"][1])), request["present"]
    try:
        parcel.unpack(Path(request["output"]), [p for p, d in parcel.digests.items() if present.get(p) != d])
        return {"name": parcel.name, "digests": parcel.digests}
    finally:
        parcel.close()


def _compare(request: dict[str, Any], rules: Rules) -> dict[str, Any]:
    near = request.get("beside") or [{}, {}]
    before, after = (
        ArtifactSide(n, path=Path(p), beside={name: Path(file) for name, file in held.items()})
        for (n, p), held in zip((request["before"], request["after"]), near, strict=True)
    )
    if request.get("as_text"):
        return compare_as_text(before, after, request["as_text"]).as_json(request.get("limit") or 10_000)
    keep = Keep(path=Path(request["keep"])) if request.get("keep") else Keep()
    found = compare_artifacts(before, after, rules=rules, kind=request.get("kind"), key=request.get("key"), keep=keep)
    return found.as_json(request.get("limit") or 10_000)


def merging_json(request: dict[str, Any], rules: Rules) -> dict[str, Any]:
    """Three versions of a file merged; the result goes to ``output`` where nothing is left to settle."""
    from everyshelf.core.merge.artifact import Versions, merge_artifacts

    base, target, source = (Path(path).read_bytes() for path in request["files"])
    decisions = {key: Decision(said["take"], said.get("value")) for key, said in request["decisions"].items()}
    merged = merge_artifacts(
        Versions(request["name"], base, target, source),
        rules=rules,
        kind=request.get("kind"),
        prefer=request.get("prefer"),
        decisions=decisions,
        names=SideNames(*request["names"]),
    )
    if merged.content is not None:
        Path(request["output"]).write_bytes(merged.content)
    return merged.as_json()


def editing_json(request: dict[str, Any], rules: Rules) -> dict[str, Any]:
    """A file with its text, fields or cells changed, written to ``output``; without one, its cells."""
    from everyshelf.core.editing import CellEdit, FieldEdit, cells_of, set_cells, set_fields, set_text

    name, path = request["file"]
    data = Path(path).read_bytes()
    if not request.get("output"):
        return cells_of(data)
    if request["text"] is not None:
        data = set_text(data, request["text"])
    data = set_fields(name, data, [FieldEdit(**one) for one in request["fields"]], rules)
    if request["cells"]:
        data = set_cells(data, [CellEdit(**one) for one in request["cells"]])
    Path(request["output"]).write_bytes(data)
    return {"size": len(data)}


def following_json(request: dict[str, Any], rules: Rules) -> dict[str, Any]:
    """Where parts of the older file are in the newer: path and label, null for what is gone."""
    from everyshelf.core.compare.following import follow

    before, after = (ArtifactSide(n, path=Path(p)) for n, p in (request["before"], request["after"]))
    found = follow(before, after, request["parts"], rules)
    return {"parts": {part: {"part": one.part, "label": one.label} for part, one in found.items()}}


def _folder_json(given: Given) -> dict[str, Any]:
    """The outline of a folder kept whole: the table its files are parts of, or else the files."""
    from everyshelf.core.reading import previews

    found = table_of_folder(given)
    if found is not None and (table := previews.table_json(given, found)) is not None:
        return table
    names = [file.name for file in given.files]
    parts = [
        {"path": f"/file:{n.replace('/', '%2F')}", "type": "file", "label": n, "fields": {}, "parts": []}
        for n in names[:_MAX_PARTS]
    ]
    told = {"read_as": "bytes", "note": f"a folder of {len(names)} files", "size": given.size}
    return {"kind": "opaque", "format": "", "parts": parts, "truncated": len(names) > _MAX_PARTS, **told}


def fingerprint_json(given: Given, rules: Rules) -> dict[str, Any]:
    """The fingerprint of a table; empty for what is none, or holds records within records."""
    from everyshelf.core.tables.engine import borrowed_engine
    from everyshelf.core.tables.fingerprint import fingerprint_of
    from everyshelf.core.tables.sources import open_table

    found = table_of_folder(given) if given.files else recognise_given(given, rules)
    if found is None or not is_table(found):
        return {"digest": ""}
    try:
        with borrowed_engine() as engine:
            source = open_table(engine, given, found.format)
            return {"digest": ""} if source.holds_records else fingerprint_of(engine, source).as_json()
    except (UnreadableError, MemoryError):
        return {"digest": ""}


def _rules(text: str) -> Rules:
    if text not in _PARSED_RULES:
        _PARSED_RULES.clear()
        _PARSED_RULES[text] = parse_rules(text)
    return _PARSED_RULES[text]


def outline_json(given: Given, rules: Rules, kind: str | None = None) -> dict[str, Any]:
    """Kind, format, note, and the parts as a nested list; tables give columns, profiles and first rows instead."""
    from everyshelf.core.reading import previews

    found = recognise_given(given, rules, kind)
    if is_table(found) and (table := previews.table_json(given, found)) is not None:
        return table
    if found.format == "sqlite":
        return previews.database_json(given, found)
    name, data = given.name, given.content
    if is_compressed(data):
        with contextlib.suppress(UnreadableError):
            name, data = bare_name(name), decompressed(data)
    found = recognise_file(name, data, rules, kind)
    result: dict[str, Any] = {
        "kind": found.kind,
        "format": found.format,
        "read_as": found.kind,
        "note": found.note,
        "size": len(data),
        "parts": [],
        "truncated": False,
    }
    try:
        root, more = previews.outlined(name, data, found, rules)
    except (UnreadableError, RecursionError) as error:
        as_what = "bytes" if found.format in BYTES_FORMATS else "text"
        return {**result, "read_as": as_what, "note": str(error) or "no reader knows it"}
    except Exception as error:
        # Kinds come from other packages too; a mistake in a reader must not cost the answer.
        return {**result, "read_as": "text", "note": f"its reader failed ({type(error).__name__})"}
    budget = [_MAX_PARTS]
    parts = _parts_json(root, "", budget)
    fields = {k: plain(v) for k, v in root.fields.items()}
    more["note"] = "; ".join(n for n in (found.note, more.pop("note", "")) if n)
    return {**result, "fields": fields, "parts": parts, "truncated": budget[0] <= 0, **more}


def drawing_json(request: dict[str, Any], rules: Rules) -> dict[str, Any]:
    """The drawing of the newer file, or of both in one where there is an older."""
    from everyshelf.core.drawing import draw_file, draw_files

    sides = [ArtifactSide(n, Path(p).read_bytes()) for n, p in (request["before"], request["after"]) if n]
    if len(sides) == 1:
        return draw_file(sides[0], rules, request.get("kind"))
    return draw_files(sides[0], sides[1], rules, request.get("kind"))


def unfolding_json(request: dict[str, Any], rules: Rules) -> dict[str, Any]:
    """Unfold a file into a zip at ``output``, or fold such a zip into a file there; what is in it as texts."""
    from everyshelf.core.unfolding import fold, packed, unfold, unpacked_files

    name, path = request["file"]
    data, output = Path(path).read_bytes(), Path(request["output"])
    if request["task"] == "fold":
        folded = fold(unpacked_files(data))
        output.write_bytes(folded.data)
        return {"name": folded.name, "notes": list(folded.notes)}
    unfolded = unfold(name, data, rules=rules, kind=request.get("kind"))
    output.write_bytes(packed(unfolded))
    return {"files": _files_json(unfolded.files), "notes": unfolded.notes}


def _files_json(files: dict[str, bytes]) -> list[dict[str, Any]]:
    """Path, size, and the text of those that are texts, up to a bound for each and for all."""
    left, result = _MOST_TEXT, []
    for path, data in sorted(files.items()):
        text: str | None = None
        if len(data) <= min(left, _MOST_TEXT // 8) and b"\0" not in data:
            with contextlib.suppress(UnicodeDecodeError):
                text = data.decode("utf-8")
                left -= len(data)
        result.append({"path": path, "size": len(data), "text": text})
    return result


def uses_json(name: str, data: bytes, rules: Rules, wanted: list[dict[str, Any]]) -> list[list[dict[str, Any]]]:
    """For each wanted part (see ``Wanted``) the places of the file that use it; none if it cannot be read."""
    try:
        root = read_outline(name, data, recognise_file(name, data, rules), rules).root
    except (UnreadableError, RecursionError):
        return [[] for _ in wanted]
    return [[use.as_json() for use in found] for found in uses_of(root, [Wanted(**one) for one in wanted])]


def names_json(name: str, data: bytes, rules: Rules) -> dict[str, Any]:
    """What a file names, and what it offers others by name; nothing if it cannot be read."""
    try:
        root = read_outline(name, data, recognise_file(name, data, rules), rules).root
    except (UnreadableError, RecursionError):
        return {"names": [], "offers": []}
    return {"names": names_in(root), "offers": offered_by(root)}


def _parts_json(part: Part, path: str, budget: list[int]) -> list[dict[str, Any]]:
    result: list[dict[str, Any]] = []
    for place, child in enumerate(part.children(), 1):
        if budget[0] <= 0:
            return result
        budget[0] -= 1
        key = child.key or str(child.fields.get("id") or child.fields.get("name") or f"#{place}")
        here = child_path(path, child, key)
        below = _parts_json(child, path if child.through else here, budget)
        fields = {k: plain(v) for k, v in child.fields.items()}
        result.append({"path": here, "type": child.type, "label": child.label, "fields": fields, "parts": below})
    return result


_TASKS: dict[str, Callable[[dict[str, Any], Rules], dict[str, Any]]] = {
    "bind": _bind,
    "compare": _compare,
    "drawing": drawing_json,
    "edit": editing_json,
    "fingerprint": _fingerprint,
    "fold": unfolding_json,
    "follow": following_json,
    "measured": _measured,
    "merge": merging_json,
    "names": _names,
    "outline": _outline,
    "page": _page,
    "recognise": _recognise,
    "recognise-folder": _recognise_folder,
    "results": _results,
    "unfold": unfolding_json,
    "unpack": _unpack,
    "uses": _uses,
}
