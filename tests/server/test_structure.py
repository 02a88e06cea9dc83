"""The structure of a study, and others tried on it."""

from __future__ import annotations

from typing import Any

import pytest
from rest_framework.test import APIClient

from tansy.engine.study.shared_out import LONGER, SHARE
from tansy.server.studies import running
from tansy.server.studies.models import Node, Result, Study

PRUNING = {"limits": [{"feature": "mean", "limit": 45.0}], "share": 20.0, "by": "parts", "lump": True}


def test_levels_what_lies_above_them_and_what_moved_are_told(client: APIClient, done: Study) -> None:
    found = client.get(f"/api/studies/{done.pk}/structure/").json()
    levels = found["levels"]
    assert levels[0]["above"] == [] and levels[0]["n_nodes"] == 1 and levels[0]["volume"] == 100.0
    assert all(level["above"] for level in levels[1:])
    assert all(max(level["above"]) < i for i, level in enumerate(levels) if i)
    assert found["formula"] and found["pruning"] is None and found["n_shared"] == 0
    assert set(found["names"]) >= {"product", "store"}
    gaps = [level["gap"] for level in levels[:-1]]
    assert all(gap is not None and gap >= 0.0 for gap in gaps) and max(gaps) > 0.0 and levels[-1]["gap"] is None
    # by hand from what the nodes of the study say
    result = Result.objects.get(study=done)
    for moved in found["moved"]:
        node = Node.objects.get(study=done, ref=moved["node"])
        detail = client.get(f"/api/studies/{done.pk}/nodes/{node.ref}/").json()
        assert sum(detail["base"]) == pytest.approx(moved["base"], abs=0.01)
        if result.layers == ["reconciliation"]:
            assert sum(detail["forecast"]) == pytest.approx(moved["reconciled"], abs=0.01)
    sizes = [abs(moved["moved_errors"]) for moved in found["moved"]]
    assert sizes == sorted(sizes, reverse=True)


def test_another_structure_is_counted_as_it_is_typed_and_run_as_a_study(client: APIClient, done: Study) -> None:
    address = f"/api/studies/{done.pk}/structure/"
    whole = client.post(address, {"formula": "product * store"}, format="json").json()
    assert whole["n_nodes"] == sum(level["occurring"] for level in whole["levels"]) == whole["n_fitted"]
    assert whole["own_volume"] == pytest.approx(100.0) and whole["saved"] == 0.0
    asked = {"formula": "product * store", "pruning": PRUNING}
    pruned = client.post(address, asked, format="json").json()
    assert 1 < pruned["n_fitted"] < whole["n_nodes"] and pruned["splits_taken"] >= 1
    assert pruned["saved"] == pytest.approx(100.0 * (1.0 - pruned["n_fitted"] / whole["n_nodes"]))
    made = client.post(f"{address}study/", {**asked, "name": "Pruned"}, format="json")
    assert made.status_code == 201 and made.json()["name"] == "Pruned"
    study = Study.objects.get(pk=made.json()["id"])
    assert study.recipe.pruned_until == study.load.timeline.labels[-1]
    running.carry_out(study.run)
    found = client.get(f"/api/studies/{study.pk}/structure/").json()
    assert found["n_shared"] == pruned["n_shared"] > 0 and found["pruning"] == PRUNING
    assert client.get(f"/api/studies/{study.pk}/summary/").json()["largest_gap"] == 0.0
    result = Result.objects.get(study=study)
    assert result.methods[-1] == SHARE
    # every page of a node that has a share can be opened, and says so
    node = Node.objects.filter(study=study, chosen=len(result.methods) - 1).first()
    assert node is not None
    detail = client.get(f"/api/studies/{study.pk}/nodes/{node.ref}/").json()
    assert "its share of the last season" in detail["reason"] and detail["method"] == SHARE
    for page in ("look", "fit", "tested", "drivers", "parts", "form"):
        answer = client.get(f"/api/studies/{study.pk}/nodes/{node.ref}/{page}/")
        assert answer.status_code < 500, (page, answer.content)
    assert SHARE not in [one["method"] for one in detail["scores"]] and detail["family"] == ""
    again = client.get(f"/api/studies/{study.pk}/choice/").json()
    told = {one["method"]: one["n_nodes"] for one in again["methods"]}
    fitted = Node.objects.filter(study=study, chosen__gte=0).exclude(chosen=len(result.methods) - 1).count()
    assert sum(told.values()) == fitted and SHARE not in told
    for place in ("field", "choice", f"beside/{done.pk}"):
        assert client.get(f"/api/studies/{study.pk}/{place}/").status_code == 200, place


def test_longer_periods_are_offered_counted_and_run(client: APIClient, done: Study) -> None:
    address = f"/api/studies/{done.pk}/structure/"
    offered = client.get(address).json()["time_levels"]
    assert offered == [{"name": "4 weeks", "periods": 4, "used": False}]  # a quarter is longer than the leads
    asked = {"formula": "product * store", "time_levels": ["4 weeks"], "pruning": PRUNING}
    weekly, over = (client.post(address, {**asked, **own}, format="json").json() for own in ({"time_levels": []}, {}))
    assert over["n_fitted"] > weekly["n_fitted"] and over["n_longer"] > 0 == weekly["n_longer"]
    made = client.post(f"{address}study/", asked, format="json")
    study = Study.objects.get(pk=made.json()["id"])
    running.carry_out(study.run)
    found = client.get(f"/api/studies/{study.pk}/structure/").json()
    assert found["n_longer"] == over["n_longer"] and found["time_levels"][0]["used"]
    accuracy = client.get(f"/api/studies/{study.pk}/summary/").json()["accuracy"]
    assert "time levels" in accuracy["reconciliations"]
    node = Node.objects.filter(study=study, chosen=Result.objects.get(study=study).methods.index(LONGER)).first()
    assert node is not None
    detail = client.get(f"/api/studies/{study.pk}/nodes/{node.ref}/").json()
    assert "Forecast over 4 weeks at a time" in detail["reason"] and detail["brief"] == "a share of a longer period"
    for page in ("look", "fit", "tested", "drivers", "parts", "form"):
        answer = client.get(f"/api/studies/{study.pk}/nodes/{node.ref}/{page}/")
        assert answer.status_code < 500, (page, answer.content)


def test_a_node_is_followed_up_and_down(client: APIClient, done: Study) -> None:
    """From the total to a series and back; what children hold is what the node holds, on each way of splitting it."""
    levels = client.get(f"/api/studies/{done.pk}/structure/").json()["levels"]
    ref = Node.objects.get(study=done, position=0).ref
    seen = []
    while True:
        kin = client.get(f"/api/studies/{done.pk}/nodes/{ref}/kin/").json()
        seen.append(kin["itself"]["level"])
        if not kin["children"]:
            break
        for child in kin["children"]:
            assert len(child["nodes"]) == child["n_nodes"]
            assert len({one["node"] for one in child["nodes"]}) == child["n_nodes"]
            total = sum(one["forecast"] for one in child["nodes"])
            assert total == pytest.approx(kin["itself"]["forecast"], rel=1e-9, abs=1e-6)
        below = kin["children"][0]["nodes"][0]["node"]
        up = client.get(f"/api/studies/{done.pk}/nodes/{below}/kin/").json()
        assert ref in [one["node"] for one in up["parents"]]
        ref = below
    assert seen[0] == levels[0]["name"] and seen[-1] == levels[-1]["name"] and len(seen) > 2


ROWS = [
    {"total": "Chain", "below": "Herbs and more", "level": "chain"},
    {"total": "Chain", "below": "group: Ferns"},
    {"total": "Herbs and more", "below": "group: Herbs"},
    {"total": "Shop", "below": "store: S0"},
]


def test_a_structure_is_drawn_by_hand_pruned_and_run(client: APIClient, done: Study) -> None:
    address = f"/api/studies/{done.pk}/structure/"
    assert "group: Ferns" in client.get(address).json()["values"]
    counted = client.post(address, {"rows": ROWS}, format="json").json()
    assert counted["levels"][0]["name"] == "chain" and counted["findings"] == []
    assert sum(one["equal"] for one in counted["levels"]) == 2  # herbs and more are the herbs, the shop is S0
    less = client.post(address, {"rows": ROWS[-1:]}, format="json").json()
    assert "are in no row, and stand below “in no row”" in less["findings"][0]
    asked = {"rows": ROWS, "pruning": {**PRUNING, "share": 0.0}, "name": "Drawn"}
    pruned = client.post(address, asked, format="json").json()
    assert 0 < pruned["n_fitted"] < counted["n_nodes"] and pruned["n_shared"] > 0
    study = Study.objects.get(pk=client.post(f"{address}study/", asked, format="json").json()["id"])
    running.carry_out(study.run)
    assert study.run.state == "done", study.run.message
    found = client.get(f"/api/studies/{study.pk}/structure/").json()
    assert found["rows"] == ROWS and found["formula"] == "" and found["n_shared"] == pruned["n_shared"]
    assert client.get(f"/api/studies/{study.pk}/summary/").json()["largest_gap"] == 0.0
    for place in ("field", "choice", f"beside/{done.pk}"):
        assert client.get(f"/api/studies/{study.pk}/{place}/").status_code == 200, place
    for node in Node.objects.filter(study=study).order_by("position")[:6]:
        kin = client.get(f"/api/studies/{study.pk}/nodes/{node.ref}/kin/").json()
        assert bool(kin["children"]) == (kin["itself"]["level"] != found["levels"][-1]["name"])


@pytest.mark.parametrize(
    ("change", "says"),
    [
        ({"time_levels": ["quarter"]}, "'quarter' takes 13 weeks, and the forecast has 6 leads"),
        ({"formula": "colour"}, "no attribute 'colour'"),
        ({"formula": "product >"}, "lacks a name at position 10"),
        ({"formula": "", "rows": [{"total": "A", "below": "group: Moss"}]}, "Row 1: no series has the group 'Moss'"),
        ({"formula": ""}, "name levels, or draw rows"),
        ({"pruning": {**PRUNING, "limits": []}}, "at least one limit"),
        ({"pruning": {**PRUNING, "share": 100.0}}, "99.9"),
    ],
)
def test_what_is_wrong_with_a_structure_is_said(client: APIClient, done: Study, change: Any, says: str) -> None:
    for place in ("structure", "structure/study"):
        answer = client.post(f"/api/studies/{done.pk}/{place}/", {"formula": "product", **change}, format="json")
        assert answer.status_code in (400, 422) and says in answer.json()["detail"]
    assert Study.objects.count() == 1
