"""Handing in and loading: what is understood is shown, and everything or nothing goes in."""

from __future__ import annotations

import hashlib
import os
import signal
import threading
from datetime import timedelta
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from django.utils import timezone
from rest_framework.test import APIClient

from tansy.server import apart
from tansy.server.portfolios import services
from tansy.server.portfolios.corrections import standing
from tansy.server.portfolios.models import Load, Portfolio, Series, Upload
from tests.garden import DRIVERS, N_WEEKS, PRODUCTS, SALES
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


def test_a_file_that_ends_the_process_that_reads_it_ends_nothing_else(
    client: APIClient, data_folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    reader = apart.apart(os.getpid)
    assert reader != os.getpid() and apart.apart(os.getpid) == reader  # it stays for the next
    upload = hand_in(client, SALES).json()
    os.kill(reader, signal.SIGSTOP)  # so that it is at work when it is killed, as where memory runs out
    killed = threading.Timer(0.3, os.kill, (reader, signal.SIGKILL))
    killed.start()
    refused = hand_in(client, SALES)
    killed.join()
    assert refused.status_code == 422 and "more memory or time" in refused.json()["detail"]
    assert [one.pk for one in Upload.objects.all()] == [upload["id"]]  # of what failed nothing is kept
    assert len(list(data_folder.glob("uploads/*"))) == 1
    assert hand_in(client, SALES).status_code == 201 and apart.apart(os.getpid) != reader

    monkeypatch.setattr(apart, "WAITING", 0.01)
    for _ in range(apart.AT_ONCE):
        apart._turns.acquire()
    try:
        busy = client.post(f"/api/uploads/{upload['id']}/preview/", {}, format="json")
    finally:
        apart._turns.release(apart.AT_ONCE)
    assert busy.status_code == 503 and "Other files are being read" in busy.json()["detail"]


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


def test_a_file_named_like_the_list_of_refused_rows_keeps_its_original(client: APIClient, data_folder: Path) -> None:
    text = SALES + "someday,P1,S0,North,4\n"
    upload = hand_in(client, text, name="rows-left-out.csv").json()
    made = client.post(f"/api/uploads/{upload['id']}/load/", {"name": "Odd", "options": {}}, format="json")
    assert made.status_code == 201, made.content
    load = made.json()["load"]
    kept = [path.read_bytes() for path in (data_folder / "loads" / str(load["id"])).iterdir()]
    assert load["n_refused"] == 1 and len(kept) == 2
    assert [hashlib.sha256(one).hexdigest() for one in kept].count(load["sha256"]) == 1


def test_keys_that_hold_the_sign_between_keys_are_told_apart(client: APIClient) -> None:
    """("Pot 10", "5 × HC02") and ("Pot 10 × 5", "HC02") are called the same and are two series."""
    pairs = (("Pot 10", "5 × HC02"), ("Pot 10 × 5", "HC02"))
    rows = [f"2025-W{w:02d},{product},{store},{w}" for w in range(1, 21) for product, store in pairs]
    upload = hand_in(client, "week,product,store,units\n" + "\n".join(rows) + "\n").json()
    options = {"keys": ["product", "store"]}
    made = client.post(f"/api/uploads/{upload['id']}/load/", {"name": "Pots", "options": options}, format="json").json()
    closure = {"where": {"store": "5 × HC02"}, "first": "2025-W03", "last": "2025-W04", "because": "closure"}
    answer = client.post(f"/api/portfolios/{made['id']}/corrections/mark/", closure, format="json")
    assert answer.status_code in (200, 201), answer.content
    load = Portfolio.objects.get().load
    changed = standing(load)
    panel = load.panel()
    assert {panel.keys["store"][i] for i in changed.series.tolist()} == {"5 × HC02"} and len(changed) == 2


def test_uploads_left_lying_for_a_day_are_swept(client: APIClient, data_folder: Path) -> None:
    old = hand_in(client, SALES).json()
    Upload.objects.filter(pk=old["id"]).update(made_at=timezone.now() - timedelta(days=1, minutes=1))
    young = hand_in(client, SALES).json()
    assert list(Upload.objects.values_list("pk", flat=True)) == [young["id"]]
    assert [path.name for path in (data_folder / "uploads").iterdir()] == [str(young["id"])]


@pytest.mark.parametrize(
    ("body", "says"),
    [(b'{"name": "\\ud800"}', "half of a letter"), (b"[" * 100_000, "nested"), (b"{", "JSON")],
)  # fmt: skip
def test_bodies_that_no_one_can_read_are_a_sentence(client: APIClient, body: bytes, says: str) -> None:
    for address in ("/api/tokens/", "/api/session/"):
        answer = client.post(address, body, content_type="application/json")
        assert answer.status_code == 400 and says in answer.json()["detail"], answer.content


def test_names_of_files_and_lists_of_ids_have_an_end(client: APIClient, portfolio: dict[str, Any]) -> None:
    long = hand_in(client, SALES, name="a" * 251 + ".csv")
    assert long.status_code == 422 and "longer than 150 letters" in long.json()["detail"]
    search = client.post(f"/api/portfolios/{portfolio['id']}/searches/", {}, format="json").json()
    body = {"decision": "dismiss", "ids": list(range(250_001))}
    many = client.post(f"/api/searches/{search['id']}/decisions/", body, format="json")
    assert many.status_code == 400 and "200000" in many.json()["detail"].replace(",", "")
    nothing = client.get("/api/nothing/here/")
    assert nothing.status_code == 404 and "nothing at this address" in nothing.json()["detail"]


def test_with_drivers_the_screen_and_the_files_hold_the_same_bytes(client: APIClient) -> None:
    upload = hand_in(client, SALES, ("drivers.csv", DRIVERS)).json()
    client.post(f"/api/uploads/{upload['id']}/load/", {"name": "Driven", "options": {}}, format="json")
    stored = Portfolio.objects.get().load.panel()
    for name, driver in stored.drivers.items():
        prices = {float(line.split(",")[2]) for line in DRIVERS.splitlines()[1:]}
        if name == "price":
            assert set(driver[np.isfinite(driver)].tolist()) <= prices, "as written, to the last digit"
