"""What browsers are told beside every answer."""

from __future__ import annotations

from collections.abc import Callable

from django.http import HttpRequest, HttpResponse

PAGE = "; ".join(
    (
        "default-src 'self'",
        "script-src 'self'",  # none in the page itself, so that no name of a product can be one
        "style-src 'self' 'unsafe-inline'",  # sizes that pictures give to their parts
        "img-src 'self' data: blob:",
        "object-src 'none'",
        "base-uri 'none'",
        "form-action 'self'",
        "frame-ancestors 'none'",
    )
)
"""The front end: scripts come from this server's files alone, and no other page holds it in a frame."""
DATA = "default-src 'none'; style-src 'unsafe-inline'; img-src data:; frame-ancestors 'none'; base-uri 'none'"
"""Answers of the API, and the report, which has its pictures and its style in itself: nothing in them runs."""


class SafeHeaders:
    """Middleware that adds a content policy, and leaves out what a page of this kind never needs."""

    def __init__(self, answer: Callable[[HttpRequest], HttpResponse]) -> None:
        self._answer = answer

    def __call__(self, request: HttpRequest) -> HttpResponse:
        response = self._answer(request)
        response.headers.setdefault("Content-Security-Policy", DATA if request.path.startswith("/api/") else PAGE)
        response.headers.setdefault("Permissions-Policy", "camera=(), geolocation=(), microphone=(), payment=()")
        return response
