"""Shapes of requests and answers, from which the OpenAPI document is made."""

from __future__ import annotations

from typing import Any

from rest_framework import serializers

from everyshelf.core.content.stores import MAIN_NAME


class ShelfOut(serializers.Serializer[Any]):
    """A shelf."""

    key = serializers.CharField()
    name = serializers.CharField()
    description = serializers.CharField()
    open_to_all = serializers.BooleanField()
    main_branch = serializers.CharField()
    store = serializers.CharField(help_text="Where its bytes live; main unless it was said otherwise.")
    created = serializers.DateTimeField()
    role = serializers.CharField(allow_null=True)
    branches = serializers.IntegerField()
    tags = serializers.IntegerField()
    commits = serializers.IntegerField()
    environments = serializers.IntegerField()
    proposals = serializers.IntegerField(help_text="Those that are open.")
    experiments = serializers.IntegerField(help_text="Those that are open.")


class NewShelf(serializers.Serializer[Any]):
    """A shelf to be made; its key is made from the name if left out. ``store``: where its bytes are to live."""

    name = serializers.CharField(max_length=120)
    description = serializers.CharField(required=False, default="", allow_blank=True)
    key = serializers.CharField(required=False, default=None, allow_null=True, max_length=60)
    open_to_all = serializers.BooleanField(required=False, default=False)
    store = serializers.CharField(required=False, default=MAIN_NAME, max_length=100)


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


class BranchPage(serializers.Serializer[Any]):
    """A page of branches."""

    items = BranchOut(many=True)
    total = serializers.IntegerField()
    next = serializers.CharField(allow_null=True)


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


class TagPage(serializers.Serializer[Any]):
    """A page of tags."""

    items = TagOut(many=True)
    total = serializers.IntegerField()
    next = serializers.CharField(allow_null=True)


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
    in_place = serializers.CharField(help_text="Where its bytes lie, if not in the store.")


class ArtifactVersionOut(ArtifactOut):
    """A version of an artifact."""

    moved_from = serializers.CharField()
    here = serializers.BooleanField()
    removed = serializers.BooleanField()
    description = serializers.CharField()
    labels = serializers.DictField(child=serializers.CharField())


class ArtifactVersionPage(serializers.Serializer[Any]):
    """A page of the versions of an artifact."""

    items = ArtifactVersionOut(many=True)
    total = serializers.IntegerField()
    next = serializers.CharField(allow_null=True)


class ArtifactPage(serializers.Serializer[Any]):
    """A page of artifacts at a ref."""

    ref = serializers.CharField()
    commit = serializers.CharField(allow_null=True)
    items = ArtifactOut(many=True)
    total = serializers.IntegerField()
    bytes = serializers.IntegerField(required=False)
    next = serializers.CharField(allow_null=True)


class KindSummary(serializers.Serializer[Any]):
    """The artifacts of one kind: how many, their size, and the newest of them."""

    kind = serializers.CharField()
    count = serializers.IntegerField()
    bytes = serializers.IntegerField()
    newest = ArtifactOut(many=True)


class FolderSummary(serializers.Serializer[Any]):
    """How many artifacts lie directly in a folder."""

    folder = serializers.CharField()
    count = serializers.IntegerField()


class StateSummary(serializers.Serializer[Any]):
    """A state in short; of more than 500 folders and 100 labels (KEY=VALUE) the first."""

    ref = serializers.CharField()
    commit = serializers.CharField(allow_null=True)
    total = serializers.IntegerField()
    bytes = serializers.IntegerField()
    kinds = KindSummary(many=True)
    folders = FolderSummary(many=True)
    folder_count = serializers.IntegerField()
    authors = serializers.ListField(child=serializers.CharField())
    labels = serializers.ListField(child=serializers.CharField())


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
    effect = serializers.CharField(allow_blank=True, help_text="The worst effect on one of them; empty: not known yet.")


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


class UndoIn(MessageIn):
    """Undoing what a commit changed; ``prefer`` settles what was changed again since: "target" keeps that."""

    summary = serializers.CharField(max_length=300, required=False, default="", allow_blank=True)
    branch = serializers.CharField(required=False, default="", allow_blank=True)
    prefer = serializers.ChoiceField(["target", "source"], required=False, allow_null=True, default=None)


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
