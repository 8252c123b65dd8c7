"""What is refused as a password beyond what is short: words that are tried first, also with a year behind them."""

from __future__ import annotations

from typing import Any

from django.contrib.auth.password_validation import CommonPasswordValidator
from django.core.exceptions import ValidationError

_LONGEST_EDGE = 8  # digits and signs before and behind a word


class EdgedCommonPasswordValidator(CommonPasswordValidator):
    """Refuse a common password with digits or signs before or behind it, or written twice."""

    def validate(self, password: str, user: Any = None) -> None:
        """Raise ``ValidationError`` for one that is guessed early."""
        bare = password.lower().strip()
        start, stop = 0, len(bare)
        while start < stop and not bare[start].isalpha():
            start += 1
        while stop > start and not bare[stop - 1].isalpha():
            stop -= 1
        word = bare[start:stop]
        half = word[: len(word) // 2]
        words = {word, half} if half * 2 == word else {word}
        if words & self.passwords and len(bare) - len(word) <= _LONGEST_EDGE:
            raise ValidationError("This is a common password with a little around it.", code="password_too_common")
