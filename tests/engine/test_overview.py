"""All series at once, against brute force."""

from __future__ import annotations

import numpy as np

from tansy.engine.profile.overview import (
    FIRST_TINT,
    MISSING,
    N_TINTS,
    NEGATIVE,
    SHARES,
    ZERO,
    coverage,
    group_moves,
    group_totals,
    movers,
    spread,
)

RNG = np.random.default_rng(1)
VALUES = RNG.poisson(3.0, (60, 40)).astype(float)
VALUES[RNG.random(VALUES.shape) < 0.2] = np.nan
VALUES[5] = np.nan
VALUES[:, 39] = np.nan
VALUES[7, :20] = 0.0
VALUES[8, 3] = -2.0


def test_spread_is_the_quantiles_of_what_is_there() -> None:
    found = spread(VALUES)
    for t in range(39):
        there = VALUES[~np.isnan(VALUES[:, t]), t]
        np.testing.assert_allclose(found.units[:, t], np.quantile(there, SHARES), atol=1e-12)
        assert found.count[t] == len(there) and found.total[t] == there.sum()
    assert np.isnan(found.units[:, 39]).all() and np.isnan(found.total[39])
    # doubling one series moves no scaled value
    doubled = VALUES.copy()
    doubled[3] *= 2
    np.testing.assert_allclose(spread(doubled).scaled, found.scaled, atol=1e-12)


def test_coverage_tells_missing_zero_and_levels_of_sale() -> None:
    found = coverage(VALUES)
    assert (found.cells[np.isnan(VALUES)] == MISSING).all() and (found.cells[VALUES == 0] == ZERO).all()
    assert found.cells[8, 3] == NEGATIVE
    sold = VALUES > 0
    order = np.argsort(VALUES[sold], kind="stable")
    assert (np.diff(found.cells[sold][order].astype(int)) >= 0).all()
    assert found.cells.max() == FIRST_TINT + N_TINTS - 1
    assert found.first[5] == 40 and found.empty[5] == 1.0 and found.first[7] >= 20
    assert (np.diff(found.first[found.orders["first sale"]]) >= 0).all()
    assert (np.diff(found.volume[found.orders["volume"]]) <= 0).all()
    assert (np.diff(found.empty[found.orders["empty periods"]]) <= 0).all()
    for order in found.orders.values():
        assert sorted(order.tolist()) == list(range(60))


def test_movers_and_group_totals_are_sums() -> None:
    codes = np.arange(60) % 4
    totals = group_totals(VALUES, codes, 4)
    for g in range(4):
        np.testing.assert_allclose(totals[g, :39], np.nansum(VALUES[codes == g], axis=0)[:39])
    found = movers(totals, 4, 13)
    filled = np.nan_to_num(totals)
    np.testing.assert_allclose(found.now, filled[:, 36:40].sum(axis=1))
    np.testing.assert_allclose(found.before, filled[:, 32:36].sum(axis=1))
    np.testing.assert_allclose(found.year_before, filled[:, 23:27].sum(axis=1))
    assert np.isnan(movers(totals[:, :10], 4, 13).year_before).all()


def test_a_history_without_periods_before_has_no_figure_for_them_and_what_sells_most_comes_first() -> None:
    values = np.array([[1.0, 2.0, 3.0], [9.0, 9.0, 9.0]])
    found = group_moves(values, ["few", "many"], 2, 52)
    assert [(one.name, one.now, one.before, one.year_before) for one in found] == [
        ("many", 18.0, None, None),
        ("few", 5.0, None, None),
    ]
