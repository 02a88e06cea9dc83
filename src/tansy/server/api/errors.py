"""Errors as problem details (RFC 9457): one sentence in `detail`, the field where it stands in `errors`."""

from __future__ import annotations

from typing import Any

from rest_framework import exceptions
from rest_framework.response import Response
from rest_framework.views import exception_handler

from tansy.engine.errors import TansyError


class Unusable(exceptions.APIException):
    """The input is understood but cannot be used; said to the person as it stands."""

    status_code = 422
    default_code = "unusable"


class Conflict(exceptions.APIException):
    """The thing is in a state in which this cannot be done."""

    status_code = 409
    default_code = "conflict"


def problem(error: Exception, context: dict[str, Any]) -> Response | None:
    """DRF's exception handler. An engine error is the planner's input, not ours, and becomes a 422."""
    if isinstance(error, TansyError):
        error = Unusable(str(error))
    response = exception_handler(error, context)
    if response is None:
        return None
    data = response.data
    errors: dict[str, Any] = {}
    if isinstance(data, dict) and "detail" in data:
        detail = str(data["detail"])
    else:
        errors = data if isinstance(data, dict) else {"": data}
        field, messages = next(iter(errors.items()))
        first = messages[0] if isinstance(messages, list) else messages
        detail = f"{field}: {first}" if field not in ("", "non_field_errors") else str(first)
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
