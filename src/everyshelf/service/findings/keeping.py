"""Work out what each version of a shelf changed, and keep it: as much as an answer has time for, the rest in a job."""

from __future__ import annotations

import time
import zlib
from collections.abc import Callable

import msgspec
from django.db import transaction

from everyshelf.core.answers.comparisons import ComparisonAnswer
from everyshelf.core.answers.findings import FindingAnswer
from everyshelf.core.compare.artifact import READER_VERSION
from everyshelf.core.errors import BrokenError, InvalidError, MissingError
from everyshelf.core.kinds.registry import packages
from everyshelf.decoding import from_json
from everyshelf.service.base.acts import aside
from everyshelf.service.base.context import get_store
from everyshelf.service.base.working import WorkingError
from everyshelf.service.findings.models import VersionFindings
from everyshelf.service.shelves.actions.comparing import Effort, compare_pair
from everyshelf.service.shelves.actions.lineage import Lineage, lineage_of
from everyshelf.service.shelves.actions.listing import entry_of
from everyshelf.service.shelves.actions.pairs import Pairing
from everyshelf.service.shelves.actions.recording import rules_at
from everyshelf.service.shelves.actions.version_parents import first_parent_of
from everyshelf.service.shelves.models import ArtifactVersion, Shelf

Tell = Callable[[int, int, str], None]
_AT_ONCE = 200
MOST_OF_VERSION = 1000  # findings kept of one version


class FindingsReadingError(WorkingError):
    """A job is comparing the versions."""

    code = "findings.reading"

    def __init__(self, job: str, left: int) -> None:
        super().__init__(
            f"comparing the {left} versions that are left takes longer than an answer may: a job does it", job
        )


class KeptFindings(msgspec.Struct, array_like=True):
    """What a version changed; ``cut``: more than is kept."""

    findings: list[FindingAnswer]
    cut: bool = False


def reader_mark() -> str:
    """What says whether findings that are kept are still right: the readers and the kinds that were added."""
    return f"{READER_VERSION} {packages()}"[:64]


def keep_findings(shelf: Shelf, *, seconds: float | None = None, tell: Tell | None = None) -> int:
    """Compare every version of a shelf with the one it was made from, oldest first, where that is not kept; gives how
    many are left after ``seconds``. Without a limit what takes long is compared, too. What is damaged is passed over,
    and compared once it is healed."""
    known = VersionFindings.objects.filter(version__shelf=shelf, reader=reader_mark()).values("version")
    versions = ArtifactVersion.objects.filter(shelf=shelf, content__gt="", number__gt=1).exclude(pk__in=known)
    keys = list(versions.order_by("pk").values_list("pk", flat=True))
    end = time.monotonic() + seconds if seconds is not None else None
    lineage, left = lineage_of(shelf), 0
    for start in range(0, len(keys), _AT_ONCE):
        rows: list[VersionFindings] = []
        some = ArtifactVersion.objects.filter(pk__in=keys[start : start + _AT_ONCE]).order_by("pk")
        for place, version in enumerate(some.select_related("commit", "shelf")):
            if end is not None and time.monotonic() > end:
                _write(rows)
                return left + len(keys) - start - place
            if tell is not None:
                tell(start + place, len(keys), version.path)
            try:
                found = _compared(version, lineage, "job" if seconds is None else "request")
            except (BrokenError, MissingError):
                continue
            if found is None:
                left += 1
            else:
                rows.append(VersionFindings(version=version, reader=reader_mark(), found=packed(found)))
        _write(rows)
    return left


def _compared(version: ArtifactVersion, lineage: Lineage, effort: Effort) -> KeptFindings | None:
    """None where it takes more than ``effort``."""
    previous = first_parent_of(version, lineage)
    before, after = entry_of(previous) if previous is not None else None, entry_of(version)
    if before is not None and any(get_store().lies_outside(one.id) for one in (before, after)):
        return KeptFindings([_unread(version, "in place; open the comparison to see what changed")])
    pair = Pairing(version.path, previous.path if previous is not None else version.path, before, after)
    try:
        answer = compare_pair(pair, rules_at(version.commit.root), effort)
    except InvalidError as error:
        return KeptFindings([_unread(version, error.message)])
    return _kept(version, answer) if answer is not None else None


def _kept(version: ArtifactVersion, answer: ComparisonAnswer) -> KeptFindings:
    if not answer.judged and not answer.findings and not answer.equal:
        return KeptFindings([_unread(version, answer.note)])
    return KeptFindings(answer.findings[:MOST_OF_VERSION], answer.truncated or len(answer.findings) > MOST_OF_VERSION)


def _unread(version: ArtifactVersion, why: str) -> FindingAnswer:
    """What was not read is not judged: one finding of the artifact as a whole, without an effect."""
    return FindingAnswer(
        action="changed",
        part="/",
        type="artifact",
        label=version.path.rpartition("/")[2],
        before=None,
        after=None,
        effect=None,
        detail=why,
    )


def packed(found: KeptFindings) -> bytes:
    """As it lies in the records."""
    return zlib.compress(msgspec.json.encode(found), 6)


def unpacked(found: bytes | memoryview) -> KeptFindings:
    """What ``packed`` made."""
    return from_json(zlib.decompress(found), KeptFindings)


def _write(rows: list[VersionFindings]) -> None:
    if not rows:
        return
    with aside(), transaction.atomic():
        # Those of older readers give way; another worker may have been quicker with the same.
        VersionFindings.objects.bulk_create(
            rows, update_conflicts=True, unique_fields=["version"], update_fields=["reader", "found"]
        )
