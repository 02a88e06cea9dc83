"""One model for all series: regression trees, boosted (Friedman 2001), on what was known at past periods.

A cell is a series, a period at which something is asked, and a lead after it. The model sees what `Told` says of the
cell, relative to the level of the series, and learns its value, relative to that level too; errors weigh as they do in
RMSSE. So a series with little past is forecast from what others showed in its place, and what a price or a promotion
does is learned where it happened. A tree cannot go beyond what it has seen: a trend that lasts is not carried on.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from threadpoolctl import threadpool_limits

from tansy.engine.methods.drives import Drives, drives_of
from tansy.engine.methods.features import Columns, Floats, Integers, Singles, Told, stacked
from tansy.engine.methods.learned import Learned
from tansy.engine.timeline import Timeline

_CELLS = 150_000
"""Cells that are learned from; more say the same again (`docs/numbers.md`)."""
_FEWEST_CELLS = 1_000
_ROUNDS, _RATE, _LEAVES, _LEAST_CELLS = 150, 0.08, 31, 60
_SEED = 2026
_CUT_FROM, _QUANTILES = 20_000, np.linspace(0.005, 0.995, 199)
_LEFT_OUT = 10  # every tenth series is not learned from, and says how much larger errors are then
_MOST_JUDGED, _MOST_WINDOWS, _FEWEST_ERRORS = 150_000, 6, 8
_BLOCK = 50_000  # cells that are told of at once
_FARTHEST = 20.0  # times the level: a value beyond it is learned as that
_WILDEST = 3.0  # times the level: an error beyond it says no more of a spread
_ASKED = 4_000  # cells that are asked what drives them
_FEWEST_OWN = 20.0  # errors that say as much of a series' spread as its size does


@dataclass(frozen=True)
class _Cells:
    """rows, at, lead, value and level: [cells]."""

    rows: Integers
    at: Integers
    lead: Integers
    value: Floats
    level: Floats

    @classmethod
    def of(cls, told: Told, values: Floats, rows: Integers, at: Integers, lead: Integers) -> _Cells:
        """Those of the cells asked for that can be judged: their series had a level, and their value came."""
        target = at + lead - 1
        inside = target < values.shape[1]
        value = np.where(inside, values[rows, np.minimum(target, values.shape[1] - 1)], np.nan)
        level = told.level(rows, at)
        good = ~np.isnan(value) & (np.nan_to_num(level) > 0.0)
        return cls(rows[good], at[good], lead[good], value[good], level[good])


def learn(
    values: Floats, timeline: Timeline, drivers: Mapping[str, Floats], reach: Mapping[str, int], profiles: Floats,
    group_of: Integers, level_of: Integers, horizon: int,
) -> Learned:  # fmt: skip
    """Learn from all series and forecast each of them; arguments are those of `Told`.

    On one thread: others fit other methods meanwhile, and threads that wait for each other beside them stand still.
    """
    with threadpool_limits(1, user_api="openmp"):
        return _learn(Told(values, timeline, drivers, reach, profiles, group_of, level_of), values, horizon)


def _learn(told: Told, values: Floats, horizon: int) -> Learned:
    n, length = values.shape
    model = _fitted(told, values, horizon)
    nothing = np.full((n, horizon), np.nan)
    if model is None:
        return Learned(nothing, nothing, np.full((n, 1), np.nan), np.eye(horizon))
    mean = model.forecast_all(length, horizon)
    spread, together = _doubt(model, values, mean, horizon)
    n_errors = min(length, max(_FEWEST_ERRORS, min(told.usual, _MOST_JUDGED // n)))
    at = np.tile(np.arange(length - n_errors, length), n)
    one_step = model.forecast(np.repeat(np.arange(n), n_errors), at, np.ones_like(at)).reshape(n, n_errors)
    drives = _drives(model, values, horizon)
    return Learned(mean, spread, values[:, length - n_errors :] - one_step, together, drives)


@dataclass(frozen=True)
class _Model:
    """steps: where columns are cut. naive: [series], root of the mean squared step. not_negative: [series]."""

    told: Told
    trees: Any
    steps: list[Floats]
    naive: Floats
    not_negative: NDArray[np.bool_]

    def forecast(self, rows: Integers, at: Integers, lead: Integers) -> Floats:
        """In units, NaN where a series has no level."""
        found = np.full(len(rows), np.nan)
        for start in range(0, len(rows), _BLOCK):
            own = slice(start, start + _BLOCK)
            level = self.told.level(rows[own], at[own])
            good = np.nonzero(np.nan_to_num(level) > 0.0)[0]
            if len(good):
                told = self.told.named(rows[own][good], at[own][good], lead[own][good], level[good])
                found[start + good] = self.predict(told) * level[good]
        return np.where(self.not_negative[rows], np.maximum(found, 0.0), found)

    def predict(self, told: Columns) -> Floats:
        """Value over level, [cells]."""
        return np.asarray(self.trees.predict(_in_steps(stacked(told), self.steps)))

    def forecast_all(self, at: int, horizon: int) -> Floats:
        """Of every series and lead when `at` periods had been seen, [series, H]."""
        n = len(self.not_negative)
        rows, lead = np.repeat(np.arange(n), horizon), np.tile(np.arange(1, horizon + 1), n)
        return self.forecast(rows, np.full(len(rows), at), lead).reshape(n, horizon)


def _fitted(told: Told, values: Floats, horizon: int) -> _Model | None:
    """None where there are too few cells to learn from."""
    # here, because it takes memory that runs without a learner can do without
    from sklearn.ensemble import HistGradientBoostingRegressor

    n, length = values.shape
    first = max(told.usual // 2, _FEWEST_ERRORS)
    if length - first < 2:
        return None
    drawn = np.random.default_rng(_SEED)
    rows, at = drawn.integers(0, n, _CELLS), drawn.integers(first, length, _CELLS)
    lead = drawn.integers(1, horizon + 1, _CELLS)
    learned_from = (rows + 1) % _LEFT_OUT != 0 if n >= _LEFT_OUT else np.ones(_CELLS, dtype=bool)
    cells = _Cells.of(told, values, rows[learned_from], at[learned_from], lead[learned_from])
    if (~np.isnan(values[:, first:])).sum() < _FEWEST_CELLS or len(cells.rows) < _FEWEST_CELLS:
        return None
    columns = stacked(told.named(cells.rows, cells.at, cells.lead, cells.level))
    steps = _steps_of(columns)
    changes = np.diff(values, axis=1)
    known = ~np.isnan(changes)
    step = np.sqrt((np.where(known, changes, 0.0) ** 2).sum(axis=1) / np.maximum(known.sum(axis=1), 1))
    weight = _weight(cells, step)
    trees = HistGradientBoostingRegressor(
        max_iter=_ROUNDS, learning_rate=_RATE, max_leaf_nodes=_LEAVES, min_samples_leaf=_LEAST_CELLS,
        early_stopping=False, random_state=_SEED,
    )  # fmt: skip
    target = np.clip(cells.value / cells.level, -_FARTHEST, _FARTHEST)
    trees.fit(_in_steps(columns, steps), target, sample_weight=weight)
    not_negative = ~(np.nan_to_num(values) < 0.0).any(axis=1)
    return _Model(told, trees, steps, step, np.asarray(not_negative))


def _drives(model: _Model, values: Floats, horizon: int) -> Drives:
    """What the model goes by, on cells of the last season: of series that were not learned from, where there are."""
    n, length = values.shape
    drawn = np.random.default_rng(_SEED)
    held = np.arange(_LEFT_OUT - 1, n, _LEFT_OUT) if n >= _LEFT_OUT else np.arange(n)
    rows = drawn.choice(held, _ASKED)
    lead = drawn.integers(1, horizon + 1, _ASKED)
    at = drawn.integers(max(1, length - model.told.usual), length, _ASKED)
    cells = _Cells.of(model.told, values, rows, at, lead)
    columns = model.told.named(cells.rows, cells.at, cells.lead, cells.level)
    weight = _weight(cells, model.naive)
    return drives_of(model.predict, columns, cells.value, cells.level, weight, model.told.logged)


def _weight(cells: _Cells, naive: Floats) -> Floats:
    """Of squared errors over the level, [cells], so that they count as in RMSSE; none outvotes the others."""
    weight = (cells.level / np.maximum(naive[cells.rows], 0.01 * cells.level)) ** 2
    return np.minimum(weight / np.median(weight), _FARTHEST) if len(weight) else weight


def _steps_of(columns: Singles) -> list[Floats]:
    """Where each column [cells, columns] is cut, at quantiles: trees tell no more apart than that, and are grown on
    small numbers. The cells are drawn at random, and the first are enough to see how a column is spread."""
    found = []
    for column in columns[:_CUT_FROM].T:
        known = column[~np.isnan(column)]
        found.append(np.unique(np.quantile(known, _QUANTILES)) if len(known) else np.empty(0))
    return found


def _in_steps(columns: Singles, steps: list[Floats]) -> Singles:
    """Number of the step that each value stands on, NaN not known; columns that nothing was known of are left out."""
    found = np.empty((len(columns), sum(len(cuts) > 0 for cuts in steps)), dtype=np.float32)
    of = ((columns[:, j], cuts) for j, cuts in enumerate(steps) if len(cuts))
    for j, (column, cuts) in enumerate(of):
        found[:, j] = np.where(np.isnan(column), np.nan, np.searchsorted(cuts, column, side="right"))
    return found


def _doubt(model: _Model, values: Floats, mean: Floats, horizon: int) -> tuple[Floats, Floats]:
    """Spread [series, H] of the forecasts `mean`, and how errors of leads go together [H, H], from the errors in the
    last windows.

    Errors relative to the level fall with its size, as those of counts do: their square is a constant and a part that
    goes with 1 / level, by least squares over the series. What a series' own errors say is put together with that,
    which counts for `_FEWEST_OWN` of them.
    """
    n, length = values.shape
    n_windows = max(1, min(_MOST_WINDOWS, _MOST_JUDGED // (n * horizon), (length - model.told.usual) // horizon))
    errors = np.full((n, n_windows, horizon), np.nan)
    for k in range(n_windows):
        at = max(length - (k + 1) * horizon, 1)  # a short history: from its second period on, with the leads that came
        came = values[:, at : at + horizon]
        level = model.told.level(np.arange(n), np.full(n, at))
        level = np.where(np.nan_to_num(level) > 0.0, level, np.nan)[:, None]
        errors[:, k, : came.shape[1]] = (came - model.forecast_all(at, horizon)[:, : came.shape[1]]) / level
    known = ~np.isnan(errors)
    errors = np.clip(errors, -_WILDEST, _WILDEST)
    squares = np.where(known, errors, 0.0) ** 2
    left_out = (np.arange(n) + 1) % _LEFT_OUT == 0
    if n >= _LEFT_OUT:
        out, own = (squares[part].sum() / max(known[part].sum(), 1) for part in (left_out, ~left_out))
        squares = squares * max(out / own, 1.0) if own > 0.0 else squares
    count = known.sum(axis=(1, 2))
    of_own = squares.sum(axis=(1, 2)) / np.maximum(count, 1)
    level = model.told.level(np.arange(n), np.full(n, length))
    some = (count > 0) & (np.nan_to_num(level) > 0.0)
    size = 1.0 / np.where(some, level, 1.0)
    usual = _of_size(of_own[some], size[some], size)
    square = (count * of_own + _FEWEST_OWN * usual) / (count + _FEWEST_OWN)
    standard = np.where(known, errors, np.nan) / np.sqrt(np.maximum(square, 1e-12))[:, None, None]
    by_lead = np.where(known, standard, 0.0) ** 2
    by_lead = by_lead.sum(axis=(0, 1)) / np.maximum(known.sum(axis=(0, 1)), 1)
    shape = np.maximum.accumulate(np.sqrt(by_lead / by_lead.mean())) if by_lead.mean() > 0.0 else np.ones(horizon)
    spread = np.sqrt(square)[:, None] * np.where(np.nan_to_num(level) > 0.0, level, np.nan)[:, None] * shape
    return np.where(np.isnan(mean), np.nan, spread), _correlation(standard.reshape(-1, horizon))


def _of_size(square: Floats, size: Floats, at: Floats) -> Floats:
    """Least squares of `square` on a constant and `size` with neither below zero, at other sizes; squares weigh less
    the larger they are."""
    weight = 1.0 / np.maximum(size, np.median(size) if len(size) else 1.0)
    x, y = np.stack([np.ones_like(size), size]) * weight, square * weight
    both = np.linalg.lstsq(x.T, y, rcond=None)[0]
    if (both < 0.0).any():
        alone = [max(float((one * y).sum() / (one * one).sum()), 0.0) for one in x]
        left = [float(((y - a * one) ** 2).sum()) for a, one in zip(alone, x, strict=True)]
        both = np.array([alone[0], 0.0] if left[0] <= left[1] else [0.0, alone[1]])
    return np.asarray(both[0] + both[1] * at)


def _correlation(errors: Floats) -> Floats:
    """[H, H] of the columns of errors [windows, H]; of windows that are whole."""
    whole = np.clip(errors[~np.isnan(errors).any(axis=1)], -4.0, 4.0)
    if len(whole) < 2 * errors.shape[1]:
        return np.eye(errors.shape[1])
    centred = whole - whole.mean(axis=0)
    spread = np.sqrt((centred**2).mean(axis=0))
    found = centred.T @ centred / len(whole) / np.maximum(np.outer(spread, spread), 1e-12)
    np.fill_diagonal(found, 1.0)
    return np.asarray(found)
