"""Settings in INI, .env and .properties form, to a tree of texts."""

from __future__ import annotations

import configparser
import io
from typing import Any

from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.text import decode


def parse_ini(data: bytes) -> dict[str, Any]:
    """Section -> key -> text; keys before the first section stand beside the sections."""
    text = decode(data).unified
    lead, _, _ = text.partition("[")
    headless = any(line.strip() and line.strip()[0] not in "#;" for line in lead.splitlines())
    parser = configparser.ConfigParser(interpolation=None, allow_no_value=True, default_section="\0")
    parser.optionxform = str  # type: ignore[assignment,method-assign]
    try:
        parser.read_string(f"[\1]\n{text}" if headless else text)
    except configparser.DuplicateOptionError as error:
        raise UnreadableError(
            f"line {error.lineno}: the key “{error.option}” appears twice in [{error.section}]"
        ) from error
    except configparser.DuplicateSectionError as error:
        raise UnreadableError(f"line {error.lineno}: the section [{error.section}] appears twice") from error
    except configparser.Error as error:
        raise UnreadableError(str(error).split("\n")[0]) from error
    except AttributeError as error:  # how the parser fails at a continued line below a key without a value
        raise UnreadableError("a line is continued below a key without a value") from error
    tree: dict[str, Any] = {name: dict(parser[name]) for name in parser.sections() if name != "\1"}
    if parser.has_section("\1"):
        tree = {**dict(parser["\1"]), **tree}
    if not tree:
        raise UnreadableError("there is neither a section nor a key in it")
    return tree


def parse_env(data: bytes) -> dict[str, Any]:
    """Name -> text, without looking anything up in the environment of this process."""
    from dotenv.parser import parse_stream

    found: dict[str, Any] = {}
    for binding in parse_stream(io.StringIO(decode(data).unified)):
        if binding.error:
            raise UnreadableError(f"line {binding.original.line}: neither a name with a value nor a comment")
        if binding.key is not None:
            if binding.key in found:
                raise UnreadableError(f"line {binding.original.line}: the name “{binding.key}” appears twice")
            found[binding.key] = binding.value
    return found


def parse_properties(data: bytes) -> dict[str, Any]:
    """Key -> text, escapes resolved (the format of java.util.Properties)."""
    import javaproperties

    found: dict[str, Any] = {}
    try:
        for element in javaproperties.parse(decode(data).unified):
            if not isinstance(element, javaproperties.reading.KeyValue):
                continue
            if element.key in found:
                raise UnreadableError(f"the key “{element.key}” appears twice")
            found[element.key] = element.value
    except javaproperties.InvalidUEscapeError as error:
        raise UnreadableError(str(error)) from error
    return found
