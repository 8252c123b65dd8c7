"""Workbooks, documents, models and pictures of other people's programs: read as their kind, silent when written
differently, exact when edited. The edits are made by general parsers and the formats' own libraries."""

from __future__ import annotations

import contextlib
import copy
import gzip
import io
import pickletools
import random
import xml.etree.ElementTree as ET
import zipfile
from typing import Any

import numpy as np
import onnx
from onnx import numpy_helper
from PIL import Image

from tests.core.test_published_files import NEW, Edit, Published, tells_new_value
from tests.support.published import published

DRAWING = "{http://schemas.openxmlformats.org/wordprocessingml/2006/main}"
TEXT = "{urn:oasis:names:tc:opendocument:xmlns:text:1.0}"
OFFICE = "{urn:oasis:names:tc:opendocument:xmlns:office:1.0}"


def members(data: bytes) -> dict[str, bytes]:
    with zipfile.ZipFile(io.BytesIO(data)) as archive:
        return {i.filename: archive.read(i) for i in archive.infolist() if not i.is_dir()}


def packed(files: dict[str, bytes], packing: int = zipfile.ZIP_DEFLATED) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", packing) as archive:
        for name, content in files.items():
            archive.writestr(zipfile.ZipInfo(name, (2031, 1, 1, 0, 0, 0)), content, packing)
    return out.getvalue()


def packed_anew(data: bytes) -> bytes:
    """Members in the same order but for the last ones, without compression, at another time."""
    files = members(data)
    names = list(files)
    return packed({n: files[n] for n in [*names[:1], *names[:0:-1]]}, zipfile.ZIP_STORED)


def first_new(finding: dict[str, Any]) -> bool:
    return tells_new_value(finding)


class WorkbookTests(Published):
    """Office Open XML and OpenDocument sheets."""

    def test_workbooks(self) -> None:
        files = [f for f in published("workbook", (".xlsx",)) if f[1][:2] == b"PK"]
        self.judge("XLSX", files, "spreadsheet", packed_anew, self.number_changed, least_exact=0.85)

    def test_open_document_sheets(self) -> None:
        files = [f for f in published("workbook", (".ods",)) if f[1][:2] == b"PK" and "password" not in f[0]]
        self.judge("ODS", files, "spreadsheet", packed_anew, self.text_changed, least_exact=0.85)

    @staticmethod
    def number_changed(data: bytes, rng: random.Random) -> Edit | None:
        files = members(data)
        sheets = [n for n in files if "worksheets" in n.replace("\\", "/").lower() and n.lower().endswith(".xml")]
        rng.shuffle(sheets)
        for name in sheets:
            root = ET.fromstring(files[name])
            space = root.tag.partition("}")[0] + "}"
            cells = [
                v
                for c in root.iter(f"{space}c")
                if c.get("t", "n") == "n" and c.get("s", "0") == "0" and c.find(f"{space}f") is None
                for v in c.findall(f"{space}v")
            ]
            if cells:
                rng.choice(cells).text = "987654.25"
                return packed({**files, name: ET.tostring(root)}), lambda f: f["after"] in (987654.25, "987654.25")
        return None

    @staticmethod
    def text_changed(data: bytes, rng: random.Random) -> Edit | None:
        files = members(data)
        root = ET.fromstring(files["content.xml"])
        cells = [
            p
            for c in root.iter()
            if c.get(f"{OFFICE}value-type") == "string" and not any(k.endswith("}formula") for k in c.attrib)
            for p in c.findall(f"{TEXT}p")
            if p.text and not len(p)
        ]
        if not cells:
            return None
        cell = rng.choice(cells)
        cell.text = NEW
        return packed({**files, "content.xml": ET.tostring(root)}), first_new


class DocumentTests(Published):
    """Texts and slides."""

    def test_documents(self) -> None:
        self.judge("DOCX", published("document", (".docx",)), "document", packed_anew, self.word_changed)

    def test_open_document_texts(self) -> None:
        files = published("document", (".odt", ".odp"))
        self.judge("ODT and ODP", files, "document", packed_anew, self.open_changed, least_exact=0.85)

    @staticmethod
    def word_changed(data: bytes, rng: random.Random) -> Edit | None:
        files = members(data)
        name = next((n for n in files if n.endswith("word/document.xml")), None)
        if name is None:
            return None
        root = ET.fromstring(files[name])
        texts = [t for t in root.iter(f"{DRAWING}t") if t.text and t.text.strip()]
        if not texts:
            return None
        rng.choice(texts).text = NEW
        return packed({**files, name: ET.tostring(root)}), first_new

    @staticmethod
    def open_changed(data: bytes, rng: random.Random) -> Edit | None:
        files = members(data)
        if b"<!ENTITY" in files["content.xml"]:
            return None
        root = ET.fromstring(files["content.xml"])
        body = next(root.iter(f"{OFFICE}body"))
        texts = [p for p in body.iter(f"{TEXT}p") if p.text and p.text.strip() and not len(p)]
        if not texts:
            return None
        rng.choice(texts).text = NEW
        return packed({**files, "content.xml": ET.tostring(root)}), first_new


class ModelTests(Published):
    """Networks and pickles."""

    def test_networks(self) -> None:
        files = published("network", (".onnx",), most=5_000_000)
        rng = random.Random(5)
        own = [f for f in files if f[0].startswith("onnx/")]
        files = [*rng.sample(own, 60), *(f for f in files if not f[0].startswith("onnx/"))]
        self.judge("ONNX", files, "model", self.another_producer, self.weight_changed)

    @staticmethod
    def another_producer(data: bytes) -> bytes:
        model = onnx.load_model_from_string(data)
        model.producer_name, model.producer_version = "another", "0.0.1"
        return model.SerializeToString()

    @staticmethod
    def weight_changed(data: bytes, rng: random.Random) -> Edit | None:
        model = onnx.load_model_from_string(data)
        tensors = [t for t in model.graph.initializer if t.data_type == onnx.TensorProto.FLOAT and np.prod(t.dims) > 0]
        if not tensors:
            values = [v for v in model.graph.input if v.type.HasField("tensor_type") and v.name]
            if not values:
                return None
            given = rng.choice(values)
            given.type.tensor_type.shape.dim.add().dim_value = 7
            return model.SerializeToString(), lambda f: f["label"] == given.name and f["effect"] == "breaks"
        tensor = rng.choice(tensors)
        held = numpy_helper.to_array(tensor).copy()
        held.flat[rng.randrange(held.size)] += 100
        kept = copy.deepcopy(tensor)
        tensor.CopyFrom(numpy_helper.from_array(held, kept.name))
        return model.SerializeToString(), lambda f: f["label"] == kept.name and f.get("field") == "weights"

    def test_pickles(self) -> None:
        files = published("pickle", (".pkl", ".gz", ".bz2", ".xz", ".lzma", ".gzip", ".pickle"), most=6_000_000)
        files = [(n, d) for n, d in files if ("/data/" in n or n.endswith(".pickle")) and ".npy" not in n]
        self.judge(
            "pickles",
            files,
            "model",
            lambda data: gzip.compress(data) if data[:1] == b"\x80" else data + b"",
            self.number_changed,
            least_exact=0.8,
        )

    @staticmethod
    def number_changed(data: bytes, rng: random.Random) -> Edit | None:
        """The last byte of the largest array that lies in the opcodes as bytes."""
        if data[:1] != b"\x80":
            return None
        held = []
        with contextlib.suppress(Exception):  # what is no pickle to the standard library is not edited
            for opcode, value, _ in pickletools.genops(data):
                if opcode.name in ("BINBYTES", "SHORT_BINBYTES", "BINBYTES8") and len(value) >= 16:
                    held.append(value)
        if not held or data.count(max(held, key=len)) != 1:
            return None
        largest = max(held, key=len)
        changed = largest[:-1] + bytes([largest[-1] ^ 1])
        return data.replace(largest, changed), lambda f: "bytes" in str(f["before"]) or f.get("field") == "weights"


class PictureTests(Published):
    """PNG and JPEG."""

    def test_pictures(self) -> None:
        files = published("picture", (".png", ".jpg", ".jpeg"))
        self.judge("pictures", files, "picture", self.packed_anew, self.pixel_changed, least_exact=0.95)

    @staticmethod
    def packed_anew(data: bytes) -> bytes:
        image = Image.open(io.BytesIO(data))
        if image.format != "PNG":
            return data[:2] + b"\xff\xfe\x00\x06note" + data[2:]  # a comment
        out = io.BytesIO()
        image.save(out, "PNG", compress_level=1)
        return out.getvalue()

    @staticmethod
    def pixel_changed(data: bytes, rng: random.Random) -> Edit | None:
        image = Image.open(io.BytesIO(data)).convert("RGBA")
        place = rng.randrange(image.width), rng.randrange(image.height)
        red, green, blue, _ = image.getpixel(place)  # type: ignore[misc]
        image.putpixel(place, (255 - red // 2, green, 255 - blue, 255))
        out = io.BytesIO()
        image.save(out, "PNG")
        one_pixel = f"within 1 × 1 pixels from {place[0]}, {place[1]}"
        return out.getvalue(), lambda f: one_pixel in f.get("detail", "")
