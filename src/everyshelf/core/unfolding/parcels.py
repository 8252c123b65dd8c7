"""An unfolded folder as one zip, to be sent, and back."""

from __future__ import annotations

import io
import zipfile

from everyshelf.core.errors import InvalidError
from everyshelf.core.unfolding.model import MANIFEST, Unfolded

_MOST_BYTES = 500 * 1024 * 1024
_MOST_FILES = 50_000
_MOST_RATIO, _ALWAYS_BYTES = 200, 16 * 1024 * 1024
_STAMP = (1980, 1, 1, 0, 0, 0)


def packed(unfolded: Unfolded) -> bytes:
    """All files in one zip; the same files give the same bytes."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        for path, data in sorted(unfolded.files.items()):
            info = zipfile.ZipInfo(path, _STAMP)
            info.compress_type, info.external_attr = zipfile.ZIP_DEFLATED, 0o644 << 16
            archive.writestr(info, data)
    return out.getvalue()


def unpacked_files(data: bytes) -> dict[str, bytes]:
    """The files of such a zip, also where the folder itself was packed; raises ``InvalidError`` where it is none."""
    hint = f"Pack the whole folder with its {MANIFEST}."
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            infos = [i for i in archive.infolist() if not i.is_dir()]
            size = sum(i.file_size for i in infos)
            if len(infos) > _MOST_FILES or size > min(_MOST_BYTES, _MOST_RATIO * len(data) + _ALWAYS_BYTES):
                raise InvalidError("it holds too much to be folded", code="fold.size")
            files = {i.filename: archive.read(i) for i in infos}
    except (zipfile.BadZipFile, NotImplementedError, RuntimeError, ValueError, OSError, EOFError) as error:
        raise InvalidError(f"it is not a zip of an unfolded file: {error}", code="fold.zip", hint=hint) from error
    top = min((p for p in files if p.rpartition("/")[2] == MANIFEST), key=lambda p: p.count("/"), default=None)
    if top is None:
        raise InvalidError(f"there is no {MANIFEST} in it", code="fold.manifest", hint=hint)
    base = top.removesuffix(MANIFEST)
    return {p.removeprefix(base): d for p, d in files.items() if p.startswith(base)}
