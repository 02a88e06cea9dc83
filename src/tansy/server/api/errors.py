"""Errors as problem details (RFC 9457): one sentence in `detail`, the field where it stands in `errors`."""

from __future__ import annotations

import logging
from collections.abc import Callable
from http.client import responses
from typing import Any

from django.http import Http404, HttpRequest, HttpResponse, JsonResponse
from rest_framework import exceptions
from rest_framework.response import Response
from rest_framework.views import exception_handler

from tansy.engine.errors import TansyError
from tansy.server.faults import Fault, fault_of

logger = logging.getLogger("tansy.api")


class Unusable(exceptions.APIException):
    """The input is understood but cannot be used; said to the person as it stands."""

    status_code = 422
    default_code = "unusable"


class Conflict(exceptions.APIException):
    """The thing is in a state in which this cannot be done."""

    status_code = 409
    default_code = "conflict"


class Busy(exceptions.APIException):
    """Others are served first; it can be done later."""

    status_code = 503
    default_code = "busy"


class Damaged(exceptions.APIException):
    """What is kept is not what was written."""

    status_code = 500
    default_code = "damaged"


_NOT_FOUND = "There is nothing at this address; it may have been deleted, or belong to another portfolio."


def _first(errors: Any, path: str = "") -> tuple[str, str]:
    """The first message among errors, however deep it lies, and the field it stands at."""
    if isinstance(errors, dict) and errors:
        name, inner = next(iter(errors.items()))
        here = "" if name == "non_field_errors" else str(name)
        return _first(inner, f"{path} {here}".strip())
    if isinstance(errors, list) and errors:
        return _first(errors[0], path)
    return path, str(errors)


_OURS = "Something went wrong that is not your doing; the server's log says what. Try it again."
_OF_MACHINE = {
    Fault.MEMORY: (500, "There is not enough memory for this; close other programs, or ask for less at once."),
    Fault.DISK_FULL: (507, "The server's disk is full; nothing was changed. Make room on it and try again."),
    Fault.NOT_WRITABLE: (500, "The data folder of the server cannot be written to; nothing was changed."),
    Fault.BUSY: (503, "Something large is being written, such as a portfolio that is taken in; try again in a minute."),
}


def unexpected(error: BaseException) -> Response:
    """What is nobody's input: logged whole, and said to the person in a sentence."""
    fault = fault_of(error)
    if isinstance(error, RecursionError):
        status, sentence = 400, "The body is nested too deeply to be read."
    else:
        status, sentence = _OF_MACHINE[fault] if fault else (500, _OURS)
        logger.error("unexpected", exc_info=error)
    return Response(plain(status, sentence), status=status, content_type="application/problem+json")


def plain(status: int, sentence: str) -> dict[str, Any]:
    """Problem details of a sentence alone."""
    return {"type": "about:blank", "status": status, "title": responses.get(status, ""), "detail": sentence}


def view_of(status: int, sentence: str) -> Callable[..., HttpResponse]:
    """For what fails before or outside of a view of the API."""

    def view(request: HttpRequest, *args: Any, **more: Any) -> HttpResponse:
        return JsonResponse(plain(status, sentence), status=status, content_type="application/problem+json")

    return view


bad_request = view_of(400, "This request cannot be understood.")
not_found = view_of(404, _NOT_FOUND)
broken = view_of(500, _OURS)


def problem(error: Exception, context: dict[str, Any]) -> Response | None:
    """DRF's exception handler. An engine error is the planner's input, not ours, and becomes a 422."""
    if isinstance(error, TansyError):
        error = Unusable(str(error))
    if isinstance(error, Http404):
        error = exceptions.NotFound(_NOT_FOUND)
    response = exception_handler(error, context)
    if response is None:
        return unexpected(error)
    data = response.data
    errors: dict[str, Any] = {}
    if isinstance(data, dict) and "detail" in data:
        detail = str(data["detail"])
    else:
        errors = data if isinstance(data, dict) else {"": data}
        field, first = _first(errors)
        detail = f"{field}: {first}" if field else first
    response.data = {
        "type": "about:blank",
        "status": response.status_code,
        "title": response.status_text,
        "detail": detail,
    }
    if errors:
        response.data["errors"] = errors
    response.content_type = "application/problem+json"
    return response
