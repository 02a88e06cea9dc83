"""Bands from what the fits say of their spread and what the reconciled backtest forecasts missed.

A series has a handful of origins, too few to read its own 95 % quantile off them, and windows of one period share its
weather, too few to learn from errors alone how doubt grows with the lead. So every error is split into six factors:

    error = (spread that the fit at its origin has at the lead, not below the series' one-step sigma)
          x (forecast / usual volume of the series) to a power of 0, 1/2 or 1, common to a group of levels
          x (how much larger errors of the group were than that, by lead, shrunk towards 1)
          x (how much this series exceeds its group, shrunk towards 1)
          x (a shape, common to the group, of mean square 1)

The first factor has the form: it grows with the lead as the method says, and holds what the parts of a blend differ by.
The second widens the bands in season and narrows them out of it: counts spread with the root of their mean, promotions
and weather in proportion to it. The power is the one with the least interval score. The third is believed as far as
windows do not overlap: as much as the fit where one whole window has come; later windows weigh more. The shape's
empirical quantiles give the bands, and the normal's only where few errors have come.

Bands are made in time: at an origin from errors of earlier origins that had come by then, and each power is judged by
the bands that it would have given all along. At the first origin the fit's own normal bands stand. A series that has
another method now than it had at an earlier origin is measured by what the one of now missed there, in units of its own
spread there: how much too wide the bands of one method were says nothing about those of the next.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import isotonic_regression
from scipy.special import ndtri

from tansy.engine.backtest.measures import interval_score, mean_square_step, nan_mean
from tansy.engine.kernels import squares as kernel

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]

_PRIOR_ERRORS = 26.0  # a series' own factor counts as much as its group's once it has this many errors
_POWERS = (0.0, 0.5, 1.0)
_NO_EVIDENCE = 0.5  # the power of counts
_LEAST_RELATIVE = 0.05
_FEWEST_NODES = 60  # levels with fewer nodes are pooled with each other
_MOST_SQUARE = 25.0  # of the usual square: more is a wild value, or a series out of all proportion
_MOST_LEAD_SQUARE = 9.0  # of a series' own mean square: more says nothing about the lead
_ROUNDS = 4
_FIT_COUNTS = 1.0  # windows that the spread of the fits counts for
_FADES = 0.65  # weight of a window beside that of the next one
_FEW_ERRORS = 50.0  # windows of series whose errors say as much of the shape as the normal distribution
_MEDIAN_SQUARE = 0.4549364231195728  # median of the square of a standard normal number
_FARTHEST = 5.0  # times the largest spread of the fit, and the largest error that has come: no band reaches beyond both
_LEAST_STEP = 0.01  # least sigma as a share of the root of the mean squared step
_LEAST_COUNT = 0.1  # least variance of a count as a share of its mean


def probabilities(levels: list[float]) -> Floats:
    """Lower and upper probabilities of central bands, ascending: [80, 95] -> 0.025, 0.1, 0.9, 0.975."""
    lower = sorted((100.0 - level) / 200.0 for level in levels)
    return np.round(np.array(lower + [1.0 - p for p in reversed(lower)]), 10)


def groups(level_of: Integers, n_levels: int) -> Integers:
    """Group of each node: that of its level."""
    return groups_of_levels(np.bincount(level_of, minlength=n_levels))[level_of]


def groups_of_levels(sizes: Integers) -> Integers:
    """Group of each level with so many nodes: its own, or a common one of levels with few."""
    own = np.where(sizes >= _FEWEST_NODES, np.arange(len(sizes)), len(sizes))
    return np.unique(own, return_inverse=True)[1].astype(np.int64)


def are_whole(values: Floats) -> NDArray[np.bool_]:
    """Which series [nodes] hold whole numbers alone, to a millionth: a matter of kind hangs on no last digit."""
    off = np.abs(values - np.round(values)) > 1e-6 * np.maximum(np.abs(values), 1.0)
    return np.asarray(~off.any(axis=1))


def least_sigma(values: Floats) -> Floats:
    """Least one-step sigma that is believed of each series, [nodes] from values [nodes, periods]: a hundredth of the
    root of its mean squared step and, of counts, that of a Poisson count of a tenth of its mean; 0 of what never moved.

    A fit that is exact by chance has a sigma that rounding alone decides, and errors that are astronomic in its units.
    """
    step = _LEAST_STEP * np.sqrt(np.nan_to_num(mean_square_step(values)))
    whole = (np.isnan(values) | (values >= 0.0)).all(axis=1) & are_whole(values)
    count = np.sqrt(_LEAST_COUNT * np.maximum(np.nan_to_num(nan_mean(values, axis=1)), 0.0))
    return np.maximum(step, np.where(whole, count, 0.0))


@dataclass(frozen=True)
class Scale:
    """What the bands of one origin are in units of. unit: [nodes, H], spread of each lead as the fit has it, positive
    or NaN. relative: [nodes, H], forecast over usual volume, positive; ones where volume says nothing about spread."""

    unit: Floats
    relative: Floats

    @classmethod
    def of(cls, sigma: Floats, spread: Floats, relative: Floats) -> Scale:
        """sigma: [nodes], one-step, as it is believed; spread: [nodes, H], NaN where a fit has none. It does not narrow
        from a lead to a later one at which as much or more is expected."""
        known = np.where(sigma > 0.0, sigma, np.nan)[:, None]
        unit = np.where(np.isnan(known), np.nan, np.fmax(spread, known))
        for h in range(1, unit.shape[1]):
            before = np.where(relative[:, :h] <= relative[:, h, None], unit[:, :h], -np.inf)
            unit[:, h] = np.maximum(unit[:, h], before.max(axis=1))
        return cls(unit, relative)

    def with_rows(self, nodes: Integers, own: Scale) -> Scale:
        unit, relative = self.unit.copy(), self.relative.copy()
        unit[nodes], relative[nodes] = own.unit, own.relative
        return Scale(unit, relative)

    def at(self, power: float, rows: Integers) -> Floats:
        return np.asarray(self.unit[rows] * self.relative[rows] ** power)


@dataclass(frozen=True)
class Past:
    """What nodes would have missed at earlier origins with the methods that they have now, where these are others than
    those they had: per origin positions of nodes [k], errors [k, H], and in which units."""

    origins: list[tuple[Integers, Floats, Scale]]

    def errors(self, had: Floats) -> Floats:
        found = had.copy()
        for o, (nodes, errors, _) in enumerate(self.origins):
            found[nodes, o] = errors
        return found

    def scales(self, had: list[Scale]) -> list[Scale]:
        return [
            one.with_rows(nodes, own) if len(nodes) else one
            for one, (nodes, _, own) in zip(had, self.origins, strict=True)
        ]


class Calibration:
    """Bands made in time, origin after origin.

    group: [nodes], within which errors are pooled. p: [Q], probabilities, ascending.
    """

    def __init__(self, group: Integers, p: Floats) -> None:
        self._group, self._p = group, p
        self._members = [np.nonzero(group == g)[0] for g in range(int(group.max()) + 1)]
        self._scales: list[Scale] = []
        self._shapes: list[list[_Shape]] = []  # per origin and power
        self._judged: list[int] = []  # per origin, leads that powers were judged on
        self._missed = np.zeros((len(_POWERS), len(group)))
        self._count = np.zeros(len(group))

    def offsets(self, errors: Floats, now: Scale, windows: float, past: Past | None = None) -> Floats:
        """Offsets of the bands from the forecast of the next origin, [nodes, Q, H].

        errors: [nodes, origins so far, H], actual minus reconciled forecast of those that have come by now, NaN where
        none has or it is not to be counted. windows: how many whole windows lie between the first origin and now. past:
        of nodes that had other methods then; without it all had that of now.
        """
        self._judge(errors)
        belief = windows / (windows + _FIT_COUNTS)
        own = past.errors(errors) if past else errors
        scales = past.scales(self._scales) if past else self._scales
        shapes = [self._shape(own, scales, power, belief) for power in _POWERS]
        self._scales.append(now)
        self._shapes.append(shapes)
        self._judged.append(0)
        best = self._best_powers()
        found = np.empty((len(errors), len(self._p), errors.shape[2]))
        missed = np.where(np.isfinite(own), np.abs(own), 0.0).max(axis=(1, 2), initial=0.0)
        for k, power in enumerate(_POWERS):
            rows = np.nonzero(best == k)[0]
            # an error that the spread of then did not know, in units of one that does, would count twice
            spread = np.nan_to_num(now.at(power, rows)).max(axis=1, initial=0.0)
            most = (_FARTHEST * np.maximum(spread, missed[rows]))[:, None, None]
            found[rows] = np.clip(self._bands(shapes[k], now, power, rows), -most, most)
        return found

    def _shape(self, errors: Floats, scales: list[Scale], power: float, belief: float) -> _Shape:
        def standardised(rows: Integers) -> Floats:
            z = errors[rows] / np.stack([one.at(power, rows) for one in scales], axis=1)
            return np.ascontiguousarray(np.where(np.isfinite(z), z, np.nan))

        if not scales:
            return _untested(self._members, self._p, errors.shape[2])
        return _shape(standardised, self._members, self._p, errors.shape[2], belief)

    def _bands(self, shape: _Shape, scale: Scale, power: float, rows: Integers) -> Floats:
        unit = np.nan_to_num(scale.at(power, rows))
        quantiles, growth = shape.quantiles[self._group[rows]], shape.growth[self._group[rows]]
        return np.asarray(shape.factor[rows, None, None] * quantiles[:, :, None] * (growth * unit)[:, None, :])

    def _judge(self, errors: Floats) -> None:
        """Add the interval scores of the errors that have come since."""
        for o, (scale, shapes) in enumerate(zip(self._scales, self._shapes, strict=True)):
            come = np.nonzero(np.isfinite(errors[:, o]).any(axis=0))[0]
            last = int(come[-1]) + 1 if len(come) else 0
            new = slice(self._judged[o], last)
            if last <= self._judged[o] or not shapes[0].tested:
                continue
            self._judged[o] = last
            for rows in self._members:
                sigma = scale.unit[rows, 0]
                e = errors[rows, o, new] / sigma[:, None]
                for k, power in enumerate(_POWERS):
                    bands = self._bands(shapes[k], scale, power, rows)[:, :, new] / sigma[:, None, None]
                    self._missed[k][rows] += np.nansum(_interval_score(e, bands, self._p), axis=1)
                self._count[rows] += np.isfinite(e).sum(axis=1)

    def _best_powers(self) -> Integers:
        """Position of the power with the least score, [nodes], the same for a group."""
        best = np.full(len(self._members), _POWERS.index(_NO_EVIDENCE))
        for g, members in enumerate(self._members):
            rows = members[self._count[members] > 0]
            if len(rows):
                best[g] = np.argmin([_typical(one[rows] / self._count[rows]) for one in self._missed])
        return best[self._group]


def whole_bands(quantiles: Floats, whole: NDArray[np.bool_]) -> Floats:
    """Bands in whole numbers for those who only sell whole units and few of them.

    quantiles: [nodes, ..., Q, H], ascending in Q. whole: [nodes]. A count lies inside a band exactly if it lies inside
    the band drawn in to whole numbers, so that no hit changes. Where none lies inside, the band takes the two around
    it, and every wider band holds at least as much.
    """
    found = quantiles.copy()
    own = found[whole]
    n_bands = own.shape[-2] // 2
    for b in reversed(range(n_bands)):
        low, high = own[..., b, :], own[..., -1 - b, :]
        first, last = np.ceil(low - 1e-9), np.floor(high + 1e-9)
        none = first > last
        first, last = np.where(none, last, first), np.where(none, first, last)
        if b < n_bands - 1:
            first, last = np.minimum(first, own[..., b + 1, :]), np.maximum(last, own[..., -2 - b, :])
        own[..., b, :], own[..., -1 - b, :] = first, last
    found[whole] = own
    return found


def relative_volume(forecast: Floats, usual: Floats) -> Floats:
    """Forecast over usual volume, at least a twentieth; one where the usual volume is not positive.

    forecast: [..., H]; usual: [...].
    """
    usual = np.where(usual > 0.0, usual, np.nan)[..., None]
    ratio = np.maximum(forecast / usual, _LEAST_RELATIVE)
    return np.where(np.isnan(ratio), 1.0, ratio)


def _interval_score(errors: Floats, offsets: Floats, p: Floats) -> Floats:
    """Interval scores of all bands, summed, [nodes, H]; errors against offsets [nodes, Q, H] from the same forecast."""
    total = np.zeros_like(errors)
    for b in range(len(p) // 2):
        total += interval_score(errors, offsets[:, b], offsets[:, -1 - b], float(p[-1 - b] - p[b]))
    return total


@dataclass(frozen=True)
class _Shape:
    """factor: [nodes]; quantiles: [groups, Q]; growth: [groups, H]. tested: whether anything was, anywhere."""

    factor: Floats
    quantiles: Floats
    growth: Floats
    tested: bool


def _untested(members: list[Integers], p: Floats, horizon: int) -> _Shape:
    """As the fits say, and normal."""
    n = sum(map(len, members))
    quantiles = np.repeat(ndtri(p)[None], len(members), axis=0)
    return _Shape(np.ones(n), quantiles, np.ones((len(members), horizon)), False)


def _shape(
    standardised: Callable[[Integers], Floats], members: list[Integers], p: Floats, horizon: int, belief: float
) -> _Shape:
    """What standardised errors [nodes, origins, H], as they are given of some nodes, say of their spread."""
    found = _untested(members, p, horizon)
    untested = []
    for g, rows in enumerate(members):
        z = standardised(rows)
        if np.isnan(z).all():
            untested.append(g)
            continue
        found.growth[g], found.factor[rows], found.quantiles[g] = _spread(z, p, belief)
    if len(untested) == len(members):
        return found
    if untested:  # nothing was tested in these groups: all nodes speak for them
        growth, _, quantile = _spread(standardised(np.arange(len(found.factor))), p, belief)
        found.growth[untested], found.quantiles[untested] = growth, quantile
    return _Shape(found.factor, found.quantiles, found.growth, True)


def _spread(z: Floats, p: Floats, belief: float) -> tuple[Floats, Floats, Floats]:
    """How much larger errors are than the fits say, by lead [H], how much those of each node exceed that [nodes], and
    quantiles of what is left, of mean square 1, [Q]."""
    growth = _growth(z)
    excess, weight = _excess(z, growth)
    factor = np.sqrt((excess * weight + _PRIOR_ERRORS) / (weight + _PRIOR_ERRORS))
    u = z / (np.sqrt(growth) * factor[:, None])[:, None, :]
    known = ~np.isnan(u)
    squares = np.minimum(np.where(known, u, 0.0) ** 2, _MOST_SQUARE)
    count = known.sum(axis=(0, 2))
    by_window = np.divide(squares.sum(axis=(0, 2)), count, out=np.zeros(len(count)), where=count > 0)
    weights = np.where(count > 0, _FADES ** np.arange(len(count))[::-1], 0.0)
    level = float((by_window * weights).sum() / weights.sum())
    overall = math.sqrt(float(squares.sum()) / float(count.sum()))
    if not overall > 0.0:  # nothing was ever missed
        return np.zeros_like(growth), factor, np.zeros_like(p)
    larger = np.maximum(np.sqrt(growth * level), 1e-6) ** belief
    pairs = float(known.any(axis=2).sum())
    share = pairs / (pairs + _FEW_ERRORS)
    return larger, factor, share * np.quantile(u[known], p) / overall + (1.0 - share) * ndtri(p)


def _mean_squares(z: Floats, scale: Floats, most: Floats | None = None) -> tuple[Floats, Floats]:
    """Mean of z^2 / scale of each node, each up to most [nodes], NaN of nothing, and how many there are, [nodes]."""
    means, counts = np.empty(len(z)), np.empty(len(z))
    kernel.mean_squares(z, scale, np.full(len(z), np.inf) if most is None else most, means, counts)
    return means, counts


def _excess(z: Floats, growth: Floats) -> tuple[Floats, Floats]:
    """How many times the usual mean square of the group each series has, and on how many errors that rests, [nodes]
    each; z: [nodes, origins, H], growth: [H], of their squares.

    One wild error does not widen the bands of its series: squares count up to `_MOST_SQUARE` times the larger of the
    group's and the series' own usual square, read off its median. A series that is out of all proportion, because its
    sigma is nothing like its errors, has no say in what is usual, and its own factor takes it back among the others.
    """
    means, count = _mean_squares(z, growth)
    moved = means > 0.0
    if not moved.any():
        return np.ones(len(z)), count
    own = np.empty(len(z))
    kernel.median_squares(z, growth, own)
    usual = float(np.median(means[moved]))
    capped, _ = _mean_squares(z, growth, _MOST_SQUARE * np.maximum(own / _MEDIAN_SQUARE, usual))
    excess = np.where(count > 0, 0.0, 1.0)
    excess[moved] = capped[moved] / _typical(capped[moved])
    return excess, count


def _typical(squares: Floats) -> float:
    """Mean of what is in proportion: at most `_MOST_SQUARE` times the median; NaN of nothing."""
    seen = squares[np.isfinite(squares)]
    return float(seen[seen <= _MOST_SQUARE * np.median(seen)].mean()) if len(seen) else float("nan")


def _growth(z: Floats) -> Floats:
    """Squared spread at each lead, [H], from errors [nodes, origins, H]: never less than at a lead before.

    Every series speaks in units of its own mean square, up to `_MOST_LEAD_SQUARE` of these at any lead, so that none
    outvotes the others; as these units hold the growth that is looked for, it is found in a few rounds. What is unknown
    of the future does not shrink with its distance: means that fall by chance are drawn level with their neighbours
    (isotonic regression: Barlow, Bartholomew, Bremner, Brunk 1972). Leads that nobody was tested at have the spread of
    the lead before. The level of the whole is that of the usual series.
    """
    horizon = z.shape[2]
    usual, growth = 1.0, np.ones(horizon)
    totals, counts = np.empty(horizon), np.empty(horizon, dtype=np.int64)
    for _ in range(_ROUNDS):
        own, _ = _mean_squares(z, growth)
        kernel.shares_by_lead(z, growth, own, _MOST_LEAD_SQUARE, totals, counts)
        tested = np.nonzero(counts)[0]
        if not len(tested):
            return np.ones(horizon)
        usual = float(np.median(own[own > 0.0]))
        level = isotonic_regression((growth * totals)[tested] / counts[tested], weights=counts[tested]).x
        growth = level[np.maximum(np.searchsorted(tested, np.arange(horizon), side="right") - 1, 0)]
        growth = np.maximum(growth, 1e-6 * growth[-1])  # errors at the first leads may all be zero
    return growth * usual
