"""Environments, bindings, rehearsal, promotion, rollback, drift and capture."""

from __future__ import annotations

from typing import Any

from django.http import HttpResponse
from django.urls import path
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.response import Response

from everyshelf.core.errors import InvalidError
from everyshelf.service.environments import shapes
from everyshelf.service.environments.actions import beside, bindings, environments, gates, promotion, reality, rehearsal
from everyshelf.service.environments.actions.deployment_report import report_on_deployment
from everyshelf.service.environments.models import Deployment, Environment
from everyshelf.service.http.reports import FORM, as_report, form_wanted
from everyshelf.service.http.views import number, valid
from everyshelf.service.jobs.actions import job_json
from everyshelf.service.jobs.api import JobOut
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.actions.refs import resolve
from everyshelf.service.shelves.api.base import CURSOR, LIMIT, ShelfView

_BRANCH = OpenApiParameter("branch", str, description="The branch beside it; the one that feeds it if left out.")
_TAG = OpenApiParameter("tag", str, required=True, description="The tag that is to go there.")
_NAME = OpenApiParameter("name", str, required=True, description="Name of the binding.")


class EnvironmentBase(ShelfView):
    """A view of one environment."""

    def environment(self, request: Any, key: str, name: str) -> tuple[Caller, Environment]:
        """The caller and the environment, if the caller sees the shelf."""
        caller, shelf = self.shelf(request, key)
        return caller, environments.get_environment(shelf, name)


class EnvironmentsView(ShelfView):
    """The environments of a shelf."""

    @extend_schema(operation_id="environments_list", responses=shapes.EnvironmentOut(many=True))
    def get(self, request: Any, shelf: str) -> Response:
        """List environments in the order of their routes."""
        _, found = self.shelf(request, shelf)
        return Response([environments.environment_json(e) for e in environments.list_environments(found)])

    @extend_schema(
        operation_id="environments_make", request=shapes.NewEnvironment, responses={201: shapes.EnvironmentOut}
    )
    def post(self, request: Any, shelf: str) -> Response:
        """Make an environment."""
        caller, found = self.shelf(request, shelf)
        made = environments.make_environment(caller, found, **valid(shapes.NewEnvironment, request))
        return Response(environments.environment_json(made), status=201)


class TrialsView(ShelfView):
    """Trial environments."""

    @extend_schema(operation_id="environments_try", request=shapes.NewTrial, responses={201: shapes.EnvironmentOut})
    def post(self, request: Any, shelf: str) -> Response:
        """Make a trial environment from a tag; it is removed automatically."""
        caller, found = self.shelf(request, shelf)
        values = valid(shapes.NewTrial, request)
        tag = promotion.find_tag(found, values.pop("tag"))
        made = environments.make_trial(caller, found, values.pop("name"), tag, values.pop("days"), **values)
        return Response(environments.environment_json(made), status=201)


class EnvironmentView(EnvironmentBase):
    """One environment."""

    @extend_schema(operation_id="environments_get", responses=shapes.EnvironmentOut)
    def get(self, request: Any, shelf: str, name: str) -> Response:
        """Return an environment: the running tag, its gates and its settings."""
        return Response(environments.environment_json(self.environment(request, shelf, name)[1]))

    @extend_schema(
        operation_id="environments_change", request=shapes.EnvironmentChange, responses=shapes.EnvironmentOut
    )
    def patch(self, request: Any, shelf: str, name: str) -> Response:
        """Change settings of an environment."""
        caller, found = self.environment(request, shelf, name)
        values = valid(shapes.EnvironmentChange, request)
        return Response(environments.environment_json(environments.change_environment(caller, found, **values)))

    @extend_schema(operation_id="environments_remove", responses={204: None})
    def delete(self, request: Any, shelf: str, name: str) -> Response:
        """Remove an environment that was never deployed to, or end a trial environment."""
        caller, found = self.shelf(request, shelf)
        environments.remove_environment(caller, found, name)
        return Response(status=204)


class BindingsView(EnvironmentBase):
    """The values that differ per environment."""

    @extend_schema(operation_id="bindings_list", responses=shapes.BindingOut(many=True))
    def get(self, request: Any, shelf: str, name: str) -> Response:
        """List the bindings that ``shelf.toml`` declares, and which of them have a value."""
        return Response(bindings.bindings_json(self.environment(request, shelf, name)[1]))

    @extend_schema(operation_id="bindings_set", request=shapes.BindingIn, responses=shapes.BindingOut(many=True))
    def put(self, request: Any, shelf: str, name: str) -> Response:
        """Set the value of a binding in an environment."""
        caller, found = self.environment(request, shelf, name)
        values = valid(shapes.BindingIn, request)
        bindings.set_binding(caller, found, values["name"], values["value"], secret=values["secret"])
        return Response(bindings.bindings_json(found))

    @extend_schema(operation_id="bindings_remove", parameters=[_NAME], responses={204: None})
    def delete(self, request: Any, shelf: str, name: str) -> Response:
        """Remove the value of a binding in an environment."""
        caller, found = self.environment(request, shelf, name)
        bindings.remove_binding(caller, found, request.query_params.get("name", ""))
        return Response(status=204)


class ReviewsView(EnvironmentBase):
    """Who agrees that a tag goes there."""

    @extend_schema(operation_id="reviews_list", parameters=[_TAG], responses=shapes.EnvironmentReviewOut(many=True))
    def get(self, request: Any, shelf: str, name: str) -> Response:
        """List the newest review of each person for the commit of a tag."""
        _, found = self.environment(request, shelf, name)
        tag = promotion.find_tag(found.shelf, request.query_params.get("tag", ""))
        return Response([_review(r) for r in gates.reviews_of(found, tag.commit)])

    @extend_schema(
        operation_id="reviews_give", request=shapes.EnvironmentReviewIn, responses={201: shapes.EnvironmentReviewOut}
    )
    def post(self, request: Any, shelf: str, name: str) -> Response:
        """Agree to or speak against promoting a tag to an environment."""
        caller, found = self.environment(request, shelf, name)
        values = valid(shapes.EnvironmentReviewIn, request)
        tag = promotion.find_tag(found.shelf, values["tag"])
        given = gates.review(caller, found, tag, agrees=values["agrees"], comment=values["comment"])
        return Response(_review(given), status=201)


def _review(found: Any) -> dict[str, Any]:
    return {"person": found.person.username, "agrees": found.agrees, "comment": found.comment, "given": found.given}


class DeploymentsView(EnvironmentBase):
    """The history of an environment."""

    @extend_schema(operation_id="deployments_list", parameters=[LIMIT, CURSOR], responses=shapes.DeploymentPage)
    def get(self, request: Any, shelf: str, name: str) -> Response:
        """List the deployments to an environment, newest first."""
        _, found = self.environment(request, shelf, name)
        limit, cursor = number(request, "limit", 100), request.query_params.get("cursor", "")
        return Response(environments.list_deployments(found, limit=limit, cursor=cursor))


class RehearseView(EnvironmentBase):
    """Trying a promotion."""

    looks = True

    @extend_schema(operation_id="environments_rehearse", request=shapes.TagWanted, responses=shapes.RehearsalOut)
    def post(self, request: Any, shelf: str, name: str) -> Response:
        """Return what promoting a tag would do, without changing anything."""
        _, found = self.environment(request, shelf, name)
        tag = promotion.find_tag(found.shelf, valid(shapes.TagWanted, request)["tag"])
        return Response(rehearsal.rehearse_tag(found, tag))


class ReportView(EnvironmentBase):
    """A rehearsal to keep or to send."""

    @extend_schema(
        operation_id="environments_report",
        responses={(200, "text/html"): OpenApiTypes.BINARY},
        parameters=[_TAG, FORM],
    )
    def get(self, request: Any, shelf: str, name: str) -> HttpResponse:
        """Return a rehearsal as one self-contained HTML page, Markdown or JSON."""
        _, found = self.environment(request, shelf, name)
        form = form_wanted(request)
        tag = promotion.find_tag(found.shelf, request.query_params.get("tag", ""))
        text = rehearsal.report_on(found, tag, form)
        return as_report(text, f"rehearsal of {tag.name} into {name}", form)


class DeploymentReportView(EnvironmentBase):
    """A promotion that was made, to keep or to send."""

    @extend_schema(
        operation_id="deployments_report",
        responses={(200, "text/html"): OpenApiTypes.BINARY},
        parameters=[FORM],
    )
    def get(self, request: Any, shelf: str, name: str, number: int) -> HttpResponse:
        """Return what a deployment changed, under which conditions, who made that and why, as one self-contained HTML
        page, Markdown or JSON."""
        caller, found = self.environment(request, shelf, name)
        form = form_wanted(request)
        text = report_on_deployment(caller, found, number, form)
        return as_report(text, f"deployment {number} in {name}", form)


class PromoteView(EnvironmentBase):
    """Putting a tag in place."""

    @extend_schema(operation_id="environments_promote", request=shapes.PromotionWanted, responses={202: JobOut})
    def post(self, request: Any, shelf: str, name: str) -> Response:
        """Start a promotion and return its job."""
        caller, found = self.environment(request, shelf, name)
        promotion.require_promote(caller, found)
        values = valid(shapes.PromotionWanted, request)
        tag = promotion.find_tag(found.shelf, values.pop("tag"))
        key, force = _request_key(request), values.pop("force")
        planned = promotion.find_by_key(found, key)
        if planned is None:
            said = {name: values[name] for name in ("overwrite_drift", "reason", "lose")}
            forced = promotion.check_promotion(caller, found, tag, force=force, **said)
            planned = promotion.plan_promotion(caller, found, tag, forced=forced, request_key=key, **values)
        return _job_of(planned)


class TryDraftView(EnvironmentBase):
    """Trying a draft."""

    @extend_schema(operation_id="environments_try_draft", request=shapes.DraftWanted, responses={202: JobOut})
    def post(self, request: Any, shelf: str, name: str) -> Response:
        """Deploy your draft of a branch to a trial environment."""
        self.shelf(request, shelf, "make trial environments")
        caller, found = self.environment(request, shelf, name)
        promotion.require_promote(caller, found)
        if found.trial_of is None:
            raise InvalidError(
                f"{name} is not a trial environment: only tags go there",
                code="environment.no_trial",
                hint="Make one: everyshelf env try NAME tag:NAME",
            )
        values = valid(shapes.DraftWanted, request)
        state = resolve(found.shelf, f"draft:{values.pop('branch')}", request.user)
        planned = promotion.plan_promotion(
            caller, found, found.trial_of, root=state.root, request_key=_request_key(request), **values
        )
        return _job_of(planned)


class RollbackView(EnvironmentBase):
    """Going back."""

    @extend_schema(operation_id="environments_roll_back", request=shapes.RollbackWanted, responses={202: JobOut})
    def post(self, request: Any, shelf: str, name: str) -> Response:
        """Start returning an environment to an earlier deployment, and return the job."""
        caller, found = self.environment(request, shelf, name)
        promotion.require_promote(caller, found)
        values = valid(shapes.RollbackWanted, request)
        key = _request_key(request)
        planned = promotion.find_by_key(found, key)
        if planned is None:
            target = promotion.roll_back_target(found, values.pop("to"))
            agreed = {"overwrite_drift": values["overwrite_drift"], "lose": values["lose"]}
            promotion.check_roll_back(caller, found, target, **agreed)
            planned = promotion.plan_promotion(caller, found, target.tag, back_to=target, request_key=key, **values)
        return _job_of(planned)


def _request_key(request: Any) -> str:
    return str(request.headers.get("Idempotency-Key", ""))[:100]


def _job_of(planned: Deployment) -> Response:
    """The job of a deployment: the one it has already, if this request came before."""
    return Response(job_json(promotion.job_of(planned)), status=202)


class DriftView(EnvironmentBase):
    """What was changed there."""

    @extend_schema(operation_id="environments_drift", parameters=[_BRANCH], responses=shapes.DifferencesOut)
    def get(self, request: Any, shelf: str, name: str) -> Response:
        """Return for each artifact whether it differs in the environment, on the shelf or in both."""
        _, found = self.environment(request, shelf, name)
        return Response(reality.differences(found, request.query_params.get("branch", "")))

    @extend_schema(operation_id="environments_look", request=None, responses=shapes.KnownDrift(many=True))
    def post(self, request: Any, shelf: str, name: str) -> Response:
        """Check an environment for drift now; the result is kept with the environment."""
        _, found = self.environment(request, shelf, name)
        return Response(reality.check_drift(found))


class BesideView(EnvironmentBase):
    """Two environments."""

    @extend_schema(operation_id="environments_compare", responses=shapes.BesideOut)
    def get(self, request: Any, shelf: str, name: str, other: str) -> Response:
        """Compare what is really in two environments."""
        _, found = self.environment(request, shelf, name)
        return Response(beside.beside(found, environments.get_environment(found.shelf, other)))


class CaptureView(EnvironmentBase):
    """Bringing back what was changed there."""

    @extend_schema(operation_id="environments_capture", request=shapes.CaptureWanted, responses=shapes.CaptureOut)
    def post(self, request: Any, shelf: str, name: str) -> Response:
        """Capture changes made in an environment in your draft of a branch."""
        caller, found = self.environment(request, shelf, name)
        values = valid(shapes.CaptureWanted, request)
        return Response(reality.capture(caller, found, values["branch"], values["paths"], values["prefer"]))


urlpatterns = [
    path("", EnvironmentsView.as_view()),
    path("/trials", TrialsView.as_view()),
    path("/<str:name>", EnvironmentView.as_view()),
    path("/<str:name>/bindings", BindingsView.as_view()),
    path("/<str:name>/reviews", ReviewsView.as_view()),
    path("/<str:name>/deployments", DeploymentsView.as_view()),
    path("/<str:name>/deployments/<int:number>/report", DeploymentReportView.as_view()),
    path("/<str:name>/rehearse", RehearseView.as_view()),
    path("/<str:name>/report", ReportView.as_view()),
    path("/<str:name>/promote", PromoteView.as_view()),
    path("/<str:name>/try-draft", TryDraftView.as_view()),
    path("/<str:name>/roll-back", RollbackView.as_view()),
    path("/<str:name>/drift", DriftView.as_view()),
    path("/<str:name>/beside/<str:other>", BesideView.as_view()),
    path("/<str:name>/capture", CaptureView.as_view()),
]
