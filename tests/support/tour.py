"""The README's five-minute tour, run as it stands there. ``python -m tests.support.tour`` writes its true output back."""

from __future__ import annotations

import contextlib
import os
import re
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

from tests.support.service import free_port

README = Path(__file__).parents[2] / "README.md"
_START, _END = "## A five-minute tour\n", "\nTwo files or folders can be compared"
_DONE = "--- done ---"
_ADDRESS = "http://127.0.0.1:7463"
_HOME = "/home/maren"


@dataclass
class Step:
    """One command as the page shows it, its output there, and where in the page's lines both stand."""

    shown: list[str]
    output: list[str] = field(default_factory=list)

    @property
    def command(self) -> str:
        """What a person would type: continued lines joined."""
        return "\n".join([self.shown[0].removeprefix("$ "), *self.shown[1:]])


def steps(page: str) -> list[Step]:
    """The commands of the tour in order; a line that ends with a backslash goes on in the next."""
    section = page[page.index(_START) : page.index(_END)]
    found: list[Step] = []
    for indented in (line for line in section.split("\n") if line.startswith("    ")):
        line = indented[4:]
        if line.startswith("$ "):
            found.append(Step([line]))
        elif found and not found[-1].output and found[-1].shown[-1].endswith("\\"):
            found[-1].shown.append(line)
        elif found:
            found[-1].output.append(line)
    return found


@contextlib.contextmanager
def demo_running(data: Path | None = None) -> Iterator[tuple[str, subprocess.Popen[str], Path]]:
    """A demo: its address, its process, and a home folder of its own. Data of an earlier one is used again."""
    with tempfile.TemporaryDirectory(prefix="es-tour-") as folder:
        home, port = Path(folder), free_port()
        demo = subprocess.Popen(
            [
                sys.executable,
                "-m",
                "everyshelf.cli.main",
                "demo",
                "--data",
                str(data or home / "data"),
                "--port",
                str(port),
            ],
            stdout=subprocess.PIPE,
            text=True,
            env={**os.environ, "NO_COLOR": "1", "COLUMNS": "100"},
        )
        try:
            _wait(demo)
            yield f"http://127.0.0.1:{port}", demo, home
        finally:
            demo.terminate()
            demo.wait(30)


def run(wanted: list[Step], data: Path | None = None) -> Iterator[tuple[Step, list[str]]]:
    """Each step with what really comes out of a demo; addresses and folders as the page has them."""
    with demo_running(data) as (address, _demo, home):
        environment = {
            **os.environ,
            "NO_COLOR": "1",
            "COLUMNS": "100",
            "EVERYSHELF_CONFIG": str(home / ".config"),
            "PATH": f"{Path(sys.executable).parent}:{os.environ['PATH']}",
        }
        yield from _in_shell(wanted, home, address, environment)


def _wait(demo: subprocess.Popen[str]) -> None:
    """Until it prints how to sign in, which it does once everything is built and served."""
    assert demo.stdout is not None
    for line in demo.stdout:
        if "skerry-line-demo" in line:
            return
    raise AssertionError("the demo ended without a word of how to sign in")


def _in_shell(
    wanted: list[Step], home: Path, address: str, environment: dict[str, str]
) -> Iterator[tuple[Step, list[str]]]:
    shell = subprocess.Popen(
        ["bash"],
        cwd=home,
        env=environment,
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        text=True,
    )
    assert shell.stdin is not None and shell.stdout is not None
    with shell:
        for step in wanted:
            command = step.command.replace(_ADDRESS, address)
            if command.startswith("export PATH="):
                continue  # the folder of the product is on the path already
            shell.stdin.write(f"{command}\necho '{_DONE}'\n")
            shell.stdin.flush()
            lines: list[str] = []
            while (line := shell.stdout.readline().rstrip("\n")) != _DONE:
                if not line and shell.poll() is not None:
                    raise AssertionError(f"the shell ended at: {command}")
                lines.append(line.replace(address, _ADDRESS).replace(str(home), _HOME))
            yield step, lines
        shell.stdin.close()


_MONTHS = "Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec"


def told(lines: list[str]) -> list[str]:
    """Lines without what differs from run to run: ids, moments, seconds, and the blanks that follow from them."""
    text = "\n".join(" ".join(line.split()) for line in lines if line.strip())
    text = re.sub(r"\b[0-9a-f]{8}([0-9a-f]{4})?\b", "ID", text)
    text = re.sub(r"\b(today|yesterday|Mon|Tue|Wed|Thu|Fri|Sat|Sun|\d+ \w{3})( \w{3})? \d\d:\d\d", "WHEN", text)
    text = re.sub(rf"\b\d{{1,2}} ({_MONTHS})\b( \d{{4}})?", "WHEN", text)
    return re.sub(r"\b(in|about) \d+\.\d s", r"\1 N s", text).split("\n")


def rewritten(page: str, results: list[tuple[Step, list[str]]]) -> str:
    """The page with each command's output replaced by the real one."""
    at = page.index(_START)
    for step, lines in results:
        shown = "\n".join(f"    {line}" for line in step.shown)
        old = "\n".join([shown, *(f"    {line}".rstrip() for line in step.output)])
        new = "\n".join([shown, *(f"    {line}".rstrip() for line in lines)]).rstrip("\n")
        place = page.index(old, at)
        page = page[:place] + new + page[place + len(old) :]
        at = place + len(new)
    return page


if __name__ == "__main__":
    page = README.read_text()
    README.write_text(rewritten(page, list(run(steps(page)))))
