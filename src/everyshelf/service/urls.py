"""Addresses: the interface under /api/v1/, health, and the console for all the rest."""

from django.urls import URLPattern, URLResolver, include, path, re_path
from drf_spectacular.views import SpectacularAPIView

from everyshelf.service.web import console, health

_v1: list[URLPattern | URLResolver] = [
    path("openapi", SpectacularAPIView.as_view(), name="openapi"),
    path("", include("everyshelf.service.people.api")),
    path("", include("everyshelf.service.shelves.api.member_views")),
    path("", include("everyshelf.service.jobs.api")),
    path("", include("everyshelf.service.backups.api")),
    path("", include("everyshelf.service.keeping.api")),
    path("locations", include("everyshelf.service.claims.api")),
    path("", include("everyshelf.service.shelves.api.log_views")),
    path("", include("everyshelf.service.news.api")),
    path("shelves", include("everyshelf.service.shelves.api.urls")),
    path("shelves/<str:shelf>/artifact", include("everyshelf.service.origins.api")),
    path("shelves/<str:shelf>/artifact", include("everyshelf.service.uses.api")),
    path("shelves/<str:shelf>/artifact", include("everyshelf.service.lineage.api")),
    path("shelves/<str:shelf>", include("everyshelf.service.reports.api")),
    path("find", include("everyshelf.service.find.api")),
    path("shelves/<str:shelf>/query", include("everyshelf.service.queries.api")),
    path("shelves/<str:shelf>/in-place", include("everyshelf.service.in_place.api")),
    path("shelves/<str:shelf>/views", include("everyshelf.service.saved_views.api")),
    path("shelves/<str:shelf>/drafts", include("everyshelf.service.drafts.api")),
    path("shelves/<str:shelf>/checks", include("everyshelf.service.checks.api")),
    path("shelves/<str:shelf>/proposals", include("everyshelf.service.proposals.api")),
    path("", include("everyshelf.service.proposals.waiting_api")),
    path("shelves/<str:shelf>/experiments", include("everyshelf.service.experiments.api")),
    path("shelves/<str:shelf>/git", include("everyshelf.service.exchange.api")),
    path("shelves/<str:shelf>/tasks", include("everyshelf.service.tasks.api")),
    path("shelves/<str:shelf>/webhooks", include("everyshelf.service.events.api")),
    path("shelves/<str:shelf>/environments", include("everyshelf.service.environments.api")),
    path("shelves/<str:shelf>/free-places", include("everyshelf.service.environments.places_api")),
]
urlpatterns = [
    path("api/v1/", include(_v1)),
    path("git/", include("everyshelf.service.exchange.urls")),
    path("dav", include("everyshelf.service.dav.urls")),
    path("healthz", health.healthz),
    path("readyz", health.readyz),
    re_path(r"^(?P<path>.*)$", console.page),
]
handler400 = "everyshelf.service.problems.bad_request"
handler404 = "everyshelf.service.problems.not_found"
handler500 = "everyshelf.service.problems.failed"
