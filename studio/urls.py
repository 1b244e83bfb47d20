"""Addresses: the API, the event stream, and the page for everything else."""

from django.conf import settings
from django.http import FileResponse, HttpRequest, HttpResponse
from django.urls import path, re_path
from django.views.decorators.csrf import ensure_csrf_cookie

from studio.api import api
from studio.events import stream
from studio.health import health


@ensure_csrf_cookie
def page(_request: HttpRequest) -> HttpResponse | FileResponse:
    """The one page of the application."""
    index = settings.WEB_DIST / "index.html"
    if not index.exists():
        return HttpResponse("The page is not built; run ./zinc start.", status=503, content_type="text/plain")
    return HttpResponse(index.read_bytes(), content_type="text/html", headers={"Cache-Control": "no-cache"})


handler400, handler403 = "studio.answers.bad_request", "studio.answers.forbidden"
handler404 = "studio.answers.not_found"
handler500 = "studio.answers.failed"
urlpatterns = [
    path("api/events", stream),
    path("api/health", health),
    path("api/", api.urls),
    re_path(r"^(?!api/|assets/).*$", page),
]
