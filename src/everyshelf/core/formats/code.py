"""Program text without its comments, line for line, where the language's marks are known."""

from __future__ import annotations

import re

_TEXTS = r"'(?:[^'\\\n]|\\.)*'|\"(?:[^\"\\\n]|\\.)*\""
# Quoted texts come first, so that a mark inside one is no comment.
_SLASHES = re.compile(rf"({_TEXTS}|`(?:[^`\\]|\\.)*`)|(//[^\n]*|/\*.*?\*/)", re.DOTALL)
_HASH = re.compile(r"('[^']*'|\"(?:[^\"\\]|\\.)*\"|\$\{?#|\\.)|((?<![^\s;|&(])#[^\n]*)", re.DOTALL)
_PYTHON = re.compile(rf"(\"\"\".*?\"\"\"|'''.*?'''|{_TEXTS})|(#[^\n]*)", re.DOTALL)
_DASHES = re.compile(rf"({_TEXTS})|(--[^\n]*|/\*.*?\*/)", re.DOTALL)
_MARKS = {
    "javascript": _SLASHES,
    "typescript": _SLASHES,
    "shell": _HASH,
    "powershell": _HASH,
    "r": _PYTHON,
    "python": _PYTHON,
    "sql": _DASHES,
}


def without_comments(text: str, language: str) -> list[str] | None:
    """The lines of ``text`` (line ends ``\\n``) with comments taken out; None where nobody knows the marks.

    Lines keep their numbers: a comment over several lines leaves empty ones.
    """
    marks = _MARKS.get(language)
    if marks is None:
        return None
    bare = marks.sub(lambda m: m[1] if m[1] is not None else "\n" * m[2].count("\n"), text)
    return bare.split("\n")
