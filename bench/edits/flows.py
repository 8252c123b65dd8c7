"""A pipeline as JSON and as hand-written YAML: steps with settings, connections, parameters."""

from __future__ import annotations

import json
import random
from itertools import pairwise
from typing import Any

import yaml

from bench.edits.model import Edit, Format

WORDS = [
    "harbour",
    "tide",
    "ferry",
    "quay",
    "ledger",
    "fare",
    "cargo",
    "pier",
    "manifest",
    "ramp",
    "swell",
    "beacon",
    "buoy",
    "freight",
    "deck",
    "crew",
]


def _make(dice: random.Random) -> dict[str, Any]:
    count = dice.randint(25, 70)
    steps = []
    for n in range(count):
        step = {
            "id": f"{dice.choice(WORDS)}_{n}",
            "run": f"scripts/{dice.choice(WORDS)}_{n}.py",
            "timeout": dice.randint(10, 900),
            "enabled": dice.random() < 0.8,
            "settings": {
                f"{dice.choice(WORDS)}_{k}": dice.choice([k, f"{dice.choice(WORDS)} {k}", k / 4])
                for k in range(dice.randint(2, 6))
            },
            "tags": sorted(dice.sample(WORDS, dice.randint(0, 3))),
        }
        if dice.random() < 0.4:
            step["script"] = "".join(
                f"{dice.choice(WORDS)} = load('{dice.choice(WORDS)}_{k}')\n" for k in range(dice.randint(3, 9))
            )
        steps.append(step)
    ids = [s["id"] for s in steps]
    links = [{"from": a, "to": b, "when": dice.choice(["success", "always", "failure"])} for a, b in pairwise(ids)]
    return {
        "name": "night run",
        "schedule": "0 3 * * *",
        "parameters": {f"{w}_limit": dice.randint(1, 99) for w in dice.sample(WORDS, 6)},
        "steps": steps,
        "connections": links,
    }


def _step(model: Any, key: str) -> Any:
    return next(s for s in model["steps"] if s["id"] == key)


def _edit(dice: random.Random, model: Any, mark: str) -> Edit:
    steps = model["steps"]
    n = dice.randrange(len(steps))
    key = steps[n]["id"]
    what = dice.choice(
        [
            "timeout",
            "run",
            "setting",
            "setting",
            "add setting",
            "drop setting",
            "add step",
            "drop step",
            "move",
            "when",
            "parameter",
            "script",
            "tag",
            "schedule",
        ]
    )
    if what in ("timeout", "run"):
        value = dice.randint(1000, 9999) if what == "timeout" else f"scripts/new_{mark}.py"
        return Edit(f"{key}.{what}", frozenset({(key, what), (key,)}), lambda m: _step(m, key).__setitem__(what, value))
    if what == "setting":
        name = dice.choice(list(steps[n]["settings"]))
        return Edit(
            f"{key}.{name}",
            frozenset({(key, name), (key, "settings")}),
            lambda m: _step(m, key)["settings"].__setitem__(name, f"set {mark}"),
        )
    if what == "add setting":
        return Edit(
            f"{key}+setting",
            frozenset({(key, "end"), (key, "settings")}),
            lambda m: _step(m, key)["settings"].__setitem__(f"extra_{mark}", mark),
        )
    if what == "drop setting" and len(steps[n]["settings"]) > 2:
        name = dice.choice(list(steps[n]["settings"]))
        return Edit(
            f"{key}-{name}",
            frozenset({(key, name), (key, "settings"), (key, "end")}),
            lambda m: _step(m, key)["settings"].pop(name),
        )
    if what == "add step":
        new = {
            "id": f"new_{mark}",
            "run": f"scripts/{mark}.py",
            "timeout": 5,
            "enabled": True,
            "settings": {"by": mark, "limit": dice.randint(1, 9)},
            "tags": [],
        }
        return Edit(
            f"+step after {key}",
            frozenset({("after", key), ("stays", key)}),
            lambda m: m["steps"].insert(m["steps"].index(_step(m, key)) + 1, json.loads(json.dumps(new))),
        )
    if what == "drop step":
        names = [(key, f) for f in ("timeout", "run", "settings", "end", "script", "tags")]
        near = [(s["id"], "link") for s in steps[max(0, n - 1) : n + 1]]
        touched = frozenset(
            [*names, *near, (key,), ("stays", key), ("after", key), ("after", steps[n - 1]["id"]), ("order",)]
        )
        return Edit(f"-step {key}", touched, lambda m: _drop(m, key))
    if what == "move":
        to = dice.randrange(len(steps))
        if abs(to - n) > 1:
            around = [
                ("after", s["id"])
                for s in (steps[n - 1], steps[n], steps[to], steps[to - 1], steps[min(to + 1, len(steps) - 1)])
            ]
            anchor = steps[to]["id"]
            stays = [("stays", steps[k]["id"]) for k in {n, to, to - 1, min(to + 1, len(steps) - 1)}]
            return Edit(
                f"move {key}",
                frozenset([("order",), *around, *stays]),
                lambda m: put_behind(m["steps"], _step(m, key), _step(m, anchor)),
            )
    if what == "when" and n < len(steps) - 1:
        return Edit(
            f"when of {key}",
            frozenset({(key, "link"), (steps[n + 1]["id"], "stay-link")}),
            lambda m: next(c for c in m["connections"] if c["from"] == key).__setitem__("when", f"expr {mark}"),
        )
    if what == "script" and "script" in steps[n]:
        lines = steps[n]["script"].count("\n")
        at = dice.randrange(lines)
        touched = frozenset({(key, "script", at), (key, "script", at + 1), (key, "script", at - 1), (key, "script")})
        return Edit(f"{key}.script line {at}", touched, lambda m: _line(_step(m, key), at, f"changed = '{mark}'\n"))
    if what == "tag":
        return Edit(f"{key}+tag", frozenset({(key, "tags")}), lambda m: _step(m, key)["tags"].append(f"tag_{mark}"))
    if what == "schedule":
        return Edit(
            "schedule", frozenset({"schedule"}), lambda m: m.__setitem__("schedule", f"{len(mark)} 4 * * {mark}")
        )
    name = dice.choice(list(model["parameters"]))
    return Edit(
        f"parameter {name}",
        frozenset({("parameter", name)}),
        lambda m: m["parameters"].__setitem__(name, f"value {mark}"),
    )


def _drop(model: Any, key: str) -> None:
    model["steps"] = [s for s in model["steps"] if s["id"] != key]
    model["connections"] = [c for c in model["connections"] if key not in (c["from"], c["to"])]


def put_behind(items: list[Any], item: Any, anchor: Any) -> None:
    """Put ``item`` behind ``anchor``."""
    items.remove(item)
    items.insert(items.index(anchor) + 1, item)


def _line(step: Any, at: int, text: str) -> None:
    lines = step["script"].splitlines(keepends=True)
    lines[at] = text
    step["script"] = "".join(lines)


def _same(dice: random.Random, model: Any) -> tuple[Edit, Edit]:
    key = dice.choice(model["steps"])["id"]
    field = dice.choice(["timeout", "run", "enabled", "setting"])
    touched = frozenset(
        {
            (key, field),
            (key,),
            (key, "settings"),
            (key, "end"),
            ("stays", key),
            (key, "timeout"),
            (key, "run"),
            (key, "tags"),
        }
    )
    name = dice.choice(list(_step(model, key)["settings"]))

    def setter(value: Any) -> Any:
        if field == "setting":
            return lambda m: _step(m, key)["settings"].__setitem__(name, value)
        return lambda m: _step(m, key).__setitem__(field, value)

    return Edit(f"{key}.{field} a", touched, setter("value one")), Edit(
        f"{key}.{field} b", touched, setter("value two")
    )


def _yaml(model: Any) -> str:
    out = [
        "# Night run of the Skerry Line.",
        f"name: {model['name']}",
        f'schedule: "{model["schedule"]}"',
        "",
        "parameters:  # limits",
    ]
    out += [f"  {k}: {json.dumps(v)}" for k, v in model["parameters"].items()]
    out += ["", "steps:"]
    for step in model["steps"]:
        out += [f"  # step {step['id']}", f"  - id: {step['id']}", f"    run: {json.dumps(step['run'])}"]
        for name in ("timeout", "enabled"):
            out.append(f"    {name}: {json.dumps(step[name])}" + ("  # seconds" if name == "timeout" else ""))
        out.append("    settings:")
        out += [f"      {k}: {json.dumps(v)}" for k, v in step["settings"].items()]
        out.append(f"    tags: [{', '.join(step['tags'])}]")
        if "script" in step:
            out += ["    script: |", *(f"      {line}" for line in step["script"].splitlines())]
    out += ["", "connections:"]
    out += [f"  - {{from: {c['from']}, to: {c['to']}, when: {json.dumps(c['when'])}}}" for c in model["connections"]]
    return "\n".join(out) + "\n"


JSON = Format("JSON", "night_run.json", _make, _edit, _same, lambda m: json.dumps(m, indent=2) + "\n", json.loads)
YAML = Format("YAML", "night_run.yaml", _make, _edit, _same, _yaml, yaml.safe_load)
