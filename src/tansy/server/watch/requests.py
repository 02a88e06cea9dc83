"""Every request has an id, is counted, and is a line of the access log."""

from __future__ import annotations

import logging
import re
import time
from collections.abc import Callable
from uuid import uuid4

from django.http import HttpRequest, HttpResponse
from django.utils.functional import SimpleLazyObject
from prometheus_client import Counter, Histogram

from tansy.server.watch.log import request_id

_log = logging.getLogger("tansy.access")
_SAFE = re.compile(r"[A-Za-z0-9._-]{1,64}")
COUNT = Counter("tansy_requests", "Requests answered.", ["method", "status"])
SECONDS = Histogram(
    "tansy_request_seconds", "Until an answer was there.", buckets=(0.01, 0.03, 0.1, 0.3, 1.0, 3.0, 10.0, 30.0)
)


class Watched:
    """Middleware, the first of all. An id that a proxy has given is kept."""

    def __init__(self, answer: Callable[[HttpRequest], HttpResponse]) -> None:
        self._answer = answer

    def __call__(self, request: HttpRequest) -> HttpResponse:
        given = request.headers.get("X-Request-ID", "")
        own = given if _SAFE.fullmatch(given) else uuid4().hex
        request.__dict__["own_id"] = own  # for what is logged of it afterwards
        token = request_id.set(own)
        began = time.perf_counter()
        try:
            response = self._answer(request)
            took = time.perf_counter() - began
            response.headers["X-Request-ID"] = own
            COUNT.labels(request.method, response.status_code).inc()
            SECONDS.observe(took)
            if _log.isEnabledFor(logging.INFO):
                _log.info(
                    "%s %s %d",
                    request.method,
                    request.path,  # without its query, which may name what is looked for
                    response.status_code,
                    extra={
                        "method": request.method,
                        "path": request.path,
                        "status": response.status_code,
                        "ms": round(1000.0 * took, 1),
                        "bytes": 0 if response.streaming else len(response.content),
                        "user": _name(request),
                    },
                )
            return response
        finally:
            request_id.reset(token)


def _name(request: HttpRequest) -> str:
    """Who is signed in, where somebody asked who that is: a line of a log is not worth a query."""
    own = request.__dict__.get("user")  # of a token it is the person; of a session what would ask who it is
    known = request.__dict__.get("_cached_user") if type(own) is SimpleLazyObject else own
    return known.get_username() if known is not None and known.is_authenticated else ""
