"""Examples for the OpenAPI document: every body and parameter in the terms of one small shelf, Skerry Line.

An example is built from the schema, so it is always complete and valid. The values come from a table by the name of
the field, so that the same thing is called the same in all of them; other fields get a value by their type.
"""

from __future__ import annotations

from typing import Any

_CONTENT = "6b1f0c3a9d4e5f60718293a4b5c6d7e8f90123456789abcdef0123456789abcd"
_COMMIT = "d021fbbe4c5d6e7f8091a2b3c4d5e6f708192a3b4c5d6e7f8091a2b3c4d5e6f7"
_MOMENT = "2026-03-02T08:15:00Z"
_DEEPEST = 7
_WHOLE = 2

# Values by the name of the field.
_VALUES: dict[str, Any] = {
    "action": "changed",
    "address": "/srv/everyshelf/environments/skerry-line/test",
    "answer": "Mean error went from 4.12 to 3.41 min.",
    "artifact": "data/fares.csv",
    "author": "ines",
    "base": _COMMIT,
    "beginning": "es_ClvnX",
    "branch": "main",
    "by": "purser",
    "code": "branch.moved",
    "column": "fare",
    "command": "python train.py",
    "commit": _COMMIT,
    "conflict": "/step:scan#timeout",
    "content": _CONTENT,
    "created_by": "tobias",
    "decision": "target",
    "description": "Timetable, fares and flows of the ferry company.",
    "detail": "2 of 14 lines new, 1 of 13 gone",
    "effect": "alters",
    "encoding": "utf-8",
    "environment": "test",
    "fed_from": "main",
    "field": "fare",
    "format": "csv",
    "full_name": "Ines Vale",
    "gate": "from main",
    "group": "parameters",
    "head": _COMMIT,
    "headline": "2 cells in fare, 1 row added",
    "hint": "Catch up: everyshelf catch-up",
    "id": "8fa1297902af",
    "instance": "/api/v1/shelves/skerry-line/commits",
    "invitation": "join_ZqbZaMzJfszw",
    "job": "5f0d7a4c2b1e49f8a6c3d2e1f0b9a8c7",
    "junit": "",
    "key": "skerry-line",
    "kind": "dataset",
    "label": "fare",
    "link": "http://127.0.0.1:7463/join#join_ZqbZaMzJfszw",
    "main": "main",
    "main_branch": "main",
    "made_by": "tobias",
    "name": "skerry-line",
    "note": "Fares of the spring",
    "old_path": "data/fares.csv",
    "parcel": _CONTENT,
    "part": "/column:fare",
    "password": "a-long-passphrase",
    "path": "data/fares.csv",
    "person": "ines",
    "place": "/step:load",
    "primary": "mean error",
    "question": "Does tide height cut the error of the forecast?",
    "read_as": "dataset",
    "reason": "The spring timetable starts",
    "ref": "main",
    "role": "author",
    "route": "timetable",
    "sentence": "1 artifact edited; 2 findings change behaviour, none break users.",
    "set_by": "maren",
    "shelf": "skerry-line",
    "shelf_name": "Skerry Line",
    "source": "tobias/quiet-hours",
    "start": "main",
    "store": "main",
    "subfolder": "",
    "subject": "main",
    "summary": "Fares of zone 3",
    "tag": "spring-2",
    "target": "main",
    "task": "SK-12",
    "tasks": ["SK-12"],
    "text": "zone,class,fare\nZ01,adult,4.20\n",
    "about": ["commit", "promotion"],
    "body": '{"specversion": "1.0", "id": "4711", "type": "every-shelf.commit.made"}',
    "event": "4711",
    "pattern": "SK-[0-9]+",
    "secret": "SpringTidesRunHighest",
    "status": 202,
    "webhook": "builds",
    "title": "Quiet hours: the night officer approves",
    "to": "data/fares.csv",
    "token": "",
    "token_name": "nightly load",
    "type": "column",
    "uid": _COMMIT,
    "unit": "min",
    "value": "desk-test",
    "verdict": "agree",
    "via": "nightly load",
    "who": "maren",
    "within": "sheet Fares",
    "words": "committed to",
    "zone": "Europe/Oslo",
    "limit": 100,
    "number": 2,
    "version": 4,
    "size": 1434,
    "total": 1,
    "days": 90,
    "count": 100,
    "from": "tag:spring-1",
    "cursor": "MTAw",
    "form": "html",
    "act": "tag",
    "identity": _CONTENT,
    "other": "production",
    "metric": "mean error",
    "table": "fares",
    "folder": "data",
    "ids": [_CONTENT],
    "joins": [["main", "main"]],
    "way": "both",
    "known_hosts": "",
    "labels": {"source": "tariff sheet"},
    "scopes": ["read", "write"],
    "reviewers": ["ines"],
    "lose": [],
    "only": ["data/fares.csv"],
    "paths": ["data/fares.csv"],
    "records": ["fares"],
    "patterns": ["*.log"],
    "reads": ["data/fares.csv"],
    "metrics": {"mean error": 3.41},
    "parameters": {"depth": 8},
    "quiet": [{"from": "18:00", "to": "06:00", "zone": "Europe/Oslo", "days": ["Fri", "Sat"]}],
    "counts": {"new": 0, "edited": 1, "moved": 0, "gone": 0},
    "effects": {"breaks": 0, "alters": 2, "cosmetic": 0},
    "before": "4.20",
    "after": "4.40",
    "old": "a-long-passphrase",
    "new": "another-long-passphrase",
    "destination": "folder",
}
# Values that depend on the path of the operation.
_NAMES = (
    ("/branches", "tobias/quiet-hours"),
    ("/tags", "spring-2"),
    ("/environments", "test"),
    ("/people", "ines"),
    ("/members", "ines"),
    ("/tokens", "nightly load"),
    ("/session", "ines"),
    ("/checks", "fare rules"),
    ("/invitations", "tobias"),
    ("/bindings", "HARBOUR_DESK"),
    ("/storage/stores", "archive"),
)
_KEYS = (("/experiments", "tide-height"),)
_UIDS = (("/jobs", "5f0d7a4c2b1e49f8a6c3d2e1f0b9a8c7"), ("/merges", "b17c55d29e04"), ("/remarks", "ac3961470819"))


def add_examples(result: dict[str, Any]) -> None:
    """Add an example to each parameter, to each JSON body, and to each answer that has one."""
    schemas = result["components"]["schemas"]
    for path, methods in result["paths"].items():
        for operation in methods.values():
            maker = _Maker(schemas, path)
            for parameter in operation.get("parameters", []):
                if "$ref" not in parameter:
                    parameter.setdefault("example", maker.of(parameter["schema"], parameter["name"]))
            for media in _json_of(operation.get("requestBody")):
                media["example"] = maker.of(media["schema"], "")
            for status, answer in operation["responses"].items():
                if status.startswith("2"):
                    for media in _json_of(answer):
                        media["example"] = maker.of(media["schema"], "")


def _json_of(holder: dict[str, Any] | None) -> list[dict[str, Any]]:
    content = (holder or {}).get("content", {})
    return [media for name, media in content.items() if name == "application/json" and "schema" in media]


class _Maker:
    """Builds values of schemas for the operations at one path."""

    def __init__(self, schemas: dict[str, Any], path: str) -> None:
        self._schemas = schemas
        self._named = {
            field: next((value for part, value in table if part in path), None)
            for field, table in (("name", _NAMES), ("key", _KEYS), ("uid", _UIDS))
        }
        self._named["id"] = self._named["uid"]

    def of(self, schema: dict[str, Any], name: str, depth: int = 0) -> Any:
        """A value of a schema for a field of that name."""
        if "$ref" in schema:
            return self.of(self._schemas[schema["$ref"].rpartition("/")[2]], name, depth)
        if "allOf" in schema:
            return self.of(schema["allOf"][0], name, depth)
        choices = schema.get("oneOf") or schema.get("anyOf")
        if choices:
            # An example is of what went well.
            is_empty = (depth >= _DEEPEST or name == "problem") and {"type": "null"} in choices
            return None if is_empty else self.of(choices[0], name, depth)
        if "enum" in schema:
            known = _VALUES.get(name)
            return known if known in schema["enum"] else schema["enum"][0]
        return self._plain(schema, name, depth)

    def _plain(self, schema: dict[str, Any], name: str, depth: int) -> Any:
        kind = schema.get("type")
        if isinstance(kind, list):
            kind = next(one for one in kind if one != "null")
        value = self._named.get(name) or _VALUES.get(name)
        if kind == "object":
            return self._object(schema, name, depth)
        if kind == "array" and "prefixItems" in schema:
            return [self.of(item, name, depth + 1) for item in schema["prefixItems"]]
        if kind == "array":
            items = schema.get("items", {})
            if isinstance(value, list) and ("$ref" not in items or name == "quiet"):
                return value
            one = self.of(items, name, depth + 1) if depth < _DEEPEST else ""
            return [one] if one not in ("", None) else []
        if kind == "string":
            if schema.get("format") == "date-time":
                return _MOMENT
            text = value if isinstance(value, str) else ""
            return text[: schema.get("maxLength", len(text))]
        if kind in ("integer", "number"):
            number = value if isinstance(value, int | float) and not isinstance(value, bool) else 1
            return min(max(number, schema.get("minimum", number)), schema.get("maximum", number))
        return schema.get("default", False) if kind == "boolean" else value

    def _object(self, schema: dict[str, Any], name: str, depth: int) -> dict[str, Any]:
        properties = schema.get("properties")
        if properties:
            # Deep inside, only what is always there: an example of everything would hide what it is an example of.
            needed = properties if depth < _WHOLE else [n for n in properties if n in schema.get("required", ())]
            return {field: self.of(properties[field], field, depth + 1) for field in needed}
        value, inner = _VALUES.get(name), schema.get("additionalProperties")
        if isinstance(value, dict) and not (isinstance(inner, dict) and "$ref" in inner):
            return value
        if isinstance(inner, dict) and inner and depth < _DEEPEST:
            return {"fare": self.of(inner, "", depth + 1)}
        return {}
