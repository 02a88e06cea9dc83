"""The bridge from one forecast to another: parts that add up, and each change at its cause."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from tansy.engine.study.bridge import (
    ACTUALS,
    ADJUSTMENTS,
    COME,
    CORRECTIONS,
    DRIVERS,
    GONE,
    LEVELS,
    METHOD,
    PARTS,
    Bridge,
    Side,
    bridge,
)


def side(seed: int, ids: list[str]) -> Side:
    rng = np.random.default_rng(seed)
    base = rng.gamma(2.0, 10.0, (len(ids), 3))
    statistical = base + rng.normal(0.0, 1.0, base.shape)
    forecast = statistical + rng.choice([0.0, 5.0], base.shape)
    return Side(
        ids, base, statistical, forecast, [f"m{k % 3}" for k in range(len(ids))],
        np.round(rng.random((len(ids), 4)), 1), {"price": np.round(rng.random((len(ids), 3)), 0)},
    )  # fmt: skip


def part(found: Bridge, name: str) -> dict[str, float]:
    return dict(zip(found.ids, found.changes[PARTS.index(name)].tolist(), strict=True))


names = st.lists(st.sampled_from("abcdefgh"), unique=True, min_size=1)


@settings(max_examples=200, deadline=None)
@given(names, names, st.integers(0, 1000))
def test_parts_add_up_to_the_change_of_every_series(before: list[str], after: list[str], seed: int) -> None:
    one, other = side(seed, before), side(seed + 1, after)
    found = bridge(one, other)
    assert sorted(found.ids) == sorted({*before, *after})
    np.testing.assert_allclose(found.changes.sum(axis=0), found.after - found.before, rtol=1e-9, atol=1e-9)
    np.testing.assert_allclose(found.after.sum() - found.before.sum(), other.forecast.sum() - one.forecast.sum())
    assert {name for name, change in part(found, COME).items() if change} == {*after} - {*before}
    assert {name for name, change in part(found, GONE).items() if change} == {*before} - {*after}


def test_each_change_goes_to_its_cause_and_nothing_moves_without_one() -> None:
    before = side(1, list("abcdef"))
    assert (bridge(before, before).changes == 0.0).all()
    base, history = before.base.copy(), before.history.copy()
    base[:4] += [[1.0], [2.0], [3.0], [4.0]]
    history[1, 2] += 1.0
    price = before.drivers["price"].copy()
    price[2, 0] += 1.0
    statistical, forecast = before.statistical.copy(), before.forecast.copy()
    statistical[:4] += base[:4] - before.base[:4]
    statistical[4] += 0.5
    forecast += statistical - before.statistical
    forecast[5] += 7.0
    after = replace(
        before, base=base, history=history, drivers={"price": price}, statistical=statistical, forecast=forecast,
        method=["another", *before.method[1:]],
    )  # fmt: skip
    found = bridge(before, after)
    expected = {METHOD: ("a", 3.0), CORRECTIONS: ("b", 6.0), DRIVERS: ("c", 9.0), ACTUALS: ("d", 12.0)}
    expected |= {LEVELS: ("e", 1.5), ADJUSTMENTS: ("f", 21.0)}
    for name, (series, change) in expected.items():
        moved = {at: value for at, value in part(found, name).items() if abs(value) > 1e-9}
        assert moved.keys() == {series} and abs(moved[series] - change) < 1e-9, name
