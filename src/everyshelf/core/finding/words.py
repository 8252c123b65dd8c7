"""What people look for: words in any form, and exact phrases in quotes.

Words are compared as SQLite's FTS5 tokenizer ``unicode61`` with ``remove_diacritics 2`` has them
(https://www.sqlite.org/fts5.html#unicode61_tokenizer): letters and digits, without case and accents; everything else
parts them, so that ``tide_window`` is two words. A word in capitals within another (``tideWindow``) counts as well.
"""

from __future__ import annotations

import re
import unicodedata
from dataclasses import dataclass

_TERM = re.compile(r'"([^"]*)"|(\S+)')
_WORD = re.compile(r"[^\W_]+")
_HUMP = re.compile(r"(?<=[a-z0-9])(?=[A-Z])")
_MOST_TERMS = 20


@dataclass(frozen=True)
class Term:
    """Words that stand next to each other; the last one may go on, unless the phrase is exact."""

    words: tuple[str, ...]
    exact: bool


@dataclass(frozen=True)
class Wanted:
    """What is looked for; an artifact has to hold all terms."""

    terms: tuple[Term, ...]

    @property
    def expression(self) -> str:
        """As FTS5 takes it: nothing that people write is an operator."""
        told = []
        for term in self.terms:
            quoted = '"' + " ".join(term.words) + '"'
            told.append(quoted if term.exact else f"{quoted} *")
        return " AND ".join(told)

    def held(self, text: str) -> int:
        """How many of the terms a text holds."""
        words = [word for word, _, _ in words_in(text)]
        return sum(1 for term in self.terms if _places(term, words))

    def marks(self, text: str) -> list[tuple[int, int]]:
        """Where the words that are looked for begin and end in a text."""
        found = words_in(text)
        words = [word for word, _, _ in found]
        marks: set[tuple[int, int]] = set()
        for term in self.terms:
            for place in _places(term, words):
                marks.update((start, end) for _, start, end in found[place : place + len(term.words)])
        return sorted(marks)


def wanted(text: str) -> Wanted:
    """What a text in a search field means."""
    terms = []
    for phrase, word in _TERM.findall(text)[:_MOST_TERMS]:
        words = tuple(w for w, _, _ in words_in(phrase or word, humps=False))
        if words:
            terms.append(Term(words, exact=bool(phrase)))
    return Wanted(tuple(terms))


def words_in(text: str, *, humps: bool = True) -> list[tuple[str, int, int]]:
    """The words of a text with where each begins and ends; what lies between capitals counts as a word of its own."""
    found = []
    for match in _WORD.finditer(text):
        word, start = match[0], match.start()
        pieces = _HUMP.split(word) if humps else [word]
        found.append((folded(word), start, match.end()))
        if len(pieces) > 1:
            at = start
            for piece in pieces:
                found.append((folded(piece), at, at + len(piece)))
                at += len(piece)
    return found


def folded(word: str) -> str:
    """Without case and accents."""
    if word.isascii():
        return word.lower()
    return "".join(c for c in unicodedata.normalize("NFKD", word.casefold()) if not unicodedata.combining(c))


def _places(term: Term, words: list[str]) -> list[int]:
    count, last = len(term.words), term.words[-1]
    found = []
    for place in range(len(words) - count + 1):
        if tuple(words[place : place + count - 1]) != term.words[:-1]:
            continue
        word = words[place + count - 1]
        if word == last or (not term.exact and word.startswith(last)):
            found.append(place)
    return found
