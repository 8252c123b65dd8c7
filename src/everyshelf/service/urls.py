"""Addresses: the interface under /api/v1/, health, and the console for all the rest."""

from django.urls import include, path, re_path
from drf_spectacular.views import SpectacularAPIView

from everyshelf.service.web import console, health

_v1 = [
    path("openapi", SpectacularAPIView.as_view(), name="openapi"),
    path("", include("everyshelf.service.people.api")),
    path("", include("everyshelf.service.jobs.api")),
    path("shelves", include("everyshelf.service.shelves.api.urls")),
    path("shelves/<str:shelf>/drafts", include("everyshelf.service.drafts.api")),
    path("shelves/<str:shelf>/environments", include("everyshelf.service.environments.api")),
]
urlpatterns = [
    path("api/v1/", include(_v1)),
    path("healthz", health.healthz),
    re_path(r"^(?P<path>.*)$", console.page),
]
handler400 = "everyshelf.service.web.problems.bad_request"
handler404 = "everyshelf.service.web.problems.not_found"
handler500 = "everyshelf.service.web.problems.failed"
