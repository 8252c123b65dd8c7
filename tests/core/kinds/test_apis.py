"""Service descriptions: what callers send and what they get, widened or narrowed."""

from __future__ import annotations

import copy
import json
import unittest
from typing import Any

import yaml
from hypothesis import given
from hypothesis import strategies as st

from tests.support.factories import compared, told
from tests.support.laws import law

SAILING = {
    "type": "object",
    "required": ["id", "route"],
    "properties": {
        "id": {"type": "string"},
        "route": {"type": "string", "enum": ["north", "south"]},
        "delay": {"type": "number", "minimum": 0},
        "crew": {"type": "array", "items": {"$ref": "#/components/schemas/Person"}},
    },
}
API: dict[str, Any] = {
    "openapi": "3.0.3",
    "info": {"title": "Sailings", "version": "1.0"},
    "paths": {
        "/sailings/{id}": {
            "parameters": [{"name": "id", "in": "path", "required": True, "schema": {"type": "string"}}],
            "get": {
                "operationId": "getSailing",
                "parameters": [{"name": "units", "in": "query", "schema": {"type": "string", "enum": ["min", "s"]}}],
                "responses": {
                    "200": {
                        "description": "One",
                        "content": {"application/json": {"schema": {"$ref": "#/components/schemas/Sailing"}}},
                    },
                    "404": {"description": "None"},
                },
            },
        },
        "/sailings": {
            "post": {
                "requestBody": {
                    "required": True,
                    "content": {"application/json": {"schema": {"$ref": "#/components/schemas/Booking"}}},
                },
                "responses": {"201": {"description": "Made"}},
            }
        },
    },
    "components": {
        "schemas": {
            "Sailing": SAILING,
            "Person": {"type": "object", "properties": {"name": {"type": "string"}}},
            "Booking": {
                "type": "object",
                "required": ["seats"],
                "properties": {"seats": {"type": "integer", "maximum": 9}, "note": {"type": "string"}},
            },
        }
    },
}
GET = "/operation:GET %2Fsailings%2F{}"


def edited(path: str, value: Any = None, *, drop: bool = False) -> dict[str, Any]:
    tree = copy.deepcopy(API)
    here: Any = tree
    *steps, last = path.split(" ")
    for step in steps:
        here = here[int(step) if isinstance(here, list) else step]
    if drop:
        del here[last]
    else:
        here[last] = value
    return tree


def of(before: Any, after: Any) -> list[tuple[str, str, Any, str]]:
    found = compared(before, after, "sailings.json")
    assert found["read_as"] == "api", found["note"]
    return [(f["action"], f["part"], f.get("field"), f["effect"]) for f in found["findings"]]


SCHEMAS = "components schemas"


class OperationTests(unittest.TestCase):
    """Each change with the effect it has on those who call."""

    def test_each_change_is_one_finding_with_its_effect(self) -> None:
        item = "paths /sailings/{id} get"
        for after, expected in (
            (edited("paths /sailings/{id}", drop=True), ("removed", GET, None, "breaks")),
            (edited(f"{item} responses 200", drop=True), ("removed", f"{GET}/answer:200", None, "breaks")),
            (edited(f"{item} responses 404", drop=True), ("removed", f"{GET}/answer:404", None, "alters")),
            (
                edited(f"{item} parameters 0 required", True),
                ("changed", f"{GET}/parameter:query units", "required", "breaks"),
            ),
            (
                edited(f"{item} parameters 0 schema enum", ["min"]),
                ("changed", f"{GET}/parameter:query units", "enum", "breaks"),
            ),
            (
                edited(f"{item} parameters 0 schema enum", ["min", "s", "h"]),
                ("changed", f"{GET}/parameter:query units", "enum", "alters"),
            ),
            (edited(f"{item} parameters", []), ("removed", f"{GET}/parameter:query units", None, "breaks")),
            (edited(f"{item} operationId", "readSailing"), ("changed", GET, "operationId", "alters")),
            (edited(f"{item} summary", "One sailing"), ("added", GET, "summary", "cosmetic")),
            (edited("info version", "1.1"), ("changed", "/group:info", "version", "cosmetic")),
            # got
            (
                edited(f"{SCHEMAS} Sailing properties delay", drop=True),
                ("removed", "/schema:Sailing/property:delay", None, "breaks"),
            ),
            (
                edited(f"{SCHEMAS} Sailing properties route enum", ["north", "south", "west"]),
                ("changed", "/schema:Sailing/property:route", "enum", "breaks"),
            ),
            (
                edited(f"{SCHEMAS} Sailing properties route enum", ["north"]),
                ("changed", "/schema:Sailing/property:route", "enum", "alters"),
            ),
            (
                edited(f"{SCHEMAS} Sailing properties delay type", "integer"),
                ("changed", "/schema:Sailing/property:delay", "type", "alters"),
            ),
            (
                edited(f"{SCHEMAS} Sailing required", ["id"]),
                ("changed", "/schema:Sailing/property:route", "required", "breaks"),
            ),
            (
                edited(f"{SCHEMAS} Person properties name type", "integer"),
                ("changed", "/schema:Person/property:name", "type", "breaks"),
            ),
            # sent
            (
                edited(f"{SCHEMAS} Booking properties seats maximum", 5),
                ("changed", "/schema:Booking/property:seats", "maximum", "breaks"),
            ),
            (
                edited(f"{SCHEMAS} Booking properties seats maximum", 12),
                ("changed", "/schema:Booking/property:seats", "maximum", "alters"),
            ),
            (
                edited(f"{SCHEMAS} Booking required", ["seats", "note"]),
                ("changed", "/schema:Booking/property:note", "required", "breaks"),
            ),
            (
                edited(f"{SCHEMAS} Booking properties seats type", "number"),
                ("changed", "/schema:Booking/property:seats", "type", "alters"),
            ),
            (
                edited(f"{SCHEMAS} Booking properties dog", {"type": "boolean"}),
                ("added", "/schema:Booking/property:dog", None, "alters"),
            ),
        ):
            with self.subTest(expected=expected):
                self.assertEqual(of(API, after), [expected])

    def test_new_property_that_must_be_sent_breaks(self) -> None:
        after = edited(f"{SCHEMAS} Booking properties dog", {"type": "boolean"})
        after["components"]["schemas"]["Booking"]["required"] = ["seats", "dog"]
        self.assertEqual(of(API, after), [("added", "/schema:Booking/property:dog", None, "breaks")])

    def test_path_parameter_by_another_name_is_the_same_operation(self) -> None:
        after = json.loads(
            json.dumps(API)
            .replace("/sailings/{id}", "/sailings/{sailing}")
            .replace('"name": "id"', '"name": "sailing"')
        )
        self.assertEqual({effect for *_, effect in of(API, after)}, {"cosmetic"})

    def test_schema_by_another_name_is_cosmetic(self) -> None:
        after = json.loads(json.dumps(API).replace("Booking", "Reservation"))
        self.assertEqual(of(API, after), [("renamed", "/schema:Reservation", None, "cosmetic")])

    def test_schema_written_in_place_is_the_same_as_one_referred_to(self) -> None:
        after = edited(
            "paths /sailings post requestBody content application/json schema", API["components"]["schemas"]["Booking"]
        )
        self.assertEqual(of(API, after), [])

    def test_older_specification_of_the_same_service(self) -> None:
        old = {
            "swagger": "2.0",
            "info": API["info"],
            "consumes": ["application/json"],
            "paths": {
                "/sailings/{id}": {
                    "get": {
                        "operationId": "getSailing",
                        "parameters": [
                            {"name": "units", "in": "query", "type": "string", "enum": ["min", "s"]},
                            {"name": "id", "in": "path", "required": True, "type": "string"},
                        ],
                        "responses": {
                            "200": {"description": "One", "schema": {"$ref": "#/definitions/Sailing"}},
                            "404": {"description": "None"},
                        },
                    }
                },
                "/sailings": {
                    "post": {
                        "parameters": [
                            {
                                "in": "body",
                                "name": "body",
                                "required": True,
                                "schema": {"$ref": "#/definitions/Booking"},
                            }
                        ],
                        "responses": {"201": {"description": "Made"}},
                    }
                },
            },
            "definitions": json.loads(
                json.dumps(API["components"]["schemas"]).replace("components/schemas", "definitions")
            ),
        }
        self.assertEqual([f for f in of(old, API) if f[2] != "specification"], [])

    def test_yaml_and_key_order_mean_nothing(self) -> None:
        found = compared(json.dumps(API).encode(), yaml.safe_dump(API).encode(), "sailings.yaml")
        self.assertEqual(found["findings"], [])

    def test_schemas_that_refer_to_themselves_end(self) -> None:
        tree = edited(f"{SCHEMAS} Person properties boss", {"$ref": "#/components/schemas/Person"})
        after = copy.deepcopy(tree)
        after["components"]["schemas"]["Person"]["properties"]["name"]["type"] = "integer"
        self.assertEqual(of(tree, after), [("changed", "/schema:Person/property:name", "type", "breaks")])


class SchemaTests(unittest.TestCase):
    """A JSON Schema by itself: what is written against it."""

    SCHEMA = {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "type": "object",
        "properties": {"zone": {"type": "integer"}, "fares": {"type": "array", "items": {"$ref": "#/$defs/fare"}}},
        "$defs": {
            "fare": {"type": "object", "properties": {"price": {"type": "number"}}, "additionalProperties": True}
        },
    }

    def test_narrowing_breaks_and_widening_alters(self) -> None:
        for edit, expected in (
            (
                lambda s: s["properties"]["zone"].update(type=["integer", "null"]),
                ("changed", "/property:zone", "type", "alters"),
            ),
            (
                lambda s: s["$defs"]["fare"].update(additionalProperties=False),
                ("changed", "/schema:fare", "additionalProperties", "breaks"),
            ),
            (lambda s: s.update(required=["zone"]), ("changed", "/property:zone", "required", "breaks")),
            (lambda s: s.update(title="Zones"), ("added", "/", "title", "cosmetic")),
        ):
            after = copy.deepcopy(self.SCHEMA)
            edit(after)
            with self.subTest(expected=expected):
                self.assertEqual(of(self.SCHEMA, after), [expected])

    def test_nullable_counts_with_and_without_a_type(self) -> None:
        for schema in ({"type": "string"}, {"enum": ["a", "b"]}, {}):
            before, after = copy.deepcopy(self.SCHEMA), copy.deepcopy(self.SCHEMA)
            before["properties"]["zone"] = dict(schema)
            after["properties"]["zone"] = {**schema, "nullable": True}
            with self.subTest(schema=schema):
                self.assertEqual([e for *_, e in of(before, after)], ["alters"])
                self.assertEqual([e for *_, e in of(after, before)], ["breaks"])

    def test_schemas_among_the_types_count(self) -> None:
        def draft(*types: Any) -> dict[str, Any]:
            started = {"$schema": "http://json-schema.org/draft-03/schema#", "id": "http://skerry.example/berth"}
            return {**started, "type": "object", "properties": {"berth": {"type": list(types)}}}

        berth = "/property:berth"
        before = draft({"$ref": "#"}, "boolean")
        for after, expected in (
            (
                draft({"$ref": "quay.json"}, "boolean"),
                {("removed", f"{berth}/type:#"), ("added", f"{berth}/type:quay.json")},
            ),
            (draft({"$ref": "#"}, "string"), {("changed", berth)}),
            (draft("boolean"), {("removed", f"{berth}/type:#")}),
            (draft({"$ref": "#"}, "boolean", {"title": "quay", "minimum": 1}), {("added", f"{berth}/type:quay")}),
        ):
            found = compared(before, after, "berth.schema.json")
            self.assertFalse(found["equal"])
            self.assertEqual({(f["action"], f["part"]) for f in found["findings"]}, expected)
        self.assertTrue(compared(before, draft("boolean", {"$ref": "#"}), "berth.schema.json")["equal"])

    def test_keyword_beside_a_reference_counts(self) -> None:
        after = copy.deepcopy(self.SCHEMA)
        after["properties"]["fares"]["items"]["maxProperties"] = 3
        self.assertEqual(
            of(self.SCHEMA, after), [("changed", "/property:fares/items:items", "maxProperties", "breaks")]
        )


names = st.sampled_from(
    [
        "type",
        "properties",
        "items",
        "required",
        "enum",
        "$ref",
        "allOf",
        "nullable",
        "maximum",
        "x",
        "in",
        "name",
        "schema",
    ]
)
junk = st.recursive(
    st.none()
    | st.booleans()
    | st.integers()
    | st.sampled_from(["object", "string", "#/components/schemas/A", "#", "query", "a"]),
    lambda below: st.lists(below, max_size=3) | st.dictionaries(names, below, max_size=4),
    max_leaves=15,
)
descriptions = st.fixed_dictionaries(
    {
        "openapi": st.just("3.1.0"),
        "paths": junk
        | st.dictionaries(
            st.sampled_from(["/a", "/b/{c}"]),
            st.dictionaries(st.sampled_from(["get", "post", "parameters"]), junk, max_size=3),
            max_size=2,
        ),
        "components": junk
        | st.fixed_dictionaries({"schemas": st.dictionaries(st.sampled_from("ABC"), junk, max_size=3)}),
    }
)


class LawTests(unittest.TestCase):
    """Over descriptions that nobody should write."""

    @law(150)
    @given(descriptions, descriptions)
    def test_malformed_descriptions_are_compared_all_the_same(self, before: Any, after: Any) -> None:
        found = compared(before, after, "thing.json")
        self.assertEqual(found["read_as"], "api")
        self.assertEqual(compared(before, json.loads(json.dumps(before)), "thing.json")["findings"], [])
        if before != after:
            self.assertTrue(found["findings"] or found["note"])

    def test_told_values_are_plain(self) -> None:
        after = edited(f"{SCHEMAS} Sailing properties crew items", {"type": "string"})
        for _, _, _, old, new in told(compared(API, after, "sailings.json")):
            self.assertNotIsInstance(old, dict | list)
            self.assertNotIsInstance(new, dict | list)
