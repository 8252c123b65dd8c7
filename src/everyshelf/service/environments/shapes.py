"""What goes in and out of the interface of environments."""

from __future__ import annotations

from typing import Any

from rest_framework import serializers

from everyshelf.core.answers.environments import ArtifactThere, PlannedArtifact
from everyshelf.service.environments.actions.places import KINDS
from everyshelf.service.http.answers import listed

_ACCESS = (
    "Token or password of the destination. For Git over SSH: a private key, and after it the server's own keys as "
    "ssh-keyscan writes them."
)


class QuietHours(serializers.Serializer[Any]):
    """When nothing is promoted; every day if none is named."""

    vars()["from"] = serializers.CharField(max_length=5)
    to = serializers.CharField(max_length=5)
    days = serializers.ListField(child=serializers.CharField(max_length=3), required=False, default=list)
    zone = serializers.CharField(max_length=60, required=False, default="UTC")


class GatesShape(serializers.Serializer[Any]):
    """The gates of an environment, beside its branch and the environment before it."""

    guarded = serializers.BooleanField(required=False, help_text="Only from a guarded branch.")
    reviews = serializers.IntegerField(
        required=False, min_value=0, max_value=20, help_text="People other than the author who must agree."
    )
    checks = serializers.ListField(
        child=serializers.CharField(max_length=100), required=False, help_text="Checks that passed on the very commit."
    )
    quiet = serializers.ListField(child=QuietHours(), required=False, help_text="Hours in which nothing is promoted.")
    drift = serializers.BooleanField(required=False, help_text="Nothing may be lost that was changed there.")


class LeftOutShape(serializers.Serializer[Any]):
    """What an environment does not take."""

    patterns = serializers.ListField(child=serializers.CharField(max_length=300), required=False, default=list)
    kinds = serializers.ListField(child=serializers.CharField(max_length=20), required=False, default=list)


class EnvironmentChange(serializers.Serializer[Any]):
    """What is to be changed; what is left out stays."""

    strict = True

    records = serializers.ListField(
        child=serializers.CharField(max_length=200),
        required=False,
        help_text="Of a database: patterns of the tables whose records come along.",
    )

    token = serializers.CharField(
        required=False, allow_blank=True, max_length=40_000, write_only=True, trim_whitespace=False, help_text=_ACCESS
    )
    fed_from = serializers.CharField(required=False, allow_blank=True, max_length=120)
    earlier_first = serializers.BooleanField(required=False)
    gates = GatesShape(required=False)
    left_out = LeftOutShape(required=False)
    watch_minutes = serializers.IntegerField(required=False, min_value=0, max_value=100_000)
    note = serializers.CharField(required=False, allow_blank=True, max_length=300)


class NewEnvironment(EnvironmentChange):
    """An environment to be made."""

    name = serializers.CharField(max_length=60)
    destination = serializers.ChoiceField(KINDS, required=False, default="folder")
    address = serializers.CharField(required=False, default="", allow_blank=True, max_length=1000)
    subfolder = serializers.CharField(
        required=False,
        default="",
        allow_blank=True,
        max_length=500,
        help_text="The folder of the shelf that goes there.",
    )
    route = serializers.CharField(required=False, default="main", max_length=60)
    position = serializers.IntegerField(required=False, min_value=1, max_value=99, allow_null=True, default=None)


class NewTrial(serializers.Serializer[Any]):
    """A trial environment to be made from a tag."""

    strict = True

    name = serializers.CharField(max_length=60)
    tag = serializers.CharField(max_length=130)
    days = serializers.IntegerField(required=False, default=7)
    destination = serializers.ChoiceField(KINDS, required=False, default="folder")
    address = serializers.CharField(required=False, default="", allow_blank=True, max_length=1000)
    token = serializers.CharField(
        required=False,
        default="",
        allow_blank=True,
        max_length=40_000,
        write_only=True,
        trim_whitespace=False,
        help_text=_ACCESS,
    )
    subfolder = serializers.CharField(required=False, default="", allow_blank=True, max_length=500)
    records = serializers.ListField(child=serializers.CharField(max_length=200), required=False, default=list)
    note = serializers.CharField(required=False, default="", allow_blank=True, max_length=300)


class GateOut(serializers.Serializer[Any]):
    """A condition, and what would satisfy it."""

    id = serializers.CharField()
    gate = serializers.CharField()
    met = serializers.BooleanField()
    message = serializers.CharField()
    action = serializers.CharField()


class StepOut(serializers.Serializer[Any]):
    """One thing that is done to a place beyond artifacts; ``lost`` if something would be gone for good."""

    action = serializers.ChoiceField(["created", "altered", "removed"])
    what = serializers.CharField()
    name = serializers.CharField()
    message = serializers.CharField()
    lost = serializers.BooleanField()


class DeploymentOut(serializers.Serializer[Any]):
    """One promotion and how it ended."""

    deployment = serializers.CharField()
    number = serializers.IntegerField()
    tag = serializers.CharField()
    commit = serializers.CharField()
    state = serializers.ChoiceField(["planned", "staged", "switching", "switched", "verified", "recorded", "undone"])
    who = serializers.CharField()
    reason = serializers.CharField()
    forced = GateOut(many=True)
    steps = StepOut(many=True)
    side_effects = serializers.ListField(child=serializers.CharField())
    counts = serializers.DictField(child=serializers.IntegerField())
    begun = serializers.DateTimeField()
    ended = serializers.DateTimeField(allow_null=True)
    took_seconds = serializers.FloatField(allow_null=True)
    rolled_back_to = serializers.IntegerField(allow_null=True)


class DeploymentPage(serializers.Serializer[Any]):
    """A page of deployments."""

    items = DeploymentOut(many=True)
    total = serializers.IntegerField()
    next = serializers.CharField(allow_null=True)


class KnownDrift(serializers.Serializer[Any]):
    """An artifact that is not as it was put there."""

    path = serializers.CharField()
    name = serializers.CharField()
    where = serializers.CharField()
    by = serializers.CharField()


class BindingCount(serializers.Serializer[Any]):
    """How many bindings are declared, and how many values are set."""

    declared = serializers.IntegerField()
    set = serializers.IntegerField()


class EnvironmentOut(serializers.Serializer[Any]):
    """An environment and what runs there."""

    name = serializers.CharField()
    route = serializers.CharField()
    position = serializers.IntegerField()
    destination = serializers.CharField()
    address = serializers.CharField()
    has_token = serializers.BooleanField()
    subfolder = serializers.CharField()
    records = serializers.ListField(child=serializers.CharField())
    fed_from = serializers.CharField()
    earlier_first = serializers.BooleanField()
    gates = GatesShape()
    left_out = LeftOutShape()
    note = serializers.CharField()
    trial_of = serializers.CharField(allow_null=True)
    made_by = serializers.CharField()
    expires = serializers.DateTimeField(allow_null=True)
    watch_minutes = serializers.IntegerField()
    drift = KnownDrift(many=True)
    drift_checked = serializers.DateTimeField(allow_null=True)
    drift_problem = serializers.CharField()
    bindings = BindingCount()
    current = DeploymentOut(allow_null=True)
    before = DeploymentOut(allow_null=True)
    waiting = serializers.CharField(allow_null=True)


class BindingOut(serializers.Serializer[Any]):
    """A binding; of a secret one only whether it has a value."""

    name = serializers.CharField()
    secret = serializers.BooleanField()
    set = serializers.BooleanField()
    value = serializers.CharField(allow_null=True)
    artifacts = serializers.ListField(child=serializers.CharField())
    set_by = serializers.CharField()
    set_at = serializers.DateTimeField(allow_null=True)


class BindingIn(serializers.Serializer[Any]):
    """A value to be set."""

    name = serializers.CharField(max_length=60)
    value = serializers.CharField(allow_blank=True, trim_whitespace=False, max_length=20_000, write_only=True)
    secret = serializers.BooleanField(required=False, allow_null=True, default=None)


class EnvironmentReviewIn(serializers.Serializer[Any]):
    """A word about a tag's commit going there."""

    tag = serializers.CharField(max_length=130)
    agrees = serializers.BooleanField()
    comment = serializers.CharField(required=False, default="", allow_blank=True, max_length=2000)


class EnvironmentReviewOut(serializers.Serializer[Any]):
    """Who said what about it."""

    person = serializers.CharField()
    agrees = serializers.BooleanField()
    comment = serializers.CharField()
    given = serializers.DateTimeField()


class TagWanted(serializers.Serializer[Any]):
    """The tag to rehearse."""

    tag = serializers.CharField(max_length=130)


class Wanted(serializers.Serializer[Any]):
    """What is said about every promotion."""

    reason = serializers.CharField(required=False, default="", allow_blank=True)
    overwrite_drift = serializers.BooleanField(required=False, default=False)
    lose = serializers.ListField(
        child=serializers.CharField(max_length=300),
        required=False,
        default=list,
        help_text="Names of what may be gone for good there: TABLE, TABLE.COLUMN.",
    )
    at = serializers.DateTimeField(required=False, allow_null=True, default=None)
    who = serializers.CharField(required=False, allow_null=True, default=None, max_length=150)


class PromotionWanted(Wanted):
    """The tag to promote, and the reason."""

    tag = serializers.CharField(max_length=130)
    force = serializers.BooleanField(required=False, default=False)


class RollbackWanted(Wanted):
    """Where to go back to: the deployment before the current one if no number is given."""

    to = serializers.IntegerField(required=False, allow_null=True, default=None)


class DraftWanted(Wanted):
    """The branch whose draft goes into a trial environment."""

    branch = serializers.CharField(max_length=120)


class DriftOut(KnownDrift):
    """An artifact that was changed there; ``lost`` if promoting would overwrite it, ``brought`` if the tag has it."""

    lost = serializers.BooleanField()
    brought = serializers.BooleanField()


class MissingBinding(serializers.Serializer[Any]):
    """A binding without a value, and the artifacts that need it."""

    name = serializers.CharField()
    artifacts = serializers.ListField(child=serializers.CharField())


class PlacingProblem(serializers.Serializer[Any]):
    """An artifact into which a binding cannot be put."""

    path = serializers.CharField()
    message = serializers.CharField()


class NeededArtifact(serializers.Serializer[Any]):
    """What an artifact names and what will not be there."""

    artifact = serializers.CharField()
    needs = serializers.CharField()
    on_shelf = serializers.BooleanField()
    place = serializers.CharField()


class RehearsalOut(serializers.Serializer[Any]):
    """What a promotion would do."""

    environment = serializers.CharField()
    tag = serializers.CharField()
    commit = serializers.CharField()
    counts = serializers.DictField(child=serializers.IntegerField())
    artifacts = listed(PlannedArtifact)
    complete = serializers.BooleanField()
    drift = DriftOut(many=True)
    gates = GateOut(many=True)
    missing_bindings = MissingBinding(many=True)
    problems = PlacingProblem(many=True)
    steps = StepOut(many=True)
    needed = NeededArtifact(many=True)
    left_out = serializers.IntegerField()
    not_met = serializers.IntegerField()
    bytes = serializers.IntegerField()
    expected_seconds = serializers.FloatField(allow_null=True)
    sentence = serializers.CharField()
    rehearsed = serializers.DateTimeField()
    took_seconds = serializers.FloatField()


class BesideOut(serializers.Serializer[Any]):
    """Two environments by what is really there."""

    one = serializers.CharField()
    other = serializers.CharField()
    artifacts = listed(ArtifactThere)
    same = serializers.IntegerField()
    complete = serializers.BooleanField()
    sentence = serializers.CharField()


class DifferingArtifact(serializers.Serializer[Any]):
    """Where an artifact differs: there, here or on both sides."""

    path = serializers.CharField()
    name = serializers.CharField()
    side = serializers.ChoiceField(["environment", "shelf", "both"])
    where = serializers.CharField()
    side_effects = serializers.BooleanField()
    by = serializers.CharField()


class DifferencesOut(serializers.Serializer[Any]):
    """An environment beside a branch."""

    environment = serializers.CharField()
    branch = serializers.CharField()
    deployment = serializers.IntegerField(allow_null=True)
    tag = serializers.CharField(allow_null=True)
    artifacts = DifferingArtifact(many=True)
    sentence = serializers.CharField()


class CaptureWanted(serializers.Serializer[Any]):
    """What to capture: everything changed there if no path is named."""

    branch = serializers.CharField(required=False, default="", allow_blank=True, max_length=120)
    paths = serializers.ListField(child=serializers.CharField(), required=False, allow_null=True, default=None)
    prefer = serializers.ChoiceField(["environment", "shelf"], required=False, allow_null=True, default=None)


class CapturedArtifact(serializers.Serializer[Any]):
    """What became of one artifact; ``taken`` if it is in the draft. ``by``: who made the change, if the place tells."""

    path = serializers.CharField()
    where = serializers.CharField()
    side_effects = serializers.BooleanField()
    message = serializers.CharField()
    taken = serializers.BooleanField()
    by = serializers.CharField(allow_blank=True)


class CaptureOut(serializers.Serializer[Any]):
    """What was captured."""

    environment = serializers.CharField()
    branch = serializers.CharField()
    artifacts = CapturedArtifact(many=True)
    pending = serializers.IntegerField()
