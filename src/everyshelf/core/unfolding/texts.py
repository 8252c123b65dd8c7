"""Unfolding and folding JSON, YAML and XML: spans become files, and what stands for them stays in the frame.

The frame is valid in its own format: a piece is stood for by the text ``unfolded:FILE`` (JSON, YAML) or by a processing
instruction (XML). So pieces can be moved, removed and added by hand. What was not edited goes back byte for byte.
"""

from __future__ import annotations

import hashlib
import json
import re
from collections.abc import Callable
from pathlib import PurePosixPath
from xml.sax.saxutils import escape

from everyshelf.core.errors import InvalidError, UnreadableError
from everyshelf.core.unfolding.choice import Cut, data_cuts, notebook_cuts, xml_cuts
from everyshelf.core.unfolding.model import MANIFEST, Manifest, Names, Piece
from everyshelf.core.unfolding.spans import json_spots, xml_spots, yaml_spots

_MARKERS = ("unfolded:", "unfolded-part:", "everyshelf-unfolded:")
_LONG_LINE = 160
_MOST_DEPTH = 8
_RESULTS = re.compile(r"<testsuites?[\s>]")
_SUFFIXES = {"json": ".json", "yaml": ".yaml", "xml": ".xml"}


def unfold_text(name: str, data: bytes, kind: str, form: str, encoding: str) -> tuple[Manifest, dict[str, bytes]]:
    """The manifest and all files; raises ``UnreadableError``. ``form``: json, yaml or xml."""
    text = data.decode(encoding)
    marker = next((m for m in _MARKERS if m not in text), None)
    if marker is None:
        raise UnreadableError("it holds what stands for pieces already")
    names, suffix = Names(), _SUFFIXES[form]
    frame = names.make("", PurePosixPath(name).stem if "." in name else name, suffix)
    if form == "xml":
        text = data.decode("utf-8")
        if _RESULTS.search(text[:4000]):
            raise UnreadableError("results of tests are readable as they are")
        cuts = [_in_characters(c, data) for c in xml_cuts(xml_spots(data), kind, data, names)]
    else:
        spots = json_spots(text) if form == "json" else yaml_spots(text)
        cuts = notebook_cuts(spots, names) if kind == "notebook" else data_cuts(spots, kind, suffix, names)
    unfolding = _Unfolding(text, form, marker)
    files, pieces = unfolding.run(frame, _nested(cuts))
    manifest = Manifest(name, kind, form, frame, marker, encoding, pieces)
    return manifest, files


def _in_characters(cut: Cut, data: bytes) -> Cut:
    start = len(data[: cut.start].decode("utf-8"))
    return Cut(start, start + len(data[cut.start : cut.end].decode("utf-8")), cut.file, cut.mode, cut.text)


def _nested(cuts: list[Cut]) -> list[Cut]:
    """Outer before inner, none overlapping."""
    kept: list[Cut] = []
    ends: list[int] = []
    for cut in sorted(cuts, key=lambda c: (c.start, -c.end)):
        while ends and ends[-1] <= cut.start:
            ends.pop()
        if not ends or cut.end <= ends[-1]:
            kept.append(cut)
            ends.append(cut.end)
    return kept


class _Unfolding:
    def __init__(self, text: str, form: str, marker: str) -> None:
        self._text, self._form, self._marker = text, form, marker
        self._files: dict[str, bytes] = {}
        self._pieces: dict[str, Piece] = {}

    def run(self, frame: str, cuts: list[Cut]) -> tuple[dict[str, bytes], dict[str, Piece]]:
        left = list(cuts)
        text = self._cut_out(0, len(self._text), left)
        self._files[frame] = text.encode("utf-8", "surrogatepass")
        return self._files, self._pieces

    def _cut_out(self, start: int, end: int, left: list[Cut]) -> str:
        """The text of a span with what is cut out of it replaced; ``left`` are the cuts still to come."""
        out, at = [], start
        while left and left[0].end <= end:
            cut = left.pop(0)
            out += [self._text[at : cut.start], stand_in(self._form, self._marker, cut.file)]
            self._piece(cut, left)
            at = cut.end
        return "".join([*out, self._text[at:end]])

    def _piece(self, cut: Cut, left: list[Cut]) -> None:
        original = self._text[cut.start : cut.end]
        if cut.mode != "item":
            content = cut.text if cut.text is not None else _xml_text(original)
            style, indent = _style(original, self._form)
            piece = Piece(cut.mode, _digest(content), style=style, indent=indent)
            if encoded_text(self._form, content, piece) != original:
                piece.kept = original
        else:
            text = self._cut_out(cut.start, cut.end, left)
            content, piece = self._item(cut, text)
        self._files[cut.file] = content.encode("utf-8", "surrogatepass")
        self._pieces[cut.file] = piece

    def _item(self, cut: Cut, text: str) -> tuple[str, Piece]:
        line = self._text[self._text.rfind("\n", 0, cut.start) + 1 : cut.start]
        column = " " * len(line) if self._form == "yaml" else line[: len(line) - len(line.lstrip())]
        if self._form == "json" and "\n" not in text and len(text) > _LONG_LINE:
            content = json.dumps(json.loads(text), indent=2, ensure_ascii=False) + "\n"
            style = "ascii" if text.isascii() else ""
            style += " tight" if '": ' not in text else ""
            kept = None if _flat(content, style) == text else text
            return content, Piece("flat", _digest(content), kept=kept, style=style.strip())
        indent = column if column and _is_indented(text, column) else ""
        content = text.replace(f"\n{indent}", "\n") if indent else text
        return f"{content}\n", Piece("item", _digest(f"{content}\n"), indent=indent)


def _is_indented(text: str, indent: str) -> bool:
    """Every line but the first starts with the indent: only then taking it away can be undone."""
    return all(line.startswith(indent) for line in text.split("\n")[1:])


def _digest(text: str) -> str:
    return hashlib.sha256(text.encode("utf-8", "surrogatepass")).hexdigest()


def stand_in(form: str, marker: str, file: str) -> str:
    """What stands for a piece in the frame."""
    if form == "xml":
        return f"<?{marker.rstrip(':')} {file}?>"
    return json.dumps(f"{marker}{file}", ensure_ascii=False)


def _style(original: str, form: str) -> tuple[str, str]:
    """How a text stood there, and the indent of its lines."""
    if form == "xml":
        return ("cdata" if original.startswith("<![CDATA[") else ""), ""
    second = original.partition("\n")[2]
    indent = second[: len(second) - len(second.lstrip(" "))]
    if form == "yaml" and original.startswith("|"):
        return "block", indent
    return "", indent if original.startswith("[") else ""


def encoded_text(form: str, text: str, piece: Piece) -> str:
    """A text as its format writes it: a JSON string (which YAML reads as well) or list of lines, a block of lines in
    YAML, escaped or CDATA in XML."""
    if form == "xml":
        return f"<![CDATA[{text}]]>" if piece.style == "cdata" and "]]>" not in text else escape(text)
    if piece.mode == "lines":
        return _line_list(text, piece.indent)
    if piece.style == "block" and _BLOCK.fullmatch(text):
        lines = text.removesuffix("\n").split("\n")
        mark = "|" if text.endswith("\n") else "|-"
        return "\n".join([mark, *(f"{piece.indent}{line}" if line else "" for line in lines)])
    return json.dumps(text, ensure_ascii=False)


# What a YAML block can hold as it is: no line begins or ends with blanks, none is empty at either end.
_BLOCK = re.compile(r"(?![ \n])[^\r\t\x00-\x08\x85\u2028\u2029\ufeff]*[^\s]\n?")


def _line_list(text: str, indent: str) -> str:
    """The lines of a notebook's cell, one text each with its line end."""
    lines = [json.dumps(line, ensure_ascii=False) for line in _LINES.findall(text)]
    if not lines:
        return "[]"
    if not indent:
        return f"[{', '.join(lines)}]"
    between = f",\n{indent}"
    return f"[\n{indent}{between.join(lines)}\n{indent[:-1]}]"


_LINES = re.compile(r"[^\n]*\n|[^\n]+")


_REFERENCE = re.compile(r"<!\[CDATA\[(.*?)\]\]>|&(lt|gt|amp|quot|apos|#\d+|#x[0-9a-fA-F]+);", re.DOTALL)
_ENTITIES = {"lt": "<", "gt": ">", "amp": "&", "quot": '"', "apos": "'"}


def _xml_text(original: str) -> str:
    def plain(match: re.Match[str]) -> str:
        if match[1] is not None:
            return match[1]
        name = match[2]
        if name in _ENTITIES:
            return _ENTITIES[name]
        return chr(int(name[2:], 16) if name[1] == "x" else int(name[1:]))

    return _REFERENCE.sub(plain, original)


def _flat(content: str, style: str) -> str:
    separators = (",", ":") if "tight" in style else (", ", ": ")
    return json.dumps(json.loads(content), separators=separators, ensure_ascii="ascii" in style)


# --- folding ---------------------------------------------------------------------


def fold_text(manifest: Manifest, files: dict[str, bytes]) -> tuple[bytes, list[str]]:
    """The file's bytes, and which files no stand-in names; raises ``InvalidError`` where a piece is missing."""
    folding = _Folding(manifest, files)
    text = folding.filled(manifest.frame, 0)
    extra = sorted(set(files) - folding.used - {MANIFEST})
    notes = [f"{f} is named nowhere and was left out" for f in extra]
    try:
        data = text.encode(manifest.encoding, "surrogatepass" if manifest.encoding.startswith("utf") else "strict")
    except UnicodeEncodeError as error:
        sign = text[error.start : error.start + 1]
        raise InvalidError(
            f"{sign!r} cannot be written in {manifest.encoding}, the encoding of {manifest.name}",
            code="fold.encoding",
            hint="Write it otherwise, or change “encoding” in fold.json to utf-8.",
        ) from error
    return data, notes


class _Folding:
    def __init__(self, manifest: Manifest, files: dict[str, bytes]) -> None:
        self._manifest, self._files = manifest, files
        self.used: set[str] = set()
        is_xml = manifest.form == "xml"
        word = re.escape(manifest.marker.rstrip(":") if is_xml else manifest.marker)
        pattern = r"<\?{m} (?P<file>[^?]+)\?>" if is_xml else r'"{m}(?P<file>(?:[^"\\]|\\.)+)"'
        self._stand_in = re.compile(pattern.replace("{m}", word))

    def filled(self, file: str, depth: int) -> str:
        """The text of a file with everything that stands for a piece replaced by it."""
        text = self._read(file)
        if depth > _MOST_DEPTH:
            raise _loop(file)
        return self._stand_in.sub(lambda m: self._piece(self._named(m["file"]), depth), text)

    def _named(self, file: str) -> str:
        return file if self._manifest.form == "xml" else str(json.loads(f'"{file}"'))

    def _read(self, file: str) -> str:
        data = self._files.get(file)
        if data is None:
            said = stand_in(self._manifest.form, self._manifest.marker, file)
            hint = f"Put it back, or take out what stands for it: {said}"
            raise InvalidError(f"{file} is missing", code="fold.missing", hint=hint)
        self.used.add(file)
        try:
            return data.decode("utf-8", "surrogatepass")
        except UnicodeDecodeError as error:
            raise InvalidError(f"{file} is not UTF-8 text", code="fold.text", hint="Save it as UTF-8.") from error

    def _piece(self, file: str, depth: int) -> str:
        text, piece = self._read(file), self._manifest.pieces.get(file)
        is_same = piece is not None and _digest(text) == piece.sha256
        if piece is None:  # somebody added it: texts are written as such, items go in as they are
            is_item = file.endswith(_SUFFIXES[self._manifest.form]) and not file.startswith("texts/")
            piece = Piece("item" if is_item else "text", "")
        if piece.mode in ("text", "lines"):
            if is_same and piece.kept is not None:
                return piece.kept
            return encoded_text(self._manifest.form, text, piece)
        filler: Callable[[re.Match[str]], str] = lambda m: self._piece(self._named(m["file"]), depth + 1)  # noqa: E731
        if piece.mode == "flat":
            text = piece.kept if is_same and piece.kept is not None else self._flattened(file, text, piece.style)
            return self._stand_in.sub(filler, text)
        text = text.removesuffix("\n")
        if piece.indent:
            text = text.replace("\n", f"\n{piece.indent}")
        if depth > _MOST_DEPTH:
            raise _loop(file)
        return self._stand_in.sub(filler, text)

    @staticmethod
    def _flattened(file: str, text: str, style: str) -> str:
        try:
            return _flat(text, style)
        except ValueError as error:
            raise InvalidError(
                f"{file} is not JSON: {error}", code="fold.syntax", hint="Fix it and fold again."
            ) from error


def _loop(file: str) -> InvalidError:
    return InvalidError(f"{file} is part of itself", code="fold.loop", hint="Look at what stands for pieces in it.")
