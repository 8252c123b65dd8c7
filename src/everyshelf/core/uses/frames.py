"""Python code followed as far as data frames go: what is read from which file, which columns, and what is written.

Nothing is run. A variable stands for the files its value came from; whatever is asked of it by name (``t["delay"]``,
``t.delay``, ``t.merge(u, on="zone")``) may be a column. All of it is a guess: code can do what cannot be seen.
"""

from __future__ import annotations

import ast
import re
import sys
import warnings
from dataclasses import dataclass, field

from everyshelf.core.answers.uses import Flow, Naming, Reference, UsedPart
from everyshelf.core.uses.sql import follow, looks_like_sql

ANY = "*"
_MOST_TEXT = 500_000
_MOST_USES = 5000
_LONGEST_LABEL = 100
_LONGEST_PATH = 500
_READERS = re.compile(
    r"^(read_\w+|scan_\w+|open|load|loadtxt|genfromtxt|DictReader|reader|from_\w+|Dataset|ParquetFile)$"
)
_WRITERS = re.compile(
    r"^(to_(?!datetime|numeric|timedelta|numpy|list|dict|frame|pandas)\w+|write_\w+|sink_\w+|save\w*|dump)$"
)
_SQL_CALLS = frozenset({"read_sql", "read_sql_query", "read_database", "sql", "execute", "query_df", "read_sql_table"})
# fmt: off
_NO_COLUMNS = frozenset({
    "shape", "index", "columns", "values", "T", "iloc", "loc", "at", "iat", "str", "dt", "cat", "size", "empty",
    "dtypes", "name", "names", "schema", "plot", "sparse", "ndim",
})
# fmt: on
_PATH_MAKERS = frozenset({"Path", "PurePath", "join", "str", "fspath"})
_FILE = re.compile(r"^[^\n{}<>|*?]{1,500}\.\w{1,8}$|^[^\n{}<>|*?]*/[^\n{}<>|*?]+$")
_NAME = re.compile(r"[^\W\d][\w ]{0,80}")


@dataclass
class _Frame:
    """What a value came from: texts that name files or tables, what its new columns are worked out from (of what has
    another name now: nothing), and the columns it has where they were chosen."""

    of: frozenset[str] = frozenset()
    made: dict[str, frozenset[tuple[str, str]]] = field(default_factory=dict)
    only: frozenset[str] | None = None

    def with_(self, other: _Frame | None) -> _Frame:
        """Both together."""
        return self if other is None else _Frame(self.of | other.of, {**self.made, **other.made})

    def chosen(self, names: list[str]) -> _Frame:
        """The value with only these columns."""
        return _Frame(self.of, self.made, frozenset(names))

    def origins(self, column: str) -> frozenset[tuple[str, str]]:
        """The columns of files that a column of the value comes from."""
        known = self.made.get(column)
        return known if known is not None else frozenset((text, column) for text in self.of)


class Frames:
    """The code of one artifact, read part after part; variables keep what they stand for."""

    def __init__(self) -> None:
        self._names: dict[str, _Frame] = {}
        self._texts: dict[str, str] = {}
        self._reads: dict[str, tuple[Naming, str, str]] = {}
        self._writes: dict[str, tuple[str, str]] = {}
        self._uses: dict[str, dict[tuple[str, str], UsedPart]] = {}
        self._flows: dict[Flow, None] = {}
        self._touched: list[tuple[str, str]] = []  # what the statement at hand has used so far
        self._functions: dict[str, _Frame] = {}
        self._returned: list[_Frame] = []
        self._path = self._label = ""
        self._lines: list[str] = []

    def read(self, path: str, label: str, code: str) -> bool:
        """Follow the code of a part. Return False if it is not Python, or too deep: then its words have to do."""
        lines = (("" if line.lstrip().startswith(("%", "!", "?")) else line) for line in code[:_MOST_TEXT].split("\n"))
        try:
            with warnings.catch_warnings():
                warnings.simplefilter("ignore")
                module = ast.parse("\n".join(lines))
            self._path, self._label, self._lines = path, label, code.split("\n")
            for statement in module.body:
                self._touched.clear()
                self._statement(statement)
        except (SyntaxError, ValueError, RecursionError, MemoryError):
            return False
        return True

    def read_sql(self, path: str, label: str, text: str) -> bool:
        """Follow a part that holds nothing but SQL. Return False if no dialect reads it."""
        self._path, self._label, self._lines = path, label, []
        self._sql(text)
        return bool(self._reads or self._writes)

    def references(self) -> tuple[list[Reference], list[Flow]]:
        """What was found, as references and flows."""
        found = [
            Reference(text, place, label, False, what, parts=tuple(self._used_of(text)))
            for text, (what, place, label) in self._reads.items()
        ]
        found += [Reference(text, *where, False, _what(text), writes=True) for text, where in self._writes.items()]
        return found, list(self._flows)

    def _used_of(self, text: str) -> list[UsedPart]:
        return list(self._uses.get(text, {}).values())

    # --- statements ---

    def _statement(self, node: ast.stmt) -> None:
        if node.lineno <= len(self._lines):
            self._label = self._lines[node.lineno - 1].strip()[:_LONGEST_LABEL]
        if isinstance(node, ast.Assign | ast.AnnAssign | ast.AugAssign):
            self._assign(node)
        elif isinstance(node, ast.For | ast.AsyncFor):
            self._bind(node.target, self._frame(node.iter))
            self._all(node.body + node.orelse)
        elif isinstance(node, ast.With | ast.AsyncWith):
            for item in node.items:
                frame = self._frame(item.context_expr)
                if item.optional_vars is not None:
                    self._bind(item.optional_vars, frame)
            self._all(node.body)
        elif isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef):
            self._function(node)
        elif isinstance(node, ast.Return) and node.value is not None:
            frame = self._frame(node.value)
            self._returned += [frame] if frame is not None else []
        elif isinstance(node, ast.Import | ast.ImportFrom):
            self._import(node)
        else:
            self._inside(node)

    def _inside(self, node: ast.stmt) -> None:
        for child in ast.iter_child_nodes(node):
            if isinstance(child, ast.expr):
                self._frame(child)
            elif isinstance(child, ast.stmt):
                self._statement(child)
            elif isinstance(child, ast.ExceptHandler | ast.match_case):
                self._all(child.body)

    def _function(self, node: ast.FunctionDef | ast.AsyncFunctionDef) -> None:
        """What a function returns stands for what it was made of; calls of it give the same."""
        outer, self._returned = self._returned, []
        self._all(node.body)
        for frame in self._returned:
            self._functions[node.name] = frame.with_(self._functions.get(node.name))
        self._returned = outer

    def _import(self, node: ast.Import | ast.ImportFrom) -> None:
        """A module is the script of its name; what is taken from it by name is used."""
        if isinstance(node, ast.Import):
            for alias in node.names:
                text = self._module(alias.name, 0)
                if text:
                    self._names[alias.asname or alias.name.partition(".")[0]] = self._read(text)
            return
        text = self._module(node.module or "", node.level)
        if text:
            frame = self._read(text)
            for alias in node.names:
                self._use(frame, alias.name)

    def _module(self, name: str, level: int) -> str:
        """The file of a module, as it would be named from the file that imports it; nothing for the language's own."""
        if not name or (not level and name.partition(".")[0] in sys.stdlib_module_names):
            return ""
        return "../" * max(0, level - 1) + name.replace(".", "/") + ".py"

    def _all(self, body: list[ast.stmt]) -> None:
        for statement in body:
            self._statement(statement)

    def _assign(self, node: ast.Assign | ast.AnnAssign | ast.AugAssign) -> None:
        if node.value is None:
            return
        start = len(self._touched)
        frame = self._frame(node.value)
        used = set(self._touched[start:])
        for target in node.targets if isinstance(node, ast.Assign) else [node.target]:
            if isinstance(target, ast.Subscript):
                self._new_column(target, used)
            else:
                self._bind(target, frame)
                text = self._text(node.value)
                if isinstance(target, ast.Name) and text:
                    self._texts[target.id] = text

    def _new_column(self, target: ast.Subscript, used: set[tuple[str, str]]) -> None:
        """``t["new"] = …``: the column is worked out from those used on the right."""
        holder = target.value
        name = self._constant(target.slice)
        if isinstance(holder, ast.Name) and name and holder.id in self._names:
            frame = self._names[holder.id]
            self._names[holder.id] = _Frame(frame.of, {**frame.made, name: frozenset(used)})
        else:
            self._frame(target)

    def _bind(self, target: ast.expr, frame: _Frame | None) -> None:
        if isinstance(target, ast.Name):
            if frame is not None:
                self._names[target.id] = frame
            else:
                self._names.pop(target.id, None)
        elif isinstance(target, ast.Tuple | ast.List):
            for one in target.elts:
                self._bind(one, frame)
        else:
            self._frame(target)

    # --- expressions ---

    def _frame(self, node: ast.expr) -> _Frame | None:
        """What the value of an expression came from; notes what is used on the way."""
        if isinstance(node, ast.Name):
            return self._names.get(node.id)
        if isinstance(node, ast.Call):
            return self._call(node)
        if isinstance(node, ast.Subscript):
            frame = self._frame(node.value)
            inside = self._frame(node.slice)
            if frame is None:
                return inside
            self._use_all(frame, node.slice)
            if isinstance(node.slice, ast.List) and all(self._constant(one) for one in node.slice.elts):
                return frame.chosen([self._constant(one) for one in node.slice.elts])
            return frame
        if isinstance(node, ast.Attribute):
            frame = self._frame(node.value)
            if frame is not None and node.attr not in _NO_COLUMNS:
                self._use(frame, node.attr)
            return frame
        if isinstance(node, ast.ListComp | ast.SetComp | ast.GeneratorExp | ast.DictComp):
            for one in node.generators:
                self._bind(one.target, self._frame(one.iter))
        found: _Frame | None = None
        for child in ast.iter_child_nodes(node):
            frame = self._frame(child) if isinstance(child, ast.expr) else self._generator(child)
            found = frame if found is None else found.with_(frame)
        return found

    def _generator(self, node: ast.AST) -> _Frame | None:
        if not isinstance(node, ast.comprehension):
            return None
        for one in node.ifs:
            self._frame(one)
        return self._frame(node.iter)

    def _call(self, node: ast.Call) -> _Frame | None:
        called = node.func
        name = called.attr if isinstance(called, ast.Attribute) else called.id if isinstance(called, ast.Name) else ""
        base = self._frame(called.value) if isinstance(called, ast.Attribute) else self._frame(called)
        given = [*node.args, *(k.value for k in node.keywords)]
        if name in _SQL_CALLS and node.args and looks_like_sql(text := self._text(node.args[0])):
            return self._sql(text)
        others: _Frame | None = None
        for one in given:
            frame = self._frame(one)
            others = frame if others is None else others.with_(frame)
        held = base if others is None else others.with_(base)
        if isinstance(called, ast.Name) and name in self._functions:
            held = self._functions[name].with_(held)
        text = next((t for one in given if (t := self._text(one)) and _is_file(t)), "")
        own = self._text(called.value) if isinstance(called, ast.Attribute) else ""
        if not text and own and _is_file(own) and name in ("open", "read_text", "read_bytes", "write_text"):
            text = own
        if text and self._opens_to_write(name, node):
            return self._write(text, held)
        if text and _WRITERS.match(name):
            return self._write(text, held)
        if text and _READERS.match(name):
            frame = self._read(text)
            for keyword in node.keywords:
                if keyword.arg in ("usecols", "columns", "names", "index_col", "parse_dates", "dtype"):
                    self._use_all(frame, keyword.value)
            return frame
        if held is not None:
            for one in given:
                self._use_all(held, one)
            held = self._renamed(name, node, held)
        return held

    def _opens_to_write(self, name: str, node: ast.Call) -> bool:
        if name == "write_text":
            return True
        modes = [self._constant(one) for one in [*node.args[:2], *(k.value for k in node.keywords if k.arg == "mode")]]
        return name == "open" and any(re.fullmatch(r"[wax]b?\+?t?", mode) for mode in modes if mode)

    def _renamed(self, name: str, node: ast.Call, frame: _Frame) -> _Frame:
        """``rename(columns={"a": "b"})`` and ``assign(b=t.a)``."""
        made = dict(frame.made)
        if name == "rename":
            for one in [*node.args, *(k.value for k in node.keywords if k.arg in ("columns", "mapping"))]:
                if isinstance(one, ast.Dict):
                    for old, new in zip(one.keys, one.values, strict=True):
                        before, after = (self._constant(e) if e is not None else "" for e in (old, new))
                        if before and after:
                            made[after], made[before] = frame.origins(before), frozenset()
        elif name in ("assign", "with_columns"):
            for keyword in node.keywords:
                if keyword.arg:
                    made[keyword.arg] = frozenset(
                        origin for word in self._words(keyword.value) for origin in frame.origins(word)
                    )
        return _Frame(frame.of, made)

    def _words(self, node: ast.expr) -> list[str]:
        """Names an expression may mean columns by."""
        found = []
        for one in ast.walk(node):
            if isinstance(one, ast.Constant) and isinstance(one.value, str) and _NAME.fullmatch(one.value):
                found.append(one.value)
            elif isinstance(one, ast.Attribute) and one.attr not in _NO_COLUMNS:
                found.append(one.attr)
        return found

    # --- what is noted ---

    def _sql(self, text: str) -> _Frame:
        followed = follow(text)
        of: set[str] = set()
        for table, columns in followed.reads.items():
            if table in followed.writes:
                continue
            of.add(table)
            self._reads.setdefault(table, (_what(table), self._path, self._label))
            for column in columns:
                self._use(_Frame(frozenset({table})), column.name)
        for table in followed.writes:
            self._writes.setdefault(table, (self._path, self._label))
        for column, target, name in followed.flows:
            self._flows[Flow(column.table, column.name, target, name)] = None
        made: dict[str, frozenset[tuple[str, str]]] = {}
        for column, name in followed.gives:
            if name != ANY:
                made[name] = made.get(name, frozenset()) | {(column.table, column.name)}
        return _Frame(frozenset(of), made)

    def _read(self, text: str) -> _Frame:
        self._reads.setdefault(text, ("file", self._path, self._label))
        return _Frame(frozenset({text}))

    def _write(self, text: str, frame: _Frame | None) -> _Frame | None:
        self._writes.setdefault(text, (self._path, self._label))
        if frame is not None and len(self._flows) < _MOST_USES:
            names = list(frame.made) if frame.only is None else sorted(frame.only)
            for name in names:
                for source, column in sorted(frame.origins(name)):
                    self._flows[Flow(source, column, text, name)] = None
            files = sorted(source for source in frame.of if not source.endswith(".py"))
            for source in files if frame.only is None else ():
                self._flows[Flow(source, ANY, text, ANY)] = None
                for name in (name for name, origins in frame.made.items() if not origins):
                    self._flows[Flow(source, name, text, "")] = None
        return frame

    def _use_all(self, frame: _Frame, node: ast.expr) -> None:
        """Note the texts of an expression as columns; the words of conditions too."""
        for one in ast.walk(node):
            if isinstance(one, ast.Constant) and isinstance(one.value, str):
                text = one.value
                if _is_file(text):
                    continue
                if _NAME.fullmatch(text):
                    self._use(frame, text)
                if not _NAME.fullmatch(text) or " " in text:
                    for word in re.findall(r"[^\W\d]\w*", text)[:200]:
                        self._use(frame, word)

    def _use(self, frame: _Frame, name: str) -> None:
        for text, column in frame.origins(name):
            self._touched.append((text, column))
            known, kind = self._uses.setdefault(text, {}), "function" if text.endswith(".py") else "column"
            if len(known) < _MOST_USES:
                known.setdefault((column, self._path), UsedPart(column, kind, self._path, self._label, False))

    def _constant(self, node: ast.expr) -> str:
        return node.value if isinstance(node, ast.Constant) and isinstance(node.value, str) else ""

    def _text(self, node: ast.expr) -> str:
        """A text that can be seen: a constant, a name for one, a path put together from such."""
        if isinstance(node, ast.Constant):
            return node.value if isinstance(node.value, str) else ""
        if isinstance(node, ast.Name):
            return self._texts.get(node.id, "")
        if isinstance(node, ast.BinOp) and isinstance(node.op, ast.Div | ast.Add):
            left, right = self._text(node.left), self._text(node.right)
            between = "/" if isinstance(node.op, ast.Div) and left and not left.endswith("/") else ""
            return f"{left}{between}{right}" if right else ""
        if isinstance(node, ast.Call):
            name = node.func.attr if isinstance(node.func, ast.Attribute) else getattr(node.func, "id", "")
            if name in _PATH_MAKERS and node.args:
                texts = [self._text(one) for one in node.args]
                return "/".join(t for t in texts if t) if texts[-1] else ""
        if isinstance(node, ast.JoinedStr):
            return self._filled(node)
        return ""

    def _filled(self, node: ast.JoinedStr) -> str:
        """A text with values filled in where they can be seen; a folder in front that cannot is left out."""
        texts = [
            self._text(one.value) if isinstance(one, ast.FormattedValue) else self._text(one) for one in node.values
        ]
        if texts and not texts[0] and len(texts) > 1 and texts[1].startswith("/"):
            texts = [texts[1].lstrip("/"), *texts[2:]]
        return "".join(texts) if all(texts) else ""


def _what(text: str) -> Naming:
    return "file" if "/" in text or re.search(r"\.\w+$", text) else "table"


def _is_file(text: str) -> bool:
    return len(text) <= _LONGEST_PATH and bool(_FILE.match(text))
