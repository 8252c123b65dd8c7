"""Experiments of a shelf."""

from __future__ import annotations

from typing import Any

from django.urls import path
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.response import Response

from everyshelf.core.errors import InvalidError
from everyshelf.service.experiments import actions
from everyshelf.service.experiments.models import Experiment
from everyshelf.service.http.views import number, one_of, valid
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.api.base import CURSOR, LIMIT, ShelfView, page_of


class ExperimentBase(serializers.Serializer[Any]):
    """An experiment without its runs."""

    key = serializers.CharField()
    question = serializers.CharField()
    branch = serializers.CharField()
    target = serializers.CharField()
    state = serializers.ChoiceField(["open", "adopted", "abandoned"])
    reason = serializers.CharField()
    proposal = serializers.IntegerField(allow_null=True)
    proposal_state = serializers.CharField(allow_null=True)
    created = serializers.DateTimeField()
    created_by = serializers.CharField()
    closed = serializers.DateTimeField(allow_null=True)
    closed_by = serializers.CharField(allow_null=True)
    runs_made = serializers.IntegerField()
    answer = serializers.CharField()


class ExperimentListed(ExperimentBase):
    """An experiment in a list; ``primary``: the metric that was chosen to answer it, empty for none."""

    primary = serializers.CharField()


class ExperimentPage(serializers.Serializer[Any]):
    """A page of experiments; ``open``: how many of those that were asked for are open, whatever state was asked for."""

    items = ExperimentListed(many=True)
    total = serializers.IntegerField()
    open = serializers.IntegerField()
    next = serializers.CharField(allow_null=True)


class ReadOut(serializers.Serializer[Any]):
    """A version that a run read."""

    path = serializers.CharField()
    name = serializers.CharField()
    artifact = serializers.CharField(allow_null=True)
    version = serializers.IntegerField(allow_null=True)
    kind = serializers.CharField()
    content = serializers.CharField()


class RunCell(serializers.Serializer[Any]):
    """One cell of the table of runs; ``change`` and ``best`` only of metrics."""

    value = serializers.JSONField(allow_null=True)
    differs = serializers.BooleanField()
    change = serializers.FloatField(required=False, allow_null=True)
    best = serializers.BooleanField(required=False)


class RunCells(serializers.Serializer[Any]):
    """The cells of a run by column name."""

    reads = serializers.DictField(child=RunCell())
    parameters = serializers.DictField(child=RunCell())
    metrics = serializers.DictField(child=RunCell())


class RunOut(serializers.Serializer[Any]):
    """A run: the commit that holds what it wrote, and ``base``, where it read."""

    number = serializers.IntegerField()
    branch = serializers.CharField()
    commit = serializers.CharField()
    base = serializers.CharField()
    reads = ReadOut(many=True)
    parameters = serializers.DictField()
    metrics = serializers.DictField(child=serializers.FloatField())
    courses = serializers.DictField(child=serializers.IntegerField())
    command = serializers.CharField()
    state = serializers.ChoiceField(["done", "failed"])
    exit_code = serializers.IntegerField(allow_null=True)
    note = serializers.CharField()
    began = serializers.DateTimeField()
    took_seconds = serializers.FloatField(allow_null=True)
    person = serializers.CharField()


class RunCompared(RunOut):
    """A run with its cells, against the base run."""

    cells = RunCells()


class ColumnOut(serializers.Serializer[Any]):
    """A column of the table of runs."""

    group = serializers.ChoiceField(["reads", "parameters", "metrics"])
    name = serializers.CharField()
    better = serializers.ChoiceField(["lower", "higher"], allow_null=True)
    unit = serializers.CharField()
    differs = serializers.BooleanField()


class ExperimentOut(ExperimentBase):
    """An experiment with its runs side by side, against the run ``base``; ``primary``: the metric that answers it."""

    primary = serializers.CharField(allow_null=True)
    base = serializers.IntegerField(allow_null=True)
    columns = ColumnOut(many=True)
    runs = RunCompared(many=True)


class NewExperiment(serializers.Serializer[Any]):
    """An experiment to begin; key and branch are suggested from the question if left out."""

    question = serializers.CharField(max_length=1000)
    key = serializers.CharField(required=False, default="", allow_blank=True)
    branch = serializers.CharField(required=False, default="", allow_blank=True)
    start = serializers.CharField(required=False, default="", allow_blank=True)
    target = serializers.CharField(required=False, default="", allow_blank=True)
    primary = serializers.CharField(required=False, default="", allow_blank=True, max_length=200)


class ExperimentChange(serializers.Serializer[Any]):
    """What is to be changed."""

    question = serializers.CharField(required=False, max_length=300)
    primary = serializers.CharField(required=False, allow_blank=True, max_length=200)


class NewRun(serializers.Serializer[Any]):
    """A run. ``commit`` holds what it wrote, ``base`` is where it read; both as ids. ``series``: name to points."""

    branch = serializers.CharField(max_length=120)
    commit = serializers.CharField(max_length=64)
    base = serializers.CharField(required=False, default="", allow_blank=True, max_length=64)
    reads = serializers.ListField(child=serializers.CharField(trim_whitespace=False), required=False, default=list)
    parameters = serializers.DictField(required=False, default=dict)
    metrics = serializers.DictField(required=False, default=dict)
    series = serializers.DictField(required=False, default=dict)
    command = serializers.CharField(required=False, default="", allow_blank=True, trim_whitespace=False)
    state = serializers.ChoiceField(["done", "failed"], required=False, default="done")
    exit_code = serializers.IntegerField(required=False, allow_null=True, default=None)
    note = serializers.CharField(required=False, default="", allow_blank=True, max_length=500)
    began = serializers.DateTimeField(required=False, allow_null=True, default=None)
    took_seconds = serializers.FloatField(required=False, allow_null=True, default=None, min_value=0)


class CourseOut(serializers.Serializer[Any]):
    """The course of a metric in a run: [step, value], thinned to what a drawing shows."""

    number = serializers.IntegerField()
    branch = serializers.CharField()
    points = serializers.ListField(child=serializers.ListField(child=serializers.FloatField()))


class AdoptIn(serializers.Serializer[Any]):
    """Which branch is proposed; its own if left out."""

    branch = serializers.CharField(required=False, default="", allow_blank=True)
    title = serializers.CharField(required=False, default="", allow_blank=True, max_length=300)
    reviewers = serializers.ListField(child=serializers.CharField(), required=False, default=list)


class AbandonIn(serializers.Serializer[Any]):
    """Why it is abandoned."""

    reason = serializers.CharField()


_STATES = ("open", "adopted", "abandoned", "all")
_BASE = OpenApiParameter("base", int, description="Run that the others are compared with; the first if left out.")


def _told(experiment: Experiment, status: int = 200) -> Response:
    return Response(actions.experiment_detail(experiment, None), status=status)


class ExperimentsView(ShelfView):
    """Experiments of a shelf."""

    @extend_schema(
        operation_id="experiments_list",
        parameters=[
            OpenApiParameter("state", str, enum=_STATES, description="All if left out."),
            OpenApiParameter("branch", str, description="Only those tried on this branch."),
            OpenApiParameter("words", str, description="Those with these words in question, key or branch."),
            LIMIT,
            CURSOR,
        ],
        responses=ExperimentPage,
    )
    def get(self, request: Any, shelf: str) -> Response:
        """List experiments, open ones first, each with what its runs show so far."""
        _, found = self.shelf(request, shelf)
        state = one_of(request, "state", _STATES, "all", "a state of an experiment")
        branch = request.query_params.get("branch", "")
        return Response(actions.list_experiments(found, state=state, branch=branch, **page_of(request)))

    @extend_schema(operation_id="experiments_begin", request=NewExperiment, responses={201: ExperimentOut})
    def post(self, request: Any, shelf: str) -> Response:
        """Begin an experiment; its branch is created if it does not exist."""
        caller, found = self.shelf(request, shelf)
        values = valid(NewExperiment, request)
        question = values.pop("question")
        return _told(actions.begin(caller, found, question, **values), 201)


class _OneExperiment(ShelfView):
    """A view of one experiment."""

    def experiment(self, request: Any, shelf: str, key: str) -> tuple[Caller, Experiment]:
        """The caller and the experiment."""
        caller, found = self.shelf(request, shelf)
        return caller, actions.get_experiment(found, key)


class ExperimentView(_OneExperiment):
    """One experiment."""

    @extend_schema(operation_id="experiments_get", parameters=[_BASE], responses=ExperimentOut)
    def get(self, request: Any, shelf: str, key: str) -> Response:
        """Return an experiment with its runs side by side."""
        _, found = self.experiment(request, shelf, key)
        base = number(request, "base", 0) if "base" in request.query_params else None
        return Response(actions.experiment_detail(found, base))

    @extend_schema(operation_id="experiments_change", request=ExperimentChange, responses=ExperimentOut)
    def patch(self, request: Any, shelf: str, key: str) -> Response:
        """Change the question of an experiment, or the metric that answers it."""
        caller, found = self.experiment(request, shelf, key)
        actions.change(caller, found, **valid(ExperimentChange, request))
        return _told(found)


class RunsView(_OneExperiment):
    """Runs of an experiment."""

    @extend_schema(operation_id="experiments_record_run", request=NewRun, responses={201: RunOut})
    def post(self, request: Any, shelf: str, key: str) -> Response:
        """Record a run of an experiment."""
        caller, found = self.experiment(request, shelf, key)
        given = actions.RunGiven(**valid(NewRun, request))
        return Response(actions.run_json(actions.record_run(caller, found, given)), status=201)


class CoursesView(_OneExperiment):
    """Courses of a metric."""

    @extend_schema(
        operation_id="experiments_courses",
        parameters=[
            OpenApiParameter("metric", str, required=True, description="Name of the course."),
            OpenApiParameter("runs", str, description="Numbers of runs, with commas; all if left out."),
        ],
        responses=CourseOut(many=True),
    )
    def get(self, request: Any, shelf: str, key: str) -> Response:
        """Return one metric over the steps of some runs."""
        _, found = self.experiment(request, shelf, key)
        wanted = request.query_params.get("runs", "")
        if wanted and not all(part.isascii() and part.isdigit() and len(part) < 9 for part in wanted.split(",")):
            raise InvalidError("runs are numbers with commas between", code="input.number")
        numbers = [int(part) for part in wanted.split(",")] if wanted else None
        return Response(actions.courses_of(found, request.query_params.get("metric", ""), numbers))


class AdoptView(_OneExperiment):
    """Adopting."""

    @extend_schema(operation_id="experiments_adopt", request=AdoptIn, responses=ExperimentOut)
    def post(self, request: Any, shelf: str, key: str) -> Response:
        """Open a proposal for an experiment's branch, and close the experiment."""
        caller, found = self.experiment(request, shelf, key)
        values = valid(AdoptIn, request)
        return _told(actions.adopt(caller, found, **values))


class AbandonView(_OneExperiment):
    """Abandoning."""

    @extend_schema(operation_id="experiments_abandon", request=AbandonIn, responses=ExperimentOut)
    def post(self, request: Any, shelf: str, key: str) -> Response:
        """Abandon an experiment with a reason. Its branch and runs are kept."""
        caller, found = self.experiment(request, shelf, key)
        return _told(actions.abandon(caller, found, valid(AbandonIn, request)["reason"]))


urlpatterns = [
    path("", ExperimentsView.as_view()),
    path("/<str:key>", ExperimentView.as_view()),
    path("/<str:key>/runs", RunsView.as_view()),
    path("/<str:key>/courses", CoursesView.as_view()),
    path("/<str:key>/adopt", AdoptView.as_view()),
    path("/<str:key>/abandon", AbandonView.as_view()),
]
