"""Pages of numbers in Parquet files, taken apart, told from one another, and put together again bit by bit."""

from __future__ import annotations

import io
import random
import tempfile
import unittest
from base64 import b64decode
from pathlib import Path
from typing import Any

import duckdb
import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
from hypothesis import given
from hypothesis import strategies as st

from everyshelf.core.content.compacting import compact
from everyshelf.core.content.number_deltas import decode_number_delta, encode_number_delta
from everyshelf.core.content.numbers import NotNumbersError, Numbers, take_page_apart
from everyshelf.core.content.parquet_pages import PLAIN, SNAPPY, NumberPage, number_pages
from everyshelf.core.content.records import DELTAS, NUMBER_DELTA, UNPACKED
from everyshelf.core.content.snappy import NotSnappyError, join_stream, split_stream
from everyshelf.core.content.thrift import NotThriftError, read_struct
from everyshelf.core.content.unpacking import NUMBERS, Layout, Part, put_together, take_apart
from everyshelf.core.errors import BrokenError
from tests.support.laws import law
from tests.support.tidied import TidiedCase

ZONES = [f"zone {n:03}" for n in range(300)]


def file_of(columns: dict[str, Any], **settings: Any) -> bytes:
    """A Parquet file; columns by name."""
    file = io.BytesIO()
    pq.write_table(pa.table(columns), file, **settings)
    return file.getvalue()


def fares(
    edits: dict[int, str] | None = None, rows: int = 12_000, prices: list[float] | None = None, **settings: Any
) -> bytes:
    """Trips with a zone each; ``edits``: other zones of some."""
    rng = random.Random(8)
    zones: list[str | None] = [rng.choice(ZONES) for _ in range(rows)]
    for row, zone in (edits or {}).items():
        zones[row] = zone
    return file_of(
        {"trip": list(range(rows)), "zone": zones, "price": prices or [n % 97 / 4 for n in range(rows)]}, **settings
    )


def joined(parts: list[Part]) -> bytes:
    return b"".join(put_together(parts))


def numbers_in(data: bytes) -> list[Numbers]:
    return [Numbers.decoded(part.data) for part in take_apart(data) or () if part.kind == NUMBERS]


SETTINGS = st.fixed_dictionaries(
    {
        "compression": st.sampled_from(["snappy", "none", "gzip", "zstd"]),
        "data_page_version": st.sampled_from(["1.0", "2.0"]),
        "data_page_size": st.sampled_from([1_000, 20_000, 2**20]),
        "row_group_size": st.sampled_from([500, 100_000]),
        "write_statistics": st.booleans(),
        "dictionary_pagesize_limit": st.sampled_from([200, 2**20]),
    }
)
CELLS: st.SearchStrategy[Any] = st.one_of(
    st.lists(st.sampled_from(ZONES), min_size=1, max_size=40),
    st.lists(st.none() | st.sampled_from(ZONES[:5]), min_size=1, max_size=40),
    st.lists(st.lists(st.none() | st.sampled_from(ZONES[:40]), max_size=4), min_size=1, max_size=20),
    st.lists(st.fixed_dictionaries({"a": st.none() | st.sampled_from(ZONES), "b": st.just(1)}), min_size=1, max_size=9),
)


class FileTests(unittest.TestCase):
    """Whole files."""

    @law(80)
    @given(SETTINGS, CELLS, st.integers(1, 300))
    def test_any_file_comes_back_byte_for_byte(self, settings: dict[str, Any], cells: list[Any], times: int) -> None:
        data = file_of({"n": list(range(len(cells) * times)), "c": cells * times}, **settings)
        parts = take_apart(data)
        if parts is not None:
            self.assertEqual(joined(parts), data)
            self.assertEqual(sum(part.bits for part in parts), 8 * len(data))

    def test_numbers_are_those_of_the_values(self) -> None:
        for settings in (
            {},
            {"compression": "none"},
            {"data_page_version": "2.0"},
            {"data_page_version": "2.0", "compression": "none"},
        ):
            with self.subTest(settings=settings):
                data = fares(**settings)
                zones = pq.read_table(io.BytesIO(data), read_dictionary=["zone"])["zone"].combine_chunks()
                found = numbers_in(data)
                self.assertEqual(
                    found[0].codec, PLAIN if "compression" in settings or "data_page_version" in settings else SNAPPY
                )
                indices = zones.indices.to_numpy() if isinstance(zones, pa.DictionaryArray) else np.zeros(0)
                pages = [page.numbers[: len(indices)] for page in found if page.width == 9]
                self.assertTrue(any(np.array_equal(page, indices[: len(page)]) for page in pages))

    def test_columns_that_lack_values_or_hold_lists(self) -> None:
        lists = [[ZONES[n % 290], None] if n % 3 else None for n in range(5_000)]
        for columns in ({"z": [None, *ZONES] * 20}, {"z": lists}, {"z": [{"a": one} for one in lists]}):
            for settings in ({}, {"data_page_version": "2.0"}):
                with self.subTest(settings=settings):
                    data = file_of(columns, **settings)
                    self.assertTrue(numbers_in(data))
                    self.assertEqual(joined(take_apart(data) or []), data)

    def test_of_another_program(self) -> None:
        with tempfile.TemporaryDirectory() as folder, duckdb.connect() as engine:
            for codec in ("snappy", "uncompressed"):
                with self.subTest(codec=codec):
                    file = Path(folder, f"{codec}.parquet")
                    engine.execute(
                        "copy (select n, 'zone ' || (n * 7919 % 300) as zone from range(60000) t(n))"
                        f" to '{file}' (format parquet, compression {codec})"
                    )
                    data = file.read_bytes()
                    self.assertTrue(numbers_in(data))
                    self.assertEqual(joined(take_apart(data) or []), data)

    def test_compressed_in_another_way_it_is_left_alone(self) -> None:
        for codec in ("gzip", "zstd", "lz4", "brotli"):
            with self.subTest(codec=codec):
                self.assertIsNone(take_apart(fares(compression=codec)))

    @law(200)
    @given(st.lists(st.tuples(st.integers(0, 10**6), st.integers(0, 255)), min_size=1, max_size=9))
    def test_a_damaged_file_is_left_alone_or_comes_back(self, wrong: list[tuple[int, int]]) -> None:
        data = bytearray(SMALL)
        for at, byte in wrong:  # most of them in the footer
            data[-1 - at % 900 if at % 4 else at % len(data)] = byte
        parts = take_apart(bytes(data))
        if parts is not None:
            self.assertEqual(joined(parts), bytes(data))

    def test_a_footer_that_claims_too_much_is_left_alone(self) -> None:
        """Empty structures take a byte each in the file, and sixty in memory."""
        count = 2_900_000
        many = bytes((count & 0x7F | 0x80, count >> 7 & 0x7F | 0x80, count >> 14 & 0x7F | 0x80, count >> 21))
        footer = b"\x29\xfc" + many + bytes(3_000_000)
        with self.assertRaisesRegex(NotThriftError, "too many"):
            read_struct(footer, 0, len(footer))
        data = b"PAR1" + footer + len(footer).to_bytes(4, "little") + b"PAR1"
        self.assertEqual(list(number_pages(data)), [])
        self.assertIsNone(take_apart(data))


SMALL = fares(rows=2_500)


class PageTests(unittest.TestCase):
    """Pages and what they are made of."""

    def test_runs_of_one_number_and_of_many(self) -> None:
        text = bytes((3, 16, 5)) + bytes((2 << 1 | 1,)) + bytes((0x88, 0xC6, 0xFA)) * 2 + bytes((14, 1))
        page = take_page_apart(text, NumberPage(0, len(text), PLAIN, 0))
        self.assertEqual(page.numbers.tolist(), [5] * 8 + [0, 1, 2, 3, 4, 5, 6, 7] * 2 + [1] * 7)
        self.assertEqual(Numbers.decoded(page.encoded()).stream(), text)

    def test_what_is_not_such_a_page_is_refused(self) -> None:
        endless = bytes((3, 0x80, 0x80, 0x80, 0x80, 0x80, 1))
        for text in (b"", b"\xff", b"\x03\x10", b"\x03\x00", endless, b"\x03\x90\x00\x05"):
            with self.subTest(text=text), self.assertRaises(NotNumbersError):
                take_page_apart(text, NumberPage(0, len(text), PLAIN, 0))
        with self.assertRaises(NotNumbersError):  # levels longer than the page
            take_page_apart(b"\xff\xff\xff\x7f\x03", NumberPage(0, 5, PLAIN, 1))

    @law(150)
    @given(st.lists(st.sampled_from([b"harbour", b"fare", b"\0", b"z" * 70, bytes(range(256))]), max_size=60))
    def test_a_compressed_stream_comes_back(self, words: list[bytes]) -> None:
        text = b"".join(words)
        stream = pa.Codec("snappy").compress(text, asbytes=True)
        elements, found = split_stream(stream)
        self.assertEqual(found, text)
        self.assertEqual(join_stream(elements, text), stream)

    def test_a_long_piece_that_is_said_as_it_is(self) -> None:
        text = random.Random(2).randbytes(70_000)
        stream = pa.Codec("snappy").compress(text, asbytes=True)
        elements, found = split_stream(stream)
        self.assertLess(len(elements), 20)
        self.assertEqual((found, join_stream(elements, found)), (text, stream))

    @law(200)
    @given(st.binary(max_size=60))
    def test_damaged_streams_are_refused(self, stream: bytes) -> None:
        try:
            elements, text = split_stream(stream)
        except NotSnappyError:
            return
        self.assertEqual(join_stream(elements, text), stream)

    @law(300)
    @given(st.binary(max_size=80))
    def test_damaged_structures_are_refused(self, data: bytes) -> None:
        try:
            _, stop = read_struct(data, 0, len(data))
        except NotThriftError:
            return
        self.assertLessEqual(stop, len(data))


def page_of(numbers: list[int], width: int = 12) -> bytes:
    """A page with these numbers, as a store keeps it."""
    found = Numbers(
        PLAIN, b"", b"", width, np.array([len(numbers) // 8 << 1 | 1], np.uint32), np.array(numbers, np.uint32)
    )
    return found.encoded()


class DeltaTests(unittest.TestCase):
    """Pages told from others."""

    @law(120)
    @given(
        st.lists(st.integers(0, 4_000), max_size=300),
        st.lists(st.tuples(st.integers(0, 10**4), st.integers(0, 4_000)), max_size=30),
        st.integers(0, 300),
        st.integers(-40, 40),
    )
    def test_any_page_comes_back(
        self, numbers: list[int], edits: list[tuple[int, int]], cut: int, renumbered: int
    ) -> None:
        new = [max(0, n + renumbered) if n > 2_000 else n for n in numbers[cut:] + numbers[:cut]]
        for at, number in edits:
            new[at % max(1, len(new)) : at % max(1, len(new))] = [number]
        base, page = (page_of(one[: len(one) // 8 * 8]) for one in (numbers, new))
        self.assertEqual(decode_number_delta(encode_number_delta(page, base, 3), base, len(page)), page)

    def test_renumbering_and_rows_that_came_cost_little(self) -> None:
        rng = random.Random(3)
        old = [rng.randrange(3_000) for _ in range(16_000)]
        renumbered = [n + (n > 700) - (n > 2_100) + 5 * (n > 2_900) for n in old]
        moved = renumbered[:5_000] + [rng.randrange(3_000) for _ in range(48)] + renumbered[5_000:]
        base = page_of(old)
        for new in (renumbered, moved):
            with self.subTest(many=len(new)):
                page = page_of(new)
                frame = encode_number_delta(page, base, 13)
                self.assertLess(len(frame), len(page) / 15)
                self.assertEqual(decode_number_delta(frame, base, len(page)), page)

    def test_another_base_is_told(self) -> None:
        rng = random.Random(4)
        numbers = [rng.randrange(900) for _ in range(800)]
        base, page = page_of(numbers), page_of([n + 1 for n in numbers])
        frame = encode_number_delta(page, base, 3)
        for wrong in (page_of(numbers[::-1]), page_of([]), b"", base[:40], b"\xff" * 300):
            with self.subTest(wrong=wrong[:9]):
                try:
                    self.assertNotEqual(decode_number_delta(frame, wrong, len(page)), page)
                except BrokenError:
                    pass


class VersionTests(TidiedCase):
    """Versions of a Parquet file in a store that is tidied."""

    def setUp(self) -> None:
        super().setUp()
        rng, edits = random.Random(6), dict[int, str]()
        contents = [fares()]
        for number in range(6):
            edits[30 + number] = f"a zone that is new {number}"  # so early that most others get another number
            edits.update({rng.randrange(12_000): rng.choice(ZONES) for _ in range(40)})
            contents.append(fares(edits))
        self.keep(contents)

    def test_they_take_little_and_read_back(self) -> None:
        self.tidy()
        self.assertEqual(self.kinds(), [UNPACKED] * 7)
        self.assertLess(self.stored(), 1.5 * len(self.contents[0]))
        self.all_read_back()
        codecs = [record.codec for _, _, record in self.store.segments.iter_all()]
        self.assertGreater(codecs.count(NUMBER_DELTA), 5)

    @law(60)
    @given(st.integers(0, 10**6), st.integers(0, 10**6), st.integers(0, 6))
    def test_any_range_is_read(self, start: int, length: int, number: int) -> None:
        if UNPACKED not in self.kinds():
            self.tidy()
        data = self.contents[number]
        start %= len(data) + 9
        stop = start + length % 5_000
        self.assertEqual(b"".join(self.store.iter_range(self.ids[number], start, stop)), data[start:stop])

    def test_deltas_are_of_parts_that_are_stored_whole(self) -> None:
        self.tidy()
        records = {record.id: record for _, _, record in self.store.segments.iter_all()}
        deltas = [record for record in records.values() if record.codec in DELTAS]
        self.assertGreater(len(deltas), 5)
        for record in deltas:
            self.assertNotIn(records[record.payload[:32]].codec, DELTAS)

    def test_what_becomes_as_it_was_is_never_kept_against_itself(self) -> None:
        edited, prices = fares({31: "a zone that is new"}), [n % 97 / 4 for n in range(12_000)]
        again = fares(prices=[9.75, *prices[1:]])  # the zones are those of the first once more
        self.keep([fares(), edited, again])
        self.assertGreater(self.shrink(), 0)
        for _ in range(2):
            compact(self.store.segments, reads_back=self.store.reads_back_unpacked)
            self.all_read_back()
        for _, _, record in self.store.segments.iter_all():
            if record.codec in DELTAS:
                self.assertNotEqual(record.payload[:32], record.id)

    def test_the_list_of_parts_says_that_numbers_are_among_them(self) -> None:
        """Who does not know pages of numbers does not take them for something else."""
        self.tidy()
        for identity in self.ids:
            layout = self.store.layout(identity)
            assert layout is not None
            self.assertTrue(layout.encoded().startswith(b'{"form":"numbers-1"'))
            self.assertEqual(Layout.decoded(layout.encoded()), layout)


# A page, and another said by it: what was stored once is read for ever.
PAGE = b64decode(
    "AAYAAAAAAAAAAAEAAABAAAAAEQAAAAAHDhUcIwIJEBceJQQLEhkgJwYNFBsiAQgPFh0kAwoRGB8mBQwTGiEABw4VHCMCCRAXHiUE"
    "CxIZICcGDRQbIgE="
)
SAID = b64decode("KLUv/SDOXQEA8sEFDfBZA0T//yKkEfJomQKfeDi90CS8DgEGACCD4C6FguDBIMFgDhcgAQ==")


class StoredFormTests(unittest.TestCase):
    """The bytes as they lie in stores."""

    def test_what_was_stored_is_read(self) -> None:
        self.assertEqual(Numbers.decoded(PAGE).numbers.tolist(), [n * 7 % 40 for n in range(64)])
        other = Numbers.decoded(decode_number_delta(SAID, PAGE, 1_000))
        self.assertEqual(other.numbers.tolist(), [n * 7 % 40 + (n * 7 % 40 > 20) for n in range(63)] + [9])
