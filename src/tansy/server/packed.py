"""Answers packed on their way."""

from __future__ import annotations

import gzip

from django.http import HttpRequest, HttpResponse
from django.http.response import HttpResponseBase
from django.middleware.gzip import GZipMiddleware
from django.utils.cache import patch_vary_headers

_TEXTS = ("text/", "application/json", "application/problem+json", "image/svg")
_LARGE = 1 << 20  # bytes: from there on the hardest packing takes longer than it saves


class Packed(GZipMiddleware):
    """Middleware: texts alone, as files of other kinds are packed already, and large ones lightly."""

    def process_response(self, request: HttpRequest, response: HttpResponseBase) -> HttpResponseBase:
        if not response.headers.get("Content-Type", "").startswith(_TEXTS):
            return response
        large = isinstance(response, HttpResponse) and len(response.content) > _LARGE
        if not large or response.has_header("Content-Encoding"):
            return super().process_response(request, response)
        patch_vary_headers(response, ("Accept-Encoding",))
        tag = response.headers.get("ETag", "")
        if "gzip" in request.META.get("HTTP_ACCEPT_ENCODING", ""):
            assert isinstance(response, HttpResponse)
            response.content = gzip.compress(response.content, 1, mtime=0)
            response.headers["Content-Length"] = str(len(response.content))
            response.headers["Content-Encoding"] = "gzip"
            if tag.startswith('"'):  # the same in content, and not byte by byte
                response.headers["ETag"] = f"W/{tag}"
        return response
