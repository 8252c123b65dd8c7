"""Text: which encoding, which line ends, and the lines themselves.

Encodings are tried in this order: byte-order mark, UTF-8, what ``charset-normalizer`` finds, Latin-1 (which takes every
byte). A file with NUL bytes outside UTF-16/32 is not text.
"""

from __future__ import annotations

import codecs
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass
from functools import cached_property

from everyshelf.core.errors import InvalidError, UnreadableError

_MARKS = [
    (codecs.BOM_UTF8, "utf-8"),
    (codecs.BOM_UTF32_LE, "utf-32-le"),
    (codecs.BOM_UTF32_BE, "utf-32-be"),
    (codecs.BOM_UTF16_LE, "utf-16-le"),
    (codecs.BOM_UTF16_BE, "utf-16-be"),
]
_SAMPLE_BYTES = 64 * 1024


@dataclass(frozen=True)
class Decoded:
    """Text with what was stripped to get it: encoding, byte-order mark, and the line end most lines have."""

    text: str
    encoding: str
    mark: bool

    @cached_property
    def newline(self) -> str:
        """The line end that most lines have."""
        crlf = self.text.count("\r\n")
        lone_cr, lone_lf = self.text.count("\r") - crlf, self.text.count("\n") - crlf
        return max((lone_lf, "\n"), (crlf, "\r\n"), (lone_cr, "\r"), key=lambda pair: pair[0])[1]

    @property
    def unified(self) -> str:
        """The text with every line end written as a line feed, whatever it was."""
        return self.text.replace("\r\n", "\n").replace("\r", "\n")

    def lines(self) -> list[str]:
        """Lines without their ends, whatever those are; an empty text has none."""
        lines = self.unified.split("\n")
        return lines[:-1] if lines and not lines[-1] else lines


# Codecs that Python lists as encodings but that are not used for text files.
_NO_ENCODINGS = frozenset(("punycode", "idna", "unicode_escape", "raw_unicode_escape", "undefined", "mbcs", "oem"))


def _check_encoding(encoding: str) -> None:
    try:
        known = codecs.lookup(encoding)
        fits = known._is_text_encoding and known.name.replace("-", "_") not in _NO_ENCODINGS
    except (LookupError, ValueError, UnicodeError):
        fits = False
    if not fits:
        raise InvalidError(f"unknown encoding: {encoding[:60]!r}", code="input.invalid")


def decode(data: bytes, encoding: str | None = None) -> Decoded:
    """Text of ``data``; with ``encoding`` in that encoding only. Raises ``UnreadableError`` if it is not text."""
    if encoding is not None:
        _check_encoding(encoding)
        try:
            return Decoded(data.decode(encoding), encoding, mark=False)
        except UnicodeDecodeError as error:
            raise UnreadableError(f"byte {error.start} is not {encoding}") from error
    for mark, name in _MARKS:
        if data.startswith(mark):
            try:
                return Decoded(data[len(mark) :].decode(name), name, mark=True)
            except UnicodeDecodeError:
                break
    if b"\0" in data[:_SAMPLE_BYTES]:
        raise UnreadableError("the file holds NUL bytes, so it is not text")
    try:
        return Decoded(data.decode("utf-8"), "utf-8", mark=False)
    except UnicodeDecodeError:
        alike = _alike.get()
        name = alike if alike and _fits(data, alike) else _guess(data)
        return Decoded(data.decode(name, errors="replace"), name, mark=False)


# The encoding that versions looked at together have, where none of them says which it is.
_alike: ContextVar[str] = ContextVar("everyshelf_alike", default="")


@contextmanager
def read_alike(*versions: bytes | None) -> Iterator[None]:
    """Decode versions of one artifact in one encoding, if it has to be found for two or more of them: found for each
    alone, lines would differ that nobody changed. ``versions``: the bytes they begin with; None is left out."""
    unknown = [one[:_SAMPLE_BYTES] for one in versions if one is not None and _has_to_be_found(one[:_SAMPLE_BYTES])]
    if len(unknown) < 2:
        yield
        return
    kept = _alike.set(_guess(b"\n".join(one[: _SAMPLE_BYTES // len(unknown)] for one in unknown)))
    try:
        yield
    finally:
        _alike.reset(kept)


def _has_to_be_found(sample: bytes) -> bool:
    if b"\0" in sample or any(sample.startswith(mark) for mark, _ in _MARKS):
        return False
    try:
        sample.decode("utf-8")
    except UnicodeDecodeError as error:
        return error.start < len(sample) - 3  # else the sample ends within a character
    return False


def _fits(data: bytes, encoding: str) -> bool:
    try:
        data.decode(encoding)
    except UnicodeDecodeError:
        return False
    return True


def encoded_like(text: str, like: Decoded, encoding: str | None = None) -> bytes:
    """``text`` as bytes in the encoding of another, with its byte-order mark; UTF-8 where that lacks a character."""
    mark = next((m for m, name in _MARKS if name == like.encoding), b"") if like.mark else b""
    try:
        return mark + text.encode(encoding or like.encoding)
    except (UnicodeEncodeError, LookupError):
        return text.encode("utf-8")


def _guess(data: bytes) -> str:
    from charset_normalizer import from_bytes

    best = from_bytes(data[:_SAMPLE_BYTES]).best()
    if best is None:
        return "latin-1"
    # Among single-byte encodings the detector likes rare ones; the everyday one wins if it gives as many letters.
    everyday = _letters(data, "cp1252")
    return "cp1252" if everyday and everyday >= _letters(data, best.encoding) else best.encoding


def _letters(data: bytes, encoding: str) -> int:
    """How many characters beyond ASCII are letters in that encoding; 0 if it cannot decode the sample."""
    try:
        text = data[:_SAMPLE_BYTES].decode(encoding)
    except UnicodeDecodeError as error:
        if error.start < min(len(data), _SAMPLE_BYTES) - 4:
            return 0
        text = data[: error.start].decode(encoding)
    beyond = [character for character in text if ord(character) > 127]
    letters = sum(character.isalpha() for character in beyond)
    # Multi-byte text read byte by byte gives many odd signs: those speak against the encoding.
    return letters if letters * 20 >= len(beyond) * 19 else 0
