"""Paths of artifacts: what may stand on a shelf, so that it can be written to any disk and never outside its folder."""

from __future__ import annotations

import re
import unicodedata

from everyshelf.core.errors import InvalidError

_MAX_NAME_BYTES = 255
_MAX_PATH_BYTES = 2000  # an address with such a path, percent-encoded, still fits a request line
_RESERVED = re.compile(r"(con|prn|aux|nul|com\d|lpt\d)(\..*)?\Z", re.IGNORECASE)
OWN_FOLDER = ".everyshelf"
# Folders that version control programs obey: settings in them name programs that are run. "git~1" is what a file system
# with short names may call .git.
CONTROL_FOLDERS = frozenset((".git", "git~1"))


def check_path(path: str) -> str:
    """Return ``path`` if every system can hold it, else raise ``InvalidError`` (path.invalid) that says why."""
    if not isinstance(path, str) or not path:
        raise _wrong(path, "it is empty")
    if len(path.encode("utf-8", "surrogatepass")) > _MAX_PATH_BYTES:
        raise _wrong(path[:60] + "…", f"it is longer than {_MAX_PATH_BYTES} bytes")
    if path.startswith("/") or re.match(r"[A-Za-z]:", path):
        raise _wrong(path, "it is absolute; artifacts are named from the root of their shelf")
    for name in path.split("/"):
        _check_name(path, name)
    return path


def _check_name(path: str, name: str) -> None:
    if not name or name in (".", ".."):
        raise _wrong(path, f"{name or 'an empty part'!r} is not a name of a file or folder")
    for character in "" if name.isascii() and name.isprintable() else name:
        category = unicodedata.category(character)
        if category in ("Cc", "Cs", "Cf") and character not in "\u200c\u200d":
            raise _wrong(path, f"it holds the invisible character U+{ord(character):04X}")
    if "\\" in name:
        raise _wrong(path, "it holds a backslash; folders are parted by /")
    if name[-1] in " ." or name[0] == " ":
        raise _wrong(path, f"{name!r} begins or ends with a blank or ends with a dot")
    if _RESERVED.match(name):
        raise _wrong(path, f"{name!r} is a reserved name on some systems")
    if name.casefold() == OWN_FOLDER:
        raise _wrong(path, f"{OWN_FOLDER} belongs to the desk itself")
    if is_control_folder(name):
        raise _wrong(path, f"{name!r} is a control folder, whose contents programs obey")
    if len(name.encode()) > _MAX_NAME_BYTES:
        raise _wrong(path, f"a part of it is longer than {_MAX_NAME_BYTES} bytes")


def is_control_folder(name: str) -> bool:
    """Whether a name stands for a control folder on any system."""
    return name.casefold().partition(":")[0].rstrip(". ") in CONTROL_FOLDERS


def _wrong(path: object, why: str) -> InvalidError:
    return InvalidError(
        f"{path!r} cannot be the path of an artifact: {why}",
        code="path.invalid",
        hint="Rename it, or leave it out with an ignore pattern in shelf.toml.",
    )
