"""Threads that decode into a type for the first time do not meet each other in the middle of it."""

from __future__ import annotations

import ast
import subprocess
import sys
import unittest
from pathlib import Path

SOURCE = Path(__file__).parents[2] / "src" / "everyshelf"
ASKING = {"decode", "Decoder", "convert"}
LIBRARY = {"msgspec", "msgspec.json", "msgspec.msgpack"}

# Eighty fields of types that take a while to look at, and a thread that is interrupted ten thousand times a second.
_RACE = """
import sys, threading, types
import msgspec
from everyshelf import decoding
sys.setswitchinterval(0.0001)
field = "    f{}: dict[str, list[{}]] | None = None"
source = "\\n".join([
    "from __future__ import annotations", "import msgspec",
    "class Inner(msgspec.Struct):", *(field.format(n, "int") for n in range(40)),
    "class Outer(msgspec.Struct):", *(field.format(n, "Inner") for n in range(40)),
])
code = compile(source, "racing", "exec")
inner = {f"f{n}": {"k": [1]} for n in range(40)}
value = {f"f{n}": {"k": [inner]} for n in range(40)}
as_json, as_msgpack = msgspec.json.encode(value), msgspec.msgpack.encode(value)
for _ in range(int(sys.argv[1])):
    module = sys.modules["racing"] = types.ModuleType("racing")
    exec(code, module.__dict__)
    start = threading.Barrier(6)
    def go(act, data):
        start.wait()
        assert act(data, module.Outer).f7["k"][0].f9 == {"k": [1]}
    acts = [(decoding.from_json, as_json), (decoding.from_msgpack, as_msgpack), (decoding.converted, value)] * 2
    threads = [threading.Thread(target=go, args=act) for act in acts]
    for thread in threads: thread.start()
    for thread in threads: thread.join()
print("all of them decoded")
"""


class DecodingTests(unittest.TestCase):
    """Decoding that threads begin together."""

    def test_six_threads_begin_with_one_type(self) -> None:
        done = subprocess.run([sys.executable, "-c", _RACE, "15"], capture_output=True, text=True, check=False)
        self.assertEqual((done.returncode, done.stdout.strip()), (0, "all of them decoded"), done.stderr[-2000:])

    def test_no_other_module_asks_the_library_itself(self) -> None:
        for path in sorted(SOURCE.rglob("*.py")):
            if path == SOURCE / "decoding.py":
                continue
            for node in ast.walk(ast.parse(path.read_text())):
                if isinstance(node, ast.Attribute) and node.attr in ASKING:
                    self.assertNotIn(ast.unparse(node.value), LIBRARY, f"{path}:{node.lineno} asks it for {node.attr}")


if __name__ == "__main__":
    unittest.main()
