"""What the readers of bytes rest on: archives, tensors, the parting of networks, recognition by first bytes."""

from __future__ import annotations

import gzip
import io
import json
import struct
import tarfile
import unittest
import zipfile
from typing import Any

import numpy as np
import onnx
from hypothesis import given
from hypothesis import strategies as st
from onnx import TensorProto, helper, numpy_helper

from everyshelf.core.compare.metrics import metric_changes
from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.archives import local_names, open_archive
from everyshelf.core.formats.onnx import looks_like_onnx, parse_onnx
from everyshelf.core.formats.onnx_wire import without_weights
from everyshelf.core.formats.tensors import Tensor, distance, told_type
from everyshelf.core.kinds.beside import belonging
from everyshelf.core.kinds.peeking import recognise_given
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.tables.given import Given
from everyshelf.demo.documents import docx
from everyshelf.demo.office import pairs
from everyshelf.demo.workbooks import xlsx
from tests.support.factories import compared, outlined
from tests.support.laws import law
from tests.support.published import published


def zipped(members: dict[str, bytes], packing: int = zipfile.ZIP_DEFLATED) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", packing) as archive:
        for name, content in members.items():
            archive.writestr(name, content)
    return out.getvalue()


class ArchiveTests(unittest.TestCase):
    """Members by name, unpacked when asked for."""

    @law(60)
    @given(st.dictionaries(st.from_regex(r"[a-z]{1,8}(/[a-z]{1,8}){0,2}", fullmatch=True), st.binary(max_size=200)))
    def test_every_member_comes_back(self, members: dict[str, bytes]) -> None:
        for packing in (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED, zipfile.ZIP_BZIP2):
            found = open_archive(zipped(members, packing))
            self.assertEqual({n: m.read() for n, m in found.items()}, members)

    def test_links_devices_and_folders_of_a_tar_are_no_members(self) -> None:
        out = io.BytesIO()
        with tarfile.open(fileobj=out, mode="w") as archive:
            for name, kind in (("way", tarfile.SYMTYPE), ("null", tarfile.CHRTYPE), ("folder", tarfile.DIRTYPE)):
                info = tarfile.TarInfo(name)
                info.type, info.linkname = kind, "/etc/passwd"
                archive.addfile(info)
            info = tarfile.TarInfo("a.txt")
            info.size = 2
            archive.addfile(info, io.BytesIO(b"hi"))
        self.assertEqual(list(open_archive(out.getvalue())), ["a.txt"])

    def test_a_member_that_claims_less_than_it_holds_is_refused(self) -> None:
        data = bytearray(zipped({"a.bin": bytes(5000)}))
        central = data.rfind(b"PK\x01\x02")
        struct.pack_into("<I", data, central + 24, 100)
        with self.assertRaises(UnreadableError):
            open_archive(bytes(data))["a.bin"].read()

    def test_names_are_read_from_a_head_that_was_cut(self) -> None:
        data = zipped({"one/a.txt": b"x" * 500, "two/b.txt": b"y" * 500}, zipfile.ZIP_STORED)
        self.assertEqual(local_names(data[:600]), ["one/a.txt", "two/b.txt"])
        self.assertEqual(local_names(data[:100]), ["one/a.txt"])


class TensorTests(unittest.TestCase):
    """Values of every type."""

    def tensor(self, values: Any, dtype: str) -> Tensor:
        return Tensor("t", tuple(np.shape(values)), dtype, lambda: np.asarray(values, dtype).tobytes())

    def test_types_are_told_as_people_say_them(self) -> None:
        told = {"<f4": "float32", "<i8": "int64", "|u1": "uint8", "|b1": "bool", "bf16": "bfloat16", "odd": "odd"}
        self.assertEqual({t: told_type(t) for t in told}, told)

    def test_whole_numbers_that_would_overflow_do_not(self) -> None:
        found = distance(self.tensor([0, 255], "|u1"), self.tensor([255, 0], "|u1"))
        assert found is not None
        self.assertEqual((found.largest, found.within), (255.0, (-255.0, 255.0)))

    def test_bfloat16_is_measured_as_the_upper_half_of_float32(self) -> None:
        def half(values: list[float]) -> Tensor:
            bits = (np.asarray(values, "<f4").view("<u4") >> 16).astype("<u2")
            return Tensor("t", (len(values),), "bf16", bits.tobytes)

        found = distance(half([1.0, 2.0, -4.0]), half([1.0, 2.5, -4.0]))
        assert found is not None
        self.assertEqual((found.largest, round(found.share, 3)), (0.5, 0.333))

    def test_one_type_against_another_is_measured_where_both_are_numbers(self) -> None:
        found = distance(self.tensor([1.0, 2.0], "<f4"), self.tensor([1.0, 2.25], "<f8"))
        assert found is not None
        self.assertEqual(found.largest, 0.25)
        self.assertIsNone(distance(self.tensor([1.0], "<f4"), self.tensor([1.0, 2.0], "<f4")))
        self.assertIsNone(
            distance(Tensor("t", (1,), "string", lambda: b"a"), Tensor("t", (1,), "string", lambda: b"b"))
        )

    def test_of_millions_every_value_counts_and_the_plot_is_a_sample(self) -> None:
        one = np.zeros(2_000_000, "f4")
        two = one.copy()
        two[1_234_567] = 3.0
        found = distance(self.tensor(one, "<f4"), self.tensor(two, "<f4"))
        assert found is not None
        self.assertEqual((found.largest, found.share * one.size, found.relative), (3.0, 1.0, None))


class NetworkFileTests(unittest.TestCase):
    """Structure and weights parted."""

    @law(40)
    @given(st.lists(st.lists(st.floats(-5, 5, width=32), min_size=1, max_size=6), max_size=5), st.booleans())
    def test_weights_and_structure_are_those_of_the_whole(self, weights: list[list[float]], raw: bool) -> None:
        tensors = []
        for n, values in enumerate(weights):
            if raw:
                tensors.append(numpy_helper.from_array(np.array(values, "f4"), f"w{n}"))
            else:
                tensors.append(helper.make_tensor(f"w{n}", TensorProto.FLOAT, [len(values)], values))
        graph = helper.make_graph([helper.make_node("Add", ["a", "b"], ["c"])], "g", [], [], tensors)
        model = helper.make_model(graph, producer_name="x" * 300)
        data = model.SerializeToString()
        self.assertTrue(looks_like_onnx(data))
        parted = without_weights(data)
        assert parted is not None
        slim, held = parted
        self.assertEqual([bytes(h) if h is not None else b"" for h in held], [t.raw_data for t in tensors])
        left = onnx.load_model_from_string(slim)
        for tensor in model.graph.initializer:
            tensor.ClearField("raw_data")
        self.assertEqual(left, model)
        read = parse_onnx(data).graph.initializers
        for n, values in enumerate(weights):
            self.assertEqual(bytes(read[f"w{n}"].load()), np.array(values, "<f4").tobytes())

    @law(80)
    @given(st.binary(max_size=300))
    def test_noise_is_refused_in_words(self, noise: bytes) -> None:
        try:
            parse_onnx(b"\x08\x08\x3a" + noise)
        except UnreadableError as error:
            self.assertTrue(str(error))


class RecognitionTests(unittest.TestCase):
    """By the first bytes, whatever the name says."""

    def test_every_format_of_bytes_is_known_under_a_lying_name(self) -> None:
        known = {}
        for pair in pairs():
            if pair.kind in ("spreadsheet", "document", "archive", "model", "picture", "database"):
                found = recognise_given(Given("lies.txt", pair.after), Rules())
                known[pair.path] = found.kind
                self.assertEqual(found.kind, pair.kind, pair.path)
        self.assertGreater(len(known), 10)

    def test_compressed_ones_are_known_by_what_is_inside(self) -> None:
        for pair in pairs():
            if pair.kind in ("model", "picture"):
                packed = gzip.compress(pair.before), gzip.compress(pair.after)
                found = compared(*packed, f"{pair.path.rpartition('/')[2]}.gz")
                self.assertEqual((found["kind"], found["read_as"]), (pair.kind, pair.kind), pair.path)

    def test_texts_and_numbers_are_not_taken_for_models(self) -> None:
        for data in (
            b"\x08\x01 not a model",
            b"(a list of things)\n",
            b"I love boats.\n",
            b"\x80 is a byte\n",
            b"S'a'\n.",
        ):
            self.assertNotEqual(recognise_given(Given("notes.bin", data), Rules()).kind, "model", data)


class ModuleTests(unittest.TestCase):
    """Scripts in the compressed compound file of office files other people published."""

    def books(self) -> dict[str, bytes]:
        return {n.rpartition("/")[2]: d for n, d in published("basic", (".xlsm", ".xlam"))}

    def test_modules_are_read_as_scripts(self) -> None:
        found = compared(self.books()["quickstart.xlsm"], self.books()["quickstart_standalone.xlsm"], "q.xlsm")
        self.assertEqual(found["read_as"], "spreadsheet")
        added = {
            f["label"] for f in found["findings"] if f["action"] == "added" and f["type"] in ("module", "procedure")
        }
        self.assertTrue(added, found["findings"][:5])

    def test_a_project_that_is_exchanged_is_told_by_its_procedures(self) -> None:
        old = self.books()["quickstart_standalone.xlsm"]
        with zipfile.ZipFile(io.BytesIO(self.books()["quickstart.xlsm"])) as archive:
            project = archive.read("xl/vbaProject.bin")
        with zipfile.ZipFile(io.BytesIO(old)) as archive:
            members = {n: archive.read(n) for n in archive.namelist()}
        found = compared(old, zipped({**members, "xl/vbaProject.bin": project}), "q.xlsm")
        types = {f["type"] for f in found["findings"] if f["effect"] != "cosmetic"}
        self.assertLessEqual(types, {"module", "procedure", "declaration"})
        self.assertTrue(types)


class DamagedModuleTests(unittest.TestCase):
    """Projects of modules that nobody can read."""

    MARK = b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1"

    def test_a_change_of_a_damaged_project_is_told(self) -> None:
        sides = [self.MARK + bytes(range(256)) * 9 + filling * 300 for filling in (b"\x01", b"\x02")]
        book, text = xlsx({"S": [["a"], [1]]}, {}), docx(["Calm seas"])
        for name, whole, member in (("b.xlsm", book, "xl/vbaProject.bin"), ("b.docm", text, "word/vbaProject.bin")):
            with self.subTest(name=name):
                with zipfile.ZipFile(io.BytesIO(whole)) as archive:
                    members = {n: archive.read(n) for n in archive.namelist()}
                old, new = (zipped({**members, member: side}) for side in sides)
                found = compared(old, new, name)
                self.assertEqual([(f["type"], f["label"]) for f in found["findings"]], [("member", member)])
                self.assertTrue(compared(old, old, name)["equal"])

    def test_the_outline_says_that_it_could_not_be_read(self) -> None:
        with zipfile.ZipFile(io.BytesIO(docx(["Calm seas"]))) as archive:
            members = {n: archive.read(n) for n in archive.namelist()}
        told = outlined(Given("b.docm", zipped({**members, "word/vbaProject.bin": self.MARK + bytes(3000)})), Rules())
        part = next(p for p in told["parts"] if p["type"] == "module")
        self.assertIn("script project", part["fields"]["problem"])


class BesideTests(unittest.TestCase):
    """Which files belong to a model."""

    def test_weights_and_metrics_belong_and_other_models_do_not(self) -> None:
        names = ["tide.onnx", "tide.onnx.data", "metrics.json", "params.yaml", "crowd.pkl", "notes.md", "tide.weights"]
        self.assertEqual(
            belonging("tide.onnx", names), ["tide.onnx.data", "metrics.json", "params.yaml", "tide.weights"]
        )
        self.assertEqual(belonging("notes.md", names), [])

    @law(60)
    @given(
        st.dictionaries(st.sampled_from(["rmse", "accuracy", "rows", "test_loss", "f1"]), st.floats(0, 1)),
        st.floats(0.01, 1),
    )
    def test_up_is_good_for_scores_and_bad_for_losses(self, scores: dict[str, float], by: float) -> None:
        def file(values: dict[str, float]) -> Any:
            return lambda name: json.dumps(values).encode() if name == "metrics.json" else None

        later = {name: value + by for name, value in scores.items()}
        told = {m.name: m.better for m in metric_changes(file(scores), file(later))}
        good = {"rmse": False, "test_loss": False, "accuracy": True, "f1": True, "rows": None}
        self.assertEqual(told, {name: good[name] for name in scores})


if __name__ == "__main__":
    unittest.main()
