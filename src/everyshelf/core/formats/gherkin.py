"""Gherkin in any language, as the reference grammar reads it; where that refuses, as other test runners do.

Those take tags with blanks inside (``@needs(other.feature: Load users)``), doc strings between three single quotes,
step keywords in lower case, and titles whose keyword is followed by more than a colon (``Scenario Loop 10: …``).
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import Any

from gherkin.errors import CompositeParserException, ParserError
from gherkin.parser import Parser
from gherkin.token import Token
from gherkin.token_matcher import TokenMatcher
from gherkin.token_scanner import TokenScanner

from everyshelf.core.errors import UnreadableError

_TAG = re.compile(r"(?:^|(?<=\s))@")


def parse_gherkin(text: str) -> dict[str, Any]:
    """The feature as the parser's syntax tree; raises ``UnreadableError`` with what the strict grammar refused."""
    try:
        document = _parsed(text, TokenMatcher())
    except (CompositeParserException, ParserError, AttributeError) as error:
        try:
            document = _parsed(text, _TolerantMatcher())
        except (CompositeParserException, ParserError, AttributeError):
            raise UnreadableError(f"no feature: {_said(error)}") from error
    feature: dict[str, Any] | None = document.get("feature")
    if not feature:
        raise UnreadableError("there is no feature in it")
    return feature


def _parsed(text: str, matcher: TokenMatcher) -> dict[str, Any]:
    document: dict[str, Any] = Parser().parse(TokenScanner(text), matcher)  # type: ignore[assignment]
    return document


def _said(error: Exception) -> str:
    first = error.errors[0] if isinstance(error, CompositeParserException) else error
    return str(first).strip("() ").splitlines()[0]


class _TolerantMatcher(TokenMatcher):
    def match_TagLine(self, token: Token) -> bool:  # noqa: N802 - the parser's names
        if not token.line.startswith("@"):
            return False
        text = token.line.get_line_text().strip()
        starts = [m.start() for m in _TAG.finditer(text)]
        tags = [text[a:b].strip() for a, b in zip(starts, [*starts[1:], len(text)], strict=True)]
        items: Any = [{"column": token.line.indent + a + 1, "text": tag} for a, tag in zip(starts, tags, strict=True)]
        self._set_token_matched(token, "TagLine", items=items)
        return True

    def match_DocStringSeparator(self, token: Token) -> bool:  # noqa: N802
        if super().match_DocStringSeparator(token):
            return True
        return not self._active_doc_string_separator and self._match_DocStringSeparator(token, "'''", True)

    def match_StepLine(self, token: Token) -> bool:  # noqa: N802
        if super().match_StepLine(token):
            return True
        start = token.line.get_line_text()
        for keyword in self._sorted_step_keywords:
            if keyword.strip() not in ("", "*") and start.lower().startswith(keyword.lower()):
                kinds = self.keyword_types[keyword]
                title = token.line.get_rest_trimmed(len(keyword))
                sort = kinds[0] if len(kinds) == 1 else "Unknown"
                self._set_token_matched(token, "StepLine", title, keyword, keyword_type=sort)
                return True
        return False

    def _match_title_line(self, token: Token, token_type: str, keywords: Iterable[str]) -> bool:
        words = list(keywords)
        if super()._match_title_line(token, token_type, words):
            return True
        start, colon, rest = token.line.get_line_text().partition(":")
        for keyword in words:
            extra = start.removeprefix(keyword)
            if colon and extra != start and (not extra or extra[0].isspace()) and len(start) < 60:
                title = f"{rest.strip()} ({extra.strip()})" if extra.strip() else rest.strip()
                self._set_token_matched(token, token_type, title, keyword)
                return True
        return False
