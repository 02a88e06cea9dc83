"""A portfolio as one open archive, for whoever keeps it; it is taken in by `tansy import`."""

from __future__ import annotations

import tempfile
import time
from contextlib import suppress
from pathlib import Path
from shutil import rmtree

from django.conf import settings
from django.http import FileResponse
from django.utils.text import slugify
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import extend_schema
from rest_framework.generics import get_object_or_404
from rest_framework.request import Request
from rest_framework.views import APIView

from tansy.server import archive
from tansy.server.accounts.acts import Role
from tansy.server.accounts.trail import write_down
from tansy.server.portfolios.models import Portfolio

_BEFORE = "archive-"
_OLD = 86_400.0  # seconds


def _tidy() -> None:
    """Take away what a server that was killed has left of archives."""
    for one in settings.DATA.glob(f"{_BEFORE}*"):
        with suppress(FileNotFoundError):  # another one that has just been sent
            if one.stat().st_mtime < time.time() - _OLD:
                rmtree(one, ignore_errors=True)


class ArchiveView(APIView):
    seen_by = Role.KEEPER

    @extend_schema(responses={(200, "application/zip"): OpenApiTypes.BINARY})
    def get(self, request: Request, pk: int) -> FileResponse:
        """Everything of a portfolio (Parquet, TOML, JSON), one state of it whatever is written meanwhile."""
        portfolio = get_object_or_404(Portfolio, pk=pk)
        _tidy()
        with tempfile.TemporaryDirectory(prefix=_BEFORE, dir=settings.DATA) as folder:
            path = Path(folder) / "archive.zip"
            archive.export(portfolio, path)
            content = path.open("rb")  # it is there until the answer has been sent
        write_down(request, pk, "took everything out as an archive")
        name = slugify(portfolio.name) or f"portfolio-{pk}"
        return FileResponse(content, as_attachment=True, filename=f"{name}.zip", content_type="application/zip")
