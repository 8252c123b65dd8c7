"""Scripts: Python by its syntax tree, SQL by statement, Basic modules by procedure; others by lines."""

from __future__ import annotations

import ast
import re
import warnings
from typing import Any

from everyshelf.core.errors import UnreadableError
from everyshelf.core.kinds.cosmetic import Cosmetic, prose
from everyshelf.core.kinds.maker import Maker
from everyshelf.core.kinds.table import KindTable
from everyshelf.core.outline.model import Effect, Part


def _judge(action: str, part: Part, field: str | None, before: Any, after: Any) -> Effect | None:
    """In Basic, case and runs of blanks outside of quoted texts are cosmetic."""
    in_basic = part.type in ("procedure", "declaration") and field in ("signature", "code")
    if in_basic and isinstance(before, str) and isinstance(after, str) and _folded(before) == _folded(after):
        return "cosmetic"
    return None


TABLE = KindTable(
    id="script",
    cosmetic_types=(Cosmetic(frozenset({"header"}), "attributes that the editor writes above a module", made=True),),
    cosmetic_fields=(prose("docstring", "comment"),),
    judge=_judge,
    unordered=frozenset({"import", "procedure"}),
)
_MAX_PYTHON = 2_000_000


def read_python(text: str, table: KindTable) -> Part:
    """Imports, classes, functions and statements of a module; two texts with one syntax tree are equal."""
    if len(text) > _MAX_PYTHON:
        raise UnreadableError("too long to be read as Python; ")
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # what the compiler thinks of the code is not ours to say
            module = ast.parse(text)
    except (SyntaxError, ValueError) as error:
        line = getattr(error, "lineno", None)
        raise UnreadableError((f"line {line}: " if line else "") + str(getattr(error, "msg", error))) from error
    except (RecursionError, MemoryError) as error:
        raise UnreadableError("nested too deeply to be read as Python") from error
    maker = Maker(table)
    doc = ast.get_docstring(module)
    return maker.part("script", "module", "", {"docstring": doc}, _python_body(module.body, maker, skip_doc=bool(doc)))


def _python_body(body: list[ast.stmt], maker: Maker, *, skip_doc: bool) -> list[Part]:
    parts: list[Part] = []
    for statement in body[1:] if skip_doc else body:
        if isinstance(statement, ast.Import | ast.ImportFrom):
            parts += [maker.part("import", n, n, {"as": a}) for n, a in _imported(statement)]
        elif isinstance(statement, ast.FunctionDef | ast.AsyncFunctionDef):
            parts.append(_function(statement, maker))
        elif isinstance(statement, ast.ClassDef):
            parts.append(_class(statement, maker))
        else:
            code = ast.unparse(statement)
            label, key = code.split("\n", 1)[0], _target(statement)
            parts.append(maker.part("statement", label, key, {"code": code}, anonymous=True))
    return parts


def _imported(statement: ast.Import | ast.ImportFrom) -> list[tuple[str, str | None]]:
    if isinstance(statement, ast.Import):
        return [(alias.name, alias.asname) for alias in statement.names]
    origin = "." * statement.level + (statement.module or "")
    return [(f"{origin}.{alias.name}".replace("..", ".", 0), alias.asname) for alias in statement.names]


def _target(statement: ast.stmt) -> str | None:
    """The name a statement gives a value to: its identity among statements."""
    if isinstance(statement, ast.Assign) and len(statement.targets) == 1 and isinstance(statement.targets[0], ast.Name):
        return statement.targets[0].id
    if isinstance(statement, ast.AnnAssign) and isinstance(statement.target, ast.Name):
        return statement.target.id
    return None


def _function(node: ast.FunctionDef | ast.AsyncFunctionDef, maker: Maker) -> Part:
    doc = ast.get_docstring(node)
    body = node.body[1:] if doc is not None else node.body
    result = f" -> {ast.unparse(node.returns)}" if node.returns else ""
    fields = {
        "signature": f"({ast.unparse(node.args)}){result}",
        "decorators": " ".join(ast.unparse(d) for d in node.decorator_list) or None,
        "async": True if isinstance(node, ast.AsyncFunctionDef) else None,
        "code": "\n".join(ast.unparse(s) for s in body),
        "docstring": doc,
    }
    return maker.part("function", node.name, node.name, fields)


def _class(node: ast.ClassDef, maker: Maker) -> Part:
    doc = ast.get_docstring(node)
    fields = {
        "bases": ", ".join(ast.unparse(b) for b in [*node.bases, *(k.value for k in node.keywords)]) or None,
        "decorators": " ".join(ast.unparse(d) for d in node.decorator_list) or None,
        "docstring": doc,
    }
    return maker.part("class", node.name, node.name, fields, _python_body(node.body, maker, skip_doc=doc is not None))


def read_sql(text: str, table: KindTable) -> Part:
    """Statements in order, in one spelling; what creates something is keyed by what it creates."""
    import logging

    logging.getLogger("sqlglot").setLevel(logging.CRITICAL)  # it warns about what it keeps as text; that is fine here
    maker = Maker(table)
    text = _CLIENT_COMMAND.sub("", text)
    problem = ""
    for dialect in _DIALECTS:
        try:
            parts = [_statement(s, maker) for s in _parsed(text, dialect)]
        except UnreadableError as error:
            problem = problem or str(error)
        else:
            return maker.part("script", "statements", "", {}, parts)
    return maker.part("script", "statements", "", {}, _statement_by_statement(text, maker, problem))


# Dialects to try, the plainest first. Lines for an interactive client, not for a database, start with a backslash.
_DIALECTS = ("", "postgres", "sqlite", "mysql", "tsql", "oracle", "snowflake", "bigquery")
_CLIENT_COMMAND = re.compile(r"^[ \t]*\\[^\n]*$", re.MULTILINE)


def _parsed(text: str, dialect: str) -> list[Any]:
    import sqlglot
    from sqlglot.errors import SqlglotError

    try:
        return [s for s in sqlglot.parse(text, dialect=dialect) if s is not None]
    except SqlglotError as error:
        details = (getattr(error, "errors", None) or [{}])[0]
        where = f"line {details['line']}: {details.get('description')}" if details.get("line") else None
        raise UnreadableError(where or str(error).split("\n")[0]) from error
    except (RecursionError, ValueError) as error:
        raise UnreadableError("nested too deeply to be read as SQL") from error


def _statement_by_statement(text: str, maker: Maker, problem: str) -> list[Part]:
    """Statements one by one; those no dialect knows by their tokens, as long as there are others."""
    import sqlglot
    from sqlglot.errors import SqlglotError

    try:
        tokens = sqlglot.tokenize(text, dialect="postgres")
    except SqlglotError as error:
        raise UnreadableError(problem) from error
    groups: list[list[Any]] = [[]]
    for token in tokens:
        if token.token_type.name == "SEMICOLON":
            groups.append([])
        else:
            groups[-1].append(token)
    parts, unknown = [], 0
    for group in (g for g in groups if g):
        try:
            parts += [_statement(s, maker) for s in _parsed(text[group[0].start : group[-1].end + 1], "postgres")]
        except UnreadableError:
            unknown += 1
            code = " ".join(text[token.start : token.end + 1] for token in group)
            parts.append(maker.part("statement", code, None, {"code": code}, anonymous=True))
    if unknown == len(parts):
        raise UnreadableError(problem)
    return parts


def _statement(statement: Any, maker: Maker) -> Part:
    from sqlglot import exp

    written = statement.sql(pretty=True, comments=False, normalize=True)
    key = None
    if isinstance(statement, exp.Create | exp.Drop):
        named = statement.find(exp.Table) or statement.this
        key = f"{statement.key} {str(statement.args.get('kind', '')).lower()} {named.sql(comments=False).lower()}"
    label = key or " ".join(written.split())
    children = []
    if isinstance(statement, exp.Create) and isinstance(statement.this, exp.Schema):
        for column in statement.this.expressions:
            name = column.name.lower() or column.sql(comments=False)
            if isinstance(column, exp.ColumnDef):
                rest = " ".join(c.sql(comments=False) for c in column.constraints)
                kind = column.kind.sql() if column.kind else None
                children.append(maker.part("column", name, name, {"type": kind, "constraints": rest or None}))
            else:
                children.append(maker.part("constraint", name, None, {"definition": column.sql(comments=False)}))
        return maker.part("statement", label, key, {}, children)
    return maker.part("statement", label, key, {"code": written}, anonymous=True)


_PROCEDURE = re.compile(
    r"^\s*(?:(?:Public|Private|Friend|Static)\s+)*(Sub|Function|Property\s+(?:Get|Let|Set))\s+(\w+)", re.IGNORECASE
)
_PROCEDURE_END = re.compile(r"^\s*End\s+(Sub|Function|Property)\b", re.IGNORECASE)
_CONTINUED = re.compile(r"\s_\s*\n\s*")


def read_basic(text: str, table: KindTable) -> Part:
    """Procedures by name; case, white space, comments and continued lines mean nothing."""
    maker = Maker(table)
    lines = _CONTINUED.sub(" ", text.replace("\r\n", "\n").replace("\r", "\n")).split("\n")
    parts: list[Part] = []
    declarations: list[str] = []
    header: list[str] = []
    body: list[str] | None = None
    name = ""
    for line in lines:
        code = _basic_code(line)
        opened = _PROCEDURE.match(code)
        if body is None and opened:
            name, body = f"{' '.join(opened[1].split()).lower()} {opened[2]}", [code]
        elif body is not None:
            body.append(code)
            if _PROCEDURE_END.match(code):
                parts.append(_procedure(name, body, maker))
                body = None
        elif code.lower().startswith(("attribute ", "version ", "begin", "end", "multiuse")):
            header.append(code)
        elif code:
            declarations.append(code)
    if body is not None:
        raise UnreadableError(f"“{name}” does not end")
    if not parts and not declarations:
        raise UnreadableError("there is no procedure in it")
    parts += [
        _as_written(maker.part("declaration", d, None, {"code": _folded(d)}, anonymous=True), code=d)
        for d in declarations
    ]
    if header:
        parts.append(maker.part("header", "header", "header", {"text": "\n".join(header)}))
    return maker.part("script", "module", "", {}, parts)


def _procedure(name: str, body: list[str], maker: Maker) -> Part:
    code = [_folded(line) for line in body if line]
    part = maker.part("procedure", name, name.lower(), {"signature": code[0], "code": "\n".join(code[1:])})
    written = [" ".join(line.split()) for line in body if line]
    return _as_written(part, signature=written[0], code="\n".join(written[1:]))


def _as_written(part: Part, **fields: str) -> Part:
    """A part that is compared in lower case and shown as people wrote it."""
    folded = dict(part.fields)
    part.fields = {n: v for n, v in fields.items() if v or folded.get(n)}
    return part


def _folded(code: str) -> str:
    """Lower case and single blanks outside of quoted texts: the language does not tell them apart."""
    pieces = re.split(r'("(?:[^"]|"")*")', code)
    return "".join(p if k % 2 else re.sub(r"\s+", " ", p.lower()) for k, p in enumerate(pieces)).strip()


def _basic_code(line: str) -> str:
    """The line without its comment (an apostrophe outside of quotes, or Rem)."""
    quoted = False
    for place, character in enumerate(line):
        if character == '"':
            quoted = not quoted
        elif character == "'" and not quoted:
            line = line[:place]
            break
    return "" if re.match(r"\s*rem\b", line, re.IGNORECASE) else line.strip()
