"""The errors in the API's description. Every error is a problem document, and which an operation can give follows from
what it is asked with and what it stands on."""

from __future__ import annotations

from typing import Any

_PROBLEM = {
    "type": "object",
    "description": "Problem details (RFC 9457): one sentence in `detail`, and the field where it stands in `errors`.",
    "properties": {
        "type": {"type": "string"},
        "status": {"type": "integer"},
        "title": {"type": "string"},
        "detail": {"type": "string"},
        "errors": {"type": "object", "additionalProperties": {}},
    },
    "required": ["type", "status", "title", "detail"],
}
_SAID = {
    400: "The request cannot be understood: a field is missing or of the wrong sort.",
    401: "Nobody is signed in, or the name, password or token is not known.",
    403: "The request does not come from a page of this server, or its sign-in has ended.",
    404: "There is no such thing.",
    409: "The thing is in a state in which this cannot be done.",
    422: "The request is understood but cannot be done with this data; the sentence says why.",
    503: "Others write or read something large, and have for a while; the same can be asked again in a minute.",
}


def with_errors(result: dict[str, Any], generator: Any, request: Any, public: bool) -> dict[str, Any]:
    """Put the errors that each operation can give into the description; called by its maker at the end."""
    parts = result["components"]
    parts["schemas"]["Problem"] = _PROBLEM
    content = {"application/problem+json": {"schema": {"$ref": "#/components/schemas/Problem"}}}
    parts["responses"] = {f"Problem{status}": {"description": why, "content": content} for status, why in _SAID.items()}
    for path, verbs in result["paths"].items():
        for verb, operation in verbs.items():
            for status in _errors_of(path, verb, operation):
                operation["responses"][str(status)] = {"$ref": f"#/components/responses/Problem{status}"}
    return result


def _errors_of(path: str, verb: str, operation: dict[str, Any]) -> list[int]:
    places = {parameter["in"] for parameter in operation.get("parameters", [])}
    changes, asks = verb != "get", "requestBody" in operation or "query" in places
    of_a_result = (
        path.startswith("/api/studies/{id}/")
        or path.endswith("/report/")
        or any(parameter["name"] == "study" for parameter in operation.get("parameters", []))
    )
    return [
        *([400] if changes or asks else []),
        *(401, 403),
        *([404] if "path" in places or path.startswith("/api/session/") else []),
        *([409] if changes or of_a_result else []),
        *([422] if changes or asks or of_a_result else []),
        *([503] if changes else []),
    ]
