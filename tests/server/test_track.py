"""The track of a release, held against a computation from the files that were published and the actuals that came."""

from __future__ import annotations

import csv
import io
from collections import defaultdict
from typing import Any

import numpy as np
import polars as pl
import pytest
from django.contrib.auth.models import User
from rest_framework.test import APIClient

from tansy.engine.study.track import Help, helped, tracking_signal
from tansy.engine.timeline import label
from tansy.server.portfolios import corrections as ledger
from tansy.server.releases import words
from tansy.server.releases.models import Release
from tansy.server.studies import running
from tansy.server.studies.models import Node, Result, Study
from tests.garden import FIRST_WEEK, N_WEEKS, SALES
from tests.server.conftest import hand_in
from tests.server.test_adjustments import TOTAL, change, ref

CAME = 3


def came() -> tuple[str, dict[tuple[str, str, str], float]]:
    """Three more weeks, as a file and by key; one series sells wildly, one nothing, and a new one appears."""
    rng = np.random.default_rng(8)
    sold: dict[tuple[str, str, str], float] = {}
    for t in range(N_WEEKS, N_WEEKS + CAME):
        for p in range(6):
            for s in range(3):
                units = 0 if (p, s) == (1, 1) else int(rng.poisson(15)) + (200 if (p, s) == (2, 0) else 0)
                sold[(f"P{p}", f"S{s}", label(FIRST_WEEK + t, "W"))] = float(units)
    rows = [f"{week},{p},{s},{'South' if s == 'S2' else 'North'},{int(n)}" for (p, s, week), n in sold.items() if n]
    last = label(FIRST_WEEK + N_WEEKS + CAME - 1, "W")
    return "\n".join(["week,product,store,region,units", *rows, f"{last},P9,S0,North,7"]) + "\n", sold


@pytest.fixture
def told(client: APIClient, done: Study) -> tuple[dict[str, Any], Release, dict[tuple[str, str, str], float]]:
    """The track of a release with two adjustments, after three weeks have come."""
    ahead = done.load.timeline.after(6).labels
    change(client, done, "Herbs × every store", amount=40.0, reason="fair")
    change(client, done, "Plant 4 × S1", change="set", amount=0.0, first=ahead[1], last=ahead[1], reason="closed")
    assert client.post(f"/api/studies/{done.pk}/publish/", {}, format="json").status_code == 201
    release = Release.objects.get()
    before = client.get(f"/api/releases/{release.pk}/track/").json()
    assert before["n_came"] == 0 and before["leads"] == [] and before["levels"][0]["wape"] is None
    text, sold = came()
    upload = hand_in(client, text).json()
    answer = client.post(f"/api/uploads/{upload['id']}/append/", {"portfolio": done.portfolio.pk}, format="json")
    assert answer.status_code in (200, 201), answer.content
    return client.get(f"/api/releases/{release.pk}/track/").json(), release, sold


def test_measures_are_those_of_the_published_file(
    told: tuple[dict[str, Any], Release, dict[tuple[str, str, str], float]],
) -> None:
    track, release, sold = told
    assert track["n_came"] == CAME
    history = {(r["product"], r["store"], r["week"]): float(r["units"]) for r in csv.DictReader(io.StringIO(SALES))}
    rows = pl.read_parquet(io.BytesIO(release.forecasts)).to_dicts()
    groups = {f"P{p}": "Herbs" if p < 3 else "Ferns" for p in range(6)}
    regions = {"S0": "North", "S1": "North", "S2": "South"}

    def summed(values: dict[tuple[str, str, str], float], product: str, store: str, week: str) -> float:
        return sum(
            values.get((p, s, week), 0.0)
            for p in groups
            for s in regions
            if product in (p, groups[p], "every product") and store in (s, regions[s], "every store")
        )

    weeks = [label(FIRST_WEEK + N_WEEKS + h, "W") for h in range(CAME)]
    error: dict[str, list[float]] = defaultdict(lambda: [0.0] * 8)
    by_series: dict[str, list[float]] = defaultdict(lambda: [0.0, 0.0])
    by_week: dict[str, dict[str, list[float]]] = defaultdict(lambda: defaultdict(list))
    for row in rows:
        if row["period"] not in weeks:
            continue
        t = FIRST_WEEK + N_WEEKS + weeks.index(row["period"])
        actual = summed(sold, row["product"], row["store"], row["period"])
        naive = summed(history, row["product"], row["store"], label(t - 52, "W"))
        by_week[row["level"]][row["node"]].append(actual - row["forecast"])
        if row["level"] == "product × store":
            by_series[row["node"]][0] += abs(actual - row["forecast"])
            by_series[row["node"]][1] += actual
        own = error[row["level"]]
        own[0] += abs(actual - row["forecast"])
        own[1] += abs(actual - row["statistical"])
        own[2] += abs(actual - naive)
        own[3] += actual - row["forecast"]
        own[4] += actual
        own[5] += 1
        own[6] += row["q0.1"] <= actual <= row["q0.9"]
        own[7] += row["q0.025"] <= actual <= row["q0.975"]
    assert len(track["levels"]) == len(error) == 9
    for level in track["levels"]:
        absolute, statistical, naive, signed, volume, n, in80, in95 = error[level["name"]]
        assert level["wape"] == pytest.approx(100 * absolute / volume)
        assert level["wape_statistical"] == pytest.approx(100 * statistical / volume)
        assert level["bias"] == pytest.approx(100 * signed / volume)
        assert level["gain"] == pytest.approx(100 * (1 - absolute / naive))
        signals = [abs(sum(e)) / (sum(map(abs, e)) / CAME) if any(e) else 0.0 for e in by_week[level["name"]].values()]
        assert level["tracking"] == pytest.approx(sum(signals) / len(signals))
        held = {one["level"]: one["share"] for one in level["held"]}
        assert held[80.0] == pytest.approx(in80 / n) and held[95.0] == pytest.approx(in95 / n)
    total = [row for row in rows if row["level"] == "all × all" and row["period"] in weeks]
    assert [one["forecast"] for one in track["leads"]] == [row["forecast"] for row in total]
    assert [one["actual"] for one in track["leads"]] == [summed(sold, "every product", "every store", w) for w in weeks]

    # what the changes of each reason brought
    herbs = [row for row in rows if row["product"] == "Herbs" and row["store"] == "every store"][:CAME]
    gained = sum(
        abs(summed(sold, "Herbs", "every store", row["period"]) - row["statistical"])
        - abs(summed(sold, "Herbs", "every store", row["period"]) - row["forecast"])
        for row in herbs
    )
    by_reason = {one["name"]: one for one in track["by_reason"]}
    assert by_reason["fair"]["gained"] == pytest.approx(gained) and by_reason["fair"]["periods"] == CAME
    plant = next(row for row in rows if (row["product"], row["store"], row["period"]) == ("P4", "S1", weeks[1]))
    actual = sold[("P4", "S1", weeks[1])]
    assert by_reason["closed"]["gained"] == pytest.approx(abs(actual - plant["statistical"]) - actual)
    kinds = track["kinds"]
    backtest = Result.objects.get(study=release.study_id).accuracy["report"]["kinds"]
    assert [(one["name"], one["n_nodes"]) for one in kinds] == [(one["name"], one["n_series"]) for one in backtest]
    for one in kinds:
        own = Node.objects.filter(study=release.study, level=8, kind__endswith=one["name"])
        names = own.values_list("name", flat=True)
        assert len(names) == one["n_nodes"]
        absolute, volume = (sum(by_series[name][k] for name in names) for k in range(2))
        assert one["wape"] == pytest.approx(100 * absolute / volume)
    assert [one["name"] for one in track["by_planner"]] == ["ines"]
    assert track["by_planner"][0]["gained"] == pytest.approx(sum(one["gained"] for one in track["by_reason"]))


def test_the_largest_misses_come_first_and_releases_stand_side_by_side(
    client: APIClient, done: Study, told: tuple[dict[str, Any], Release, dict[tuple[str, str, str], float]]
) -> None:
    track, release, sold = told
    worst = track["left"][0]
    assert worst["name"] == "Plant 2 × S0" and worst["outside"] == worst["of"] == CAME and worst["tracking"] == 3.0
    assert [one["error"] for one in track["left"]] == sorted((one["error"] for one in track["left"]), reverse=True)
    assert worst["actual"] == sum(n for (p, s, _), n in sold.items() if (p, s) == ("P2", "S0"))
    beside = client.get(f"/api/portfolios/{done.portfolio.pk}/released/{ref(done, TOTAL)}/").json()
    assert [(one["release"], one["forecast"]) for one in beside] == [(1, release.total)]
    assert client.get(f"/api/portfolios/{done.portfolio.pk}/released/top/").json() == beside
    client.post(f"/api/releases/{release.pk}/withdraw/", {"reason": "wrong"}, format="json")
    assert client.get(f"/api/portfolios/{done.portfolio.pk}/released/top/").json() == []


def test_what_could_not_be_sold_is_no_miss(
    client: APIClient, done: Study, user: User, told: tuple[dict[str, Any], Release, dict[tuple[str, str, str], float]]
) -> None:
    before, release, _ = told
    load = done.portfolio.load
    last = load.timeline.last
    ledger.mark(load, {"product": "P2", "store": "S0"}, last - 1, last, "stock-out", "sold out", user)
    after = client.get(f"/api/releases/{release.pk}/track/").json()
    worst = next(one for one in after["left"] if one["name"] == "Plant 2 × S0")
    assert (before["left"][0]["of"], worst["of"]) == (3, 1)
    assert after["levels"][-1]["wape"] < before["levels"][-1]["wape"]


def test_signals_and_help_by_hand() -> None:
    nan = np.nan
    errors = np.array([[2.0, 2.0, 2.0], [1.0, -1.0, nan], [0.0, 0.0, 0.0], [nan, nan, nan], [-4.0, -2.0, nan]])
    np.testing.assert_allclose(tracking_signal(errors), [3.0, 0.0, 0.0, 0.0, -2.0])
    found = helped([10.0, 10.0], [14.0, 6.0], [0, 2], np.array([15.0, nan, nan]))
    assert (found.periods, found.gained, found.error) == (1, 4.0, 5.0)
    assert helped([10.0], [14.0], [1], np.array([15.0, nan])).periods == 0


def test_the_bridge_from_a_release_adds_up_and_opens_to_its_series(
    client: APIClient, done: Study, told: tuple[dict[str, Any], Release, dict[tuple[str, str, str], float]]
) -> None:
    _, release, _ = told
    client.post(f"/api/studies/{done.pk}/again/")
    later = Study.objects.latest("pk")
    running.carry_out(later.run)
    change(client, later, "Ferns × South", change="add", amount=5.0, first=later.load.timeline.after(6).labels[0])
    found = client.get(f"/api/studies/{later.pk}/bridge/", {"release": release.pk}).json()
    shared = later.load.timeline.after(3).labels
    assert (found["first"], found["last"]) == (shared[0], shared[-1])
    parts = {one["name"]: one for one in found["parts"]}
    assert sum(one["change"] for one in found["parts"]) == pytest.approx(found["after"] - found["before"])
    assert found["before"] == pytest.approx(sum(release.total[3:]))
    assert (
        parts["series that have come"]["series"][0]["name"] == "P9 × S0"
        and parts["series that have come"]["n_series"] == 1
    )
    top = client.get(f"/api/studies/{later.pk}/nodes/top/").json()
    assert found["after"] == pytest.approx(sum(top["forecast"][:3]), abs=1e-3)
    # what was adjusted before stands no more over three of six periods, or by its new amount
    assert parts["what planners changed"]["change"] != 0.0
    assert [abs(one["change"]) for one in found["movers"]] == sorted(
        (abs(one["change"]) for one in found["movers"]), reverse=True
    )
    south = client.get(
        f"/api/studies/{later.pk}/bridge/", {"release": release.pk, "node": ref(later, "Ferns × South")}
    ).json()
    assert sum(one["change"] for one in south["parts"]) == pytest.approx(south["after"] - south["before"])
    assert {one["name"].split(" × ")[1] for one in south["movers"]} == {"S2"}
    assert client.get(f"/api/studies/{later.pk}/bridge/", {"release": 999}).status_code == 404
    assert client.get(f"/api/studies/{later.pk}/bridge/").status_code == 400


def test_the_report_says_what_the_track_and_the_bridge_say_and_needs_no_server(
    client: APIClient, done: Study, told: tuple[dict[str, Any], Release, dict[tuple[str, str, str], float]]
) -> None:
    track, release, _ = told
    client.post(f"/api/studies/{done.pk}/again/")
    later = Study.objects.latest("pk")
    running.carry_out(later.run)
    for one in client.get(f"/api/portfolios/{done.portfolio.pk}/adjustments/?study={later.pk}").json()["adjustments"]:
        if one["state"] == "left":
            client.delete(f"/api/adjustments/{one['id']}/")
    assert client.post(f"/api/studies/{later.pk}/publish/", {}, format="json").status_code == 201
    page = client.get(f"/api/portfolios/{done.portfolio.pk}/report/")
    text = page.content.decode()
    assert page["Content-Type"].startswith("text/html") and "http" not in text.replace("http-equiv", "")
    assert "<script" not in text and text.count("<svg") == 4  # the total, two groups, and what has none
    assert track["sentence"] in text
    bridge = client.get(f"/api/studies/{later.pk}/bridge/", {"release": release.pk}).json()
    assert f"<b>{bridge['after']:,.0f}</b> units" in text
    for one in track["left"][:3]:
        assert one["name"] in text
    for one in track["adjustments"]:
        assert one["reason"] in text and one["brought"] in text


def test_a_release_is_summed_up_in_words() -> None:
    held = [{"level": 95.0, "share": 0.9}, {"level": 80.0, "share": 0.7}]
    level = {"wape": 4.2, "bias": -2.5, "gain": 12.4, "held": held}
    page = {"release": 1, "origin": "2026-W43", "periods": ["a", "b", "c"], "n_came": 1, "n_series": 2758}
    said = words.sentence({**page, "levels": [level, {**level, "wape": 38.1}]})
    assert said == (
        "R1 from 2026-W43, a to c: 1 of 3 periods have come. The total was missed by 4.2 % of volume (2.5 % too high), "
        "the 2,758 series by 38.1 %, 12 % less than the seasonal naive would have. Of what came, 90.0 % in the 95 % "
        "band, 70.0 % in the 80 % band."
    )
    nothing = {"wape": None, "bias": None, "gain": None, "held": [{"level": 80.0, "share": None}]}
    assert "by – % of volume, the" in words.sentence({**page, "levels": [nothing, nothing]})
    assert "none of its periods has come yet" in words.sentence({**page, "n_came": 0})
    assert words.brought(Help(2, 60.0, 154.0)) == "helped: 60 units nearer (+39 %)"
    assert words.brought(Help(2, -12.0, 40.0)) == "did harm: 12 units further off (−30 %)"
    assert words.brought(Help(2, 0.2, 9.0)) == "made no difference"
    assert words.brought(Help(0, 0.0, 0.0)) == "nothing of it has come yet"


def test_there_is_no_report_before_a_release(client: APIClient, done: Study) -> None:
    answer = client.get(f"/api/portfolios/{done.portfolio.pk}/report/")
    assert answer.status_code == 409 and "Nothing has been published" in answer.json()["detail"]
