"""The console's page for every address that is none of the interface's; its files are served by whitenoise."""

from __future__ import annotations

from pathlib import Path

from django.http import HttpRequest, HttpResponse, HttpResponseBase
from django.views.decorators.csrf import csrf_exempt, ensure_csrf_cookie

from everyshelf.service.problems import not_found

_INDEX = Path(__file__).parent / "console" / "index.html"


@csrf_exempt
@ensure_csrf_cookie
def page(request: HttpRequest, path: str = "") -> HttpResponseBase:
    """index.html: the console finds its own way from the address."""
    if request.method not in ("GET", "HEAD"):
        return not_found(request)  # nothing is written here, whatever was sent with it
    last = path.rpartition("/")[2]
    if path.startswith(("api/", "assets/", "static/")) or ("." in last and not path.startswith("s/")):
        return not_found(request)
    if not _INDEX.exists():
        return HttpResponse(
            "The console was not built. Run `make console`, then start again.\n",
            status=503,
            content_type="text/plain; charset=utf-8",
        )
    response = HttpResponse(_INDEX.read_bytes(), content_type="text/html; charset=utf-8")
    response["Cache-Control"] = "no-cache"
    return response
