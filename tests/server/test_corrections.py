"""Corrections on the server: decided by a person, kept with reason, author and time, reverted, and seen by studies."""

from __future__ import annotations

import csv
import io
from typing import Any

import numpy as np
import pytest
from rest_framework.test import APIClient

from tansy.engine.timeline import label
from tansy.server.portfolios import services as portfolio_services
from tansy.server.portfolios.corrections import standing
from tansy.server.portfolios.models import Correction, Load, Portfolio
from tansy.server.studies import running
from tansy.server.studies.models import Node, Study, unpack
from tests.garden import FIRST_WEEK, N_WEEKS, PRODUCTS, RECIPE, SALES
from tests.server.conftest import hand_in

WILD_WEEK = FIRST_WEEK + 60


@pytest.fixture
def garden(client: APIClient) -> int:
    """The small garden with a till error of 900 in P1 x S0 and an empty shelf of three weeks in P2 x S1."""
    wild = label(WILD_WEEK, "W")
    empty = {label(FIRST_WEEK + t, "W") for t in (80, 81, 82)}
    rows = []
    for row in SALES.splitlines():
        week, product, store = row.split(",")[:3]
        if (product, store, week) == ("P1", "S0", wild):
            row = row.rsplit(",", 1)[0] + ",900"
        if (product, store) == ("P2", "S1") and week in empty:
            continue
        rows.append(row)
    upload = hand_in(client, "\n".join(rows) + "\n", ("products.csv", PRODUCTS)).json()
    made = client.post(f"/api/uploads/{upload['id']}/load/", {"name": "Garden", "options": {}}, format="json")
    return int(made.json()["id"])


def look(client: APIClient, garden: int) -> dict[str, Any]:
    answer = client.post(f"/api/portfolios/{garden}/searches/", {"find": ["spike", "zero-run"]}, format="json")
    assert answer.status_code == 201
    return answer.json()


def decide(client: APIClient, search: dict[str, Any], decision: str, ids: list[int], **more: Any) -> Any:
    body = {"decision": decision, "ids": ids, **more}
    return client.post(f"/api/searches/{search['id']}/decisions/", body, format="json")


def test_a_value_is_accepted_reverted_and_stays_in_the_ledger(client: APIClient, garden: int) -> None:
    search = look(client, garden)
    first, second = search["found"][:2]
    assert (first["name"], first["period"], first["received"]) == ("Plant 1 × S0", label(WILD_WEEK, "W"), 900)
    assert (second["name"], second["rule"], second["length"]) == ("Plant 2 × S1", "zero-run", 3)
    assert decide(client, search, "accept", [first["id"]], replace="median", reason="typing slip").json() == {
        "count": 1
    }
    assert decide(client, search, "accept", [second["id"]], replace="expected").json() == {"count": 3}
    before = np.nansum(Portfolio.objects.get().load.panel().values)
    ledger = client.get(f"/api/portfolios/{garden}/corrections/").json()
    assert ledger["n_standing"] == 4 and ledger["moved"][0]["removed"] == 900 - first["median"]
    slip = next(row for row in ledger["corrections"] if row["rule"] == "spike")
    assert (slip["received"], slip["value"], slip["reason"], slip["made_by"]) == (
        900,
        first["median"],
        "typing slip",
        "ines",
    )
    now = client.get(f"/api/portfolios/{garden}/searches/").json()
    assert now["counts"] == {"open": search["n_found"] - 2, "accepted": 2, "dismissed": 0}
    assert now["values"]["accepted"] == ledger["n_standing"], "a run counts here as its values do in the ledger"
    again = decide(client, search, "accept", [first["id"]])
    assert again.status_code == 409 and "corrected already" in again.json()["detail"]
    series = client.get(f"/api/portfolios/{garden}/series/{first['series']}/").json()
    assert series["received"][60] == 900 and series["corrected"][60] == first["median"]

    revert = client.post(f"/api/portfolios/{garden}/corrections/revert/", {"ids": [slip["id"]]}, format="json")
    assert revert.json() == {"count": 1}
    text = client.get(f"/api/portfolios/{garden}/corrections/file/").content.decode()
    rows = list(csv.DictReader(io.StringIO(text)))
    assert len(rows) == 4 and [row["reverted by"] for row in rows if row["rule"] == "spike"] == ["ines"]
    assert {row["corrected"] for row in rows if row["rule"] == "zero-run"} == {"unknown"}
    assert len(standing(Portfolio.objects.get().load)) == 3
    assert np.nansum(Portfolio.objects.get().load.panel().values) == before  # nothing is ever overwritten


def test_all_or_none_are_accepted(client: APIClient, garden: int) -> None:
    search = look(client, garden)
    ids = [one["id"] for one in search["found"][:2]]
    assert decide(client, search, "accept", ids[:1]).status_code == 200
    assert decide(client, search, "accept", ids).status_code == 409
    assert Correction.objects.count() == 1
    assert decide(client, search, "accept", [999]).status_code == 422
    assert decide(client, search, "accept", ids[1:], replace="value").status_code == 422


def test_what_was_dismissed_is_not_brought_up_again(client: APIClient, garden: int) -> None:
    search = look(client, garden)
    decide(client, search, "dismiss", [search["found"][0]["id"]])
    anew = look(client, garden)
    one = next(one for one in anew["found"] if one["name"] == "Plant 1 × S0")
    assert one["state"] == "dismissed" and anew["found"][0]["name"] == "Plant 2 × S1"
    decide(client, anew, "reopen", [one["id"]])
    assert client.get(f"/api/portfolios/{garden}/searches/").json()["counts"]["dismissed"] == 0


def test_a_closure_is_marked_for_a_store_in_one_go(client: APIClient, garden: int) -> None:
    body = {"where": {"store": "S2"}, "because": "closure", "reason": "refit", "last": label(FIRST_WEEK + 11, "W")}
    url = f"/api/portfolios/{garden}/corrections/mark/"
    answer = client.post(url, {**body, "first": label(FIRST_WEEK + 10, "W")}, format="json")
    assert answer.json() == {"count": 12}  # six products, two weeks
    changes = standing(Portfolio.objects.get().load)
    assert np.isnan(changes.value).all() and changes.unjudged.all()
    assert client.post(url, {**body, "first": "soon"}, format="json").json()["errors"]["first"]
    outside = client.post(url, {**body, "first": "1999-W01"}, format="json")
    assert outside.status_code == 422 and "History runs from" in outside.json()["detail"]
    nobody = client.post(url, {**body, "first": body["last"], "where": {"store": "S9"}}, format="json")
    assert nobody.status_code == 422 and "No series matches" in nobody.json()["detail"]


def test_a_study_keeps_the_corrections_it_saw(client: APIClient, garden: int) -> None:
    search = look(client, garden)
    decide(client, search, "accept", [one["id"] for one in search["found"][:2]], replace="expected")
    made = client.post(f"/api/portfolios/{garden}/studies/", {"recipe": RECIPE}, format="json").json()
    study = Study.objects.get(pk=made["id"])
    assert len(study.corrections) == 4
    running.carry_out(study.run)
    node = Node.objects.get(study=study, name__startswith="Plant 1 × S0")
    history, received = unpack(node.history), unpack(node.received)
    assert history[60] < 100 and received[60] == 900
    shown = client.get(f"/api/studies/{study.pk}/nodes/{node.position}/").json()
    assert shown["received"][60] == 900 and shown["history"][60] == history[60]
    untouched = Node.objects.get(study=study, name__startswith="Plant 5 × S0")
    assert client.get(f"/api/studies/{study.pk}/nodes/{untouched.position}/").json()["received"] is None
    # nothing new to run it on; after a revert there is
    again = client.post(f"/api/studies/{study.pk}/again/")
    assert again.status_code == 409
    one = Correction.objects.filter(rule="spike").get()
    client.post(f"/api/portfolios/{garden}/corrections/revert/", {"ids": [one.pk]}, format="json")
    assert client.post(f"/api/studies/{study.pk}/again/").status_code == 201
    assert len(Study.objects.latest("id").corrections) == 3 and len(Study.objects.get(pk=study.pk).corrections) == 4


def test_actuals_are_appended_run_again_and_undone(client: APIClient, garden: int) -> None:
    accepted = look(client, garden)
    decide(client, accepted, "accept", [accepted["found"][0]["id"]])
    old = Load.objects.get()
    rows = [f"{label(FIRST_WEEK + N_WEEKS, 'W')},P{p},S{s},North,7" for p in range(5) for s in range(3)]
    rows += [f"{label(WILD_WEEK, 'W')},P1,S0,North,31", f"{label(FIRST_WEEK + N_WEEKS - 1, 'W')},P0,S0,North,55"]
    text = "week,product,store,region,units\n" + "\n".join(rows) + "\n"
    upload = hand_in(client, text).json()
    url = f"/api/uploads/{upload['id']}/append/"
    seen = client.post(url, {"portfolio": garden, "only_look": True}, format="json").json()
    assert seen["load"] is None and Load.objects.count() == 1
    assert seen["appended"]["n_new"] == 15 and seen["appended"]["n_revised"] == 2
    assert seen["appended"]["revisions"][0]["old"] == 900 and seen["appended"]["n_silent"] == 3
    made = client.post(url, {"portfolio": garden}, format="json").json()
    load = Load.objects.get(pk=made["load"])
    assert load.n_periods == old.n_periods + 1 and load.panel().values[0, -1] == 7
    # the correction was made of another number, so it does not hold for the revised one
    assert len(standing(load)) == 0 and len(standing(old)) == 1
    ledger = client.get(f"/api/portfolios/{garden}/corrections/").json()
    assert ledger["n_standing"] == 0 and [row["holds"] for row in ledger["corrections"]] == [False]
    loads = client.get(f"/api/portfolios/{garden}/loads/").json()
    assert [one["appended"] is None for one in loads] == [False, True] and not loads[0]["is_used"]

    assert client.delete(f"/api/loads/{old.pk}/").status_code == 409  # not the newest
    assert client.delete(f"/api/loads/{load.pk}/").status_code == 204
    assert Portfolio.objects.get().load == old
    assert client.delete(f"/api/loads/{old.pk}/").status_code == 409  # nothing would be left

    upload = hand_in(client, text).json()
    study = client.post(f"/api/portfolios/{garden}/studies/", {"recipe": RECIPE}, format="json").json()
    client.post(f"/api/uploads/{upload['id']}/append/", {"portfolio": garden}, format="json")
    again = client.post(f"/api/studies/{study['id']}/again/").json()
    assert again["last_period"] == label(FIRST_WEEK + N_WEEKS, "W") and again["name"].startswith("small from ")
    used = client.delete(f"/api/loads/{Portfolio.objects.get().load.pk}/")
    assert used.status_code == 409 and "study has used" in used.json()["detail"]
    upload = hand_in(client, text).json()
    nothing = client.post(f"/api/uploads/{upload['id']}/append/", {"portfolio": garden}, format="json")
    assert nothing.status_code == 409 and "Nothing in this file is new" in nothing.json()["detail"]


def test_history_as_a_whole(client: APIClient, garden: int) -> None:
    coverage = client.get(f"/api/portfolios/{garden}/coverage/").json()
    assert len(coverage["series"]) == 18 and len(coverage["orders"]["volume"]) == 18
    url = f"/api/portfolios/{garden}/overview/"
    top = client.get(url).json()
    assert top["dimensions"] == ["group", "product", "region", "store"] and top["n_series"] == 18
    assert {group["name"] for group in top["groups"]} == {"Herbs", "Ferns"}
    inside = client.get(url, {"by": "store", "within": ["group=Herbs", "product=P0"], "last": "8"}).json()
    assert inside["n_series"] == 3 and all(group["series"] is not None for group in inside["groups"])
    assert sum(group["now"] for group in inside["groups"]) == sum(inside["total"][-8:])
    assert client.get(url, {"within": "group=Mosses"}).status_code == 422
    assert client.get(url, {"by": "colour"}).status_code == 422
    assert client.get(url, {"last": "many"}).status_code == 400


def test_a_series_is_moved_to_another_kind_by_hand_and_back(client: APIClient, garden: int) -> None:
    url = f"/api/portfolios/{garden}/kinds/"
    before = client.get(url, {"kind": "smooth"}).json()
    one = before["series"][0]
    assert not one["by_hand"] and 0 <= one["season"] <= 1 and one["first_sale"]
    assert client.post(url, {"series": [one["series"]], "kind": "ended"}, format="json").json() == {"count": 1}
    ended = client.get(url, {"kind": "ended"}).json()["series"]
    assert [entry["series"] for entry in ended] == [one["series"]] and ended[0]["by_hand"]
    study = client.post(f"/api/portfolios/{garden}/studies/", {"recipe": RECIPE}, format="json").json()
    place = client.get(f"/api/portfolios/{garden}/series/{one['series']}/").json()["place"]
    assert Study.objects.get(pk=study["id"]).kinds_by_hand == {str(place - 1): "ended"}
    client.post(url, {"series": [one["series"]], "kind": None}, format="json")
    assert client.get(url, {"kind": "ended"}).json()["series"] == []
    assert client.post(url, {"series": [one["series"]], "kind": "odd"}, format="json").status_code == 422


def test_rows_left_out_can_be_had_with_their_reason(client: APIClient) -> None:
    text = "week,sku,units\n2025-W01,A,1\n2025-W02,A,-2\nsoon,A,3\n2025-W03,A,4\n"
    upload = hand_in(client, text).json()
    url = f"/api/uploads/{upload['id']}/refused/"
    rows = list(csv.DictReader(io.StringIO(client.post(url, {"negatives": "drop"}, format="json").content.decode())))
    assert [(row["row"], row["reason"], row["units"]) for row in rows] == [
        ("3", "units is negative", "-2"),
        ("4", "week is no period of this calendar", "3"),
    ]
    preview = client.post(f"/api/uploads/{upload['id']}/preview/", {}, format="json").json()["understood"]
    assert preview["first_rows"]["rows"][2] == ["4", "A", "", "left out"]


def test_plans_are_checked_kept_and_handed_to_studies(client: APIClient, garden: int) -> None:
    url = f"/api/portfolios/{garden}/plans/"
    ahead = label(FIRST_WEEK + N_WEEKS + 1, "W")
    arrival = {"kind": "arrival", "keys": {"product": "P9", "store": "S0"}, "start": ahead}
    wrong = client.post(url, {**arrival, "low": 9, "high": 3}, format="json")
    assert wrong.status_code == 400 and "below the lower end" in wrong.json()["errors"]["high"][0]
    unknown = client.post(url, {**arrival, "like": {"product": "P7", "store": "S0"}}, format="json")
    assert unknown.status_code == 400 and "There is no series P7" in unknown.json()["errors"]["like"][0]
    like = {"product": "P1", "store": "S0"}
    assert client.post(url, {**arrival, "like": like, "share": 0.5}, format="json").status_code == 201
    chain = client.post(url, {"kind": "succession", "key": "product", "old": "P5", "new": "P6"}, format="json").json()
    assert chain["words"] == "product P6 continues all of P5"
    made = client.post(f"/api/portfolios/{garden}/studies/", {"recipe": RECIPE}, format="json").json()
    study = Study.objects.get(pk=made["id"])
    running.carry_out(study.run)
    new = Node.objects.get(study=study, name="P9 × S0")
    shown = client.get(f"/api/studies/{study.pk}/nodes/{new.position}/").json()
    assert (
        shown["plan"].startswith("A series without a past, like P1 × S0 at 50 %")
        and shown["forecast"][0] == 0 < shown["forecast"][1]
    )
    assert Node.objects.filter(study=study, name="P6 × S0").exists()
    assert not Node.objects.filter(study=study, name__startswith="Plant 5 × S0").exists()
    # reversible: without the plan the next study sees the codes as they are, and this one keeps what it saw
    assert client.delete(f"/api/plans/{chain['id']}/").status_code == 204
    again = client.post(f"/api/studies/{study.pk}/again/").json()
    assert [plan.kind for plan in Study.objects.get(pk=again["id"]).recipe.plans] == ["arrival"]
    assert [plan.kind for plan in study.recipe.plans] == ["arrival", "succession"]


def test_holidays_and_planned_prices_reach_the_study_that_nobody_wrote_a_recipe_for(client: APIClient) -> None:
    rows = [f"{label(FIRST_WEEK + t, 'W')},A,{20 + t % 7},{5 + (t % 9 == 0)}" for t in range(N_WEEKS)]
    upload = hand_in(client, "\n".join(["week,product,sold,price", *rows]) + "\n").json()
    made = client.post(f"/api/uploads/{upload['id']}/load/", {"name": "Priced", "options": {}}, format="json").json()
    number = made["id"]
    url = f"/api/portfolios/{number}/plans/"
    assert "BY" in next(one["regions"] for one in client.get("/api/calendars/").json() if one["country"] == "DE")
    assert client.post(url, {"kind": "holidays", "of": "DE-BY"}, format="json").status_code == 201
    price = {"kind": "driver", "name": "price", "where": {"product": "A"}, "amount": 10, "change": "percent"}
    past = client.post(url, {**price, "last": label(FIRST_WEEK + N_WEEKS - 1, "W")}, format="json").json()
    assert "is past: what came is in the history" in past["errors"]["last"][0]
    kept = client.post(url, {**price, "last": label(FIRST_WEEK + N_WEEKS + 12, "W")}, format="json").json()
    assert kept["words"].startswith("price of product A changes by +10 % until")
    made = client.post(f"/api/portfolios/{number}/studies/", {}, format="json").json()
    study = Study.objects.get(pk=made["id"])
    assert "x(log price, holiday)" in study.recipe.methods[0]
    running.carry_out(study.run)
    shown = client.get(f"/api/studies/{study.pk}/nodes/0/drivers/").json()
    assert {one["name"] for one in shown["drivers"]} == {"price", "holiday"}


def test_what_one_study_alone_plans_stays_its_own_when_it_is_run_again(client: APIClient) -> None:
    rows = [f"{label(FIRST_WEEK + t, 'W')},A,{20 + t % 7},{5 + (t % 9 == 0)}" for t in range(N_WEEKS)]
    upload = hand_in(client, "\n".join(["week,product,sold,price", *rows]) + "\n").json()
    loaded = client.post(f"/api/uploads/{upload['id']}/load/", {"name": "Priced", "options": {}}, format="json").json()
    url = f"/api/portfolios/{loaded['id']}"
    last = label(FIRST_WEEK + N_WEEKS + 3, "W")
    cheaper = {"kind": "driver", "name": "price", "last": last, "amount": -10, "change": "percent"}
    refused = client.post(f"{url}/studies/", {"plans": [{**cheaper, "name": "weather"}]}, format="json")
    assert refused.status_code == 400 and "no driver 'weather'" in refused.json()["errors"]["name"][0]
    made = client.post(f"{url}/studies/", {"plans": [cheaper], "name": "cheaper"}, format="json").json()
    study = Study.objects.get(pk=made["id"])
    running.carry_out(study.run)
    assert client.post(f"/api/studies/{study.pk}/again/").status_code == 409  # nothing is new
    fair = {"kind": "event", "name": "fair", "periods": [last]}
    assert client.post(f"{url}/plans/", fair, format="json").status_code == 201
    again = Study.objects.get(pk=client.post(f"/api/studies/{study.pk}/again/").json()["id"])
    assert [plan.kind for plan in again.recipe.plans] == ["event", "driver"]
    # a copy of its recipe has it too, and another study has not
    copy = client.post(f"{url}/studies/", {"recipe": again.recipe_text}, format="json").json()
    assert len(Study.objects.get(pk=copy["id"]).own_plans) == 1
    usual = client.post(f"{url}/studies/", {}, format="json").json()
    assert [plan.kind for plan in Study.objects.get(pk=usual["id"]).recipe.plans] == ["event"]


def test_two_people_cannot_add_over_each_other(client: APIClient, garden: int, monkeypatch: pytest.MonkeyPatch) -> None:
    def file(units: int) -> str:
        return f"week,product,store,region,units\n{label(FIRST_WEEK + N_WEEKS, 'W')},P0,S0,North,{units}\n"

    first, second = (hand_in(client, file(units)).json()["id"] for units in (3, 4))
    looked = portfolio_services.appended

    def meanwhile(*arguments: Any) -> Any:
        found = looked(*arguments)
        monkeypatch.setattr(portfolio_services, "appended", looked)
        assert client.post(f"/api/uploads/{second}/append/", {"portfolio": garden}, format="json").status_code == 200
        return found

    monkeypatch.setattr(portfolio_services, "appended", meanwhile)
    answer = client.post(f"/api/uploads/{first}/append/", {"portfolio": garden}, format="json")
    assert answer.status_code == 409 and "Somebody else" in answer.json()["detail"]
    assert Load.objects.count() == 2 and Portfolio.objects.get().load.panel().values[0, -1] == 4


def test_an_event_on_the_calendar_explains_what_it_did(client: APIClient) -> None:
    """A fair in five weeks of three years, in which six times as much is sold."""
    fairs = {label(FIRST_WEEK + t, "W") for t in (20, 21, 72, 73, 124)}
    rows = []
    for row in SALES.splitlines():
        week, *middle, units = row.split(",")
        rows.append(",".join([week, *middle, str(6 * int(units)) if week in fairs else units]))
    upload = hand_in(client, "\n".join(rows) + "\n").json()
    made = client.post(
        f"/api/uploads/{upload['id']}/load/", {"name": "Fair", "options": {"keys": ["product"]}}, format="json"
    )
    garden = made.json()["id"]

    def flagged() -> int:
        found = client.post(
            f"/api/portfolios/{garden}/searches/", {"find": ["spike"], "spike": 3.0}, format="json"
        ).json()
        return sum(one["period"] in fairs for one in found["found"])

    assert flagged() >= 6  # of 30; the fairs inflate the spread that hides the others
    plan = {"kind": "event", "name": "fair", "periods": sorted(fairs)}
    assert client.post(f"/api/portfolios/{garden}/plans/", plan, format="json").status_code == 201
    assert flagged() == 0


def test_a_revised_value_is_looked_at_afresh(client: APIClient, garden: int) -> None:
    """The till error of 900 is corrected, then revised to 800: still suspicious, open, and corrected anew."""
    search = look(client, garden)
    decide(client, search, "accept", [search["found"][0]["id"]])
    text = f"week,product,store,region,units\n{label(WILD_WEEK, 'W')},P1,S0,North,800\n"
    upload = hand_in(client, text).json()
    assert client.post(f"/api/uploads/{upload['id']}/append/", {"portfolio": garden}, format="json").status_code == 200
    anew = look(client, garden)
    first = anew["found"][0]
    assert (first["name"], first["received"], first["state"]) == ("Plant 1 × S0", 800, "open")
    assert decide(client, anew, "accept", [first["id"]]).json() == {"count": 1}
    holds = {
        row["received"]: row["holds"]
        for row in client.get(f"/api/portfolios/{garden}/corrections/").json()["corrections"]
    }
    assert holds == {900.0: False, 800.0: True}


def test_a_wild_value_inside_a_stock_out_is_corrected_once(client: APIClient) -> None:
    rows = []
    for row in SALES.splitlines()[1:]:
        week, product, store, _, units = row.split(",")
        if (product, store) == ("P1", "S0"):
            out = week in {label(FIRST_WEEK + t, "W") for t in (59, 60)}
            rows.append(f"{week},{product},{'900' if week == label(WILD_WEEK, 'W') else units},{0 if out else 9}")
    upload = hand_in(client, "week,sku,units,stock\n" + "\n".join(rows) + "\n").json()
    made = client.post(f"/api/uploads/{upload['id']}/load/", {"name": "Shelf", "options": {}}, format="json").json()
    search = client.post(f"/api/portfolios/{made['id']}/searches/", {}, format="json").json()
    assert {(one["rule"], one["length"]) for one in search["found"]} >= {("spike", 1), ("out-of-stock", 3)}
    everything = [one["id"] for one in search["found"]]
    assert decide(client, search, "accept", everything).json() == {"count": 3}
    assert Correction.objects.count() == 3
