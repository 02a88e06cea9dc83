"""A signed-in client, and a small portfolio to work with."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from django.contrib.auth.models import User
from django.core.files.uploadedfile import SimpleUploadedFile
from rest_framework.test import APIClient

from tansy.server.portfolios import panels
from tansy.server.studies import services, tries_api
from tansy.server.studies.models import Study
from tests.garden import PRODUCTS, RECIPE, SALES


@pytest.fixture(autouse=True)
def data_folder(settings: Any, tmp_path: Path) -> Path:
    settings.DATA = tmp_path
    settings.DEMO_MARK = tmp_path / "demo.json"
    panels.forget()
    services.forget()
    tries_api.forget()
    return tmp_path


@pytest.fixture
def user(db: None) -> User:
    return User.objects.create_user("ines", password="quiet-garden")


@pytest.fixture
def client(user: User) -> APIClient:
    made = APIClient()
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
    services.carry_out(study.run)
    return study
