"""Files of other people's programs, by kind: read as their kind, silent when written differently, exact when edited.

The edits and what they should be told as are made here, with general parsers alone. What each test prints says how
many files fell back to text and how many edits were told as exactly one finding.
"""

from __future__ import annotations

import copy
import json
import random
import re
import unittest
import xml.etree.ElementTree as ET
from collections.abc import Callable, Iterator
from typing import Any

import yaml

from tests.support.factories import compared
from tests.support.figures import say
from tests.support.published import published

Edit = tuple[bytes, Callable[[dict[str, Any]], bool]]
NEW = "a value nobody had before"


def fields_of(found: dict[str, Any]) -> list[dict[str, Any]]:
    return [f for f in found["findings"] if f["effect"] != "cosmetic"]


def tells_new_value(finding: dict[str, Any]) -> bool:
    return NEW in json.dumps([finding["after"], finding.get("detail", "")])


class Published(unittest.TestCase):
    """What every kind's test does; says its figures."""

    def judge(
        self,
        title: str,
        files: list[tuple[str, bytes]],
        kind: str,
        again: Callable[[bytes], bytes],
        edit: Callable[[bytes, random.Random], Edit | None],
        *,
        least_read: float = 0.95,
        least_exact: float = 0.9,
        least: int = 5,
    ) -> None:
        rng = random.Random(3)
        read = noisy = tried = exact = 0
        writers = {name.partition("/")[0] for name, _ in files}
        for name, data in files:
            short = name.rpartition("/")[2]
            other = compared(data, again(data), short)
            if other["kind"] != kind or other["read_as"] != kind:
                continue
            read += 1
            with self.subTest(file=name):
                self.assertEqual(fields_of(other), [], "written differently, means the same")
            made = edit(data, rng)
            if made is None:
                continue
            tried += 1
            found = compared(data, made[0], short)
            self.assertFalse(found["equal"], name)
            told = fields_of(found)
            right = len(told) == 1 and made[1](told[0])
            exact += right
            if not right:
                noisy += len(told) > 1
        say(
            f"{title}: {len(files)} files by {len(writers)} writers, {len(files) - read} fell back to text, "
            f"{exact} of {tried} edits told as exactly one finding ({noisy} as more)"
        )
        self.assertGreaterEqual(len(files), least)
        self.assertGreaterEqual(read, len(files) * least_read)
        self.assertGreaterEqual(exact, tried * least_exact)


def _well_formed(files: list[tuple[str, bytes]], parse: Callable[[bytes], Any]) -> list[tuple[str, bytes]]:
    """Without those that are broken on purpose, which other people's tests are full of."""

    def whole(data: bytes) -> bool:
        try:
            return parse(data) is not None
        except Exception:
            return False

    return [(name, data) for name, data in files if whole(data)]


def parsed_yaml(data: bytes) -> Any:
    tree = yaml.safe_load(data)
    return tree if isinstance(tree, dict) else None


def yaml_again(data: bytes) -> bytes:
    return yaml.safe_dump(parsed_yaml(data), sort_keys=False, default_flow_style=False, indent=3, width=60).encode()


def xml_again(data: bytes) -> bytes:
    root = ET.fromstring(data)
    for element in root.iter():
        element.attrib = dict(reversed(element.attrib.items()))
    return ET.tostring(root, encoding="utf-8", xml_declaration=True)


class PipelineFiles(Published):
    """CWL by three writers."""

    def test_cwl(self) -> None:
        def is_cwl(data: bytes) -> Any:
            tree = parsed_yaml(data)
            return tree if tree and "cwlVersion" in tree and "$import" not in str(tree) else None

        def edit(data: bytes, rng: random.Random) -> Edit | None:
            tree = is_cwl(data)
            steps = tree.get("steps")
            steps = list(steps.values()) if isinstance(steps, dict) else steps
            targets = [s for s in steps or [] if isinstance(s, dict) and isinstance(s.get("run"), str)]
            if targets:
                rng.choice(targets)["run"] = NEW
            elif isinstance(tree.get("baseCommand"), str):
                tree["baseCommand"] = NEW
            else:
                return None
            return yaml.safe_dump(tree, sort_keys=False).encode(), tells_new_value

        files = _well_formed(published("pipeline", (".cwl",)), is_cwl)
        self.judge("CWL", files, "pipeline", yaml_again, edit)


class ProcessFiles(Published):
    """BPMN and DMN by six writers."""

    def test_bpmn(self) -> None:
        def moved(data: bytes) -> bytes:
            root = ET.fromstring(data)
            for element in root.iter():
                for name in ("x", "y"):
                    if element.tag.endswith(("}Bounds", "}waypoint")) and name in element.attrib:
                        element.set(name, str(float(element.get(name, "0")) + 13))
            return ET.tostring(root)

        def edit(data: bytes, rng: random.Random) -> Edit | None:
            root = ET.fromstring(data)
            named = [e for e in root.iter() if e.get("name") and re.search(r"(Task|Event|Gateway|task)$", e.tag)]
            if not named:
                return None
            target = rng.choice(named)
            target.set("name", NEW)
            return ET.tostring(root), lambda f: f.get("field") == "name" and f["part"].endswith(f":{target.get('id')}")

        files = _well_formed(published("process", (".bpmn",)), ET.fromstring)
        files = [f for f in files if b"definitions" in f[1]]
        self.judge("BPMN", files, "workflow", moved, edit)

    def test_dmn(self) -> None:
        def edit(data: bytes, rng: random.Random) -> Edit | None:
            root = ET.fromstring(data)
            entries = [t for e in root.iter() if e.tag.endswith("}outputEntry") for t in e if t.tag.endswith("}text")]
            if not entries:
                return None
            rng.choice(entries).text = NEW
            return ET.tostring(root), lambda f: f["type"] == "rule" and f["after"] == NEW

        self.judge("DMN", published("process", (".dmn",)), "workflow", xml_again, edit)

    def test_graphs_with_edges_inside_their_nodes(self) -> None:
        def again(data: bytes) -> bytes:
            tree = json.loads(data)
            for node in tree:
                for name in ("x", "y"):
                    if name in node:
                        node[name] += 20
            return json.dumps(tree, indent=1, sort_keys=True).encode()

        def edit(data: bytes, rng: random.Random) -> Edit | None:
            tree = json.loads(data)
            texts = [
                (n, k)
                for n in tree
                for k, v in n.items()
                if isinstance(v, str) and k not in ("id", "z", "info", "icon", "g") and "wires" in n and v
            ]
            texts = [(n, k) for n, k in texts if n[k] not in {m["id"] for m in tree} and k not in ("type", "name")]
            if not texts:
                return None
            node, name = rng.choice(texts)
            node[name] = NEW
            return json.dumps(tree).encode(), tells_new_value

        def is_flow(data: bytes) -> Any:
            tree = json.loads(data)
            wired = [n for n in tree if isinstance(n, dict) and n.get("wires")] if isinstance(tree, list) else []
            return tree if len(tree) > 3 and len(wired) > 1 else None

        files = _well_formed(published("graph", (".json",)), is_flow)
        self.judge("graphs with wires", files, "workflow", again, edit)


class AppFiles(Published):
    """Forms and dashboards in XML by four writers, in JSON by three, interviews in YAML by two."""

    def test_apps_in_xml(self) -> None:
        def edit(data: bytes, rng: random.Random) -> Edit | None:
            root = ET.fromstring(data)
            words = [e for e in root.iter("property") if e.get("name") in ("text", "title", "label", "windowTitle")]
            words = [e for e in words if (e.text or "").strip() or e.find("string") is not None]
            if not words:
                return None
            target = rng.choice(words)
            text = target.find("string")
            (target if text is None else text).text = NEW
            return ET.tostring(root), tells_new_value

        def is_form(data: bytes) -> Any:
            root = ET.fromstring(data)
            named = [e for e in root.iter() if e.tag in ("widget", "object") and e.get("class")]
            return root if len([e for e in named if e.get("id") or e.get("name")]) > 1 else None

        files = _well_formed(published("app", (".ui", ".glade")), is_form)
        self.judge("apps in XML", files, "app", xml_again, edit)

    def test_apps_in_json(self) -> None:
        def shown(tree: Any) -> Iterator[dict[str, Any]]:
            for name in ("components", "panels"):
                for control in tree.get(name) or ():
                    yield control
                    yield from shown(control)

        def edit(data: bytes, rng: random.Random) -> Edit | None:
            tree = json.loads(data)
            name = "label" if "components" in tree else "title"
            named = [c for c in shown(tree) if isinstance(c.get(name), str)]
            if not named:
                return None
            rng.choice(named)[name] = NEW
            return json.dumps(tree, indent=1).encode(), tells_new_value

        def is_app(data: bytes) -> Any:
            tree = json.loads(data)
            found = list(shown(tree)) if isinstance(tree, dict) else []
            return tree if found and any("type" in c and set(c) & {"label", "title", "key"} for c in found) else None

        files = _well_formed(published("app", (".json",)), is_app)
        self.judge("apps in JSON", files, "app", lambda d: json.dumps(json.loads(d), indent=7).encode(), edit)

    def test_apps_in_yaml(self) -> None:
        def documents(data: bytes) -> list[dict[str, Any]]:
            return [d for d in yaml.safe_load_all(data) if isinstance(d, dict)]

        def again(data: bytes) -> bytes:
            return yaml.safe_dump_all(yaml.safe_load_all(data), sort_keys=False, indent=3, width=60).encode()

        def edit(data: bytes, rng: random.Random) -> Edit | None:
            found = list(yaml.safe_load_all(data))
            asked = [d for d in found if isinstance(d, dict) and isinstance(d.get("question"), str)]
            if not asked:
                return None
            rng.choice(asked)["question"] = NEW
            return yaml.safe_dump_all(found, sort_keys=False).encode(), tells_new_value

        def is_app(data: bytes) -> Any:
            if b"!!" in data or re.search(rb"(?i)[-:] (yes|no|on|off)\s", data):
                return None  # the general parser reads tags and these words otherwise than YAML 1.2
            asked = [d for d in documents(data) if "question" in d]
            return asked if len(asked) > 1 and any(isinstance(d.get("fields"), list) for d in asked) else None

        files = _well_formed(published("app", (".yml",)), is_app)
        self.judge("apps in YAML", files, "app", again, edit)


class NotebookFiles(Published):
    """Notebooks by four writers."""

    def test_notebooks(self) -> None:
        def cells(tree: dict[str, Any]) -> list[dict[str, Any]]:
            return tree["cells"] if "cells" in tree else [c for w in tree["worksheets"] for c in w["cells"]]

        def again(data: bytes) -> bytes:
            tree = json.loads(data)
            for cell in cells(tree):
                if "execution_count" in cell:
                    cell["execution_count"] = 77
                if "outputs" in cell:
                    cell["outputs"] = []
            return json.dumps(tree, indent=3, sort_keys=True).encode()

        def edit(data: bytes, rng: random.Random) -> Edit | None:
            tree = json.loads(data)
            codes = [c for c in cells(tree) if c["cell_type"] == "code" and "".join(c.get("source", ""))]
            if not codes:
                return None
            cell = rng.choice(codes)
            cell["source"] = "".join(cell["source"]) + f"\nprint('{NEW}')"
            return json.dumps(tree).encode(), tells_new_value

        def whole(data: bytes) -> Any:
            return cells(json.loads(data))

        files = _well_formed(published("notebook", (".ipynb",)), whole)
        self.judge("notebooks", files, "notebook", again, edit)


class TestFiles(Published):
    """Features and results by three writers each."""

    def test_features(self) -> None:
        def again(data: bytes) -> bytes:
            return data.replace(b"\r\n", b"\n").replace(b"\n", b"\r\n")

        def edit(data: bytes, rng: random.Random) -> Edit | None:
            text, inside = data.decode(), False
            lines = text.splitlines()
            steps = []
            for place, line in enumerate(lines):
                inside ^= line.strip()[:3] in ('"""', "'''", "```")
                if not inside and re.match(r"\s*(Given|When|Then) \S", line):
                    steps.append(place)
            if not steps:
                return None
            place = rng.choice(steps)
            lines[place] = re.sub(r"(Given|When|Then) .*", rf"\1 {NEW}", lines[place])
            return "\n".join(lines).encode(), tells_new_value

        def has_scenario(data: bytes) -> Any:
            return data.decode() if b"Scenario" in data and b"eature" in data else None

        files = _well_formed(published("feature", (".feature",)), has_scenario)
        self.judge("features", files, "tests", again, edit)

    def test_projects_in_one_file(self) -> None:
        def cases(tree: Any) -> list[dict[str, Any]]:
            return tree.get("item") or tree.get("tests") or [] if isinstance(tree, dict) else []

        def parse(data: bytes) -> Any:
            return json.loads(data) if data.lstrip()[:1] == b"{" else yaml.safe_load(data)

        def again(data: bytes) -> bytes:
            return json.dumps(parse(data), indent=5).encode() if data.lstrip()[:1] == b"{" else yaml_again(data)

        def edit(data: bytes, rng: random.Random) -> Edit | None:
            tree = parse(data)
            steps = [c["commands"] for c in cases(tree) if c.get("commands")]
            if steps:
                rng.choice(rng.choice(steps))["value"] = NEW
            else:
                case = rng.choice(cases(tree))
                name = next(
                    (n for n in ("url", "GET", "POST", "method", "description") if isinstance(case.get(n), str)), None
                )
                if name is None:
                    return None
                case[name] = NEW
            changed = json.dumps(tree) if data.lstrip()[:1] == b"{" else yaml.safe_dump(tree, sort_keys=False)
            return changed.encode(), tells_new_value

        def is_project(data: bytes) -> Any:
            named = [c for c in cases(parse(data)) if isinstance(c, dict) and "name" in c]
            return parse(data) if named and len(named) == len(cases(parse(data))) else None

        files = _well_formed(published("projects", (".side", ".yaml", "collection.json")), is_project)
        self.judge("test projects", files, "tests", again, edit)

    def test_results(self) -> None:
        def edit(data: bytes, rng: random.Random) -> Edit | None:
            root = ET.fromstring(data)
            cases = [c for c in root.iter("testcase") if len(c) == 0]
            names = [(c.get("classname"), c.get("name")) for c in root.iter("testcase")]
            cases = [c for c in cases if names.count((c.get("classname"), c.get("name"))) == 1]
            if not cases:
                return None
            case = rng.choice(cases)
            ET.SubElement(case, "failure", message=NEW)
            return ET.tostring(root), lambda f: f["type"] == "case" and f["effect"] == "breaks"

        files = [f for f in _well_formed(published("results", (".xml",)), ET.fromstring) if b"<testsuite" in f[1]]
        self.judge("results", files, "tests", xml_again, edit)


class DescriptionFiles(Published):
    """Service descriptions by three writers."""

    def test_descriptions(self) -> None:
        def is_description(data: bytes) -> Any:
            tree = parsed_yaml(data)
            return tree if tree and ("openapi" in tree or "swagger" in tree) and "paths" in tree else None

        def operations(tree: Any) -> Iterator[dict[str, Any]]:
            for path in tree["paths"].values():
                for method, operation in (path or {}).items():
                    if method in ("get", "post", "put", "delete") and isinstance(operation, dict):
                        yield operation

        def edit(data: bytes, rng: random.Random) -> Edit | None:
            tree = copy.deepcopy(is_description(data))
            found = [o for o in operations(tree) if "responses" in o and "299" not in o["responses"]]
            if not found:
                return None
            rng.choice(found)["responses"]["299"] = {"description": NEW}
            return yaml.safe_dump(tree, sort_keys=False).encode(), lambda f: f["action"] == "added"

        files = _well_formed(published("api", (".yaml", ".yml")), is_description)
        self.judge("service descriptions", files, "api", yaml_again, edit)


class ScriptFiles(Published):
    """SQL and Basic by three writers each."""

    def test_sql(self) -> None:
        def again(data: bytes) -> bytes:
            return b"\n\n" + data.replace(b"\r\n", b"\n").replace(b"\n", b"\r\n") + b"\n\n"

        def edit(data: bytes, rng: random.Random) -> Edit | None:
            found = re.findall(rb"(?im)^\s*create table ([a-z_.]+)", data)
            if not found:
                return None
            extra = b"\n;\ncreate table nobody_had_this (id integer);\n"
            return data.rstrip().rstrip(b";") + extra, lambda f: f["action"] == "added" and "nobody" in str(f)

        self.judge("SQL", published("sql", (".sql",)), "script", again, edit, least_read=0.85)

    def test_basic_modules(self) -> None:
        def again(data: bytes) -> bytes:
            return data.replace(b"\r\n", b"\n").replace(b"\n", b"\r\n") + b"\r\n"

        def edit(data: bytes, rng: random.Random) -> Edit | None:
            heads = list(re.finditer(rb"(?im)^(?:public |private )?(?:sub|function) (\w+)[^\r\n]*\r?\n", data))
            heads = [h for h in heads if not h[0].rstrip().endswith(b"_")]
            if not heads:
                return None
            head = rng.choice(heads)
            line = f'    MsgBox "{NEW}"\n'.encode()
            changed = data[: head.end()] + line + data[head.end() :]
            return changed, lambda f: f["part"].endswith(head[1].decode()) or NEW in json.dumps(f)

        def has_procedures(data: bytes) -> Any:
            return re.search(rb"(?im)^\s*end (sub|function)", data)

        files = _well_formed(published("basic", (".bas", ".cls", ".vba")), has_procedures)
        self.judge("Basic modules", files, "script", again, edit)


class SettingsFiles(Published):
    """Environment files by three writers."""

    def test_environment_files(self) -> None:
        def again(data: bytes) -> bytes:
            return b"\n# said again\n\n" + data.replace(b"\n", b"\r\n") + b"\r\n\r\n"

        def edit(data: bytes, rng: random.Random) -> Edit | None:
            found = list(re.finditer(rb"(?m)^(?:export )?([A-Za-z_]\w*)=(\w+)\r?$", data))
            found = [f for f in found if len(re.findall(rb"(?m)^" + f[1] + rb"=", data)) == 1]
            if not found:
                return None
            target = rng.choice(found)
            changed = data[: target.start(2)] + f'"{NEW}"'.encode() + data[target.end(2) :]
            return changed, lambda f: f["after"] == NEW and target[1].decode() in f["part"] + str(f.get("field"))

        files = published("env", (".env", ".env.conf", ".env.override", ".env2"))
        self.judge("environment files", files, "settings", again, edit)


if __name__ == "__main__":
    unittest.main()
