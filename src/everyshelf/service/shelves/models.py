"""Records of shelves: what people named and did. Bytes, folders and commit bodies are content."""

from __future__ import annotations

from django.contrib.auth.models import User
from django.db import models
from django.db.models import Q
from django.utils import timezone


class Shelf(models.Model):
    """A versioned collection of artifacts. ``store``: where its bytes live, empty for the main store."""

    key = models.SlugField(max_length=60, unique=True)
    name = models.CharField(max_length=120)
    description = models.TextField(blank=True)
    open_to_all = models.BooleanField(default=False)
    main_branch = models.CharField(max_length=120, default="main")
    store = models.CharField(max_length=32, default="", blank=True)
    created = models.DateTimeField()

    def __str__(self) -> str:
        return self.name


class Commit(models.Model):
    """One state of a whole shelf. ``generation`` grows from parent to child."""

    shelf = models.ForeignKey(Shelf, models.CASCADE, related_name="commits")
    uid = models.CharField(max_length=64)
    root = models.CharField(max_length=64)
    author = models.CharField(max_length=150)
    time = models.DateTimeField()
    recorded = models.DateTimeField()
    recorded_by = models.ForeignKey(User, models.PROTECT, related_name="+")
    summary = models.CharField(max_length=300)
    description = models.TextField(blank=True)
    labels = models.JSONField(default=dict)
    tasks = models.JSONField(default=list)
    generation = models.PositiveIntegerField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["shelf", "uid"], name="one_commit_per_id")]
        indexes = [models.Index(fields=["shelf", "recorded"])]

    def __str__(self) -> str:
        return f"{self.uid[:8]} {self.summary}"


class CommitParent(models.Model):
    """The line from a commit to one it builds on; position 0 is the branch it was made on."""

    commit = models.ForeignKey(Commit, models.CASCADE, related_name="parent_links")
    parent = models.ForeignKey(Commit, models.PROTECT, related_name="child_links")
    position = models.PositiveSmallIntegerField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["commit", "position"], name="one_parent_per_position")]


class Branch(models.Model):
    """A line of work; ``head`` is empty until the first commit."""

    shelf = models.ForeignKey(Shelf, models.CASCADE, related_name="branches")
    name = models.CharField(max_length=120)
    head = models.ForeignKey(Commit, models.PROTECT, null=True, related_name="+")
    guarded = models.BooleanField(default=False)
    note = models.CharField(max_length=300, blank=True)
    created = models.DateTimeField()
    created_by = models.CharField(max_length=150)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["shelf", "name"], name="one_branch_per_name")]


class Merge(models.Model):
    """A merge that waits to be settled: what is to come onto which branch, and what was decided about it so far.

    ``other_root`` is the state to bring in, ``other_commit`` its commit where it is one. ``decisions``: path ->
    conflict id -> ``{"take", "value", "by"}``. ``message`` is what will be said about the commit. ``points``:
    save points of a draft that it takes up.
    """

    uid = models.CharField(max_length=12)
    shelf = models.ForeignKey(Shelf, models.CASCADE, related_name="merges")
    target = models.CharField(max_length=120)
    source = models.CharField(max_length=160)
    base_root = models.CharField(max_length=64)
    base_commit = models.ForeignKey(Commit, models.PROTECT, null=True, related_name="+")
    source_root = models.CharField(max_length=64)
    source_commit = models.ForeignKey(Commit, models.PROTECT, null=True, related_name="+")
    delete_source = models.BooleanField(default=False)
    moves = models.JSONField(default=list)
    message = models.JSONField(default=dict)
    decisions = models.JSONField(default=dict)
    points = models.JSONField(default=list)
    state = models.CharField(max_length=12, default="open")
    created = models.DateTimeField()
    created_by = models.ForeignKey(User, models.PROTECT, related_name="+")
    finished = models.ForeignKey(Commit, models.PROTECT, null=True, related_name="+")

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["shelf", "uid"], name="one_merge_per_id"),
            models.CheckConstraint(condition=Q(state__in=["open", "finished", "abandoned"]), name="known_merge_state"),
        ]
        indexes = [models.Index(fields=["shelf", "state"])]


class MergedContent(models.Model):
    """What three contents gave when they were merged, so that looking at a merge does not merge again."""

    key = models.CharField(max_length=64, unique=True)
    answer = models.JSONField()
    content = models.CharField(max_length=64, blank=True)
    size = models.PositiveBigIntegerField(default=0)
    made = models.DateTimeField(default=timezone.now)


class Tag(models.Model):
    """A name that never moves. ``dropped`` names stay taken, so that none is ever reused."""

    shelf = models.ForeignKey(Shelf, models.CASCADE, related_name="tags")
    name = models.CharField(max_length=120)
    commit = models.ForeignKey(Commit, models.PROTECT, related_name="tags")
    note = models.TextField(blank=True)
    selection = models.JSONField(null=True)
    created = models.DateTimeField()
    created_by = models.CharField(max_length=150)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["shelf", "name"], name="one_tag_per_name")]


class Artifact(models.Model):
    """A thing on a shelf, whatever path it has at the moment."""

    shelf = models.ForeignKey(Shelf, models.CASCADE, related_name="artifacts")
    uid = models.CharField(max_length=32, unique=True)
    versions_made = models.PositiveIntegerField(default=0)


class ArtifactVersion(models.Model):
    """What a commit did to an artifact. A removal has no number and no content. ``tail`` is the path from its last part
    to the first, which keeps those that end alike together."""

    artifact = models.ForeignKey(Artifact, models.CASCADE, related_name="versions")
    shelf = models.ForeignKey(Shelf, models.CASCADE, related_name="+")
    commit = models.ForeignKey(Commit, models.CASCADE, related_name="versions")
    number = models.PositiveIntegerField(null=True)
    path = models.CharField(max_length=4000)
    tail = models.CharField(max_length=4001, default="")
    moved_from = models.CharField(max_length=4000, blank=True)
    content = models.CharField(max_length=64, blank=True)
    size = models.BigIntegerField(default=0)
    kind = models.CharField(max_length=20, blank=True)
    effect = models.CharField(max_length=10, blank=True)
    headline = models.CharField(max_length=300, blank=True)

    class Meta:
        constraints = [
            models.UniqueConstraint(
                fields=["artifact", "number"], condition=Q(number__isnull=False), name="one_version_per_number"
            )
        ]
        indexes = [
            models.Index(fields=["shelf", "path", "-id"]),
            models.Index(fields=["shelf", "tail"]),
            models.Index(fields=["shelf", "content"]),
            models.Index(fields=["artifact", "-id"]),
        ]


class ShelfContent(models.Model):
    """That a shelf holds some content: knowing an id grants nothing without this row.

    ``unreached_since``: when it was first found that no record names it, unless it was used since.
    """

    shelf = models.ForeignKey(Shelf, models.CASCADE, related_name="+")
    content = models.CharField(max_length=64)
    size = models.BigIntegerField()
    unreached_since = models.DateTimeField(null=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["shelf", "content"], name="one_row_per_content")]
        indexes = [
            models.Index(
                fields=["unreached_since"], name="unreached_contents", condition=Q(unreached_since__isnull=False)
            )
        ]


class OutsideContent(models.Model):
    """That the bytes of a content lie in a place outside the store, and what is known of them.

    ``stamp``: what the place said of them, as ``Stamp``. ``sha256``: of the bytes, where they were read once.
    ``checked``: when the place was last asked; ``problem``: what was wrong then.
    """

    content = models.CharField(max_length=64, unique=True)
    shelf = models.ForeignKey(Shelf, models.SET_NULL, null=True, related_name="+")
    address = models.TextField()
    size = models.BigIntegerField()
    stamp = models.JSONField()
    sha256 = models.CharField(max_length=64, blank=True)
    registered = models.DateTimeField()
    checked = models.DateTimeField(null=True)
    problem = models.TextField(blank=True)

    class Meta:
        indexes = [models.Index(fields=["shelf", "address"], name="outside_by_address")]


class CachedComparison(models.Model):
    """A comparison that was made before: both contents, the rules and the reader say all there is to know."""

    key = models.CharField(max_length=64, unique=True)
    result = models.BinaryField()
    made = models.DateTimeField(auto_now_add=True)
