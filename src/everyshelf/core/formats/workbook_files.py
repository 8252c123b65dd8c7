"""Workbooks in whichever form their archive has."""

from __future__ import annotations

from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.archives import Member
from everyshelf.core.formats.office_sheets import read_xlsx
from everyshelf.core.formats.open_document import read_ods
from everyshelf.core.formats.workbooks import Workbook


def read_workbook(members: dict[str, Member], form: str) -> Workbook:
    """The workbook in an archive's members; raises ``UnreadableError``."""
    if form == "ods":
        return read_ods(members)
    if form == "xlsx":
        return read_xlsx(members)
    raise UnreadableError("workbooks in the binary form of sheets are not read; saved as XLSX they are")
