"""What a request of the network folder may ask for, looked at before the protocol's library sees it.

Bodies of RFC 4918 are small documents of XML. One that declares entities, asks for thousands of properties or is nested
without end is refused here, where it costs nothing; and so is what would remove a folder that nobody made.
"""

from __future__ import annotations

import io
from typing import Any

from lxml import etree

from everyshelf.core.errors import EveryShelfError

_XML = ("PROPFIND", "PROPPATCH", "LOCK", "REPORT")
_MOST_BYTES = 64 * 1024
_MOST_ELEMENTS = 200  # properties, and what holds them
_MOST_DEPTH = 16
_FIXED = 3  # the root, a shelf, an area and a branch or tag in it are not of files
_REMOVING = ("DELETE", "MOVE")


class AskedError(EveryShelfError):
    """A request that is refused: the status, and a sentence."""

    def __init__(self, status: int, message: str) -> None:
        super().__init__(message)
        self.status = status


def check_asked(environ: dict[str, Any]) -> None:
    """Return if the request may go on, its body read into memory where it is XML; raises ``AskedError``."""
    method, path = environ["REQUEST_METHOD"], environ["PATH_INFO"]
    parts = [part for part in path.split("/") if part]
    if method in _REMOVING and len(parts) <= _FIXED:
        raise AskedError(
            403, f"/{'/'.join(parts)} is not a folder that can be removed or moved; remove what is in a draft."
        )
    if method in _XML:
        data = _body(environ)
        if data:
            _check_xml(data)
        environ["wsgi.input"] = io.BytesIO(data)
        environ["CONTENT_LENGTH"] = str(len(data))
        environ.pop("HTTP_TRANSFER_ENCODING", None)


def _body(environ: dict[str, Any]) -> bytes:
    try:
        length = int(environ.get("CONTENT_LENGTH") or 0)
    except ValueError as error:
        raise AskedError(400, "The length of the body is not a number.") from error
    if length > _MOST_BYTES:
        raise AskedError(413, f"The body has {length:,} bytes; {_MOST_BYTES:,} are possible.")
    data: bytes = environ["wsgi.input"].read(_MOST_BYTES + 1 if environ.get("wsgi.input_terminated") else length)
    if len(data) > _MOST_BYTES:
        raise AskedError(413, f"The body has more than {_MOST_BYTES:,} bytes.")
    return data


def _check_xml(data: bytes) -> None:
    if b"<!DOCTYPE" in data or b"<!ENTITY" in data or b"<!doctype" in data:
        raise AskedError(400, "The body declares a document type or entities, which is not possible here.")
    depth = elements = 0
    try:
        reader = etree.iterparse(
            io.BytesIO(data), events=("start", "end"), resolve_entities=False, no_network=True, load_dtd=False
        )
        for event, _ in reader:
            depth += 1 if event == "start" else -1
            elements += event == "start"
            if elements > _MOST_ELEMENTS or depth > _MOST_DEPTH:
                raise AskedError(413, f"The body asks for more than {_MOST_ELEMENTS} properties; ask for fewer.")
        if reader.root is not None and reader.root.getroottree().docinfo.doctype:
            raise AskedError(400, "The body declares a document type, which is not possible here.")
    except etree.XMLSyntaxError as error:
        raise AskedError(400, f"The body cannot be read as XML: {error.msg}.") from error
