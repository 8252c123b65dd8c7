"""Cells of CSV that leave for a spreadsheet: what it would take for a formula is made a text.

OWASP, "CSV Injection": a cell that begins with one of these characters is calculated when the file is opened, and may
send what is in the sheet elsewhere. A leading apostrophe makes it a text. Numbers stay numbers.
"""

from __future__ import annotations

import re
from typing import Any

_FORMULA = re.compile(r"\s*[=+\-@\t\r\uff1d\uff0b\uff0d\uff20|%]")
_NUMBER = re.compile(r"[-+]?(\d+([.,]\d+)*|\.\d+)([eE][-+]?\d+)?%?\Z")


def csv_cell(value: Any, *, raw: bool = False) -> Any:
    """``value`` as it may stand in a CSV file; ``raw`` leaves texts as they are."""
    if raw or not isinstance(value, str) or not _FORMULA.match(value) or _NUMBER.match(value):
        return value
    return f"'{value}"
