"""Handing in and loading: what is understood is shown, and everything or nothing goes in."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from rest_framework.test import APIClient

from tansy.server.portfolios import services
from tansy.server.portfolios.models import Load, Portfolio, Series, Upload
from tests.garden import N_WEEKS, PRODUCTS, SALES
from tests.server.conftest import hand_in


def test_preview_shows_roles_with_reasons_and_can_be_corrected(client: APIClient) -> None:
    upload = hand_in(client, SALES, ("products.csv", PRODUCTS)).json()
    url = f"/api/uploads/{upload['id']}/preview/"
    preview = client.post(url, {}, format="json").json()
    assert {c["name"]: c["role"] for c in preview["columns"]} == {
        "week": "time", "product": "key", "store": "key", "region": "attribute", "units": "value",
    }  # fmt: skip
    assert preview["understood"]["n_series"] == 18 and preview["understood"]["n_periods"] == N_WEEKS
    assert [k["levels"] for k in preview["understood"]["keys"]] == [["group"], ["region"]]
    corrected = client.post(url, {"keys": ["product"], "attribute_columns": {}}, format="json").json()
    assert corrected["understood"]["n_series"] == 6
    assert {c["name"]: c["role"] for c in corrected["columns"]}["store"] == "ignored"
    assert not Portfolio.objects.exists()


def test_a_file_that_needs_the_planner_says_so_and_keeps_its_rows_in_view(client: APIClient) -> None:
    upload = hand_in(client, "week,sku,a,b\n2025-W01,x,1,2\n2025-W02,x,3,4\n").json()
    url = f"/api/uploads/{upload['id']}/preview/"
    preview = client.post(url, {}, format="json").json()
    assert "cannot be told" in preview["problem"] and preview["understood"] is None
    assert preview["rows"][0] == ["2025-W01", "x", "1", "2"]
    assert client.post(url, {"value": "b"}, format="json").json()["understood"]["total"] == 6


@pytest.mark.parametrize("content", [b"", b"\x00\x01\x02\x03", b"only one\n1\n", b"1,2,3\n4,5,6\n"])
def test_an_unreadable_file_leaves_nothing_behind(client: APIClient, data_folder: Path, content: bytes) -> None:
    answer = hand_in(client, content)
    assert answer.status_code in (400, 422)
    assert answer["Content-Type"].startswith("application/problem+json") and answer.json()["detail"]
    assert not Upload.objects.exists()
    assert not list(data_folder.glob("uploads/*"))


def test_loading_keeps_every_value_and_how_it_was_read(portfolio: dict[str, Any]) -> None:
    load = Load.objects.get()
    panel = load.panel()
    total = sum(int(line.rsplit(",", 1)[1]) for line in SALES.splitlines()[1:])
    assert np.nansum(panel.values) == total == portfolio["load"]["total"]
    assert panel.attributes["product"]["name"]["P0"] == "Plant 0" and load.levels == {
        "product": ["group"],
        "store": ["region"],
    }
    assert load.sha256 and not Upload.objects.exists()
    with pytest.raises(TypeError, match="frozen"):
        load.save()


def test_a_load_that_breaks_half_way_leaves_the_portfolios_as_they_were(
    client: APIClient, portfolio: dict[str, Any], monkeypatch: pytest.MonkeyPatch
) -> None:
    upload = hand_in(client).json()
    monkeypatch.setattr(services.shutil, "copytree", lambda *a: (_ for _ in ()).throw(OSError("disk full")))
    client.raise_request_exception = False
    before = Series.objects.count()
    answer = client.post(f"/api/uploads/{upload['id']}/load/", {"name": "Second", "options": {}}, format="json")
    assert answer.status_code == 500
    assert Portfolio.objects.count() == 1 and Series.objects.count() == before
    assert Upload.objects.filter(pk=upload["id"]).exists(), "the planner can try again"


def test_names_are_taken_once_and_files_are_private(
    client: APIClient, portfolio: dict[str, Any], django_user_model: Any
) -> None:
    upload = hand_in(client).json()
    answer = client.post(f"/api/uploads/{upload['id']}/load/", {"name": "Garden", "options": {}}, format="json")
    assert answer.status_code == 400 and "already" in answer.json()["detail"]
    stranger = APIClient()
    stranger.force_authenticate(django_user_model.objects.create_user("someone"))
    assert stranger.get(f"/api/uploads/{upload['id']}/").status_code == 404
    assert APIClient().get("/api/portfolios/").status_code in (401, 403)
