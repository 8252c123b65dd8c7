"""Documents, an archive and pictures of the ticket office."""

from __future__ import annotations

import io
import math
from xml.sax.saxutils import escape

from everyshelf.demo.pair import Pair
from everyshelf.demo.workbooks import open_document, packed

_WORD = 'xmlns:w="http://schemas.openxmlformats.org/wordprocessingml/2006/main"'
_PACKAGE = "http://schemas.openxmlformats.org/package/2006"
_OFFICE = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
_TERMS = [
    "# Carriage",
    "Tickets are valid on the day they are sold for.",
    "Bicycles travel free outside of July and August.",
    "# Refunds",
    "A ticket is refunded in full up to one hour before the sailing.",
    "Cancelled sailings are refunded without being asked.",
]
_NOTICE = [
    "# Pier closed",
    "Pier C is closed on Tuesday from six to nine.",
    "Boats leave from pier A.",
    "# Lost things",
    "Ask at the desk.",
]


def document_pairs() -> list[Pair]:
    """A text in each form, an archive, two pictures."""
    stricter = [line.replace("one hour", "two hours") for line in _TERMS]
    stricter.insert(3, "Folding scooters count as luggage.")
    closed = [line.replace("Tuesday from six to nine", "Wednesday from six to noon") for line in _NOTICE]
    kit = {
        "sailings.json": '{"pier": "A", "calls": [7, 9, 12]}',
        "notes/readme.txt": "Put up on the first of the month.\n",
    }
    return [
        Pair(
            "documents/terms.docx", "document", docx(_TERMS), docx(stricter), "1 paragraph added, 1 paragraph changed"
        ),
        Pair("documents/notice.odt", "document", _odt(_NOTICE), _odt(closed), "paragraph: text changed"),
        Pair(
            "documents/pier-kit.zip",
            "archive",
            packed({**kit, "posters/pier.svg": _poster("A")}),
            packed(
                {"posters/pier.svg": _poster("C"), **kit, "sailings.json": kit["sailings.json"].replace("12", "13")}
            ),
            "1 text changed, 1 call changed",
        ),
        Pair("pictures/route-map.png", "picture", _map(), _map(detour=True), "pixels changed"),
        Pair("pictures/pier.jpg", "picture", _photo(), _photo(crate=True), "pixels changed"),
    ]


def _poster(pier: str) -> str:
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" width="200" height="80"><text x="12" y="50">Pier {pier}</text></svg>'
    )


def docx(lines: list[str]) -> bytes:
    """A text with headings (lines that start with "# ") and paragraphs."""
    body = "".join(
        f'<w:p><w:pPr><w:pStyle w:val="Heading1"/></w:pPr><w:r><w:t>{escape(line[2:])}</w:t></w:r></w:p>'
        if line.startswith("# ")
        else f"<w:p><w:r><w:t>{escape(line)}</w:t></w:r></w:p>"
        for line in lines
    )
    main = "application/vnd.openxmlformats-officedocument.wordprocessingml.document.main+xml"
    return packed(
        {
            "[Content_Types].xml": f'<Types xmlns="{_PACKAGE}/content-types">'
            '<Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/>'
            f'<Override PartName="/word/document.xml" ContentType="{main}"/></Types>',
            "_rels/.rels": f'<Relationships xmlns="{_PACKAGE}/relationships">'
            f'<Relationship Id="rId1" Type="{_OFFICE}/officeDocument" Target="word/document.xml"/></Relationships>',
            "word/document.xml": f"<w:document {_WORD}><w:body>{body}</w:body></w:document>",
        }
    )


def _odt(lines: list[str]) -> bytes:
    body = "".join(
        f'<text:h text:outline-level="1">{escape(line[2:])}</text:h>'
        if line.startswith("# ")
        else f"<text:p>{escape(line)}</text:p>"
        for line in lines
    )
    return open_document("text", f"<office:text>{body}</office:text>")


def _map(*, detour: bool = False) -> bytes:
    """Islands and the line between them; the detour goes round a sandbank."""
    from PIL import Image, ImageDraw

    picture = Image.new("RGB", (640, 400), "#dfeaf0")
    draw = ImageDraw.Draw(picture)
    for x, y, size in ((90, 310, 70), (300, 120, 55), (520, 260, 80)):
        draw.ellipse((x - size, y - size * 0.7, x + size, y + size * 0.7), fill="#cfd8b8", outline="#7d8a5c", width=3)
    route = [(150, 280), (260, 160), (345, 150), (455, 230)]
    if detour:
        route[2:2] = [(320, 210), (380, 215)]
        draw.ellipse((330, 150, 400, 190), fill="#efe2b8", outline="#b49b52", width=2)
    draw.line(route, fill="#243b53", width=5, joint="curve")
    out = io.BytesIO()
    picture.save(out, "PNG")
    return out.getvalue()


def _photo(*, crate: bool = False) -> bytes:
    """A pier under a sky, as a camera's lossy file."""
    from PIL import Image, ImageDraw

    picture = Image.new("RGB", (480, 320))
    for y in range(320):
        shade = int(150 + 80 * math.cos(y / 110))
        for x in range(0, 480, 4):
            picture.paste((shade - 20, shade, min(255, shade + 25 + x // 40)), (x, y, x + 4, y + 1))
    draw = ImageDraw.Draw(picture)
    draw.rectangle((60, 210, 420, 230), fill="#6b4f3a")
    for x in range(70, 420, 60):
        draw.rectangle((x, 230, x + 10, 310), fill="#4d3828")
    if crate:
        draw.rectangle((250, 170, 300, 210), fill="#a3562b")
    out = io.BytesIO()
    picture.save(out, "JPEG", quality=88)
    return out.getvalue()
