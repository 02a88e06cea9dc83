"""Looking at a node, a method under the glass, methods at every origin, drivers and what another plan would do."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from rest_framework.test import APIClient

from tansy.server.studies import running
from tansy.server.studies.models import Study, unpack
from tests.garden import DRIVERS, N_AHEAD, PRODUCTS, RECIPE, SALES
from tests.server.conftest import hand_in

POOLED = "ets(A,N,N) + shared-season + pooled(log price, promotion)"
DRIVEN = "boxcox(0.5) arima(1,0,1) + harmonics(3) + x(log price, promotion)"


@pytest.fixture
def node(client: APIClient) -> str:
    """Address of the total of a finished study on a history with drivers."""
    upload = hand_in(client, SALES, ("products.csv", PRODUCTS), ("drivers.csv", DRIVERS)).json()
    loaded = client.post(f"/api/uploads/{upload['id']}/load/", {"name": "Driven", "options": {}}, format="json").json()
    recipe = RECIPE.replace('"mean"', f'"mean", "arima(best)", "{DRIVEN}", "{POOLED}"')
    client.post(f"/api/portfolios/{loaded['id']}/studies/", {"recipe": recipe}, format="json")
    study = Study.objects.get()
    running.carry_out(study.run)
    return f"/api/studies/{study.pk}/nodes/0"


def test_a_look_shows_what_was_asked_and_refuses_what_cannot_be(client: APIClient, node: str) -> None:
    plain = client.get(f"{node}/look/").json()
    assert plain["shown"] == plain["history"]
    once = client.get(f"{node}/look/", {"d": 1, "seasonal_d": 1, "logs": "true"}).json()
    y = np.log(np.array(plain["history"]))
    assert once["shown"][60] == pytest.approx(y[60] - y[59] - y[8] + y[7])
    assert once["shown"][:53] == [None] * 53
    assert once["parts"]["multiplied"] is True
    assert len(plain["years"]["places"]) == len(plain["years"]["values"]) >= 52
    assert client.get(f"{node}/look/", {"d": 3}).status_code == 400
    # a product in a store has weeks without a sale
    nodes = Study.objects.get().nodes.order_by("-position")
    slow = next(one.position for one in nodes if np.nanmin(unpack(one.history)) == 0)
    refused = client.get(f"{node[:-1]}{slow}/look/", {"logs": "true"})
    assert refused.status_code == 422 and "above zero" in refused.json()["detail"]


def test_a_fit_is_judged_and_a_wrong_text_says_what_is_wrong(client: APIClient, node: str) -> None:
    page = client.get(f"{node}/fit/", {"method": "arima(1,0,1) + x(promotion)"}).json()
    found = page["diagnosis"]
    assert [one["name"] for one in found["coefficients"]] == ["ar1", "ma1", "mean", "promotion"]
    assert all(one["error"] > 0 and 0 <= one["p"] <= 1 for one in found["coefficients"])
    assert [one["of"] for one in found["roots"]] == ["phi", "theta"]
    assert len(found["judgement"]) >= 1 and len(found["correlation"]) == 4
    assert page["search"] == [] and page["fit"]["measures"]["RMSE"] > 0
    offered = client.post(f"{node}/form/", {"method": "arima(1,0,1) + x(promotion)"}, format="json").json()["fields"]
    ticks = next(one for one in offered if one["name"] == "drivers")
    assert ticks["value"] == "promotion" and [one["value"] for one in ticks["options"]] == ["price", "promotion"]

    searched = client.get(f"{node}/fit/", {"method": "arima(best)"}).json()
    assert searched["fit"]["model"] in [one["model"] for one in searched["search"]]
    table = client.get(f"{node}/fit/", {"method": "regression(log price, promotion)"}).json()["variance"]
    assert 0.0 <= table["r_squared"] <= 1.0 and table["explained_freedom"] == 2
    wrong = client.get(f"{node}/fit/", {"method": "arima(1,0,0) + x(weather)"}).json()
    assert wrong["diagnosis"] is None
    assert "There is no driver 'weather'; drivers are price, promotion" in wrong["fit"]["problem"]


def test_methods_at_every_origin_are_as_the_study_had_them(client: APIClient, node: str) -> None:
    asked = ["arima(best)", DRIVEN, "arima(2,0,0; ar1=0.9, ar2=0.9)", "seasonal-naive"]
    best, driven, wrong, naive = client.get(f"{node}/tested/", {"method": asked}).json()
    study = Study.objects.get()
    scores = {one["method"]: one for one in client.get(f"{node}/").json()["scores"]}
    # the study's own figures for the same methods, made in another batch
    for one in (best, driven, naive):
        assert one["measures"]["RMSSE"] == pytest.approx(scores[one["method"]]["rmsse"], abs=1e-4), one["method"]
        assert [origin["period"] for origin in one["origins"]][:-1] == [
            study.load.timeline.labels[n - 1] for n in study.result.seen_at
        ]
    assert all(origin["model"].startswith("arima(") for origin in best["origins"])
    changed = [a["model"] != b["model"] for a, b in zip(best["origins"], best["origins"][1:], strict=False)]
    assert changed == [bool(origin["change"]) for origin in best["origins"][1:]]
    # what only a fit can show to be wrong spoils its own row alone
    assert "not stationary" in wrong["problem"] and wrong["origins"] == []


def test_a_blend_is_given_what_its_parts_need(client: APIClient, node: str) -> None:
    """Drivers, effects of the group and its season, on every page; with equal parts it lies between them."""
    driven = "arima(1,0,1) + x(price, promotion)"
    found = {}
    for text in (f"blend(mean; {POOLED}; {driven})", POOLED, driven):
        tried = client.post(f"{node}/try/", {"methods": [text]}, format="json").json()["tries"][0]
        assert not tried["problem"], tried
        found[text] = np.array(tried["forecast"])
        assert client.get(f"{node}/fit/", {"method": text}).status_code == 200
        assert client.get(f"{node}/drivers/", {"method": text}).status_code == 200
    blend, pooled, own = found.values()
    assert np.allclose(blend, (pooled + own) / 2.0, atol=2e-4)  # answers are rounded to four decimals


def test_pooled_effects_of_one_series_are_those_of_the_study(client: APIClient, node: str) -> None:
    """Tried alone, with only its group read back, as in the study, where all were there."""
    study = Study.objects.get()
    last = study.nodes.order_by("-position")[0]
    address = f"{node[:-1]}{last.position}"
    (tested,) = client.get(f"{address}/tested/", {"method": [POOLED]}).json()
    scores = {one["method"]: one for one in client.get(f"{address}/").json()["scores"]}
    assert tested["measures"]["RMSSE"] == pytest.approx(scores[POOLED]["rmsse"], abs=1e-4)
    page = client.get(f"{address}/fit/", {"method": POOLED}).json()
    assert {"pooled log price", "pooled promotion"} <= {one["name"] for one in page["diagnosis"]["coefficients"]}
    drivers = client.get(f"{address}/drivers/", {"method": POOLED}).json()
    assert {one["driver"] for one in drivers["effects"]} == {"price", "promotion"}
    total = np.sum([part["values"] for part in drivers["parts"]], axis=0)
    np.testing.assert_allclose(total, drivers["forecast"], rtol=1e-9)


def test_drivers_have_effects_and_parts_and_another_plan_moves_the_forecast(client: APIClient, node: str) -> None:
    page = client.get(f"{node}/drivers/").json()
    assert page["problem"] == "" and page["asked"] == DRIVEN
    assert {one["driver"] for one in page["effects"]} == {"price", "promotion"}
    np.testing.assert_allclose(np.sum([part["values"] for part in page["parts"]], axis=0), page["forecast"], rtol=1e-9)
    effect = next(one for one in page["effects"] if one["driver"] == "promotion")
    assert effect["low"] < effect["change"] < effect["high"]
    leads = len(page["periods"])
    assert leads <= N_AHEAD and all(len(one["ahead"]) == leads for one in page["drivers"])

    def forecast(plan: dict[str, Any]) -> list[float]:
        body = {"methods": [DRIVEN], "drivers": plan}
        answer = client.post(f"{node}/try/", body, format="json")
        assert answer.status_code == 200, answer.content
        return answer.json()["tries"][0]["forecast"]

    planned = forecast({})
    moved = forecast({"promotion": [None, 1.0, *[None] * (leads - 2)]})
    assert moved[0] == planned[0] and moved[2:] == planned[2:]
    assert (moved[1] > planned[1]) == (effect["change"] > 0)
    unknown = client.post(f"{node}/try/", {"methods": ["mean"], "drivers": {"rain": [1.0]}}, format="json")
    assert unknown.status_code == 400 and "no driver 'rain'" in unknown.json()["detail"]


def test_what_is_published_is_taken_apart_down_to_what_the_other_levels_change(client: APIClient, node: str) -> None:
    study = Study.objects.get()
    methods = study.result.methods
    for one in study.nodes.order_by("position"):
        page = client.get(f"{node[:-1]}{one.position}/parts/").json()
        if one.chosen < 0:
            assert page["parts"] == [] and not unpack(one.layers).any()
            continue
        parts = {part["name"]: np.array(part["values"]) for part in page["parts"]}
        published, base = unpack(one.layers), unpack(one.base)
        scale = np.abs(published).max()
        np.testing.assert_allclose(sum(parts.values()), published, atol=1e-9 * scale, err_msg=methods[one.chosen])
        moved = parts.pop("reconciliation", np.zeros(len(published)))
        assert next(iter(parts)) == "level and trend"
        if sum(parts.values()).min() > 0.0:  # demand below zero is cut off in between
            # rounding in drivers of a total moves the end of a search a little
            np.testing.assert_allclose(moved, published - base, atol=1e-6 * scale, err_msg=methods[one.chosen])


def test_whatever_was_chosen_from_the_data_every_page_has_it(client: APIClient, node: str) -> None:
    """Each page of a series with methods that choose a part of themselves: nothing unresolved, nothing left over."""
    for text in (
        "arima(1,0,1) + harmonics(best) + x(log price)", "arima(best) + harmonics(best)",
        "log arima(1,0,0) + harmonics(best)", "arima(best; together=2) + pooled(log price, promotion)",
        "regression(log price) + harmonics(best)", "boxcox(best) arima(1,0,0) + harmonics(best) + x(promotion)",
        "ets(best) + harmonics(best)", "arima(1,0,0) + harmonics(best) + slope-changes",
    ):  # fmt: skip
        page = client.get(f"{node}/fit/", {"method": text}).json()
        assert page["fit"]["problem"] == "" and page["diagnosis"]["coefficients"], text
        model = page["fit"]["model"]
        assert "best" not in model, text
        names = {one["name"] for one in page["diagnosis"]["coefficients"]}
        pairs = int(model.split("harmonics(")[1].split(")")[0]) if "harmonics(" in model else 0
        assert sum(name.startswith("sin") for name in names) == pairs, text
        drivers = client.get(f"{node}/drivers/", {"method": text}).json()
        assert drivers["problem"] == "" and drivers["method"] == model, text
        total = np.sum([part["values"] for part in drivers["parts"]], axis=0)
        np.testing.assert_allclose(total, drivers["forecast"], rtol=1e-9, err_msg=text)
        (tested,) = client.get(f"{node}/tested/", {"method": [text]}).json()
        assert tested["problem"] == "" and tested["measures"]["RMSSE"] > 0.0, text
        assert all("best" not in origin["model"] for origin in tested["origins"]), text
        (tried,) = client.post(f"{node}/try/", {"methods": [text]}, format="json").json()["tries"]
        np.testing.assert_allclose(tried["forecast"], drivers["forecast"], rtol=1e-9, err_msg=text)
        rows = client.get(f"{node}/workings/", {"method": text}).json()
        at = {column["name"]: i for i, column in enumerate(rows["columns"])}
        fitted = [row[at["fitted"]]["value"] for row in rows["rows"]][rows["n_start"] :]
        known = [(a, b) for a, b in zip(fitted, tried["fitted"], strict=True) if b is not None]
        np.testing.assert_allclose(*np.array(known).T, rtol=1e-9, err_msg=text)


def test_a_study_with_a_driver_that_is_not_known_ahead_says_so_and_keeps_nothing(
    client: APIClient, portfolio: dict[str, Any]
) -> None:
    recipe = RECIPE.replace('"mean"', '"mean", "arima(1,0,0) + x(price)"')
    answer = client.post(f"/api/portfolios/{portfolio['id']}/studies/", {"recipe": recipe}, format="json")
    assert answer.status_code == 422
    assert "There is no driver 'price'; drivers are none in this history" in answer.json()["detail"]
    assert not Study.objects.exists()
