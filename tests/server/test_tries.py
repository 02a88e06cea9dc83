"""Trying methods on a node, checking their arithmetic in a sheet, and keeping one."""

from __future__ import annotations

import io
import re
import zipfile
from typing import Any

import numpy as np
import pytest
from rest_framework.test import APIClient

from tansy.server.studies import running, services
from tansy.server.studies.models import KeptMethod, Node, Study, unpack


def test_four_tries_stand_side_by_side_and_a_wrong_one_says_what_is_wrong(client: APIClient, done: Study) -> None:
    texts = ["ets(A,N,N; alpha=0.3)", "ets(best)", "ets(A,B,C)", "ets(A,N,N) + shared-season"]
    answer = client.post(f"/api/studies/{done.pk}/nodes/0/try/", {"methods": texts}, format="json")
    assert answer.status_code == 200, answer.content
    page = answer.json()
    first, best, wrong, shared = page["tries"]
    assert [p["value"] for p in first["parameters"] if p["name"] == "alpha"] == [0.3]
    assert min(best["tried"], key=lambda one: one["aicc"])["model"] == best["model"]
    assert "write ets(E,T,S)" in wrong["problem"] and wrong["measures"]["MAE"] is None
    assert shared["problem"] == "" and "group" in shared["words"]
    low, high = first["bands"][0]["low"], first["bands"][0]["high"]
    assert all(a < m < b for a, m, b in zip(low, first["forecast"], high, strict=True))


def test_a_made_up_actual_moves_the_forecast_and_is_not_saved(client: APIClient, done: Study) -> None:
    def ask(actuals: list[float]) -> dict[str, Any]:
        body = {"methods": ["ets(A,N,N; alpha=0.5, level=10)"], "actuals": actuals}
        return client.post(f"/api/studies/{done.pk}/nodes/0/try/", body, format="json").json()

    plain, told = ask([]), ask([1000.0])
    assert told["n_past"] == plain["n_past"] + 1
    # half of the error goes into the level
    expected = 0.5 * plain["tries"][0]["forecast"][0] + 500.0
    assert told["tries"][0]["forecast"][0] == pytest.approx(expected)
    assert ask([])["history"] == plain["history"]


def test_workings_are_to_be_had_on_the_screen_and_as_a_sheet_with_live_formulas(client: APIClient, done: Study) -> None:
    method = "ets(A,A,N; alpha=0.4, beta=0.1, start=first)"
    address = f"/api/studies/{done.pk}/nodes/0/workings"
    page = client.get(f"{address}/", {"method": method}).json()
    level = [column["name"] for column in page["columns"]].index("level")
    assert page["rows"][1][level]["why"] == "used for the start"
    cell = page["rows"][4][level]
    assert re.fullmatch(r"[\d.]+ \+ \(?−?[\d.]+\)? \+ 0\.4 × \(?−?[\d.]+\)?", cell["formula"])
    parts = [float(part) for part in re.findall(r"-?\d[\d.]*", cell["formula"].replace("−", "-"))]
    assert cell["value"] == pytest.approx(parts[0] + parts[1] + parts[2] * parts[3], rel=1e-4)

    table = client.get(f"{address}.csv", {"method": method}).content.decode().splitlines()
    assert len(table) == len(page["labels"]) + 1
    book = zipfile.ZipFile(io.BytesIO(client.get(f"{address}.xlsx", {"method": method}).content))
    sheet = book.read("xl/worksheets/sheet1.xml").decode()
    formulas = re.findall(r"<f>([^<]+)</f>", sheet)
    assert any(re.fullmatch(r"F\d+|[A-Z]+\d+\+[A-Z]+\d+\+\$B\$4\*[A-Z]+\d+", text) for text in formulas)
    assert any(text.startswith("AVERAGE(") for text in formulas)

    refused = client.get(f"{address}/", {"method": "ets(A,A"})
    assert refused.status_code == 422


def test_a_kept_method_is_used_by_the_next_study_and_can_be_taken_back(client: APIClient, done: Study) -> None:
    address = f"/api/studies/{done.pk}/nodes/0/keep/"
    list_address = f"/api/portfolios/{done.portfolio_id}/kept/"
    assert client.post(address, {"method": "moving-average(5)", "reason": " "}, format="json").status_code == 400
    assert client.post(address, {"method": "x(", "reason": "why"}, format="json").status_code == 422
    body = {"method": "moving-average(5)", "reason": "what the buyers know"}
    kept = client.post(address, body, format="json").json()
    client.post(address, {**body, "kind": "smooth", "method": "moving-average(3)"}, format="json")

    again = services.again(done, done.made_by)
    running.carry_out(again.run)
    node = Node.objects.get(study=again, position=0)
    methods = again.result.methods
    assert methods[node.chosen] == "moving-average(5)" and "what the buyers know" in node.kept
    history = unpack(node.history)
    np.testing.assert_allclose(unpack(node.base), history[-5:].mean())
    smooth = [one for one in Node.objects.filter(study=again, kept__contains="all smooth") if one.level > 0]
    assert smooth and all(methods[one.chosen] == "moving-average(3)" for one in smooth)

    services.keep(done.portfolio, done.made_by, "naive", "what the buyers know", node="gone")
    assert list(services.used_by(done.portfolio).values()) == [1, len(smooth)]  # the new one is not seen yet
    last = services.again(done, done.made_by)
    running.carry_out(last.run)
    seen = {one["node"] or one["kind"]: one["used_by"] for one in client.get(list_address).json()}
    assert seen["gone"] == 0 and seen["smooth"] == len(smooth)
    client.post(f"/api/kept/{KeptMethod.objects.get(node='gone').pk}/withdraw/")

    client.post(f"/api/kept/{kept['id']}/withdraw/")
    listed = client.get(list_address).json()
    assert [one["withdrawn_at"] is None for one in listed] == [False, True, False]
    assert [one.method for one in services.kept_of(done.portfolio)] == ["moving-average(3)"]


def test_whole_units_are_published_as_whole_numbers_that_add_up(client: APIClient, done: Study) -> None:
    answer = client.patch(f"/api/portfolios/{done.portfolio_id}/", {"whole_units": True}, format="json")
    assert answer.json()["whole_units"] is True
    again = services.again(Study.objects.get(pk=done.pk), done.made_by)
    running.carry_out(again.run)
    assert again.recipe.whole_units
    nodes = list(Node.objects.filter(study=again).order_by("position"))
    forecast = np.array([unpack(node.layers, 2, 6)[1] for node in nodes])
    quantiles = np.array([unpack(node.quantiles) for node in nodes])
    assert (forecast == np.round(forecast)).all() and (quantiles == np.round(quantiles)).all()
    assert (forecast[-18:].sum(axis=0) == forecast[0]).all()
    exact = np.array([unpack(node.layers) for node in Node.objects.filter(study=done).order_by("position")])
    assert np.abs(forecast[-18:] - exact[-18:]).max() < 1
    assert again.result.layers == ["reconciliation", "rounding"]
    np.testing.assert_array_equal([unpack(node.layers, 2, 6)[0] for node in nodes], exact)
    draft = client.get(f"/api/studies/{again.pk}/draft/").json()
    assert all(check["holds"] for check in draft["checks"])


def test_the_fields_of_a_method_are_data_and_a_change_of_one_is_a_new_text(client: APIClient, done: Study) -> None:
    address = f"/api/studies/{done.pk}/nodes/top/form/"

    def ask(method: str, **more: Any) -> dict[str, Any]:
        answer = client.post(address, {"method": method, **more}, format="json")
        assert answer.status_code == 200, answer.content
        found: dict[str, Any] = answer.json()
        return found

    plain = ask("ets( A,N,N )")
    assert plain["method"] == "ets(A,N,N)" and plain["family"] == "ets" and plain["problem"] == ""
    assert {"value": "arima(best)", "label": "ARIMA, searched by AICc"} in plain["menu"]["options"]
    assert [one["name"] for one in plain["fields"]][:4] == ["error", "trend", "season", "outside"]
    assert ask("ets(A,N,N)", change={"name": "trend", "value": "Ad"})["method"] == "ets(A,Ad,N)"
    level = ask("ets(A,N,N)", change={"name": "start", "value": "level"}, estimates={"level": 41.26})
    assert level["method"] == "ets(A,N,N; level=41.26)"
    other = ask("anything", change={"name": "method", "value": "tsb"})
    assert other["method"] == "tsb" and [one["kind"] for one in other["fields"]] == ["share", "share"]
    # what cannot be read keeps its text and is offered the menu; what cannot be changed stays as it was
    wrong = ask("ets(A,")
    assert wrong["method"] == "ets(A," and wrong["fields"] == [] and "is not a method" in wrong["problem"]
    refused = ask("arima(1,0,1)", change={"name": "p", "value": 12})
    assert refused["method"] == "arima(1,0,1)" and "up to 8" in refused["problem"]
    assert client.post(address, {"change": {"name": "p"}}, format="json").status_code == 400
