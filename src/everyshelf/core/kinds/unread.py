"""The kind of a file of which nothing was read: by its name alone."""

from __future__ import annotations

from pathlib import PurePosixPath

from everyshelf.core.kinds.recognise import by_name

_NAMED = {
    "archive": (".zip", ".tar", ".gz", ".tgz", ".bz2", ".xz", ".zst", ".7z"),
    "database": (".sqlite", ".sqlite3", ".db"),
    "dataset": (".parquet", ".arrow", ".feather", ".ipc"),
    "document": (".pdf", ".docx", ".odt", ".pptx", ".odp"),
    "model": (".pkl", ".pickle", ".joblib", ".onnx", ".safetensors", ".pt", ".pth", ".npy", ".npz"),
    "notebook": (".ipynb",),
    "picture": (".png", ".jpg", ".jpeg", ".gif", ".webp", ".tif", ".tiff", ".bmp"),
    "spreadsheet": (".xlsx", ".xlsm", ".xls", ".xlsb", ".ods"),
}
_KIND_OF = {suffix: kind for kind, suffixes in _NAMED.items() for suffix in suffixes}


def kind_of_unread(path: str) -> str:
    """The kind that the name says; ``opaque`` where it says none."""
    kind = _KIND_OF.get(PurePosixPath(path).suffix.lower())
    if kind is not None:
        return kind
    named = by_name(path)
    return named.kind if named is not None else "opaque"
