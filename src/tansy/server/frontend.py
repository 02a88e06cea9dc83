"""The page that the front end lives in."""

from django.conf import settings
from django.http import HttpRequest, HttpResponse
from django.views.decorators.cache import never_cache
from django.views.decorators.csrf import ensure_csrf_cookie


@never_cache
@ensure_csrf_cookie
def index(request: HttpRequest) -> HttpResponse:
    """The built index.html for every address that is neither the API nor a file."""
    try:
        page = settings.WEB_INDEX.read_text(encoding="utf-8")
    except OSError:
        return HttpResponse("The front end is not built; run `make setup`.", status=503, content_type="text/plain")
    return HttpResponse(page)
