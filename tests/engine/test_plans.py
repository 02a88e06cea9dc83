"""Plans: codes that follow others, products to come and to go, events; and what cannot be right is said at its field."""
# ruff: noqa: E501  a case reads best on one line

from __future__ import annotations

from dataclasses import replace
from datetime import date, timedelta
from typing import Any

import numpy as np
import pytest
from scipy import stats

from tansy.engine.errors import PlanError
from tansy.engine.panel import Panel
from tansy.engine.plans.kinds import read_plan
from tansy.engine.plans.planned import with_plans
from tansy.engine.study.defaults import default_recipe
from tansy.engine.study.recipe import Recipe, read_recipe
from tansy.engine.study.run import Study, run_study
from tansy.engine.timeline import Timeline, ordinal

WEEKS = Timeline("W", 2800, 110, 52)
AHEAD = WEEKS.after(8).labels
NAN = np.nan


def garden() -> Panel:
    rng = np.random.default_rng(1)
    values = rng.poisson(20.0, (6, 110)).astype(float)
    keys = {"product": ["A", "A", "B", "B", "C", "C"], "store": ["x", "y"] * 3}
    attributes = {"product": {"group": {"A": "pots", "B": "pots", "C": "tools"}}}
    return Panel(WEEKS, ("product", "store"), keys, values, attributes)


def recipe(*plans: dict[str, Any]) -> Recipe:
    base = default_recipe(garden(), {"product": ["group"], "store": []})
    return replace(base, methods=("mean",), origins=2, step=8, leads=8, plans=tuple(map(read_plan, plans)))


def run(*plans: dict[str, Any]) -> Study:
    return run_study(garden(), recipe(*plans), workers=1)


def node(study: Study, name: str) -> int:
    return next(i for i in range(study.graph.n_nodes) if study.graph.name(i) == name)


@pytest.mark.parametrize("share", [1.0, 0.25])
def test_a_succession_moves_history_and_loses_no_volume(share: float) -> None:
    panel = garden()
    panel.values[4, 90:] = NAN  # C in x has ended; D follows it there, in y nobody has sold it yet
    plan = read_plan({"kind": "succession", "key": "product", "old": "C", "new": "D", "share": share})
    before = panel.values.copy()
    planned = with_plans(panel, (plan,))
    found = planned.panel
    np.testing.assert_array_equal(panel.values, before)
    np.testing.assert_allclose(np.nansum(found.values, axis=0), np.nansum(before, axis=0))
    of_d = [i for i, product in enumerate(found.keys["product"]) if product == "D"]
    np.testing.assert_allclose(found.values[of_d], share * before[4:])
    assert found.attributes["product"]["group"]["D"] == "tools"
    assert ("C" in found.keys["product"]) == (share < 1)
    assert planned.position.tolist()[:4] == [0, 1, 2, 3] and (planned.position[4:] == -1).all() == (share == 1)


def test_a_succession_onto_a_code_that_sells_already_adds_up() -> None:
    panel = garden()
    panel.values[2, :60], panel.values[0, 60:] = NAN, NAN
    found = with_plans(panel, (read_plan({"kind": "succession", "key": "product", "old": "A", "new": "B"}),)).panel
    b = next(i for i in range(4) if found.series_key(i) == {"product": "B", "store": "x"})
    np.testing.assert_array_equal(found.values[b], np.nan_to_num(panel.values[0]) + np.nan_to_num(panel.values[2]))


def test_a_product_like_another_gets_its_share_from_its_start() -> None:
    keys, like = {"product": "N", "store": "x"}, {"product": "A", "store": "x"}
    plain = run()
    found = run({"kind": "arrival", "keys": keys, "start": AHEAD[2], "like": like, "share": 0.5})
    new, old = node(found, "N × x"), node(found, "A × x")
    assert (found.forecast[new, :2] == 0).all() and (found.quantiles[new, :, :2] == 0).all()
    np.testing.assert_allclose(found.base[new], 0.5 * plain.base[node(plain, "A × x")])
    np.testing.assert_allclose(found.forecast[new, 2:], found.base[new, 2:], rtol=0.1)  # what adding up changes
    np.testing.assert_allclose(
        found.quantiles[new, :, 3] - found.forecast[new, 3],
        0.5 * (found.quantiles[old, :, 3] - found.forecast[old, 3]),
    )
    # it brings volume to every total above it and takes none from its siblings
    for name in ("every product × every store", "pots × x"):
        i, j = node(found, name), node(plain, name)
        np.testing.assert_allclose(found.base[i, 2:] - found.base[new, 2:], plain.base[j, 2:])
        np.testing.assert_allclose(found.base[i, :2], plain.base[j, :2])
    assert found.largest_gap < 1e-9 * found.forecast[0].max()
    assert found.notes[new].startswith("A series without a past, like A × x at 50 %")


def test_a_range_becomes_the_80_percent_band() -> None:
    plan = {"kind": "arrival", "keys": {"product": "N", "store": "y"}, "start": AHEAD[0], "low": 10, "high": 30}
    found = run(plan)
    new = node(found, "N × y")
    assert (found.base[new] == 20.0).all()
    assert found.forecast[new] == pytest.approx(np.full(8, 20.0), rel=0.15)  # what adding up changes
    law = stats.norm(found.forecast[new, 0], 20 / (2 * stats.norm.ppf(0.9)))
    np.testing.assert_allclose(found.quantiles[new, :, 0], np.maximum(law.ppf(found.probabilities), 0))


def test_lifetimes_close_series_ahead() -> None:
    found = run(
        {"kind": "lifetime", "where": {"product": "A"}, "last": AHEAD[3]},
        {"kind": "lifetime", "where": {"store": "y", "product": "B"}, "first": AHEAD[5]},
    )
    assert (found.forecast[node(found, "A × x"), 4:] == 0).all() and (
        found.forecast[node(found, "A × y"), :4] > 0
    ).all()
    late = found.forecast[node(found, "B × y")]
    assert (late[:5] == 0).all() and (late[5:] > 0).all()
    # what a plan closed is said at its node, and a lifetime that covers all that is ahead says nothing
    assert found.notes == {
        node(found, "A × x"): f"Sold until {AHEAD[3]}, by plan; zero otherwise.",
        node(found, "A × y"): f"Sold until {AHEAD[3]}, by plan; zero otherwise.",
        node(found, "B × y"): f"Sold from {AHEAD[5]}, by plan; zero otherwise.",
    }
    assert not run({"kind": "lifetime", "where": {"product": "A"}, "last": AHEAD[7]}).notes


def test_events_are_drivers_of_all_series() -> None:
    panel = with_plans(
        garden(), (read_plan({"kind": "event", "name": "fair", "periods": [WEEKS.labels[10], AHEAD[4]]}),)
    ).panel
    assert panel.n_ahead == 5 and panel.switches() == ["fair"]
    assert np.nonzero(panel.drivers["fair"][3])[0].tolist() == [10, 114]


def test_public_holidays_fall_on_the_days_of_the_calendar() -> None:
    days = Timeline("D", ordinal(date(2025, 1, 1), "D"), 365, 7)
    panel = Panel(days, ("product",), {"product": ["A", "B"]}, np.ones((2, 365)))
    found = with_plans(panel, (read_plan({"kind": "holidays", "of": "DE-BY"}),), leads=100).panel.drivers["holiday"]
    # Easter Sunday was 20 April 2025 and is 5 April 2026: Good Friday, Monday, Ascension, Whit Monday and Corpus
    # Christi lie -2, 1, 39, 50 and 60 days from it; the others stand still. Assumption holds in most of Bavaria.
    easters = [date(2025, 4, 20) + timedelta(k) for k in (-2, 1, 39, 50, 60)] + [
        date(2026, 4, 5) + timedelta(k) for k in (-2, 1)
    ]
    still = [(1, 1), (1, 6), (5, 1), (10, 3), (11, 1), (12, 25), (12, 26)]
    days_off = {*easters, *(date(2025, m, d) for m, d in still), date(2026, 1, 1), date(2026, 1, 6)}
    on = {date(2025, 1, 1) + timedelta(int(t)) for t in np.nonzero(found[1])[0]}
    assert on - {date(2025, 8, 15)} == days_off and found.shape == (2, 465)
    weeks = Timeline("W", ordinal(date(2025, 1, 1), "W"), 52, 52)
    by_week = with_plans(
        replace(panel, timeline=weeks, values=np.ones((2, 52))), (read_plan({"kind": "holidays", "of": "DE-BY"}),)
    )
    counted = by_week.panel.drivers["holiday"][0]
    assert counted[ordinal(date(2025, 12, 24), "W") - weeks.first] == 2.0
    assert counted.sum() == len([day for day in on if day < date(2025, 12, 29)])


def test_two_calendars_need_two_names() -> None:
    both = [{"kind": "holidays", "of": "DE-BY"}, {"kind": "holidays", "of": "AT"}]
    with pytest.raises(PlanError, match="already; name the calendar of AT otherwise"):
        with_plans(garden(), tuple(map(read_plan, both)))
    both[1]["name"] = "holiday in Austria"
    found = with_plans(garden(), tuple(map(read_plan, both)), leads=8).panel.drivers
    assert (found["holiday in Austria"] != found["holiday"]).any()


def priced() -> Panel:
    panel = garden()
    price = np.full((6, 110), 5.0)
    price[:, 50:] = 6.0
    promotion = np.zeros((6, 110))
    promotion[:2, 20:25] = 1.0
    return replace(panel, drivers={"price": price, "promotion": promotion})


def test_prices_and_promotions_are_planned_for_what_is_ahead() -> None:
    pots = {"group": "pots"}
    plans = tuple(
        read_plan({"kind": "driver", **one})
        for one in (
            {
                "name": "price",
                "where": pots,
                "first": WEEKS.labels[100],
                "last": AHEAD[3],
                "change": "percent",
                "amount": 10,
            },
            {
                "name": "price",
                "where": {"product": "A", "store": "x"},
                "first": AHEAD[2],
                "last": AHEAD[2],
                "amount": 4.5,
            },
            {
                "name": "price",
                "where": {"product": "A"},
                "first": AHEAD[3],
                "last": AHEAD[4],
                "change": "add",
                "amount": -1,
            },
            {"name": "promotion", "where": {"product": "C"}, "last": AHEAD[1], "amount": 1},
            {"name": "promotion", "where": {}, "last": WEEKS.labels[5], "amount": 1},  # past: nothing comes of it
        )
    )
    panel = priced()
    found = with_plans(panel, plans, leads=8).panel
    for name, one in panel.drivers.items():
        np.testing.assert_array_equal(found.drivers[name][:, :110], one)
    ahead = found.drivers["price"][:, 110:]
    np.testing.assert_allclose(ahead[0], [6.6, 6.6, 4.5, 5.6, 5.0, 6, 6, 6])  # as it was last where nothing is planned
    np.testing.assert_allclose(ahead[2], [6.6] * 4 + [6.0] * 4)
    np.testing.assert_array_equal(found.drivers["promotion"][4:, 110:].sum(axis=1), [2, 2])
    # nothing is said of series that no plan names
    assert np.isnan(ahead[4:]).all() and np.isnan(found.drivers["promotion"][:4, 110:]).all()
    past = with_plans(panel, plans[-1:], leads=8).panel  # nor does it say what is ahead
    assert past.n_ahead == 0


def test_a_planned_promotion_moves_the_forecast_of_its_series_alone() -> None:
    panel = priced()
    promotion = panel.drivers["promotion"]
    promotion[:, ::9] = 1.0
    panel = replace(panel, values=panel.values * (1.0 + promotion))
    plan = {
        "kind": "driver",
        "name": "promotion",
        "where": {"product": "C"},
        "first": AHEAD[2],
        "last": AHEAD[2],
        "amount": 1,
    }
    none = {**plan, "amount": 0}
    method = ("regression(promotion)",)
    on, off = (
        run_study(panel, replace(recipe(one), methods=method, fallback=method, reconciliation="bottom-up"), workers=1)
        for one in (plan, none)
    )
    first = on.graph.n_aggregates
    moved = on.forecast[first:] - off.forecast[first:]
    assert (moved[4:, 2] > 15.0).all() and np.count_nonzero(moved) == 2  # 20 a week, twice as many in a promotion


def test_the_default_recipe_takes_what_is_planned() -> None:
    told = default_recipe(garden(), {}, plans=(read_plan({"kind": "holidays", "of": "DE"}),))
    # a calendar alone has to show that it matters
    assert "holiday" not in told.methods[0] and "x(holiday)" in told.methods[1] and told.fallback[0] == told.methods[0]
    assert told.plans[0].kind == "holidays"
    assert "holiday" not in " ".join(default_recipe(garden(), {}).methods)
    days = Timeline("D", 18_000, 800, 7)
    by_day = replace(garden(), timeline=days, values=np.ones((6, 800)))
    methods = default_recipe(by_day, {}, plans=told.plans).methods[1]
    by_quarter = replace(garden(), timeline=Timeline("Q", 8000, 110, 4))
    assert "holiday" not in " ".join(default_recipe(by_quarter, {}, plans=told.plans).methods)
    assert "(0,1,1)7 + harmonics(3) + x(holiday -1..1)" in methods and "pooled(holiday -1..1)" in methods


def test_plans_are_part_of_the_recipe() -> None:
    made = recipe(
        {"kind": "arrival", "keys": {"product": "N", "store": "x"}, "start": AHEAD[0], "low": 1, "high": 2},
        {"kind": "succession", "key": "product", "old": "A", "new": "B", "share": 0.5},
        {"kind": "lifetime", "where": {"store": "x"}, "last": AHEAD[1]},
        {"kind": "event", "name": "fair", "periods": list(AHEAD[:2])},
        {"kind": "holidays", "of": "AT"},
        {
            "kind": "driver",
            "name": "price",
            "where": {"store": "x"},
            "last": AHEAD[1],
            "change": "percent",
            "amount": 5.0,
        },
    )
    assert read_recipe(made.to_toml()) == made


@pytest.mark.parametrize(
    ("entries", "field", "sentence"),
    [
        ({"kind": "wish"}, "kind", "not 'wish'"),
        ({"kind": "arrival", "keys": {}, "start": "2026-W01", "low": 9, "high": 3}, "high", "9, is|3, is below the lower end, 9"),
        ({"kind": "arrival", "keys": {}, "start": "2026-W01", "low": -1, "high": 3}, "low", "below zero"),
        ({"kind": "arrival", "keys": {}, "start": "soon", "low": 1, "high": 3}, "start", "'soon' is no period"),
        ({"kind": "arrival", "keys": {}, "start": "2026-W01"}, "like", "either"),
        ({"kind": "arrival", "keys": {}, "start": "2026-W01", "low": 1}, "high", "Give a number"),
        ({"kind": "succession", "key": "sku", "old": "A", "new": "A"}, "new", "is the old one"),
        ({"kind": "succession", "key": "sku", "old": "A", "new": "B", "share": 1.5}, "share", "at most 1"),
        ({"kind": "succession", "key": "sku", "old": "A"}, "new", "needed"),
        ({"kind": "lifetime", "where": {"sku": "A"}, "first": "2026-W09", "last": "2026-W02"}, "last", "before it begins"),
        ({"kind": "lifetime", "where": {}, "last": "2026-W02"}, "where", "which series"),
        ({"kind": "event", "name": "fair", "periods": ["2026-W99"]}, "periods", "is no period"),
        ({"kind": "event", "name": "fair", "weeks": ["2026-W09"]}, "weeks", "unknown entry 'weeks'; known are kind, name, periods"),
        ({"kind": "event", "name": "fair", "periods": "2026-W09"}, "periods", 'a list of texts, not "2026-W09"'),
        ({"kind": "arrival", "keys": {"sku": 3}, "start": "2026-W01", "low": 1, "high": 3}, "keys", "a table of texts"),
        ({"kind": "arrival", "keys": {}, "start": 202601, "low": 1, "high": 3}, "start", "a text in quotes, not 202601"),
        ({"kind": "holidays", "of": "Bavaria"}, "of", "no calendar 'Bavaria'"),
        ({"kind": "holidays", "of": "DE-XX"}, "of", "no region 'XX': DE has BB, BE"),
        ({"kind": "driver", "name": "price", "last": "2026-W09", "amount": 1, "change": "double"}, "change", "not 'double'"),
        ({"kind": "driver", "name": "price", "first": "2026-W10", "last": "2026-W09", "amount": 1}, "last", "before it begins"),
        ({"kind": "driver", "name": "price", "last": "2026-W09"}, "amount", "needed"),
        ({"kind": ["event"]}, "kind", "not \\['event'\\]"),
    ],
)  # fmt: skip
def test_what_cannot_be_right_is_said_at_its_field(entries: dict[str, Any], field: str, sentence: str) -> None:
    with pytest.raises(PlanError, match=sentence) as caught:
        read_plan(entries)
    assert caught.value.field == field


@pytest.mark.parametrize(
    ("entries", "field"),
    [
        ({"kind": "holidays", "of": "DE", "name": "price"}, "name"),
        ({"kind": "driver", "name": "weather", "last": AHEAD[1], "amount": 1}, "name"),
        ({"kind": "driver", "name": "price", "where": {"product": "Q"}, "last": AHEAD[1], "amount": 1}, "where"),
        ({"kind": "driver", "name": "price", "where": {"colour": "red"}, "last": AHEAD[1], "amount": 1}, "where"),
        ({"kind": "driver", "name": "price", "last": "9999-W01", "amount": 1}, "last"),
        ({"kind": "succession", "key": "colour", "old": "A", "new": "B"}, "key"),
        ({"kind": "succession", "key": "product", "old": "Z", "new": "B"}, "old"),
        ({"kind": "arrival", "keys": {"product": "A", "store": "x"}, "start": AHEAD[0], "low": 1, "high": 2}, "keys"),
        ({"kind": "arrival", "keys": {"product": "N"}, "start": AHEAD[0], "low": 1, "high": 2}, "keys"),
        ({"kind": "arrival", "keys": {"product": "N", "store": "x"}, "start": AHEAD[0], "like": {"product": "Q"}}, "like"),
    ],
)  # fmt: skip
def test_what_is_not_there_is_said_at_its_field(entries: dict[str, Any], field: str) -> None:
    with pytest.raises(PlanError) as caught:
        with_plans(priced(), (read_plan(entries),))
    assert caught.value.field == field


def test_a_mistyped_year_of_an_event_is_named() -> None:
    plan = read_plan({"kind": "event", "name": "fair", "periods": ["9999-W01", AHEAD[0]]})
    with pytest.raises(PlanError, match="fair is in 9999-W01; look for a mistyped year") as caught:
        with_plans(garden(), (plan,))
    assert caught.value.field == "periods"
