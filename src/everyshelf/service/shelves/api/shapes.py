"""Shapes of requests and answers, from which the OpenAPI document is made."""

from __future__ import annotations

from typing import Any

from rest_framework import serializers


class ShelfOut(serializers.Serializer[Any]):
    """A shelf."""

    key = serializers.CharField()
    name = serializers.CharField()
    description = serializers.CharField()
    open_to_all = serializers.BooleanField()
    main_branch = serializers.CharField()
    created = serializers.DateTimeField()
    role = serializers.CharField(allow_null=True)
    branches = serializers.IntegerField()
    tags = serializers.IntegerField()
    commits = serializers.IntegerField()
    environments = serializers.IntegerField()


class NewShelf(serializers.Serializer[Any]):
    """A shelf to be made; its key is made from the name if left out."""

    name = serializers.CharField(max_length=120)
    description = serializers.CharField(required=False, default="", allow_blank=True)
    key = serializers.CharField(required=False, default=None, allow_null=True, max_length=60)
    open_to_all = serializers.BooleanField(required=False, default=False)


class ShelfChange(serializers.Serializer[Any]):
    """What is to be changed about a shelf; what is left out stays."""

    name = serializers.CharField(required=False, max_length=120)
    description = serializers.CharField(required=False, allow_blank=True)
    open_to_all = serializers.BooleanField(required=False)


class BranchOut(serializers.Serializer[Any]):
    """A branch and its newest commit."""

    name = serializers.CharField()
    guarded = serializers.BooleanField()
    note = serializers.CharField()
    main = serializers.BooleanField()
    created = serializers.DateTimeField()
    created_by = serializers.CharField()
    head = serializers.CharField(allow_null=True)
    summary = serializers.CharField()
    author = serializers.CharField()
    recorded = serializers.DateTimeField(allow_null=True)
    ahead = serializers.IntegerField()
    behind = serializers.IntegerField()


class NewBranch(serializers.Serializer[Any]):
    """A branch to be made from a ref; a name is suggested from the note if it is left out."""

    name = serializers.CharField(max_length=120, required=False, default="", allow_blank=True)
    start = serializers.CharField(required=False, default="", allow_blank=True)
    note = serializers.CharField(required=False, default="", allow_blank=True, max_length=300)


class BranchChange(serializers.Serializer[Any]):
    """Whether only keepers may commit to it."""

    guarded = serializers.BooleanField()


class TagOut(serializers.Serializer[Any]):
    """A tag and the environments its commit reached."""

    name = serializers.CharField()
    commit = serializers.CharField()
    note = serializers.CharField()
    selection = serializers.ListField(child=serializers.CharField(), allow_null=True)
    created = serializers.DateTimeField()
    created_by = serializers.CharField()
    environments = serializers.ListField(child=serializers.CharField())


class NewTag(serializers.Serializer[Any]):
    """A tag to be made."""

    name = serializers.CharField(max_length=120)
    ref = serializers.CharField(required=False, default="", allow_blank=True)
    note = serializers.CharField(required=False, default="", allow_blank=True)
    selection = serializers.ListField(child=serializers.CharField(), required=False, allow_null=True, default=None)
    created = serializers.DateTimeField(required=False, allow_null=True, default=None)
    created_by = serializers.CharField(required=False, allow_null=True, default=None, max_length=150)


class ArtifactOut(serializers.Serializer[Any]):
    """An artifact at a moment."""

    path = serializers.CharField()
    name = serializers.CharField()
    artifact = serializers.CharField(allow_null=True)
    version = serializers.IntegerField(allow_null=True)
    kind = serializers.CharField()
    content = serializers.CharField()
    size = serializers.IntegerField()
    commit = serializers.CharField(allow_null=True)
    summary = serializers.CharField()
    author = serializers.CharField()
    recorded = serializers.DateTimeField(allow_null=True)
    effect = serializers.CharField()
    headline = serializers.CharField()
    whole = serializers.BooleanField()
    within = serializers.CharField()


class ArtifactVersionOut(ArtifactOut):
    """A version of an artifact."""

    moved_from = serializers.CharField()
    here = serializers.BooleanField()
    removed = serializers.BooleanField()
    description = serializers.CharField()
    labels = serializers.DictField(child=serializers.CharField())


class ArtifactPage(serializers.Serializer[Any]):
    """A page of artifacts at a ref."""

    ref = serializers.CharField()
    commit = serializers.CharField(allow_null=True)
    items = ArtifactOut(many=True)
    total = serializers.IntegerField()
    next = serializers.CharField(allow_null=True)


class TouchedOut(serializers.Serializer[Any]):
    """What a commit did to one artifact."""

    path = serializers.CharField()
    version = serializers.IntegerField(allow_null=True)
    kind = serializers.CharField()
    effect = serializers.CharField()
    headline = serializers.CharField()
    removed = serializers.BooleanField()


class CommitOut(serializers.Serializer[Any]):
    """A commit."""

    commit = serializers.CharField()
    author = serializers.CharField()
    time = serializers.DateTimeField()
    recorded = serializers.DateTimeField()
    summary = serializers.CharField()
    description = serializers.CharField()
    labels = serializers.DictField(child=serializers.CharField())
    tasks = serializers.ListField(child=serializers.CharField())
    parents = serializers.ListField(child=serializers.CharField(allow_null=True))
    merge = serializers.BooleanField()


class CommitListed(CommitOut):
    """A commit in a list, with its first artifacts."""

    tags = serializers.ListField(child=serializers.CharField())
    artifacts = TouchedOut(many=True)
    artifact_count = serializers.IntegerField()


class CommitPage(serializers.Serializer[Any]):
    """A page of history."""

    items = CommitListed(many=True)
    total = serializers.IntegerField()
    next = serializers.CharField(allow_null=True)


class Change(serializers.Serializer[Any]):
    """One change: new content at a path (perhaps moved from another), or its removal (``content`` null)."""

    path = serializers.CharField(max_length=4000, trim_whitespace=False)
    content = serializers.CharField(allow_null=True)
    moved_from = serializers.CharField(required=False, default="", allow_blank=True, trim_whitespace=False)


class MessageIn(serializers.Serializer[Any]):
    """What people say about a commit; author and time only with the right to import."""

    summary = serializers.CharField(max_length=300)
    description = serializers.CharField(required=False, default="", allow_blank=True)
    labels = serializers.DictField(child=serializers.CharField(), required=False, default=dict)
    tasks = serializers.ListField(child=serializers.CharField(), required=False, default=list)
    author = serializers.CharField(required=False, allow_null=True, default=None)
    time = serializers.DateTimeField(required=False, allow_null=True, default=None)


class NewCommit(MessageIn):
    """A commit onto a branch whose head is believed to be ``base``."""

    branch = serializers.CharField()
    base = serializers.CharField(allow_null=True)
    changes = Change(many=True)
    merge = serializers.BooleanField(required=False, default=False)
    prefer = serializers.ChoiceField(["target", "source"], required=False, allow_null=True, default=None)


class RestoreIn(MessageIn):
    """Bringing one artifact, or the whole shelf, back to an older state."""

    summary = serializers.CharField(max_length=300, required=False, default="", allow_blank=True)
    branch = serializers.CharField()
    ref = serializers.CharField()
    path = serializers.CharField(required=False, allow_null=True, default=None, trim_whitespace=False)


class ContentOut(serializers.Serializer[Any]):
    """Stored content."""

    id = serializers.CharField()
    size = serializers.IntegerField()


class ContentsOut(serializers.Serializer[Any]):
    """Stored contents, in the order in which they were sent."""

    contents = ContentOut(many=True)


class ContentIds(serializers.Serializer[Any]):
    """Content ids."""

    ids = serializers.ListField(child=serializers.CharField(), max_length=10000)


class MissingOut(serializers.Serializer[Any]):
    """Those the shelf does not hold."""

    missing = serializers.ListField(child=serializers.CharField())


class UseOut(serializers.Serializer[Any]):
    """A place in another artifact that uses the part of a breaking finding; ``exact``, or a guess from its words."""

    artifact = serializers.CharField()
    place = serializers.CharField()
    label = serializers.CharField()
    exact = serializers.BooleanField()


class FindingOut(serializers.Serializer[Any]):
    """One semantic difference."""

    action = serializers.ChoiceField(["added", "removed", "changed", "moved", "renamed", "reordered"])
    part = serializers.CharField()
    type = serializers.CharField()
    label = serializers.CharField()
    field = serializers.CharField(required=False)
    before = serializers.JSONField()  # anything, null included
    after = serializers.JSONField()
    effect = serializers.ChoiceField(
        ["breaks", "alters", "cosmetic"], allow_null=True, help_text="Null: not read as what it is, so not judged."
    )
    detail = serializers.CharField(required=False)
    within = serializers.CharField(required=False, help_text="The part it lies in: class Harbour, sheet Fares.")
    used_by = UseOut(many=True, required=False)


class ArtifactComparison(serializers.Serializer[Any]):
    """The comparison of two versions of one artifact."""

    kind = serializers.CharField()
    equal = serializers.BooleanField()
    counts = serializers.DictField(child=serializers.IntegerField())
    effects = serializers.DictField(child=serializers.IntegerField())
    judged = serializers.BooleanField(help_text="False where something could not be read as what it is.")
    findings = FindingOut(many=True)
    read_as = serializers.CharField()
    note = serializers.CharField()
    identity = serializers.DictField()
    truncated = serializers.BooleanField()
    table = serializers.DictField(required=False)
    tables = serializers.DictField(required=False)
    model = serializers.DictField(required=False)
    picture = serializers.DictField(required=False)
    lines = serializers.DictField(required=False)
    headline = serializers.CharField()
    before = serializers.DictField(allow_null=True)
    after = serializers.DictField(allow_null=True)
    pending = serializers.BooleanField()
    job = serializers.CharField(allow_null=True)


class RowOut(serializers.Serializer[Any]):
    """A row of a table that differs: its number on each side, the columns that changed, its cells as texts."""

    action = serializers.CharField(help_text="added, removed or changed")
    rows = serializers.ListField(child=serializers.IntegerField(allow_null=True))
    columns = serializers.ListField(child=serializers.CharField())
    before = serializers.ListField(child=serializers.CharField(allow_null=True), allow_null=True)
    after = serializers.ListField(child=serializers.CharField(allow_null=True), allow_null=True)


class RowPage(serializers.Serializer[Any]):
    """Some rows that differ, in the order of the newer table, and how many there are."""

    rows = RowOut(many=True)
    total = serializers.IntegerField()
    start = serializers.IntegerField()


class SideOut(serializers.Serializer[Any]):
    """One side's version of an artifact."""

    version = serializers.IntegerField(allow_null=True)
    content = serializers.CharField()
    size = serializers.IntegerField()


class ComparedArtifact(serializers.Serializer[Any]):
    """An artifact that differs between two states; ``pending`` if its findings are still being worked out."""

    path = serializers.CharField()
    old_path = serializers.CharField()
    name = serializers.CharField()
    state = serializers.ChoiceField(["new", "edited", "moved", "gone"])
    kind = serializers.CharField()
    before = SideOut(allow_null=True)
    after = SideOut(allow_null=True)
    pending = serializers.BooleanField()
    effect = serializers.CharField(allow_null=True)
    headline = serializers.CharField()
    effects = serializers.DictField(child=serializers.IntegerField())
    judged = serializers.BooleanField(help_text="False where something could not be read as what it is.")
    counts = serializers.DictField(child=serializers.IntegerField())
    findings = FindingOut(many=True)
    read_as = serializers.CharField()
    note = serializers.CharField()
    truncated = serializers.BooleanField()
    table = serializers.DictField(required=False)
    tables = serializers.DictField(required=False)
    model = serializers.DictField(required=False)
    picture = serializers.DictField(required=False)
    lines = serializers.DictField(required=False)


class RefOut(serializers.Serializer[Any]):
    """What a ref stood for."""

    ref = serializers.CharField()
    kind = serializers.CharField()
    commit = serializers.CharField(allow_null=True)
    recorded = serializers.DateTimeField(allow_null=True)


class PartedOut(serializers.Serializer[Any]):
    """Where two lines parted: ``head`` is where the first is now, ``newer`` how many commits it has since."""

    ref = serializers.CharField()
    head = serializers.CharField(allow_null=True)
    commit = serializers.CharField(allow_null=True)
    newer = serializers.IntegerField()


class StateComparison(serializers.Serializer[Any]):
    """The comparison of two states of a shelf; ``job`` works out what is pending."""

    artifacts = ComparedArtifact(many=True)
    counts = serializers.DictField(child=serializers.IntegerField())
    effects = serializers.DictField(child=serializers.IntegerField())
    sentence = serializers.CharField()
    pending = serializers.IntegerField()
    same = serializers.IntegerField()
    job = serializers.CharField(allow_null=True)
    parted = PartedOut(allow_null=True)

    def get_fields(self) -> dict[str, serializers.Field[Any, Any, Any, Any]]:
        """With ``from``, which no class attribute can be called."""
        return {"from": RefOut(), "to": RefOut(), **super().get_fields()}


class OutlineOut(serializers.Serializer[Any]):
    """What an artifact is made of; tables give columns and first rows instead of parts."""

    kind = serializers.CharField()
    format = serializers.CharField()
    read_as = serializers.CharField()
    note = serializers.CharField()
    size = serializers.IntegerField()
    parts = serializers.ListField(child=serializers.DictField())
    truncated = serializers.BooleanField()
    table = serializers.DictField(required=False)
    tables = serializers.DictField(required=False)
    model = serializers.DictField(required=False)
    picture = serializers.DictField(required=False)
    fields = serializers.DictField(required=False)


class DrawnBox(serializers.Serializer[Any]):
    """Where the file's own program drew something, in its own units."""

    x = serializers.FloatField()
    y = serializers.FloatField()
    width = serializers.FloatField()
    height = serializers.FloatField()


class DrawnNode(serializers.Serializer[Any]):
    """One thing in a drawing; ``part`` is the path findings name, ``group`` the id of the frame it stands in."""

    id = serializers.CharField()
    part = serializers.CharField()
    key = serializers.CharField()
    type = serializers.CharField()
    shape = serializers.ChoiceField(["step", "event", "end", "gateway", "data", "port", "frame", "lane"])
    label = serializers.CharField()
    detail = serializers.CharField(allow_blank=True)
    group = serializers.CharField(allow_blank=True)
    state = serializers.ChoiceField(["same", "added", "removed", "changed"])
    moved = serializers.BooleanField()
    before_label = serializers.CharField(allow_null=True)
    before = DrawnBox(allow_null=True)
    after = DrawnBox(allow_null=True)


class DrawnEdge(serializers.Serializer[Any]):
    """One connection in a drawing; ``was`` is the old course of one that now leads elsewhere."""

    id = serializers.CharField()
    part = serializers.CharField()
    source = serializers.CharField()
    target = serializers.CharField()
    label = serializers.CharField(allow_blank=True)
    conditional = serializers.BooleanField()
    state = serializers.ChoiceField(["same", "added", "removed", "changed", "was"])
    points = serializers.ListField(child=serializers.ListField(child=serializers.FloatField()))


class Drawing(serializers.Serializer[Any]):
    """A pipeline or workflow drawn, of one version or of two; ``placed``: the file says where things stand."""

    nodes = DrawnNode(many=True)
    edges = DrawnEdge(many=True)
    placed = serializers.BooleanField()
    note = serializers.CharField(allow_blank=True)


class ReferenceOut(serializers.Serializer[Any]):
    """One use of one artifact by another: where, and whether that is exact or a guess."""

    artifact = serializers.CharField()
    kind = serializers.CharField()
    place = serializers.CharField()
    label = serializers.CharField()
    exact = serializers.BooleanField()


class MissedOut(serializers.Serializer[Any]):
    """Something an artifact names that is not on the shelf."""

    name = serializers.CharField()
    place = serializers.CharField()
    label = serializers.CharField()


class ReferencesOut(serializers.Serializer[Any]):
    """What an artifact uses and who uses it; not ``complete`` where reading all would have taken too long."""

    uses = ReferenceOut(many=True)
    used_by = ReferenceOut(many=True)
    missing = MissedOut(many=True)
    complete = serializers.BooleanField()


class UnfoldedFile(serializers.Serializer[Any]):
    """One part as a file; ``text`` is null where it is none, or too long to be shown."""

    path = serializers.CharField()
    size = serializers.IntegerField()
    text = serializers.CharField(allow_null=True, allow_blank=True)


class UnfoldedOut(serializers.Serializer[Any]):
    """An artifact as readable parts."""

    files = UnfoldedFile(many=True)
    notes = serializers.ListField(child=serializers.CharField())


class FoldIn(serializers.Serializer[Any]):
    """Which content is a zip of parts."""

    content = serializers.CharField(max_length=64)


class FoldedOut(serializers.Serializer[Any]):
    """The one content the parts make; ``name`` is the file's."""

    id = serializers.CharField()
    size = serializers.IntegerField()
    name = serializers.CharField()
    notes = serializers.ListField(child=serializers.CharField())


class TextOut(serializers.Serializer[Any]):
    """The beginning of an artifact as text."""

    text = serializers.CharField()
    encoding = serializers.CharField()
    newline = serializers.CharField()
    truncated = serializers.BooleanField()
    size = serializers.IntegerField()


class CopyIn(serializers.Serializer[Any]):
    """An artifact of another shelf: ``path`` as it is on its main branch now; its newest version if none is named."""

    shelf = serializers.CharField()
    path = serializers.CharField(trim_whitespace=False)
    version = serializers.IntegerField(required=False, allow_null=True, default=None, min_value=1)
    to = serializers.CharField(required=False, default="", allow_blank=True, trim_whitespace=False)
    branch = serializers.CharField(required=False, default="", allow_blank=True)
    summary = serializers.CharField(required=False, default="", allow_blank=True, max_length=300)


class CopyOut(serializers.Serializer[Any]):
    """The commit that brought the copy in, and the versions it has here."""

    commit = serializers.CharField()
    path = serializers.CharField()
    versions = serializers.IntegerField()
    copied_from = serializers.CharField()


class FieldEditIn(serializers.Serializer[Any]):
    """That a field of a part (its path in the outline; empty for the file itself) shall say a value."""

    part = serializers.CharField(allow_blank=True)
    field = serializers.CharField()
    value = serializers.JSONField(allow_null=True)


class CellEditIn(serializers.Serializer[Any]):
    """That a cell of a record (from 0, as the file has them) shall say a value; ``was``: what it said."""

    row = serializers.IntegerField(min_value=0)
    column = serializers.CharField(trim_whitespace=False)
    value = serializers.CharField(allow_blank=True, trim_whitespace=False)
    was = serializers.CharField(required=False, allow_null=True, default=None, allow_blank=True, trim_whitespace=False)


class EditIn(serializers.Serializer[Any]):
    """Edits of a content, read under its path with the rules at ``ref``: its whole text, fields, cells."""

    content = serializers.CharField()
    path = serializers.CharField(trim_whitespace=False)
    ref = serializers.CharField(required=False, default="", allow_blank=True)
    text = serializers.CharField(required=False, allow_null=True, default=None, allow_blank=True, trim_whitespace=False)
    parts = FieldEditIn(many=True, required=False, default=list)
    cells = CellEditIn(many=True, required=False, default=list)


class CellsOut(serializers.Serializer[Any]):
    """A small table as texts, for editing it by cell; ``note`` says why there is nothing."""

    content = serializers.CharField()
    columns = serializers.ListField(child=serializers.CharField())
    rows = serializers.ListField(child=serializers.ListField(child=serializers.CharField()))
    note = serializers.CharField()


class LineCommit(serializers.Serializer[Any]):
    """A commit in the drawing of branches; ``branches`` and ``tags`` stand on it."""

    commit = serializers.CharField()
    parents = serializers.ListField(child=serializers.CharField())
    author = serializers.CharField()
    recorded = serializers.DateTimeField()
    summary = serializers.CharField()
    branches = serializers.ListField(child=serializers.CharField())
    tags = serializers.ListField(child=serializers.CharField())


class LinesOut(serializers.Serializer[Any]):
    """The newest commits of all branches, newest first."""

    main = serializers.CharField()
    commits = LineCommit(many=True)
    more = serializers.BooleanField()
