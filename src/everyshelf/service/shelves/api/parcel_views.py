"""Parcels."""

from __future__ import annotations

import re
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

from django.http import FileResponse
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema

from everyshelf.service.base.config import get_config
from everyshelf.service.shelves.actions.parcels import pack_state
from everyshelf.service.shelves.actions.selecting import as_selected, selection_of
from everyshelf.service.shelves.api.base import REF, ShelfView

_ONLY = OpenApiParameter("only", str, many=True, description="An artifact or folder; repeat for more. All if left out.")
_NEEDED = OpenApiParameter("dependencies", bool, description="Add what the selected artifacts name.")


class ParcelView(ShelfView):
    """A state of the shelf in one file."""

    @extend_schema(
        operation_id="parcels_pack",
        parameters=[REF, _ONLY, _NEEDED],
        responses={(200, "application/zip"): OpenApiTypes.BINARY},
    )
    def get(self, request: Any, shelf: str) -> FileResponse:
        """Download artifacts as a parcel: a zipped bag (RFC 8493) with checksums and what is known of each."""
        _, found = self.shelf(request, shelf)
        at = self.at(request, found)
        selection = selection_of(found, at)
        name = re.sub(r"[^A-Za-z0-9._-]+", "-", f"{found.key}-{at.ref.removeprefix('tag:')}").strip("-.")[:100]
        folder = TemporaryDirectory(dir=get_config().scratch, prefix="parcel-")
        try:
            file = Path(folder.name, "parcel.zip")
            only = [path for path in request.query_params.getlist("only") if path]
            if only:
                at = as_selected(found, at)
            else:  # of the whole state, so that what the selection depends on is found
                only = list(selection or ())
            wanted = request.query_params.get("dependencies", "") in ("true", "1")
            pack_state(found, at, only, file, dependencies=wanted, name=name)
            opened = file.open("rb")
        finally:
            folder.cleanup()  # the open file stays readable until it is closed
        return FileResponse(opened, as_attachment=True, filename=f"{name}.parcel.zip", content_type="application/zip")
