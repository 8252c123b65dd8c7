"""Which files are compared and merged by meaning, and our lines in a file of Git attributes (``gitattributes(5)``)."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from pathlib import Path

DRIVER = "everyshelf"
# A kind is recognised by content; these are the names its files usually have.
PATTERNS: dict[str, tuple[str, ...]] = {
    "pipeline": ("*.cwl", "*.json", "*.yaml", "*.yml"),
    "workflow": ("*.bpmn", "*.dmn", "*.xml"),
    "app": ("*.zip", "*.json", "*.yaml"),
    "notebook": ("*.ipynb",),
    "tests": ("*.feature", "*.xml"),
    "api": ("*.json", "*.yaml", "*.yml"),
    "script": ("*.py", "*.sql", "*.js", "*.ts", "*.sh", "*.bas", "*.vb", "*.r", "*.R", "*.ps1"),
    "settings": ("*.toml", "*.ini", "*.cfg", "*.properties", "*.json", "*.yaml", "*.yml", "*.xml"),
    "dataset": ("*.csv", "*.tsv", "*.jsonl", "*.ndjson", "*.parquet", "*.arrow", "*.feather"),
    "database": ("*.sqlite", "*.sqlite3", "*.db"),
    "spreadsheet": ("*.xlsx", "*.xlsm", "*.xls", "*.xlsb", "*.ods"),
    "document": ("*.docx", "*.odt", "*.pptx", "*.odp", "*.pdf"),
    "report": ("*.md", "*.html", "*.rst", "*.txt"),
    "model": ("*.onnx", "*.safetensors", "*.pmml", "*.pkl", "*.pickle", "*.joblib"),
    "picture": ("*.png", "*.jpg", "*.jpeg", "*.gif"),
    "archive": ("*.zip", "*.tar", "*.tgz"),
}
_FIRST = "# Every Shelf: the lines from here to the end mark were written by `everyshelf git-tools install`."
_LAST = "# Every Shelf: end"


def patterns_of(kinds: Iterable[str]) -> tuple[str, ...]:
    """The patterns of some kinds, each once."""
    return tuple(sorted({pattern for kind in kinds for pattern in PATTERNS[kind]}))


def read_block(file: Path) -> list[str]:
    """Our lines in a file; none where it has none."""
    return _apart(_lines(file))[1]


def write_block(file: Path, lines: Sequence[str]) -> None:
    """Put our lines at the end of a file, in place of those it has; without lines, what we wrote goes, and the file too
    where nothing else is in it."""
    before, _, after = _apart(_lines(file))
    kept = before + after
    ours = [_FIRST, *lines, _LAST] if lines else []
    if not kept and not ours:
        file.unlink(missing_ok=True)
        return
    file.parent.mkdir(parents=True, exist_ok=True)
    part = file.with_name(f".{file.name}.part")
    part.write_bytes("".join(f"{line}\n" for line in kept + ours).encode("utf-8", "surrogateescape"))
    part.replace(file)


def _lines(file: Path) -> list[str]:
    if not file.is_file():
        return []
    return file.read_bytes().decode("utf-8", "surrogateescape").splitlines()


def _apart(lines: list[str]) -> tuple[list[str], list[str], list[str]]:
    if _FIRST not in lines:
        return lines, [], []
    start = lines.index(_FIRST)
    rest = lines[start + 1 :]
    stop = rest.index(_LAST) if _LAST in rest else len(rest)
    return lines[:start], rest[:stop], rest[stop + 1 :]
