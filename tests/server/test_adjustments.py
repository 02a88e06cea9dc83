"""Adjustments through the API: seen before they are kept, the same in every page, file and release, undone whole."""

from __future__ import annotations

import io
import tomllib
import zipfile
from pathlib import Path
from typing import Any

import numpy as np
import polars as pl
import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from rest_framework.test import APIClient

from tansy.engine.reading.table import read_table
from tansy.engine.study import export
from tansy.engine.study.prepared import prepare
from tansy.engine.study.recipe import read_recipe
from tansy.engine.study.run import run_study
from tansy.server.accounts.acts import Role
from tansy.server.releases import workbook
from tansy.server.releases.models import Release
from tansy.server.studies import adjustments, running
from tansy.server.studies.models import AdjustmentRow, Node, Study
from tests.server.conftest import colleague


def ref(study: Study, name: str) -> str:
    return str(Node.objects.get(study=study, name=name).ref)


def change(client: APIClient, study: Study, name: str, **more: Any) -> Any:
    ahead = study.load.timeline.after(6).labels
    usual = {"first": ahead[0], "last": ahead[-1], "change": "percent", "amount": 10.0, "reason": "spring fair"}
    asked = {"nodes": [ref(study, name)], **usual, **more}
    act = {name: asked.pop(name) for name in ("reason", "preview") if name in asked}
    return client.post(f"/api/studies/{study.pk}/adjustments/", {"changes": [asked], **act}, format="json")


def page(client: APIClient, study: Study, name: str) -> dict[str, Any]:
    found: dict[str, Any] = client.get(f"/api/studies/{study.pk}/nodes/{ref(study, name)}/").json()
    return found


TOTAL = "every product × every store"
FLAT = """
name = "later"
[methods]
candidates = ["naive"]
fallback = ["naive"]
[structure]
product = ["group"]
store = ["region"]
[backtest]
origins = 3
step = 6
leads = 6
"""


def test_a_change_is_seen_before_it_is_kept_and_is_everywhere_after(
    client: APIClient, done: Study, tmp_path: Path
) -> None:
    before = page(client, done, "Herbs × every store")
    assert before["adjusted_by"] == [] and before["statistical"] == before["forecast"]
    seen = change(client, done, "Herbs × every store", preview=True)
    assert seen.status_code == 200 and seen.json()["kept"] == [] and not AdjustmentRow.objects.exists()
    np.testing.assert_allclose(seen.json()["after"], 1.1 * np.array(before["forecast"]), rtol=1e-4)
    said = seen.json()
    # all, Herbs and three products by all, two regions and three stores are 30 nodes, of which 9 are the series
    assert (said["n_changed"], said["n_series"], said["n_above"]) == (9, 18, 21)
    assert said["total"]["change"] == pytest.approx(0.1 * said["total"]["before"]) and said["total"][
        "percent"
    ] == pytest.approx(10)
    assert seen.json()["movers"][0]["name"] in (TOTAL, "Herbs × every store")

    kept = change(client, done, "Herbs × every store")
    assert kept.status_code == 201 and kept.json()["after"] == seen.json()["after"]
    own = page(client, done, "Herbs × every store")
    assert own["forecast"] == seen.json()["after"] and own["statistical"] == before["forecast"]
    assert own["bands"] == seen.json()["bands"] != before["bands"]
    assert [(one["own"], one["reason"], one["made_by"]) for one in own["adjusted_by"]] == [
        (True, "spring fair", "ines")
    ]
    above = page(client, done, TOTAL)
    assert [one["own"] for one in above["adjusted_by"]] == [False]
    added = np.array(above["forecast"]) - np.array(above["statistical"])
    np.testing.assert_allclose(added, np.array(own["forecast"]) - np.array(own["statistical"]), atol=2e-4)
    assert page(client, done, "Ferns × every store")["adjusted_by"] == []
    marks = client.get(f"/api/studies/{done.pk}/adjusted/").json()
    assert dict(zip(marks["node"], marks["change"], strict=True))[own["node"]] == 10.0
    parts = client.get(f"/api/studies/{done.pk}/nodes/{own['node']}/parts/").json()["parts"]
    assert parts[-1]["name"] == "adjustments"
    np.testing.assert_allclose(np.sum([one["values"] for one in parts], axis=0), own["forecast"], rtol=1e-4)

    # the release, its file, and a run of its recipe without the server are the same numbers
    draft = client.get(f"/api/studies/{done.pk}/draft/").json()
    assert draft["holds"] and [one["reason"] for one in draft["adjustments"]] == ["spring fair"]
    client.post(f"/api/studies/{done.pk}/publish/", {}, format="json")
    release = Release.objects.get()
    rows = pl.read_parquet(io.BytesIO(release.forecasts))
    recipe = client.get(f"/api/studies/{done.pk}/recipe/").content.decode()
    assert release.recipe_text == recipe and tomllib.loads(recipe)["adjustments"][0]["author"] == "ines"
    [listed] = client.get(f"/api/portfolios/{done.portfolio.pk}/releases/").json()
    whole = client.get(f"/api/releases/{release.pk}/").json()
    assert [one["reason"] for one in whole.pop("adjustments")] == ["spring fair"]
    assert listed == whole and listed["n_adjustments"] == 1
    again = export.forecasts(run_study(done.load.panel(), read_recipe(recipe)).published)
    assert again.equals(rows) and (rows["forecast"] != rows["statistical"]).any()


def test_acts_are_undone_and_redone_and_a_new_one_ends_that(client: APIClient, done: Study) -> None:
    address = f"/api/portfolios/{done.portfolio.pk}/adjustments/"
    start = page(client, done, TOTAL)
    assert client.post(f"{address}undo/").status_code == 409
    states = [start["forecast"]]
    for amount in (10.0, -20.0, 30.0):
        assert change(client, done, TOTAL, amount=amount).status_code == 201
        states.append(page(client, done, TOTAL)["forecast"])
    both = {"nodes": [ref(done, "Plant 0 × S0"), ref(done, "Plant 1 × S0")], "change": "add", "amount": 5.0}
    assert len(change(client, done, TOTAL, **both).json()["kept"]) == 2  # one act
    states.append(page(client, done, TOTAL)["forecast"])
    for k in (3, 2, 1, 0):
        listed = client.post(f"{address}undo/?study={done.pk}").json()
        assert page(client, done, TOTAL)["forecast"] == states[k]
        assert listed["can_undo"] == (k > 0) and listed["can_redo"]
    assert page(client, done, TOTAL) == start
    for k in (1, 2, 3, 4):
        client.post(f"{address}redo/")
        assert page(client, done, TOTAL)["forecast"] == states[k]
    assert client.post(f"{address}redo/").status_code == 409
    client.post(f"{address}undo/")
    other = APIClient()
    other.force_authenticate(colleague("mara", Role.SIGNER))
    assert other.post(f"{address}undo/").status_code == 409  # what others did is theirs to undo
    assert not other.get(address).json()["can_undo"]
    change(client, done, TOTAL, amount=1.0, reason="another")
    listed = client.get(f"{address}?study={done.pk}").json()
    assert not listed["can_redo"] and listed["reasons"][0] == "spring fair"
    assert [one["state"] for one in listed["adjustments"]] == ["laid", "withdrawn", "withdrawn", "laid", "laid", "laid"]
    first = listed["adjustments"][-1]
    assert client.delete(f"/api/adjustments/{first['id']}/").status_code == 204
    assert client.delete(f"/api/adjustments/{first['id']}/").status_code == 409


def test_what_cannot_be_is_said_at_its_field_and_nothing_is_kept(client: APIClient, done: Study) -> None:
    for wrong, field, sentence in (
        ({"reason": " "}, "", "needs a reason"),
        ({"change": "add", "amount": -1e6}, "amount", "below zero"),
        ({"first": "soon"}, "first", "no period such as"),
        ({"change": "lift"}, "change", "not a valid choice"),
        ({"locked": [ref(done, TOTAL)]}, "amount", "locked itself"),
        ({"amount": "nan"}, "amount", ""),
        ({"nodes": []}, "nodes", ""),
    ):
        answer = change(client, done, TOTAL, **wrong)
        assert answer.status_code in (400, 422), answer.content
        assert sentence in answer.json()["detail"] and (not field or field in str(answer.json()["errors"]))
    assert change(client, done, TOTAL, nodes=["0123456789abcdef"]).status_code == 404
    assert not AdjustmentRow.objects.exists()


def test_a_new_study_keeps_what_still_makes_sense_and_asks_about_the_rest(client: APIClient, done: Study) -> None:
    ahead = done.load.timeline.after(6).labels
    change(client, done, "Herbs × every store", amount=50.0)
    change(client, done, "Ferns × every store", change="add", amount=1.0, reason="a plant more")
    change(client, done, TOTAL, first=ahead[0], last=ahead[0], reason="this week")
    client.post(f"/api/portfolios/{done.portfolio.pk}/studies/", {"recipe": FLAT}, format="json")
    later = Study.objects.latest("pk")
    running.carry_out(later.run)
    listed = client.get(f"/api/portfolios/{done.portfolio.pk}/adjustments/?study={later.pk}").json()["adjustments"]
    by_reason = {one["reason"]: one for one in listed}
    assert by_reason["a plant more"]["state"] == "left" and "has moved by" in by_reason["a plant more"]["problem"]
    draft = client.get(f"/api/studies/{later.pk}/draft/").json()
    assert not draft["holds"] and client.post(f"/api/studies/{later.pk}/publish/", {}, format="json").status_code == 422
    assert page(client, later, "Ferns × every store")["adjusted_by"][0]["reason"] != "a plant more"

    for one in listed:
        if one["state"] == "left":
            answer = client.post(f"/api/adjustments/{one['id']}/decide/?study={later.pk}")
            assert answer.status_code == 200, answer.content
    found = client.get(f"/api/portfolios/{done.portfolio.pk}/adjustments/?study={later.pk}").json()["adjustments"]
    assert {one["state"] for one in found if one["state"] != "withdrawn"} == {"laid"}
    ferns = page(client, later, "Ferns × every store")
    assert (np.array(ferns["forecast"]) > np.array(ferns["statistical"])).all()
    assert client.get(f"/api/studies/{later.pk}/draft/").json()["holds"]


def test_a_study_goes_out_again_where_somebody_changed_it_and_a_release_can_be_withdrawn(
    client: APIClient, done: Study, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    def publish() -> Any:
        return client.post(f"/api/studies/{done.pk}/publish/", {}, format="json")

    assert publish().status_code == 201 and publish().status_code == 409
    change(client, done, TOTAL)
    assert client.get(f"/api/studies/{done.pk}/draft/").json()["published_as"] is None
    assert publish().json()["number"] == 2 and publish().status_code == 409
    second = Release.objects.get(number=2)
    address = f"/api/releases/{second.pk}/withdraw/"
    assert client.post(address, {"reason": ""}, format="json").status_code == 400
    assert client.post(address, {"reason": "wrong fair"}, format="json").status_code == 201
    assert client.post(address, {"reason": "again"}, format="json").status_code == 409
    # the workbook says what it is, and holds the rows of every level
    address = f"/api/releases/{second.pk}"
    book = tmp_path / "release.xlsx"
    book.write_bytes(client.get(f"{address}/xlsx/").content)
    cover = zipfile.ZipFile(book).read("xl/worksheets/sheet1.xml").decode()
    words = AdjustmentRow.objects.get().adjustment.words()
    for said in ("R2 of Garden", "wrong fair (ines)", TOTAL, words, second.sha256, done.load.sha256):
        assert said in cover, said
    rows = pl.read_parquet(io.BytesIO(second.forecasts))
    for level in rows["level"].unique(maintain_order=True).to_list():
        own = rows.filter(pl.col("level") == level)
        sheet = read_table(book, level)
        assert sheet.columns == [name for name in rows.columns if name != "level"]
        np.testing.assert_allclose(sheet["forecast"].cast(pl.Float64).to_numpy(), own["forecast"].to_numpy())
        assert pl.read_csv(io.BytesIO(client.get(f"{address}/csv/", {"level": level}).content)).height == own.height
        part = client.get(f"{address}/parquet/", {"level": level}).content
        assert pl.read_parquet(io.BytesIO(part)).equals(own)
    assert client.get(f"{address}/parquet/").content == bytes(second.forecasts)
    monkeypatch.setattr(workbook, "MOST_ROWS", 100)
    book.write_bytes(client.get(f"{address}/xlsx/").content)
    sheets = zipfile.ZipFile(book)
    assert "too large: see the Parquet or CSV file" in sheets.read("xl/worksheets/sheet1.xml").decode()
    assert 'name="product × store"' not in sheets.read("xl/workbook.xml").decode()
    assert client.get(f"{address}/csv/", {"level": "shelf"}).status_code == 422
    listed = client.get(f"/api/portfolios/{done.portfolio.pk}/releases/").json()
    assert [one["withdrawal"] and one["withdrawal"]["reason"] for one in listed] == ["wrong fair", None]
    assert client.get(f"/api/releases/{second.pk}/csv/").status_code == 200  # it stays as it is
    assert publish().status_code == 201  # once more, as the one with these numbers is withdrawn
    with pytest.raises(TypeError, match="frozen"):
        second.withdrawal.save()


def test_standing_adjustments_are_those_of_the_engine(client: APIClient, done: Study) -> None:
    change(client, done, "Herbs × North", amount=40.0, spread="reconcile", locked=[ref(done, TOTAL)])
    found = adjustments.adjusted(done)
    (row,) = AdjustmentRow.objects.all()
    prepared = prepare(done.load.panel(), done.recipe)
    node = prepared.graph.position[row.node]
    np.testing.assert_allclose(found.forecast.mean[node], 1.4 * found.statistical.mean[node])
    np.testing.assert_allclose(found.forecast.mean[0], found.statistical.mean[0])
    assert row.change == pytest.approx(0.4 * row.statistical)


def test_what_ifs_stand_beside_each_other_are_renamed_archived_and_deleted(client: APIClient, done: Study) -> None:
    made = client.post(f"/api/portfolios/{done.portfolio.pk}/studies/", {"recipe": FLAT, "name": "flat"}, format="json")
    flat = Study.objects.get(pk=made.json()["id"])
    assert flat.name == "flat" and client.delete(f"/api/studies/{flat.pk}/").status_code == 409  # it waits to be run
    running.carry_out(flat.run)
    change(client, done, "Herbs × every store", amount=50.0)
    plain = client.get(f"/api/studies/{done.pk}/recipe/", {"as_made": "true"}).content.decode()
    assert (
        "adjustments" not in plain and "adjustments" in client.get(f"/api/studies/{done.pk}/recipe/").content.decode()
    )
    found = client.get(f"/api/studies/{done.pk}/beside/{flat.pk}/", {"level": 4}).json()
    one, other = (adjustments.adjusted(study) for study in (done, flat))
    by_period = found["by_period"]
    np.testing.assert_allclose([period["one"] for period in by_period], one.mean[0])
    np.testing.assert_allclose([period["difference"] for period in by_period], other.mean[0] - one.mean[0])
    gone = 100 * (other.mean[0].sum() / one.mean[0].sum() - 1)
    assert found["total"]["percent"] == pytest.approx(gone)
    first = one.statistical.graph.levels[4].first
    n = one.statistical.graph.levels[4].n_nodes
    apart = np.abs(one.mean - other.mean).sum(axis=1)
    assert found["levels"][4]["moved"] == pytest.approx(apart[first : first + n].sum())
    assert [node["node"] for node in found["nodes"]] == [
        one.statistical.graph.refs[first + i] for i in np.argsort(-apart[first : first + n], kind="stable")
    ]
    assert found["nodes"][0]["one"] == pytest.approx(
        one.mean[one.statistical.graph.refs.index(found["nodes"][0]["node"])].sum()
    )
    herbs = ref(done, "Herbs × every store")
    asked = {"node": herbs, "also": f"{flat.pk},{done.pk}"}
    of_herbs = client.get(f"/api/studies/{done.pk}/beside/{flat.pk}/", asked).json()
    own = one.mean[Node.objects.get(study=done, ref=herbs).position]
    assert of_herbs["name"] == "Herbs × every store" and len(of_herbs["also"]) == 2
    np.testing.assert_allclose([period["one"] for period in of_herbs["by_period"]], own)
    assert all(period["also"] == [period["other"], period["one"]] for period in of_herbs["by_period"])
    assert of_herbs["total"]["difference"] == pytest.approx(sum(p["difference"] for p in of_herbs["by_period"]))
    for wrong in ("x", "1,2,3,4,5"):
        assert client.get(f"/api/studies/{done.pk}/beside/{flat.pk}/", {"also": wrong}).status_code == 400
    assert client.get(f"/api/studies/{done.pk}/beside/{flat.pk}/", {"also": "999"}).status_code == 404
    assert client.get(f"/api/studies/{done.pk}/beside/{flat.pk}/", {"level": 40}).status_code == 400
    assert client.get(f"/api/studies/{done.pk}/beside/999/").status_code == 404

    assert (
        client.patch(f"/api/studies/{flat.pk}/", {"name": "flat line", "archived": True}, format="json").status_code
        == 200
    )
    listed = {one["id"]: one for one in client.get(f"/api/portfolios/{done.portfolio.pk}/studies/").json()}
    assert listed[flat.pk]["name"] == "flat line" and listed[flat.pk]["archived_at"]
    client.patch(f"/api/studies/{flat.pk}/", {"archived": False}, format="json")
    assert client.get(f"/api/studies/{flat.pk}/").json()["archived_at"] is None
    client.post(f"/api/studies/{done.pk}/publish/", {}, format="json")
    kept = client.delete(f"/api/studies/{done.pk}/")
    assert kept.status_code == 409 and "R1 was published" in kept.json()["detail"]
    assert client.delete(f"/api/studies/{flat.pk}/").status_code == 204
    assert not Node.objects.filter(study_id=flat.pk).exists() and AdjustmentRow.objects.count() == 1


def test_a_file_of_adjustments_is_taken_whole_or_not_at_all(client: APIClient, done: Study) -> None:
    ahead = done.load.timeline.after(6).labels
    good = (
        "group,store,from,to,change,amount,over,reason\n"
        f'Herbs,,{ahead[0]},{ahead[1]},percent,"12,5",,fair\n'
        f",,{ahead[2]},{ahead[2]},set,600,,\n"
        f",S2,{ahead[3]},{ahead[5]},add,90,sum,\n"
    )

    def hand(text: str, **more: Any) -> Any:
        sent = {"file": SimpleUploadedFile("buyers.csv", text.encode()), **more}
        return client.post(f"/api/studies/{done.pk}/adjustments/file/", sent, format="multipart")

    before = adjustments.adjusted(done).mean
    seen = hand(good, preview="true")
    assert seen.status_code == 200 and seen.json()["n_adjustments"] == 3 and not AdjustmentRow.objects.exists()
    kept = hand(good, reason="")
    assert kept.status_code == 201 and len(kept.json()["kept"]) == 3
    mean = adjustments.adjusted(done).mean
    graph = adjustments.adjusted(done).statistical.graph
    herbs = next(i for i in range(graph.n_nodes) if graph.name(i) == "Herbs × every store")
    south = next(i for i in range(graph.n_nodes) if graph.name(i) == "every product × S2")
    np.testing.assert_allclose(mean[herbs, :2], 1.125 * before[herbs, :2])
    assert mean[0, 2] == pytest.approx(600.0)
    assert mean[south, 3:].sum() == pytest.approx(before[south, 3:].sum() + 90.0)
    assert [row.entries["reason"] for row in AdjustmentRow.objects.order_by("pk")] == [
        "fair",
        "buyers.csv",
        "buyers.csv",
    ]
    client.post(f"/api/portfolios/{done.portfolio.pk}/adjustments/undo/")
    assert (adjustments.adjusted(done).mean == before).all()  # one act

    for text, sentence in (
        (good.replace("Herbs", "Trees"), "row 2: Trees: there is no series there"),
        (good.replace("600", "many"), "row 3: 'many' is no number"),
        (good.replace(ahead[0], "soon"), "no period such as"),
        (good.replace("group", "colour"), "'colour' is no key or attribute"),
        (good.replace("amount", "units"), "is no key or attribute"),
        ("group,change,amount\nHerbs,set,3\n", "says no periods"),
        (good.replace("set,600", "add,-1e7"), "below zero"),
        ("", "empty"),
    ):
        answer = hand(text)
        assert answer.status_code in (400, 422) and sentence in answer.json()["detail"], answer.content
    assert AdjustmentRow.objects.count() == 3


def test_a_part_of_one_study_is_taken_into_another(client: APIClient, done: Study) -> None:
    made = client.post(f"/api/portfolios/{done.portfolio.pk}/studies/", {"recipe": FLAT, "name": "flat"}, format="json")
    flat = Study.objects.get(pk=made.json()["id"])
    running.carry_out(flat.run)
    first, second = (adjustments.adjusted(one).forecast for one in (done, flat))
    herbs, address = ref(done, "Herbs × every store"), f"/api/studies/{done.pk}/take/{flat.pk}/"
    node = Node.objects.get(study=done, ref=herbs).position
    there = second.graph.position[first.graph.ids[node]]
    assert np.abs(first.mean[node] - second.mean[there]).min() > 0.1
    seen = client.post(address, {"nodes": [herbs], "preview": True}, format="json")
    assert seen.status_code == 200 and seen.json()["total"]["after"] == pytest.approx(second.mean[there].sum())
    assert not AdjustmentRow.objects.exists()
    assert "needs a reason" in client.post(address, {"nodes": [herbs]}, format="json").json()["detail"]
    body = {"nodes": [herbs], "reason": "taken from flat"}
    assert client.post(address, body, format="json").status_code == 201
    taken = adjustments.adjusted(done).forecast
    np.testing.assert_allclose(taken.mean[node], second.mean[there], rtol=1e-12)
    assert taken.graph.summation.largest_gap(taken.mean) < 1e-9
    below = first.graph.n_aggregates + first.graph.below(np.array([node])).series
    others = np.setdiff1d(np.arange(first.graph.n_aggregates, first.graph.n_nodes), below)
    np.testing.assert_array_equal(taken.mean[others], first.mean[others])
    assert "nothing to take" in client.post(address, body, format="json").json()["detail"]
    made = client.post(address, {**body, "by_series": True}, format="json")
    assert made.status_code == 201 and made.json()["node"] == herbs
    each = adjustments.adjusted(done).forecast
    place = [second.graph.position[first.graph.ids[i]] for i in below.tolist()]
    np.testing.assert_allclose(each.mean[below], second.mean[place], rtol=1e-9, atol=1e-9)
    last = made.json()["kept"][0]
    listed = client.get(f"/api/portfolios/{done.portfolio_id}/adjustments/").json()["adjustments"]
    assert len({one["act"] for one in listed}) == 2
    # over the study that it came from it changes nothing
    np.testing.assert_allclose(adjustments.adjusted(flat).mean, second.mean, rtol=1e-9, atol=1e-9)
    assert client.delete(f"/api/adjustments/{last}/?act=true").status_code == 204
    np.testing.assert_array_equal(adjustments.adjusted(done).mean, taken.mean)
    assert client.delete(f"/api/adjustments/{last}/?act=true").status_code == 409
    client.post(f"/api/portfolios/{done.portfolio_id}/adjustments/undo/")
    np.testing.assert_array_equal(adjustments.adjusted(done).mean, first.mean)


def test_where_a_portfolio_asks_for_two_one_prepares_and_another_signs(client: APIClient, done: Study) -> None:
    def post(what: str, by: APIClient = client, **sent: Any) -> Any:
        return by.post(f"/api/studies/{done.pk}/{what}/", sent, format="json")

    address = f"/api/portfolios/{done.portfolio.pk}/"
    assert client.patch(address, {"two_signatures": True}, format="json").json()["two_signatures"]
    other = APIClient()
    other.force_authenticate(colleague("mara", Role.SIGNER))
    assert "one person prepares" in post("publish").json()["detail"]
    assert post("prepare", note="as agreed").status_code == 201
    draft = client.get(f"/api/studies/{done.pk}/draft/").json()
    assert draft["two_signatures"] and draft["prepared"]["made_by"] == "ines"
    assert "another person signs" in post("publish").json()["detail"]
    change(client, done, TOTAL)  # what was prepared is not what would go out now
    assert client.get(f"/api/studies/{done.pk}/draft/").json()["prepared"] is None
    assert "one person prepares" in post("publish", by=other).json()["detail"]
    post("prepare", note="with the fair")
    signed = post("publish", by=other)
    assert signed.status_code == 201, signed.content
    assert (signed.json()["prepared_by"], signed.json()["published_by"]) == ("ines", "mara")
    assert signed.json()["note"] == "with the fair"
    client.patch(address, {"two_signatures": False}, format="json")
    change(client, done, TOTAL, amount=1.0)
    assert post("publish").json()["prepared_by"] is None


def test_a_machine_asks_what_is_new_since_a_release_and_not_twice(client: APIClient, done: Study) -> None:
    ahead = done.load.timeline.after(6).labels
    client.post(f"/api/studies/{done.pk}/publish/", {}, format="json")
    change(client, done, "Herbs × North", first=ahead[1], last=ahead[2])
    client.post(f"/api/studies/{done.pk}/publish/", {}, format="json")
    first, second = Release.objects.order_by("number")
    address = f"/api/releases/{second.pk}/rows/"
    found = client.get(address, {"since": 1})
    before, after = (pl.read_parquet(io.BytesIO(one.forecasts)) for one in (first, second))
    expected = after.filter(after["forecast"] != before["forecast"]).to_dicts()
    assert found.json()["count"] == len(expected) and found.json()["rows"] == expected
    assert {row["period"] for row in expected} == set(ahead[1:3])
    top = client.get(address, {"since": 1, "level": "all × all", "limit": 1}).json()
    assert top["count"] == 2 and len(top["rows"]) == 1
    assert client.get(address, {"since": 2}).json()["count"] == 0
    assert client.get(address, {"since": 9}).status_code == 404
    tag = found["ETag"]
    assert client.get(address, {"since": 1}, headers={"If-None-Match": tag}).status_code == 304
    assert client.get(address, headers={"If-None-Match": tag}).status_code == 200
    client.post(f"/api/releases/{second.pk}/withdraw/", {"reason": "wrong"}, format="json")
    again = client.get(address, {"since": 1}, headers={"If-None-Match": tag})
    assert again.status_code == 200 and again.json()["withdrawn"]


def test_comments_are_of_a_node_or_the_whole_and_their_authors_alone_take_them_back(
    client: APIClient, done: Study
) -> None:
    address = f"/api/studies/{done.pk}/comments/"
    assert client.post(address, {"text": "Looks right."}, format="json").status_code == 201
    herbs = ref(done, "Herbs × every store")
    made = client.post(address, {"node": herbs, "text": "Is the fair in it?"}, format="json").json()
    assert (made["node"], made["node_name"], made["made_by"]) == (herbs, "Herbs × every store", "ines")
    assert [one["text"] for one in client.get(address).json()] == ["Is the fair in it?", "Looks right."]
    assert [one["id"] for one in client.get(address, {"node": herbs}).json()] == [made["id"]]
    assert client.get(address, {"node": ref(done, TOTAL)}).json() == []
    assert client.post(address, {"text": " "}, format="json").status_code == 400
    assert client.post(address, {"node": "0123456789abcdef", "text": "?"}, format="json").status_code == 404
    other = APIClient()
    other.force_authenticate(colleague("mara", Role.SIGNER))
    assert other.delete(f"/api/comments/{made['id']}/").status_code == 403
    assert client.delete(f"/api/comments/{made['id']}/").status_code == 204
    assert len(client.get(address).json()) == 1
