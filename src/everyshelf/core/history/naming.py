"""Names made of what people say they are about to do."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Collection

_MOST_WORDS = 3
_SAY_NOTHING = frozenset(
    {"does", "do", "the", "a", "an", "of", "on", "is", "are", "can", "will", "if", "to", "in", "by", "we", "what"}
)


def suggested_name(said: str, otherwise: str, taken: Collection[str], prefix: str = "") -> str:
    """A short name of the words in ``said`` that say something (``otherwise`` if none does), not in ``taken`` yet."""
    plain = unicodedata.normalize("NFKD", said).encode("ascii", "ignore").decode().lower()
    words = [w for w in re.findall(r"[a-z0-9]+", plain) if w not in _SAY_NOTHING]
    name = prefix + ("-".join(words[:_MOST_WORDS])[:50].strip("-") or otherwise)
    number = 2
    found = name
    while found in taken:
        found, number = f"{name}-{number}", number + 1
    return found
