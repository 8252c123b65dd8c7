"""Modules of scripts inside office files: those in a compressed compound file (MS-OVBA), and those of OpenDocument."""

from __future__ import annotations

import logging
import warnings
from typing import Any

from everyshelf.core.formats.archives import Member
from everyshelf.core.formats.xml import local_name, pulled

_MOST_BYTES = 64 * 1024 * 1024


def modules_of_project(data: bytes) -> tuple[dict[str, str], str]:
    """Name -> source of a project of modules, and what went wrong, if something did; nothing in it is run."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # it uses names its own parser calls old
        from oletools import olevba

    for name in ("olevba", "oletools", "olefile"):
        logging.getLogger(name).setLevel(logging.CRITICAL)
    if len(data) > _MOST_BYTES:
        return {}, f"its script project is larger than {_MOST_BYTES >> 20} MB and was not read"
    found: dict[str, str] = {}
    try:
        parser = olevba.VBA_Parser("project.bin", data=data, relaxed=True)
        try:
            for _, _, name, code in parser.extract_all_macros():
                text = code.decode("utf-8", "replace") if isinstance(code, bytes) else str(code)
                found[str(name)] = text
        finally:
            parser.close()
    except Exception as error:  # the library raises whatever its parts raise
        return found, f"its script project could not be read ({type(error).__name__})"
    return found, ""


def modules_of_member(data: bytes) -> tuple[dict[str, str], str]:
    """As ``modules_of_project`` for a member that is there for its modules alone: none at all is wrong, too."""
    found, problem = modules_of_project(data)
    return found, problem or ("" if found else "no module was found in its script project")


def modules_of_open_document(members: dict[str, Member]) -> dict[str, str]:
    """Name -> source of the modules in the folders of scripts; those in Python as they are."""
    found: dict[str, str] = {}
    for name, member in members.items():
        if (
            name.startswith("Basic/")
            and name.endswith(".xml")
            and not name.endswith(("script-lc.xml", "script-lb.xml"))
        ):
            for element in pulled(member, ("module",)):
                found[_own(element, "name") or name] = element.text or ""
        elif name.startswith("Scripts/") and name.endswith((".py", ".js", ".bsh")):
            found[name.removeprefix("Scripts/")] = member.read().decode("utf-8", "replace")
    return found


def _own(element: Any, name: str) -> str:
    return next((str(v) for k, v in element.attrib.items() if local_name(str(k)) == name), "")
