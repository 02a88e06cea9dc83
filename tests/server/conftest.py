"""A signed-in client, and a small portfolio to work with."""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any

import pytest
from django.contrib.auth.models import User
from django.core.files.uploadedfile import SimpleUploadedFile
from rest_framework.test import APIClient

from tansy.server.accounts.acts import Role
from tansy.server.portfolios import overview, panels
from tansy.server.portfolios.models import Member, Portfolio
from tansy.server.releases import bridge, track
from tansy.server.studies import adjustments, compare_api, running, services, tries_api
from tansy.server.studies.models import Study
from tests.garden import PRODUCTS, RECIPE, SALES

DESCRIBED: dict[str, Any] = json.loads((Path(__file__).parents[2] / "web" / "openapi.json").read_text())
PATHS = [
    (re.compile(re.sub(r"\\\{\w+\\\}", r"[^/]+", re.escape(path))), verbs) for path, verbs in DESCRIBED["paths"].items()
]


@pytest.fixture(autouse=True)
def data_folder(settings: Any, tmp_path: Path) -> Path:
    settings.DATA = tmp_path
    settings.DEMO_MARK = tmp_path / "demo.json"
    panels.forget()
    overview.forget()
    services.forget()
    adjustments.forget()
    track.forget()
    compare_api.forget()
    bridge.forget()
    tries_api.forget()
    return tmp_path


@pytest.fixture
def user(db: None) -> User:
    return User.objects.create_user("ines", password="quiet-garden")


def colleague(name: str, role: Role) -> User:
    """Somebody else who has a role in all portfolios that there are."""
    made = User.objects.create_user(name, password="quiet-garden")
    Member.objects.bulk_create(Member(portfolio=one, user=made, role=role) for one in Portfolio.objects.all())
    return made


class DescribedClient(APIClient):
    """A client to which every error is a fault that the API's description does not name."""

    def request(self, **more: Any) -> Any:
        answer = super().request(**more)
        verb, path = more["REQUEST_METHOD"].lower(), more["PATH_INFO"]
        if 400 <= answer.status_code < 500:
            described = next((verbs for way, verbs in PATHS if way.fullmatch(path) and verb in verbs), None)
            if described is not None:
                assert str(answer.status_code) in described[verb]["responses"], f"{verb} {path}: {answer.content!r}"
        return answer


@pytest.fixture
def client(user: User) -> APIClient:
    made = DescribedClient()
    made.force_authenticate(user)
    return made


def hand_in(client: APIClient, sales: str | bytes = SALES, *others: tuple[str, str], name: str = "sales.csv") -> Any:
    content = sales.encode() if isinstance(sales, str) else sales
    files = {"sales": SimpleUploadedFile(name, content)}
    if others:
        files["attributes"] = [SimpleUploadedFile(n, text.encode()) for n, text in others]  # type: ignore[assignment]
    return client.post("/api/uploads/", files, format="multipart")


@pytest.fixture
def portfolio(client: APIClient) -> dict[str, Any]:
    upload = hand_in(client, SALES, ("products.csv", PRODUCTS)).json()
    answer = client.post(f"/api/uploads/{upload['id']}/load/", {"name": "Garden", "options": {}}, format="json")
    assert answer.status_code == 201, answer.content
    return answer.json()


@pytest.fixture
def done(client: APIClient, portfolio: dict[str, Any]) -> Study:
    client.post(f"/api/portfolios/{portfolio['id']}/studies/", {"recipe": RECIPE}, format="json")
    study = Study.objects.get()
    running.carry_out(study.run)
    return study
