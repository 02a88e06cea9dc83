"""Releases from end to end: with every kind of plan, with awkward names, and from the rows that go out."""

from __future__ import annotations

import gzip
import hashlib
import io
import itertools
import json
from pathlib import Path
from typing import Any

import numpy as np
import polars as pl
import pytest
from rest_framework.test import APIClient

from tansy.engine.cleaning.file import read_corrections
from tansy.engine.study.export import forecasts
from tansy.engine.study.recipe import read_recipe
from tansy.engine.study.run import run_study
from tansy.engine.timeline import label
from tansy.server.portfolios.corrections import pack, unpack
from tansy.server.releases import services as release_services
from tansy.server.releases.models import Release
from tansy.server.studies import running, services
from tansy.server.studies.models import Node, Study
from tests.garden import FIRST_WEEK, N_WEEKS, RECIPE, SALES
from tests.server.conftest import hand_in

FIRST_AHEAD = label(FIRST_WEEK + N_WEEKS, "W")
PLANS: dict[str, dict[str, Any]] = {
    "arrival": {
        "kind": "arrival", "keys": {"product": "P9", "store": "S0"}, "start": FIRST_AHEAD,
        "like": {"product": "P1", "store": "S0"}, "share": 0.5,
    },
    "range": {"kind": "arrival", "keys": {"product": "P8", "store": "S2"}, "start": FIRST_AHEAD, "low": 2, "high": 9},
    "succession": {"kind": "succession", "key": "product", "old": "P2", "new": "P7"},
    "part of one": {"kind": "succession", "key": "product", "old": "P3", "new": "P4", "share": 0.25},
    "lifetime": {"kind": "lifetime", "where": {"product": "P5"}, "last": label(FIRST_WEEK + N_WEEKS + 1, "W")},
    "event": {"kind": "event", "name": "fair", "periods": [label(FIRST_WEEK + 20, "W"), FIRST_AHEAD]},
}  # fmt: skip


def studied(client: APIClient, portfolio: int, recipe: str) -> Study:
    client.post(f"/api/portfolios/{portfolio}/studies/", {"recipe": recipe}, format="json")
    study = Study.objects.get()
    running.carry_out(study.run)
    assert study.run.state == "done", study.run.message
    return study


def released(client: APIClient, portfolio: int, recipe: str) -> Release:
    study = studied(client, portfolio, recipe)
    assert client.post(f"/api/studies/{study.pk}/publish/", {}, format="json").status_code == 201
    return Release.objects.get()


@pytest.mark.parametrize("names", [*((name,) for name in PLANS), tuple(PLANS)], ids="+".join)
def test_every_kind_of_plan_goes_through_draft_checks_publish_and_download(
    client: APIClient, portfolio: dict[str, Any], names: tuple[str, ...]
) -> None:
    number = portfolio["id"]
    for name in names:
        answer = client.post(f"/api/portfolios/{number}/plans/", PLANS[name], format="json")
        assert answer.status_code == 201, answer.content
    study = studied(client, number, RECIPE)
    draft = client.get(f"/api/studies/{study.pk}/draft/").json()
    assert draft["holds"], draft["checks"]
    made = client.post(f"/api/studies/{study.pk}/publish/", {"note": ""}, format="json")
    assert made.status_code == 201, made.content
    release = Release.objects.get()
    rows = pl.read_parquet(client.get(f"/api/releases/{release.pk}/parquet/").content)
    assert rows.height == draft["n_nodes"] * 6
    graph = services.graph_of(study)
    means = rows["forecast"].to_numpy().reshape(graph.n_nodes, 6)
    assert graph.summation.largest_gap(means) <= 1e-9
    assert draft["total"]["mean"] == means[0].tolist() == made.json()["total"]
    series = rows.filter(pl.col("level") == "product × store")
    products = set(series["product"].to_list())
    assert ("P9" in products) == ("arrival" in names) and ("P2" in products) == ("succession" not in names)
    csv = pl.read_csv(client.get(f"/api/releases/{release.pk}/csv/").content)
    assert csv.height == rows.height and csv["forecast"].sum() == pytest.approx(rows["forecast"].sum())
    paths = pl.read_parquet(client.get(f"/api/releases/{release.pk}/paths/", {"n": 20}).content)
    assert paths.height == series.height * 20 and set(paths["product"].to_list()) == products
    mean = paths.group_by("product", "store", "period").agg(pl.col("value").cast(float).mean())
    both = series.join(mean, on=["product", "store", "period"])
    assert (both["forecast"] - both["value"]).abs().max() <= 0.5 / 20 + 1e-3  # pots are whole
    if "arrival" in names:
        own = client.get(f"/api/releases/{release.pk}/rows/?product=P9&store=S0").json()
        assert own["count"] == 6 and own["rows"][0]["forecast"] > 0


AWKWARD = ("format", "start", "limit", "level", "forecast", "q0.5")


@pytest.mark.parametrize(("first", "second"), list(itertools.pairwise(AWKWARD)))
def test_key_columns_of_any_name_go_from_the_file_to_the_feed(client: APIClient, first: str, second: str) -> None:
    lines = SALES.splitlines()
    text = "\n".join(
        [f"week,{first},{second},units", *(",".join(line.split(",")[i] for i in (0, 1, 2, 4)) for line in lines[1:])]
    )
    upload = hand_in(client, text).json()
    options = {"keys": [first, second], "value": "units", "time": "week"}
    loaded = client.post(f"/api/uploads/{upload['id']}/load/", {"name": "Odd", "options": options}, format="json")
    assert loaded.status_code == 201, loaded.content
    recipe = RECIPE.split("[structure]")[0] + "[structure]\n[methods]" + RECIPE.split("[methods]")[1]
    number = loaded.json()["id"]
    release = released(client, number, recipe)
    own = {"level", "forecast", "q0.5"}
    named = {key: f"key {key}" if key in own else key for key in (first, second)}
    query = {f"column:{named[first]}": "P1", f"column:{named[second]}": "S0"}
    page = client.get(f"/api/releases/{release.pk}/rows/", query)
    assert page.status_code == 200, page.content
    assert page.json()["count"] == 6
    assert client.get(f"/api/portfolios/{number}/coverage/").status_code == 200
    assert client.get(f"/api/portfolios/{number}/overview/", {"by": first, second: "S0"}).status_code == 200


def test_a_release_is_made_again_to_the_byte(client: APIClient, portfolio: dict[str, Any], tmp_path: Path) -> None:
    """From its own recipe, with corrections, kinds by hand, plans and adjustments in whole units."""
    number = portfolio["id"]
    assert client.patch(f"/api/portfolios/{number}/", {"whole_units": True}, format="json").status_code == 200
    for name in ("arrival", "event", "lifetime"):
        client.post(f"/api/portfolios/{number}/plans/", PLANS[name], format="json")
    weeks = [label(FIRST_WEEK + N_WEEKS - back, "W") for back in (9, 5)]
    empty = {"where": {"store": "S1"}, "first": weeks[0], "last": weeks[1], "because": "stock-out"}
    assert client.post(f"/api/portfolios/{number}/corrections/mark/", empty, format="json").json()["count"] > 5
    kinds = f"/api/portfolios/{number}/kinds/"
    some = next(one for kind in ("smooth", "erratic") for one in client.get(kinds, {"kind": kind}).json()["series"])
    ended = {"series": [some["series"]], "kind": "ended"}
    assert client.post(kinds, ended, format="json").json() == {"count": 1}
    study = studied(client, number, RECIPE)
    change = {
        "nodes": [Node.objects.get(study=study, position=0).ref],
        "first": FIRST_AHEAD,
        "last": FIRST_AHEAD,
        "change": "percent",
        "amount": 25.0,
    }
    body = {"changes": [change], "reason": "spring fair"}
    made = client.post(f"/api/studies/{study.pk}/adjustments/", body, format="json")
    assert made.status_code < 300, made.content
    assert client.post(f"/api/studies/{study.pk}/publish/", {}, format="json").status_code == 201
    release = Release.objects.get()
    assert "adjustments" in release.recipe_text and study.corrections and study.kinds_by_hand
    again = run_study(
        study.load.panel(), read_recipe(release.recipe_text), corrections=unpack(study.corrections),
        kinds_by_hand={int(i): kind for i, kind in study.kinds_by_hand.items()}, workers=2,
    )  # fmt: skip
    buffer = io.BytesIO()
    forecasts(again.published).write_parquet(buffer, row_group_size=release_services.ROW_GROUP)
    assert hashlib.sha256(buffer.getvalue()).hexdigest() == release.sha256
    # the corrections of the study come as a file that says the same of the same history
    (tmp_path / "by_hand.csv").write_bytes(client.get(f"/api/studies/{study.pk}/corrections/").content)
    read = read_corrections(tmp_path / "by_hand.csv", study.load.panel())
    assert pack(read) == study.corrections
    # and so does the ledger, without what was reverted
    ledger = client.get(f"/api/portfolios/{number}/corrections/file/").content
    (tmp_path / "ledger.csv").write_bytes(ledger)
    held = pack(read_corrections(tmp_path / "ledger.csv", study.load.panel()))
    assert sorted(row[:4] for row in held) == sorted(row[:4] for row in study.corrections)
    gone = ledger.decode().splitlines()
    gone[1] = gone[1].rsplit(",", 2)[0] + ",ines,2026-01-01T00:00:00"
    (tmp_path / "ledger.csv").write_text("\n".join(gone))
    assert len(read_corrections(tmp_path / "ledger.csv", study.load.panel())) == len(held) - 1


def test_names_that_begin_like_a_formula_stay_texts_and_no_zero_has_a_sign(client: APIClient) -> None:
    text = SALES.replace(",P1,", ",=1+1,").replace(",P2,", ",@sum,").replace(",P3,", ",-9,").replace(",P4,", ",+9,")
    gone = [
        line
        for line in text.splitlines()
        if not (line.split(",")[1] == "P5" and line.split(",")[0] > label(FIRST_WEEK + 40, "W"))
    ]
    upload = hand_in(client, "\n".join(gone)).json()
    options = {"keys": ["product", "store"], "gaps": "zero"}
    loaded = client.post(f"/api/uploads/{upload['id']}/load/", {"name": "=cmd", "options": options}, format="json")
    assert loaded.status_code == 201, loaded.content
    recipe = RECIPE.replace('product = ["group"]', "").replace('store = ["region"]', "").replace(
        "candidates", "ended_after = 30\ncandidates"
    ) + "[reconciliation]\nwhole_units = true\n"  # fmt: skip
    release = released(client, loaded.json()["id"], recipe)
    content = client.get(f"/api/releases/{release.pk}/csv/").content
    csv = pl.read_csv(io.BytesIO(content), infer_schema=False)
    assert {"'=1+1", "'@sum", "'-9", "'+9"} <= set(csv["product"].to_list())
    assert not any(cell.startswith(("=", "@", "+")) for name in csv.columns for cell in csv[name].to_list())
    rows = pl.read_parquet(client.get(f"/api/releases/{release.pk}/parquet/").content)
    assert "=1+1" in rows["product"].to_list(), "a format that has types needs no apostrophe"
    for name in rows.columns:
        if rows[name].dtype == pl.Float64:
            values = rows[name].to_numpy()
            assert (values == 0.0).any() and not np.signbit(values[values == 0.0]).any(), name
    assert b",-0.0" not in content and b",-0\n" not in content


def test_a_node_is_shown_beside_what_the_release_before_said_of_it(client: APIClient, done: Study) -> None:
    address = "/api/studies/{}/nodes/{}/released/"
    assert client.get(address.format(done.pk, 0)).json() == {"release": None, "mean": []}
    client.post(f"/api/studies/{done.pk}/publish/", {}, format="json")
    assert client.get(address.format(done.pk, 0)).json()["release"] is None, "its own release is not one before it"
    # a product is gone in the next study, so that places of nodes have moved
    gone = {"kind": "lifetime", "where": {"product": "P1"}, "last": label(FIRST_WEEK + 60, "W")}
    assert client.post(f"/api/portfolios/{done.portfolio_id}/plans/", gone, format="json").status_code == 201
    new = {"kind": "arrival", "keys": {"product": "A0", "store": "S0"}, "start": FIRST_AHEAD, "low": 2, "high": 9}
    assert client.post(f"/api/portfolios/{done.portfolio_id}/plans/", new, format="json").status_code == 201
    client.post(f"/api/portfolios/{done.portfolio_id}/studies/", {"recipe": RECIPE}, format="json")
    later = Study.objects.exclude(pk=done.pk).get()
    running.carry_out(later.run)
    before = pl.read_parquet(io.BytesIO(Release.objects.get().forecasts))
    found = services.forecast_of(later)
    assert found is not None
    now = forecasts(found)
    moved = 0
    for position in (0, 1, *range(now.height // 6 - 5, now.height // 6)):
        own = now.row(6 * position, named=True)
        same = before.filter(pl.col("node") == own["node"], pl.col("level") == own["level"])["forecast"].to_list()
        found = client.get(address.format(later.pk, position)).json()
        assert found == ({"release": 1, "mean": same} if same else {"release": None, "mean": []})
        moved += bool(same) and same != before["forecast"].to_list()[6 * position : 6 * position + 6]
    assert moved
    assert client.get(address.format(later.pk, 99999)).status_code == 404


EDGES = """parent,child,product,store,split,level
Chain,North,,,region,
Chain,South,,,region,
Chain,Own brand,,,brand,
Chain,Bought in,,,brand,
""" + "".join(
    f"{'North' if store == 'S0' else 'South'},,{product},{store},,region\n"
    f"{'Own brand' if product < 'P3' else 'Bought in'},,{product},{store},,brand\n"
    for product in ("P0", "P1", "P2", "P3", "P4", "P5")
    for store in ("S0", "S1", "S2")
)


def test_a_graph_of_edges_goes_from_the_file_to_the_feed(client: APIClient) -> None:
    """Two groupings that cross, without a column for either in the sales: from a file of edges alone."""
    upload = hand_in(client, SALES, ("edges.csv", EDGES)).json()
    seen = client.post(f"/api/uploads/{upload['id']}/preview/", {}, format="json").json()["understood"]
    assert "unknown-child" not in {one["kind"] for one in seen["findings"]}
    assert seen["edges"] == {"file": "edges.csv", "n_totals": 5, "n_tops": 1}
    loaded = client.post(f"/api/uploads/{upload['id']}/load/", {"name": "Edges", "options": {}}, format="json")
    number = loaded.json()["id"]
    sections = RECIPE.split("[structure]")
    recipe = sections[0] + '[structure]\nedges = "edges.csv"\n[methods]' + sections[1].split("[methods]")[1]
    study = studied(client, number, recipe)
    sheet = json.loads(gzip.decompress(client.get(f"/api/studies/{study.pk}/field/").content))
    assert [row["name"] for row in sheet["rows"] if row["depth"] < 2] == [
        "Chain", "North", "South", "Own brand", "Bought in"
    ]  # fmt: skip
    levels = client.get(f"/api/studies/{study.pk}/summary/").json()["accuracy"]["levels"]
    assert [(level["labels"], level["n_nodes"]) for level in levels[:-1]] == [
        (["top"], 1), (["region"], 2), (["brand"], 2), (["product × store"], 18)
    ]  # fmt: skip
    page = client.get(f"/api/studies/{study.pk}/nodes/{sheet['node'][-1]}/").json()
    assert len(page["trail"]) == 1 and page["trail"][0][-1]["node"] == page["node"]
    assert client.get(f"/api/studies/{study.pk}/nodes/{page['node']}/fit/?method=ets(A,N,N)").status_code == 200
    kept = {"method": "mean", "reason": "so"}
    client.post(f"/api/studies/{study.pk}/nodes/{page['trail'][0][1]['node']}/keep/", kept, format="json")
    client.post(f"/api/portfolios/{number}/studies/", {"recipe": recipe}, format="json")
    later = Study.objects.latest("pk")
    running.carry_out(later.run)
    assert client.get(f"/api/studies/{later.pk}/nodes/{page['trail'][0][1]['node']}/").json()["method"] == "mean"
    assert client.post(f"/api/studies/{later.pk}/publish/", {}, format="json").status_code == 201
    rows = pl.read_parquet(client.get(f"/api/releases/{Release.objects.get().pk}/parquet/").content)
    mean = {node: own["forecast"].to_numpy() for (node,), own in rows.group_by("node")}
    np.testing.assert_allclose(mean["Chain"], mean["North"] + mean["South"])
    np.testing.assert_allclose(mean["Chain"], mean["Own brand"] + mean["Bought in"])
    series = rows.filter(pl.col("level") == "product × store", pl.col("store") == "S0")
    north = series.group_by("lead", maintain_order=True).agg(pl.col("forecast").sum())
    np.testing.assert_allclose(mean["North"], north["forecast"])


def test_edges_that_leave_a_series_out_are_refused_before_anything_is_loaded(client: APIClient) -> None:
    short = EDGES.replace("South,,P2,S1,,region\n", "").replace("Own brand,,P2,S1,,brand\n", "")
    upload = hand_in(client, SALES, ("edges.csv", short)).json()
    says = "1 series are in no row of edges.csv, such as P2 × S1; give each a parent."
    seen = client.post(f"/api/uploads/{upload['id']}/preview/", {}, format="json").json()
    assert seen["problem"] == says and seen["understood"] is None
    answer = client.post(f"/api/uploads/{upload['id']}/load/", {"name": "Edges", "options": {}}, format="json")
    assert answer.status_code == 422 and answer.json()["detail"] == says
    # a new series among later actuals is not known to the edges either: they are handed in anew beside it
    upload = hand_in(client, SALES, ("edges.csv", EDGES)).json()
    loaded = client.post(f"/api/uploads/{upload['id']}/load/", {"name": "Edges", "options": {}}, format="json")
    week = label(FIRST_WEEK + N_WEEKS, "W")
    later = f"week,product,store,region,units\n{week},P0,S0,North,5\n{week},P9,S0,North,7\n"
    body = {"portfolio": loaded.json()["id"]}
    alone = hand_in(client, later).json()["id"]
    refused = client.post(f"/api/uploads/{alone}/append/", body, format="json")
    assert refused.status_code == 422 and "such as P9 × S0" in refused.json()["detail"]
    more = EDGES + "North,,P9,S0,,region\nBought in,,P9,S0,,brand\n"
    beside = hand_in(client, later, ("edges.csv", more)).json()["id"]
    answer = client.post(f"/api/uploads/{beside}/append/", body, format="json")
    assert answer.status_code == 200 and answer.json()["appended"]["n_new_series"] == 1
