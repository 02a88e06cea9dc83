"""The trail: who did what, in which portfolio, when. Acts that went well are written down as their answer leaves.

What is done, such as a release, says itself who made it, in the same transaction. The trail adds what leaves nothing
behind, and shows all of it in a row; where the machine fails between an act and its answer, the act may not be on it.
"""

from __future__ import annotations

import logging
from collections.abc import Callable
from typing import Any

import polars as pl
from django.db import DatabaseError
from django.db.models import QuerySet
from django.http import HttpRequest, HttpResponse
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response

from tansy.engine.study.export import csv_of
from tansy.server.accounts.models import Token, Trace
from tansy.server.api.fields import page_of

_log = logging.getLogger("tansy.trail")
_PORTFOLIO = "tansy.portfolio"
_WHO = "tansy.who"
_NAME = "tansy.name"
_LOOKED = "tansy.looked"
_MOST = 200
_LONGEST = 200
Answer = Callable[[HttpRequest], HttpResponse]


def done_in(request: Request, portfolio: int) -> None:
    """Say which portfolio an act is in, where its address does not."""
    request.META[_PORTFOLIO] = portfolio


def done_by(request: Request, name: str) -> None:
    """Say who acts where nobody is signed in before, or after."""
    request.META[_WHO] = name


def nothing_done(request: Request) -> None:
    """Say that a call which may act has only looked."""
    request.META[_LOOKED] = True


def done_to(request: Request, name: str) -> None:
    """Say to whom something is done, where the answer does not."""
    request.META[_NAME] = name


class Trail:
    """Middleware."""

    def __init__(self, get_response: Answer) -> None:
        self._get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        response = self._get_response(request)
        asked = getattr(response, "renderer_context", {}).get("request")
        if response.status_code < 400 and asked is not None:
            _write(asked, response)
        return response


def _write(request: Request, response: Any) -> None:
    view: Any = request.parser_context.get("view")
    act = getattr(view, "acts", {}).get(request.method)
    if view is None or act is None or not act.words or _LOOKED in request.META:
        return
    answer = response.data if isinstance(getattr(response, "data", None), dict) else {}
    told = {"id": view.kwargs.get("pk"), "made": answer.get("id"), "role": answer.get("role")}
    told["name"] = request.META.get(_NAME) or answer.get("name")
    write_down(request, request.META.get(_PORTFOLIO), act.words.format(**told))


def write_down(request: Request, portfolio: int | None, words: str) -> None:
    """Put what was done by whoever asked on the trail; of what is only read, what takes everything along."""
    row = Trace(
        who=request.META.get(_WHO) or request.user.get_username(),
        by=request.auth.name if isinstance(request.auth, Token) else "",
        portfolio=portfolio,
        words=words[:_LONGEST],
    )
    try:
        row.save()
    except DatabaseError:  # what was done is done, and is not to be done again because it could not be written here
        _log.exception("not on the trail: %s %s", row.who, row.words)


class TraceSerializer(serializers.ModelSerializer):
    class Meta:
        model = Trace
        fields = ["id", "at", "who", "by", "portfolio", "words"]


class TracesSerializer(serializers.Serializer):
    """count: of all that were asked for."""

    count = serializers.IntegerField()
    traces = TraceSerializer(many=True)


def page(request: Request, traces: QuerySet[Trace]) -> Response:
    """Some of a trail, the newest first: before=ID goes on where a page ended."""
    rows = TraceSerializer(page_of(request, traces, _MOST), many=True).data
    return Response({"count": traces.count(), "traces": rows})


def file_of(traces: QuerySet[Trace]) -> HttpResponse:
    """All of a trail as CSV, the oldest first."""
    rows = traces.order_by("pk").values_list("at", "who", "by", "portfolio", "words")
    columns = {"at": pl.String, "who": pl.String, "token": pl.String, "portfolio": pl.Int64, "did": pl.String}
    table = pl.DataFrame([(one[0].isoformat(), *one[1:]) for one in rows.iterator()], columns, orient="row")
    headers = {"Content-Disposition": 'attachment; filename="trail.csv"'}
    return HttpResponse(csv_of(table), content_type="text/csv", headers=headers)
