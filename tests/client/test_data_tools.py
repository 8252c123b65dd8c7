"""Data tools read and write shelves by one address: the real tools against the real service."""

from __future__ import annotations

import csv
import gc
import io
import json
import os
import pickle
import subprocess
import sys
import tempfile
import threading
from typing import Any
from unittest import mock

import dask.dataframe
import duckdb
import fsspec
import joblib
import numpy
import pandas
import polars
import pyarrow.csv
import pyarrow.dataset
import pyarrow.parquet
import xarray

from everyshelf.client import ProblemError, ShelfClient
from everyshelf.client.files import ShelfFileSystem, writing
from everyshelf.client.files.places import Place, place_of, service_address
from everyshelf.client.known import remember, token_for
from tests.support.factories import ServiceCase, Terminal

FARES = b"zone,class,fare\nZ01,adult,4.50\nZ01,child,2.25\n"
DEARER = b"zone,class,fare\nZ01,adult,4.80\nZ01,child,2.25\nZ02,adult,6.10\n"


class ToolsCase(ServiceCase):
    """A shelf with a tag and a branch whose name has a slash, and the file system with the owner's token."""

    def setUp(self) -> None:
        super().setUp()
        self.put({"data/fares.csv": FARES, "notes.md": b"# Fares\n"}, "Fares")
        self.shelf.make_tag("spring-1", "main")
        self.shelf.make_branch("ines/dearer", "main")
        self.put({"data/fares.csv": DEARER}, "Dearer", "ines/dearer")
        self.token = self.service.token()
        self.enterContext(mock.patch.dict(os.environ, {"EVERYSHELF_TOKEN": self.token}))
        ShelfFileSystem.clear_instance_cache()
        self.fs = fsspec.filesystem("shelf")
        self.host = self.service.address.partition("://")[2]

    def at(self, path: str, ref: str = "", shelf: ShelfClient | None = None) -> str:
        return f"shelf://{self.host}/{(shelf or self.shelf).key}{f'@{ref}' if ref else ''}/{path}".rstrip("/")

    def listed(self, path: str, ref: str = "") -> list[str]:
        return sorted(name.rpartition("/")[2] for name in self.fs.ls(self.at(path, ref), detail=False))


class ReadingTests(ToolsCase):
    def test_each_tool_reads_a_tag_and_a_branch(self) -> None:
        database = duckdb.connect()
        database.register_filesystem(self.fs)
        tools: dict[str, Any] = {
            "pandas": lambda at: len(pandas.read_csv(at)),
            "polars": lambda at: polars.read_csv(self.fs.open(at)).height,
            "arrow": lambda at: pyarrow.csv.read_csv(self.fs.open(at)).num_rows,
            "arrow dataset": lambda at: pyarrow.dataset.dataset(
                at.removeprefix("shelf://"), filesystem=self.fs, format="csv"
            ).count_rows(),
            "the engine": lambda at: database.execute(f"SELECT count(*) FROM read_csv('{at}')").fetchall()[0][0],
            "dask": lambda at: len(dask.dataframe.read_csv(at)),
            "open": lambda at: len(list(csv.DictReader(fsspec.open(at, "rt").open()))),
        }
        for name, rows in tools.items():
            with self.subTest(name):
                self.assertEqual(rows(self.at("data/fares.csv", "tag:spring-1")), 2)
                self.assertEqual(rows(self.at("data/fares.csv", "ines/dearer")), 3)

    def test_columnar_files_and_models(self) -> None:
        table = pandas.DataFrame({"sailing": range(50_000), "late": [n % 7 for n in range(50_000)]})
        for path, write in (("late.parquet", table.to_parquet), ("late.feather", table.to_feather)):
            data = io.BytesIO()
            write(data)
            self.put({path: data.getvalue()}, path)
        kept = io.BytesIO()
        joblib.dump({"depth": 6}, kept)
        self.put({"model.joblib": kept.getvalue()}, "Model")
        at = self.at("late.parquet")
        self.assertEqual(pyarrow.parquet.read_table(at.removeprefix("shelf://"), filesystem=self.fs).num_rows, 50_000)
        self.assertEqual(pandas.read_parquet(at, columns=["late"]).late.sum(), table.late.sum())
        self.assertEqual(polars.scan_parquet(self.fs.open(at)).select("late").collect().height, 50_000)
        self.assertEqual(len(pandas.read_feather(self.at("late.feather"))), 50_000)
        with self.fs.open(self.at("model.joblib")) as file:
            self.assertEqual(joblib.load(file), {"depth": 6})

    def test_grids_with_their_coordinates(self) -> None:
        heights = numpy.arange(24 * 400, dtype="float64").reshape(24, 400)
        grid = xarray.Dataset(
            {"height": (("hour", "place"), heights, {"units": "m"})}, {"hour": range(24), "place": range(400)}
        )
        for version in (grid, grid + 1):
            kept = io.BytesIO()
            version.to_netcdf(kept, engine="h5netcdf")
            self.put({"tides.nc": kept.getvalue()}, "Tides")
            self.shelf.make_tag(f"tides-{int(version.height[0, 0])}", "main")
        for number in (0, 1):
            with self.fs.open(self.at("tides.nc", f"tag:tides-{number}")) as file:
                read = xarray.open_dataset(file, engine="h5netcdf")
                self.assertEqual(float(read.height.sel(hour=3, place=7)), 3 * 400 + 7 + number)
                self.assertEqual(dict(read.sizes), {"hour": 24, "place": 400})

    def test_a_range_costs_a_range(self) -> None:
        rows = b"".join(b"%07d,%d\n" % (n, n * n) for n in range(400_000))
        self.put({"long.csv": rows}, "Long")
        asked: list[tuple[int, int]] = []
        content = ShelfClient.content

        def watched(shelf: ShelfClient, identity: str, *, start: int = 0, stop: int | None = None) -> bytes:
            asked.append((start, stop or 0))
            return content(shelf, identity, start=start, stop=stop)

        with mock.patch.object(ShelfClient, "content", watched):
            self.assertEqual(self.fs.cat_file(self.at("long.csv"), -20), rows[-20:])
            self.assertEqual(self.fs.cat_file(self.at("long.csv"), 100, 140), rows[100:140])
            self.assertEqual(self.fs.cat_file(self.at("long.csv"), len(rows) + 5), b"")
        self.assertEqual([stop - start for start, stop in asked], [20, 40])
        with self.fs.open(self.at("long.csv"), block_size=1 << 16) as file:
            file.seek(3_000_000)
            self.assertEqual(file.read(64), rows[3_000_000:3_000_064])
            file.seek(-10, os.SEEK_END)
            self.assertEqual(file.read(), rows[-10:])
        self.assertEqual(self.fs.cat(self.at("long.csv")), rows)

    def test_an_open_file_stays_what_it_was(self) -> None:
        with self.fs.open(self.at("data/fares.csv"), block_size=8) as file:
            self.assertEqual(file.read(4), FARES[:4])
            self.put({"data/fares.csv": DEARER}, "Dearer")
            self.assertEqual(file.read(), FARES[4:])
        self.assertEqual(self.fs.cat(self.at("data/fares.csv")), DEARER)

    def test_folders_and_what_files_are(self) -> None:
        self.assertIn(f"{self.host}/{self.shelf.key}", self.fs.ls(f"shelf://{self.host}", detail=False))
        self.assertEqual(self.listed(""), ["data", "notes.md"])
        self.assertEqual(self.listed("data", "tag:spring-1"), ["fares.csv"])
        told = self.fs.info(self.at("data/fares.csv", "ines/dearer"))
        self.assertEqual(
            (told["type"], told["size"], told["version"], told["kind"]), ("file", len(DEARER), 2, "dataset")
        )
        self.assertEqual(self.fs.info(self.at("data"))["type"], "directory")
        self.assertEqual(self.fs.info(self.at("", "tag:spring-1"))["type"], "directory")
        self.assertTrue(self.fs.exists(self.at("notes.md")))
        self.assertFalse(self.fs.exists(self.at("note.md")))
        self.assertEqual(len(self.fs.glob(self.at("**/*.csv"))), 1)
        self.assertEqual(self.fs.du(self.at("")), len(FARES) + len(b"# Fares\n"))
        self.assertEqual(self.fs.ukey(self.at("notes.md")), self.fs.ukey(self.at("notes.md", "tag:spring-1")))
        self.assertEqual([len(files) for _, _, files in self.fs.walk(self.at(""))], [1, 1])
        ends = [name.rpartition(self.shelf.key)[2] for name in self.fs.find(self.at(""), maxdepth=1, withdirs=True)]
        self.assertEqual(ends, ["", "/data", "/notes.md"])
        self.assertEqual(
            self.fs.glob(self.at("*")), [f"{self.host}/{self.shelf.key}/{one}" for one in ("data", "notes.md")]
        )
        self.assertEqual(self.fs.find(self.at("notes.md")), [f"{self.host}/{self.shelf.key}/notes.md"])
        self.assertEqual(self.fs.find(self.at("none")), [])

    def test_the_files_of_a_folder_kept_whole(self) -> None:
        rules = b'[kinds]\n"counts/" = "dataset"\n'
        self.put(
            {"shelf.toml": rules, "counts/day=1/part.csv": b"n\n1\n", "counts/day=2/part.csv": b"n\n2\n3\n"}, "Counts"
        )
        names = self.fs.find(self.at("counts"))
        self.assertEqual([name.rpartition("counts/")[2] for name in names], ["day=1/part.csv", "day=2/part.csv"])
        self.assertEqual(self.fs.cat_file(names[1]), b"n\n2\n3\n")
        self.assertEqual(self.listed("counts"), ["day=1", "day=2"])
        with self.assertRaises(IsADirectoryError):
            self.fs.open(self.at("counts"))

    def test_what_is_missing_or_hidden_is_said_as_tools_expect(self) -> None:
        other = self.client_of("stranger").make_shelf(f"Of a stranger {id(self)}")
        for address in (
            self.at("none.csv"),
            self.at("none.csv", "tag:none"),
            self.at("none.csv", "no/such"),
            f"shelf://{self.host}/{other.key}/x.csv",
            f"shelf://{self.host}/no-such-shelf/x.csv",
        ):
            with self.subTest(address), self.assertRaises(FileNotFoundError) as caught:
                self.fs.open(address)
            self.assertIn("shelf://", str(caught.exception))
            with self.assertRaises(FileNotFoundError):
                self.fs.ls(address)
        with self.assertRaises(ValueError):
            self.fs.open("shelf://")
        with self.assertRaises(PermissionError):
            ShelfFileSystem(token="es_wrong").open(self.at("notes.md"))

    def test_another_process_and_what_connect_remembers(self) -> None:
        terminal = Terminal(self, self.service)
        code = f"import pandas; print(len(pandas.read_csv({self.at('data/fares.csv', 'ines/dearer')!r})))"
        surroundings = {k: v for k, v in terminal.environment.items() if k != "EVERYSHELF_TOKEN"}
        done = subprocess.run(
            [sys.executable, "-c", code], check=False, capture_output=True, text=True, env=surroundings
        )
        self.assertEqual((done.stdout.strip(), done.returncode), ("3", 0), done.stderr)
        again = pickle.loads(pickle.dumps(self.fs))
        self.assertEqual(again.cat(self.at("data/fares.csv")), FARES)


class WritingTests(ToolsCase):
    def test_each_file_goes_into_the_draft_when_it_is_closed(self) -> None:
        fares = pandas.read_csv(self.at("data/fares.csv"))
        fares.to_csv(self.at("data/copy.csv", "ines/dearer"), index=False)
        fares.to_parquet(self.at("data/copy.parquet", "ines/dearer"))
        self.assertEqual(self.listed("data", "draft:ines/dearer"), ["copy.csv", "copy.parquet", "fares.csv"])
        self.assertEqual(self.listed("data", "ines/dearer"), ["fares.csv"])
        self.assertEqual(len(pandas.read_parquet(self.at("data/copy.parquet", "draft:ines/dearer"))), 2)
        self.assertEqual(len(self.shelf.save_points("ines/dearer")), 2)
        with self.fs.open(self.at("data/copy.csv", "draft:ines/dearer"), "ab") as file:
            file.write(b"Z09,adult,9.90\n")
        self.assertEqual(len(pandas.read_csv(self.at("data/copy.csv", "draft:ines/dearer"))), 3)
        self.fs.rm(self.at("data/copy.parquet", "draft:ines/dearer"))
        self.assertEqual(self.listed("data", "draft:ines/dearer"), ["copy.csv", "fares.csv"])

    def test_a_change_begins_at_what_was_written_before(self) -> None:
        for line in (b"one\n", b"two\n"):
            with self.fs.open(self.at("log.txt"), "ab") as file:
                file.write(line)
        with self.fs.open(self.at("notes.md"), "ab") as file:
            file.write(b"more\n")
        self.fs.mv(self.at("notes.md"), self.at("old.md"))
        self.assertEqual(self.fs.cat(self.at("log.txt", "draft:main")), b"one\ntwo\n")
        self.assertEqual(self.fs.cat(self.at("old.md", "draft:main")), b"# Fares\nmore\n")
        self.fs.mv(self.at("old.md"), self.at("older.md"))
        self.fs.mv(self.at("log.txt"), self.at("long.txt"))
        self.fs.mv(self.at("long.txt"), self.at("log.txt"))
        (draft,) = self.shelf.drafts()
        self.assertEqual([(e.path, e.moved_from) for e in draft.entries], [("log.txt", ""), ("older.md", "notes.md")])
        with self.assertRaises(FileExistsError):
            self.fs.open(self.at("log.txt"), "xb")
        self.fs.rm(self.at("log.txt"))
        self.assertEqual(self.listed("", "draft:main"), ["data", "older.md"])

    def test_a_file_that_is_let_go_of_is_not_kept(self) -> None:
        file = self.fs.open(self.at("half.csv"), "wb")
        file.write(b"half of it")
        del file
        gc.collect()
        self.assertEqual(self.shelf.drafts(), [])

    def test_an_error_while_writing_keeps_nothing(self) -> None:
        with self.assertRaises(ZeroDivisionError), self.fs.open(self.at("half.csv"), "wb") as file:
            file.write(b"half of it")
            raise ZeroDivisionError
        self.assertEqual(self.shelf.drafts(), [])

    def test_what_stays_as_it_is_cannot_be_written(self) -> None:
        for ref in ("tag:spring-1", "at:2026-01-01", "draft:main@1"):
            with self.subTest(ref), self.assertRaises(PermissionError):
                self.fs.open(self.at("new.csv", ref), "wb")
        with self.assertRaises(FileExistsError):
            self.fs.open(self.at("notes.md"), "xb")
        self.shelf.set_member("reader", "reader")
        reads_only = ShelfFileSystem(token=self.service.token("reader", ["read"]))
        with self.assertRaises(PermissionError), reads_only.open(self.at("new.csv"), "wb") as file:
            file.write(b"x")
        self.assertEqual(self.shelf.drafts(), [])

    def test_copying_and_moving(self) -> None:
        self.fs.cp(self.at("notes.md"), self.at("old/notes.md"))
        self.fs.mv(self.at("data/fares.csv"), self.at("data/prices.csv"))
        self.assertEqual(self.fs.cat(self.at("old/notes.md", "draft:main")), b"# Fares\n")
        self.assertEqual(self.listed("data", "draft:main"), ["prices.csv"])
        self.shelf.commit_draft("main", "Prices")
        self.assertEqual(
            [one.path for one in self.shelf.history("data/prices.csv") if one.here],
            ["data/prices.csv", "data/fares.csv"],
        )
        other = self.make_shelf()
        self.fs.cp(self.at("data/prices.csv"), self.at("data/prices.csv", "", other))
        self.assertEqual(self.fs.cat(self.at("data/prices.csv", "draft:main", other)), FARES)


class BlockTests(ToolsCase):
    def test_a_block_commits_what_it_wrote_with_what_it_read(self) -> None:
        with writing(self.shelf, "maren/up", "Fares up by a tenth", start="main") as work:
            old = pandas.read_csv(self.at("data/fares.csv", "tag:spring-1"))
            fares = pandas.read_csv(work.address("data/fares.csv"))
            fares["fare"] *= 1.1
            fares.to_csv(work.address("data/fares.csv"), index=False)
            old.to_csv(work.address("data/old.csv"), index=False)
            self.assertEqual(len(pandas.read_csv(work.address("data/old.csv"))), 2)
            self.assertEqual(self.fs.cat(self.at("data/fares.csv", "main")), FARES)
        assert work.made is not None
        found = self.shelf.artifact("data/fares.csv", "tag:spring-1")
        self.assertEqual(
            json.loads(work.made.labels["made-from"]), [f"data/fares.csv@commit:{found.commit}", "data/fares.csv"]
        )
        self.assertEqual(self.shelf.drafts(), [])
        self.assertEqual(len(list(self.shelf.commits("maren/up"))), 2)

    def test_an_address_without_a_ref_is_of_the_block_on_the_main_branch(self) -> None:
        with writing(self.shelf, "main", "More") as work:
            self.fs.pipe(self.at("more.csv"), self.fs.cat(self.at("data/fares.csv")))
            self.assertEqual(self.listed(""), ["data", "more.csv", "notes.md"])
        assert work.made is not None
        self.assertEqual(json.loads(work.made.labels["made-from"]), ["data/fares.csv"])
        self.assertEqual(self.shelf.drafts(), [])

    def test_an_error_in_the_block_commits_nothing(self) -> None:
        with self.assertRaises(ZeroDivisionError), writing(self.shelf, "ines/dearer", "Half") as work:
            self.fs.pipe(work.address("half.csv"), b"n\n1\n")
            raise ZeroDivisionError
        self.assertEqual(self.listed("", "ines/dearer"), ["data", "notes.md"])
        self.assertEqual(self.shelf.drafts(), [])
        with writing(self.shelf, "ines/dearer", "Nothing") as work:
            self.fs.cat(work.address("notes.md"))
        self.assertIsNone(work.made)

    def test_made_moved_and_removed_within_a_block(self) -> None:
        with writing(self.shelf, "main", "In order") as work:
            self.fs.pipe(work.address("made.csv"), b"n\n1\n")
            self.fs.mv(work.address("made.csv"), work.address("kept.csv"))
            self.fs.pipe(work.address("gone.csv"), b"n\n1\n")
            self.fs.rm(work.address("gone.csv"))
            self.fs.pipe(work.address("data/fares.csv"), DEARER)
            self.fs.mv(work.address("data/fares.csv"), work.address("prices.csv"))
            self.fs.rm(work.address("notes.md"))
            self.assertEqual(self.listed("", "main"), ["kept.csv", "prices.csv"])
            with self.assertRaises(FileNotFoundError):
                self.fs.cat(work.address("data/fares.csv"))
        self.assertEqual(sorted(one.path for one in self.shelf.artifacts("main")), ["kept.csv", "prices.csv"])
        self.assertEqual(
            [one.path for one in self.shelf.history("prices.csv") if one.here], ["prices.csv", "data/fares.csv"]
        )

    def test_others_who_commit_meanwhile(self) -> None:
        with self.assertRaises(ProblemError) as caught, writing(self.shelf, "main", "Notes") as work:
            self.put({"notes.md": b"# Prices\n", "data/fares.csv": DEARER}, "Meanwhile")
            self.assertEqual(self.fs.cat(work.address("data/fares.csv")), FARES)
            self.fs.pipe(work.address("notes.md"), b"# All fares\n")
        self.assertEqual(caught.exception.status, 409)
        self.assertEqual(self.fs.cat(self.at("notes.md")), b"# Prices\n")
        with writing(self.shelf, "main", "Notes", merge=True) as work:
            self.put({"data/fares.csv": FARES}, "Meanwhile again")
            self.fs.pipe(work.address("data/more.csv"), FARES)
            self.fs.pipe(work.address("notes.md"), b"# All fares\n")
        self.assertEqual(self.listed("data", "main"), ["fares.csv", "more.csv"])
        self.assertEqual(self.fs.cat(self.at("data/fares.csv")), FARES)

    def test_many_threads_write_and_one_block_per_branch(self) -> None:
        with writing(self.shelf, "main", "Twelve") as work:
            threads = [
                threading.Thread(target=self.fs.pipe, args=(work.address(f"parts/{n}.csv"), b"n\n%d\n" % n))
                for n in range(12)
            ]
            for thread in threads:
                thread.start()
            for thread in threads:
                thread.join()
            with self.assertRaises(ValueError), writing(self.shelf, "main", "Another"):
                pass
        self.assertEqual(len(self.listed("parts", "main")), 12)

    def test_many_parts_written_by_a_tool(self) -> None:
        frame = dask.dataframe.from_pandas(pandas.DataFrame({"n": range(1000)}), npartitions=5)
        with writing(self.shelf, "main", "In parts") as work:
            frame.to_parquet(work.address("counts"), write_index=False)
        self.assertEqual(len(dask.dataframe.read_parquet(self.at("counts", "main"))), 1000)


class AddressTests(ServiceCase):
    def test_which_ref_is_meant(self) -> None:
        known = {"": {"main", "ines/dearer"}, "tag": {"spring-1", "2026/may"}, "draft": {"main", "ines/dearer"}}

        def names(host: str, shelf: str, word: str, again: bool) -> set[str]:
            self.assertEqual((host, shelf), ("a.example:1", "s"))
            return known[word]

        for written, ref, path in (
            ("s/data/x.csv", "", "data/x.csv"),
            ("s@main/data/x.csv", "main", "data/x.csv"),
            ("s@ines/dearer/x.csv", "ines/dearer", "x.csv"),
            ("s@ines%2Fdearer/x.csv", "ines/dearer", "x.csv"),
            ("s@tag:2026/may/x.csv", "tag:2026/may", "x.csv"),
            ("s@draft:ines/dearer/x.csv", "draft:ines/dearer", "x.csv"),
            ("s@at:main@2026-05-01/x.csv", "at:main@2026-05-01", "x.csv"),
            ("s@commit:ab12/x@y.csv", "commit:ab12", "x@y.csv"),
            ("s@none/x.csv", "none", "x.csv"),
            ("s", "", ""),
        ):
            with self.subTest(written):
                found = place_of(f"shelf://a.example:1/{written}", names)
                self.assertEqual(found, Place("a.example:1", "s", ref, path))
                self.assertEqual(place_of(found.address(), names), found)

    def test_a_token_goes_to_the_service_it_is_for(self) -> None:
        here, other = "http://127.0.0.1:7463", "https://shelf.example"
        folder = self.enterContext(tempfile.TemporaryDirectory())
        settings = {"EVERYSHELF_CONFIG": folder, "EVERYSHELF_TOKEN": "of-the-environment"}
        with mock.patch.dict(os.environ, settings):
            os.environ.pop("EVERYSHELF_ADDRESS", None)
            self.assertEqual([token_for(here), token_for(other)], ["of-the-environment"] * 2)
            remember(other, "of-the-other")
            remember(here, "kept")
            self.assertEqual([token_for(here), token_for(other)], ["of-the-environment", "of-the-other"])
            self.assertIsNone(token_for("https://elsewhere.example"))
            os.environ["EVERYSHELF_ADDRESS"] = f"{other}/"
            self.assertEqual([token_for(here), token_for(other)], ["kept", "of-the-environment"])

    def test_only_this_machine_is_asked_without_encryption(self) -> None:
        for host, expected in (
            ("127.0.0.1:7463", "http"),
            ("localhost:7463", "http"),
            ("[::1]:7463", "http"),
            ("shelf.example", "https"),
            ("shelf.example:8443", "https"),
            ("127.0.0.1.example:80", "https"),
        ):
            self.assertEqual(service_address(host, None), f"{expected}://{host}")
        self.assertEqual(service_address("shelf.example", False), "http://shelf.example")
