"""Run guides: every command of a page, in order, against a service that was empty before.

A page has blocks of commands, run by Bash with ``set -e``::

    ```sh                     as whoever owns the installation
    ```sh as=tobias           as someone else, with a home and a connection of their own
    ```sh exit=4              a command that ends with another code than 0

and below a block of commands perhaps its output in a block of ``text``. ``<!-- service: stop -->`` and ``start`` stop and
start the service. ``python -m tests.support.guide PAGE …`` writes the true output back.
"""

from __future__ import annotations

import contextlib
import os
import re
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import httpx

from tests.support.service import PASSWORD, Service

ROOT = Path(__file__).parents[2]
GUIDES = ROOT / "docs" / "guides"
OWNER = "maren"
_HOST = "127.0.0.1:7463"
_FENCE = re.compile(r"^```(\w+)?([^\n]*)\n(.*?)^```$", re.M | re.S)
_ORDER = re.compile(r"<!-- service: (stop|start) -->")
# What differs from run to run, and the word it is replaced by before two outputs are compared.
_VARIES = (
    (re.compile(r"\b[0-9a-f]{8,64}\b"), "ID"),
    (re.compile(r"\b(join|es)_[\w-]+…?"), r"\1_SECRET"),
    (re.compile(r"\b(today|Mon|Tue|Wed|Thu|Fri|Sat|Sun) \d\d:\d\d\b"), "WHEN"),
    (re.compile(r"\b\d{1,2} (Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec)( \d{4})?( \d\d:\d\d)?\b"), "WHEN"),
    (re.compile(r"\b\d{4}-\d\d-\d\dT[\d:.]+(Z|[+-]\d\d:\d\d)?"), "WHEN"),
    (re.compile(r"\b\d+(\.\d+)? (s|ms)\b"), "SECONDS"),
    (re.compile(r"command line on \S+"), "command line on MACHINE"),
    (re.compile(r"\b\d{8}T\d{6}Z\b"), "MOMENT"),
    (re.compile(r"\b[\d.]+ [KM]?B(?= (to restore|added|in \d+ segments?)\b)"), "SIZE"),
    (re.compile(r" +"), " "),
)


_STEP = re.compile(r"^\d+\. (.*(?:\n {3}.*)*)", re.M)
_CLICK = re.compile(
    r"Type `(?P<text>[^`]+)` into \*\*(?P<into>[^*]+)\*\*|tick \*\*(?P<tick>[^*]+)\*\*"
    r"| or \*\*[^*]+\*\*|\*\*(?P<press>[^*]+)\*\*|“(?P<see>[^”]+)”"
)


@dataclass
class Block:
    """Commands of a page, who runs them, how they end, and the place of their output in the page (None: not shown)."""

    commands: str
    person: str
    code: int
    output: str | None
    place: tuple[int, int] | None
    order: str = ""


def blocks(page: str) -> list[Block]:
    """The blocks of a page in order, and the orders to stop and start the service."""
    found: list[tuple[int, Block]] = []
    fences = list(_FENCE.finditer(page))
    for number, fence in enumerate(fences):
        language, options, body = fence.group(1), dict(re.findall(r"(\w+)=(\S+)", fence.group(2))), fence.group(3)
        if language not in ("sh", "python"):
            continue
        output, place = None, None
        after = fences[number + 1] if number + 1 < len(fences) else None
        if after is not None and after.group(1) == "text" and not page[fence.end() : after.start()].strip():
            output, place = after.group(3), (after.start(3), after.end(3))
        if language == "python":
            body = f"python - <<'PYTHON'\n{body}PYTHON\n"
        block = Block(body, options.get("as", OWNER), int(options.get("exit", "0")), output, place)
        found.append((fence.start(), block))
    for order in _ORDER.finditer(page):
        found.append((order.start(), Block("", "", 0, None, None, order.group(1))))
    return [block for _, block in sorted(found, key=lambda one: one[0])]


def clicks(page: str) -> list[dict[str, str]]:
    """What the numbered steps of a page say to do in a browser, in order: ``press`` (bold), ``text`` ``into`` a field,
    ``tick``, ``see`` (in quotes). Of “**agree** or **against**” the first is pressed."""
    found = []
    for step in _STEP.finditer(page):
        for click in _CLICK.finditer(" ".join(step.group(1).split())):
            act = {name: text for name, text in click.groupdict().items() if text}
            if act:
                found.append(act)
    return found


class Run:
    """A service, and the people who work with it."""

    def __init__(self) -> None:
        self._folder = Path(tempfile.mkdtemp(prefix="es-guide-"))
        self.data = self._folder / "data"
        self.data.mkdir()
        self._folder.joinpath("tmp").mkdir()
        self.service = Service(self.data, settings={"EVERYSHELF_OWNER": OWNER})

    def close(self) -> None:
        self.service.stop()
        shutil.rmtree(self._folder, ignore_errors=True)

    def told(self, block: Block) -> tuple[int, str]:
        """Run a block; its exit code and its output, with the names that the page uses."""
        if block.order:
            self.service.stop() if block.order == "stop" else self.service.start()
            return 0, ""
        self._settle()
        home = self._folder / "home" / block.person
        home.mkdir(parents=True, exist_ok=True)
        state, where = home / ".state", home / ".where"
        here = where.read_text().strip() if where.exists() else str(home)
        script = (
            f"cd {here}\n[ -e {state} ] && . {state}\nset -e\ntrap 'pwd > {where}; export -p > {state}' EXIT\n"
            + block.commands.replace(_HOST, self.service.address.partition("://")[2])
        )
        done = subprocess.run(
            ["bash", "-c", script],
            env=self._environment(home),
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
            check=False,
        )
        text = done.stdout.replace(str(self._folder), "").replace(self.service.address.partition("://")[2], _HOST)
        return done.returncode, text

    def _settle(self) -> None:
        """Wait until the jobs that followed what was done before are done, as they are when people read a page."""
        process = self.service.process
        while process is not None and process.poll() is None:
            queue = httpx.get(f"{self.service.address}/healthz", timeout=60).json()["queue"]
            if not queue["waiting"] and not queue["running"]:
                return
            time.sleep(0.1)

    def _environment(self, home: Path) -> dict[str, str]:
        kept = {n: v for n, v in os.environ.items() if not n.startswith("EVERYSHELF_")}
        return {
            **kept,
            "HOME": str(home),
            "PATH": f"{Path(sys.executable).parent}:{os.environ['PATH']}",
            "EVERYSHELF_CONFIG": str(home / ".everyshelf-config"),
            "EVERYSHELF_PASSWORD": PASSWORD,
            "DATA": str(self.data),
            "REPOSITORIES": str(self.service.repositories),
            "TMPDIR": str(self._folder / "tmp"),
            "NO_COLOR": "1",
        }


@contextlib.contextmanager
def running() -> Iterator[Run]:
    """A service with an owner and nothing else."""
    run = Run()
    try:
        yield run
    finally:
        run.close()


def comparable(text: str) -> list[str]:
    """The lines of an output without what differs from run to run."""
    for pattern, word in _VARIES:
        text = pattern.sub(word, text)
    return [line.strip() for line in text.splitlines() if line.strip()]


def rewrite(path: Path) -> None:
    """Put the output that the commands have now into the page."""
    page = path.read_text()
    with running() as run:
        outputs = []
        for block in blocks(page):
            code, text = run.told(block)
            if code != block.code:
                raise SystemExit(f"{path}: ended with {code}, not {block.code}:\n{block.commands}\n{text}")
            if block.place is not None:
                outputs.append((block.place, text))
    for (start, end), text in reversed(outputs):
        page = page[:start] + "\n".join(line.rstrip() for line in text.strip("\n").splitlines()) + "\n" + page[end:]
    path.write_text(page)


if __name__ == "__main__":
    for name in sys.argv[1:] or [str(path) for path in sorted(GUIDES.glob("*.md"))]:
        rewrite(Path(name))
