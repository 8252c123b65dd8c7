"""Names of lists turned into the types of their items: steps into step, entries into entry.

Rules of English spelling, with the words that break them and that files of settings use. A name that is not a plural
stays as it is: what it holds is one thing, and keeps its name.
"""

from __future__ import annotations

import re

_LAST_WORD = re.compile(r"(?:[A-Z]?[a-z]+|[A-Z]+)\Z")
_IRREGULAR = {
    "aliases": "alias",
    "analyses": "analysis",
    "atlases": "atlas",
    "axes": "axis",
    "bases": "base",
    "biases": "bias",
    "buses": "bus",
    "caches": "cache",
    "canvases": "canvas",
    "cookies": "cookie",
    "gases": "gas",
    "indices": "index",
    "lenses": "lens",
    "matrices": "matrix",
    "movies": "movie",
    "statuses": "status",
    "vertices": "vertex",
    "viruses": "virus",
}
# Names of one thing, however many it holds, and names that happen to end so.
# fmt: off
_NO_PLURALS = frozenset({
    "alias", "always", "analytics", "as", "atlas", "aws", "axis", "basis", "bias", "bus", "canvas", "chaos",
    "cors", "css", "dns", "gas", "gps", "graphics", "has", "https", "ios", "is", "js", "kms", "kubernetes",
    "lens", "less", "macos", "mathematics", "mechanics", "minus", "nas", "news", "os", "pandas", "physics",
    "plus", "postgres", "previous", "series", "sms", "sns", "species", "sqs", "statistics", "this", "tls", "was",
    "windows",
})
# fmt: on


def singular(name: str) -> str:
    """The type of the items of a list or map called so; ``name`` itself where it is not a plural."""
    last = _LAST_WORD.search(name)
    word = last[0] if last is not None else ""
    if not word.endswith("s") or word.lower() in _NO_PLURALS:
        return name
    known = _IRREGULAR.get(word.lower())
    if known is not None:
        return name[: -len(word)] + (known[0].upper() + known[1:] if word[0].isupper() else known)
    return _by_rule(name)


def _by_rule(name: str) -> str:
    if name.endswith("ies") and len(name) > 4:
        return name[:-3] + "y"
    if name.endswith(("ches", "shes", "sses", "xes")):
        return name[:-2]
    if not name.endswith(("ss", "us", "is")) and len(name) > 2:
        return name[:-1]
    return name
