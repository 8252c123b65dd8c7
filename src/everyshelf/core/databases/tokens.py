"""SQL taken apart as far as quotes, comments, words and brackets go."""

from __future__ import annotations

import re
from dataclasses import dataclass

# A line comment ends at either end of line: one database takes both, another only one of them.
_TOKEN = re.compile(
    r"""(?P<blank>\s+)|(?P<comment>--[^\n\r]*|/\*.*?\*/)"""
    r"""|(?P<name>"(?:[^"]|"")*"|`(?:[^`]|``)*`|\[[^\]]*\])|(?P<text>'(?:[^']|'')*')"""
    r"""|(?P<word>\w+)|(?P<sign>.)""",
    re.DOTALL,
)
# To one database a backslash hides a quote in such a text, to another it does not.
_ESCAPED = re.compile(rf"(?P<escaped>\b[eE]'(?:[^'\\]|\\.|'')*')|{_TOKEN.pattern}", re.DOTALL)


@dataclass(frozen=True)
class Token:
    """A name or a text in quotes, a word, or a sign, and where it stands."""

    text: str
    start: int
    end: int
    kind: str

    @property
    def word(self) -> str:
        """A keyword in capitals; empty for anything quoted."""
        return self.text.upper() if self.kind == "word" else ""


def tokens(sql: str) -> list[Token]:
    """All of them, without blanks and comments."""
    found = (Token(m[0], m.start(), m.end(), str(m.lastgroup)) for m in _TOKEN.finditer(sql))
    return [t for t in found if t.kind not in ("blank", "comment")]


def unquoted(token: Token) -> str:
    """The name a token is."""
    text = token.text
    if token.kind == "name":
        return text[1:-1].replace(text[-1] * 2, text[-1]) if text[0] != "[" else text[1:-1]
    return text[1:-1].replace("''", "'") if token.kind == "text" else text


def without_comments(sql: str) -> str:
    """The same with a blank for each comment."""
    return _TOKEN.sub(lambda m: " " if m.lastgroup == "comment" else m[0], sql).strip()


def leaves_its_place(part: str) -> bool:
    """Whether a part of a statement would end the statement, begin another, or take in what stands behind it."""
    return any(_leaves(pattern, part) for pattern in (_TOKEN, _ESCAPED))


def _leaves(pattern: re.Pattern[str], part: str) -> bool:
    depth = 0
    for match in pattern.finditer(part):
        depth += {"(": 1, ")": -1}.get(match[0], 0)
        if depth < 0 or match.lastgroup == "comment" or _ends(match) or (depth == 0 and match[0] == ","):
            return True
    return depth != 0


def _ends(match: re.Match[str]) -> bool:
    # What stands between dollars is a text to one database and not to another; a quote by itself has no end.
    return match.lastgroup == "sign" and match[0] in ";$'\"`"


def is_several(sql: str) -> bool:
    """Whether a statement is followed by another."""
    return any(_ends(match) for pattern in (_TOKEN, _ESCAPED) for match in pattern.finditer(sql))
