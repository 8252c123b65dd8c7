"""Pictures, workbooks, documents, archives and models that lie, end too early, or grow beyond measure."""

from __future__ import annotations

import io
import json
import pickle
import struct
import tarfile
import zipfile
import zlib
from typing import Any

import onnx
from onnx import TensorProto, helper

from everyshelf.demo.documents import docx
from everyshelf.demo.workbooks import ods, xlsx


def zipped(members: dict[str, bytes]) -> bytes:
    """A packed zip of members."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in members.items():
            archive.writestr(name, data)
    return out.getvalue()


def _with(archive: bytes, member: str, content: bytes) -> bytes:
    with zipfile.ZipFile(io.BytesIO(archive)) as old:
        return zipped({n: old.read(n) for n in old.namelist()} | {member: content})


def _png(width: int, height: int, pixels: bytes) -> bytes:
    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    head = struct.pack(">IIBBBBB", width, height, 8, 2, 0, 0, 0)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", zlib.compress(pixels, 9)) + chunk(b"IEND", b"")


def _onnx(dims: list[int], raw: bytes) -> bytes:
    tensor = TensorProto(name="w", data_type=TensorProto.FLOAT, raw_data=raw)
    tensor.dims.extend(dims)
    node = helper.make_node("MatMul", ["x", "w"], ["y"])
    made: bytes = helper.make_model(helper.make_graph([node], "g", [], [], [tensor])).SerializeToString()
    return made


def _nested_branches(levels: int) -> bytes:
    graph = helper.make_graph([], "g", [], [])
    for _ in range(levels):
        node = helper.make_node("If", ["c"], ["y"])
        attribute = node.attribute.add()
        attribute.name, attribute.type = "then_branch", onnx.AttributeProto.GRAPH
        attribute.g.CopyFrom(graph)
        graph = helper.make_graph([node], "g", [], [])
    made: bytes = helper.make_model(graph).SerializeToString()
    return made


def _safetensors(header: Any) -> bytes:
    said = json.dumps(header).encode()
    return struct.pack("<Q", len(said)) + said + bytes(8)


def _memo_bomb(levels: int) -> bytes:
    """A tuple of two that are the same tuple of two, and so on: two to the power of ``levels`` things in a few bytes."""
    return b"\x80\x04)" + b"".join(b"\x94h" + bytes([n]) + b"\x86" for n in range(levels)) + b"."


def _tar(claimed: int) -> bytes:
    info = tarfile.TarInfo("a.bin")
    info.size = claimed
    return info.tobuf() + bytes(1024)


def binary_cases() -> dict[str, bytes]:
    """All of them, by file name."""
    book = xlsx({"S": [["a", "b"], [1, "=A2*2"]]}, {})
    sheet = "xl/worksheets/sheet1.xml"
    main = b'<worksheet xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"><sheetData>'
    laughs = (
        b'<!DOCTYPE w [<!ENTITY a "lol"><!ENTITY b "&a;&a;&a;&a;&a;&a;&a;&a;">]>'
        + main
        + b"<row><c><v>&b;</v></c></row></sheetData></worksheet>"
    )
    calc = ods({"S": [["a", 1]]}, "Sub A\nEnd Sub\n")
    with zipfile.ZipFile(io.BytesIO(calc)) as archive:
        content = archive.read("content.xml")
    wide = content.replace(b"<table:table-cell ", b'<table:table-cell table:number-columns-repeated="1000000000" ')
    tall = content.replace(b"<table:table-row>", b'<table:table-row table:number-rows-repeated="1000000000">')
    deep = b"<w:p>" * 5000 + b"</w:p>" * 5000
    body = b'<w:document xmlns:w="http://schemas.openxmlformats.org/wordprocessingml/2006/main"><w:body>'
    model = _onnx([2, 2], bytes(16))
    return {
        "claims.png": _png(100_000, 100_000, b"\0"),
        "bomb.png": _png(20_000, 20_000, bytes(20_000 * 60_001)),
        "short.png": _png(640, 480, b"\0" * 100),
        "cut.jpg": b"\xff\xd8\xff\xe0\0\x10JFIF\0\1\1\0\0\1\0\1\0\0\xff\xc0\0\x11\x08\xff\xff\xff\xff\3",
        "odd.gif": b"GIF89a\xff\xff\xff\xff\xf7\0\0" + bytes(90),
        "bomb.xlsx": _with(book, sheet, main + b"<row><c><v>1</v></c></row>" * 4_000_000),
        "laughs.xlsx": _with(book, sheet, laughs),
        "far.xlsx": _with(
            book, sheet, main + b'<row r="999999999999"><c r="ZZZ9999999"><v>1</v></c></row></sheetData></worksheet>'
        ),
        "cut-sheet.xlsx": _with(book, sheet, main + b"<row><c><v>1</v"),
        "noise.xlsx": _with(book, "xl/workbook.xml", bytes(range(256)) * 20),
        "macro.xlsm": _with(book, "xl/vbaProject.bin", b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1" + b"\xfe" * 4000),
        "wide.ods": _with(calc, "content.xml", wide),
        "tall.ods": _with(calc, "content.xml", tall),
        "deep.docx": _with(docx(["a"]), "word/document.xml", body + deep + b"</w:body></w:document>"),
        "empty.docx": zipped({"word/other.xml": b"<a/>"}),
        "cut.docx": docx(["a", "b"])[:300],
        "old.doc": b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1" + bytes(range(256)) * 40,
        "claims.tar": _tar(2**33 - 1),
        "nest.zip": zipped(
            {f"{n}.zip": zipped({"a.zip": zipped({"a.zip": zipped({"a": bytes(10**6)})})}) for n in range(50)}
        ),
        "many.zip": zipped({f"{n}.txt": b"" for n in range(25_000)}),
        "claims.onnx": _onnx([2**40, 2**20], b"\0" * 16),
        "short.onnx": _onnx([1024, 1024], b"\0" * 3),
        "negative.onnx": _onnx([-5], b""),
        "cut.onnx": model[: len(model) // 2],
        "deep.onnx": _nested_branches(31),
        "claims.safetensors": _safetensors({"a": {"dtype": "F32", "shape": [2**60], "data_offsets": [0, 8]}}),
        "outside.safetensors": _safetensors({"a": {"dtype": "F32", "shape": [2], "data_offsets": [0, 2**50]}}),
        "odd.safetensors": _safetensors({"a": [1, 2], "b": None}),
        "bomb.pkl": _memo_bomb(200),
        "claims.pkl": b"\x80\x04\x8e" + struct.pack("<Q", 2**60) + b"x.",
        "long.pkl": b"\x80\x04\x8b" + struct.pack("<I", 2**31) + b"x.",
        "deep.pkl": b"\x80\x02" + b"](" * 200_000 + b"e" * 200_000 + b".",
        "marks.pkl": b"\x80\x02" + b"(" * 500_000 + b".",
        "loop.pkl": b"\x80\x02]q\0h\0a.",
        "reach.pkl": b"\x80\x04cbuiltins\neval\n(V__import__('os').system('touch pwned')\ntR.",
        "lists.pkl": pickle.dumps([list(range(50)) for _ in range(20_000)]),
    }
