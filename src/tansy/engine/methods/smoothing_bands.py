"""What forecasts of exponential smoothing are distributed like: exact variances where the form is linear, paths where
it is not or past errors are resampled."""

from __future__ import annotations

import math
from dataclasses import dataclass, field, replace
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from tansy.engine.kernels import smoothing_doubt, smoothing_joint
from tansy.engine.kernels.paths import smoothing_paths
from tansy.engine.methods.distribution import Chosen, Distribution, Draws, Normal, Paths, Simulated, draws
from tansy.engine.methods.fits import Batch, Fits, Floats, Integers
from tansy.engine.methods.form import Form
from tansy.engine.methods.smoothing_search import (
    SEASON_CODE,
    WEIGHTS,
    Found,
    Task,
    given_states,
    is_linear,
    is_seasonal,
    mean_of,
    n_outside,
)


@dataclass(frozen=True)
class Run:
    """What a distribution is made from: a chosen form run over each series."""

    batch: Batch
    task: Task
    started: Task
    weights: Floats
    states: Floats
    coefficients: Floats
    last: Floats
    relative: NDArray[np.bool_]
    season: Integers
    residuals: Floats
    m: int


def with_distribution(
    form: Form, fits: Fits, found: list[Found], run: Run, each: Floats, together: Floats, bands: str
) -> Fits:
    """Exact variances where the form is linear, paths where it is not or past errors are resampled."""
    n, resampled = len(run.weights), "resampled" in form.words
    errors = np.full((n, 4 + 2 + run.m + run.task.x.shape[2]), math.nan)
    mean = np.full_like(each, math.nan)
    variance, total, tails, total_tails = (np.full_like(each, math.nan) for _ in range(4))
    simulated: list[tuple[Integers, Distribution]] = []
    for j, one in enumerate(found):
        rows = np.nonzero((fits.form_of == j) & fits.defined)[0]
        if not len(rows):
            continue
        linear = is_linear(one.form)
        own: tuple[Floats, ...] = (each[rows], together[rows], np.zeros_like(each[rows]), np.zeros_like(each[rows]))
        if linear and bands == "estimated":
            *own, errors[rows] = _doubt(one, fits, run, rows, each[rows], together[rows])  # type: ignore[assignment]
        if linear and not resampled:
            mean[rows] = fits.forecast[rows]
            variance[rows], total[rows], tails[rows], total_tails[rows] = own
            continue
        estimates = _Estimates(one, run, rows, np.sqrt(fits.sigma2[rows]), bands == "estimated" and not linear)
        if bands == "estimated" and not linear:
            errors[rows, : 6 + (run.m if is_seasonal(one.form) else 0)] = estimates.deviations()
        ratio = np.divide(own[0], each[rows], out=np.ones_like(own[0]), where=each[rows] > 0)
        stretch = np.sqrt(ratio) if linear else None
        paths = _Paths(run, rows, fits.forecast[rows], estimates, resampled, stretch)
        response, finer = None if resampled else paths.response, bands == "estimated"
        simulated.append((rows, Simulated(len(rows), each.shape[1], paths, response, finer)))
    distribution: Distribution = Normal(mean, variance, total)
    if bands == "estimated":
        distribution = Normal(mean, variance, total, None, tails, total_tails, each)
    if simulated:
        distribution = Chosen(n, [(np.arange(n), distribution), *simulated])
    position = {
        name: i for i, name in enumerate([*WEIGHTS, "level", "trend", *(f"season{j + 1}" for j in range(run.m))])
    }
    first_outside = len(position)
    outside = [name for name in fits.parameter_names if name not in position]
    at = [position[name] if name in position else first_outside + outside.index(name) for name in fits.parameter_names]
    return replace(fits, distribution=distribution, standard_errors=errors[:, at] if bands == "estimated" else None)


def _doubt(
    one: Found, fits: Fits, run: Run, rows: Integers, known: Floats, known_total: Floats
) -> tuple[Floats, Floats, Floats, Floats, Floats]:
    """Variances, excess kurtosis of both, and standard errors with everything estimated, for a linear form.

    Tuned constants have no likelihood: their variances are the known ones, with sigma2 = Q/(n - k + 1).
    """
    assert one.form.letters is not None
    _, trend, season = one.form.letters
    m = run.task.m if season != "N" else 0
    columns = n_outside(one.form, run.task)
    horizon, n = run.task.horizon, len(rows)
    if "tune" in one.form.choices:
        used = fits.n_used[rows]
        wider = (used / np.maximum(used - one.k + 1.0, 1.0))[:, None]
        none = np.zeros_like(known)
        return known * wider, known_total * wider, none, none, np.full((n, 6 + run.m + run.task.x.shape[2]), math.nan)
    fixed = np.array([one.form.given.get(name, math.nan) for name in WEIGHTS])
    given = np.full((n, 2 + m), math.nan)
    if one.form.choices or any(name not in WEIGHTS for name in one.form.given):
        given = given_states(one.form, run.task.rows(rows), {})[1]
    shares = np.ascontiguousarray(one.shares[rows])
    each, together, tails, tails_together = (np.empty((n, horizon)) for _ in range(4))
    of_weights, of_states, of_x = np.empty((n, 4)), np.empty((n, 2 + m)), np.empty((n, columns))
    smoothing_doubt.doubt_batch(
        np.ascontiguousarray(run.started.values[rows]), np.ascontiguousarray(run.task.x[:, :, :columns]),
        one.form.harmonics > 0, run.task.which[rows], trend != "N", trend == "Ad", m, fixed, given, shares,
        fits.forecast[rows], each, together, tails, tails_together, of_weights, of_states, of_x,
    )  # fmt: skip
    errors = np.full((n, 4 + 2 + run.m + run.task.x.shape[2]), math.nan)
    errors[:, :4], errors[:, 4 : 6 + m], errors[:, 6 + run.m : 6 + run.m + columns] = of_weights, of_states, of_x
    return each, together, tails, tails_together, errors


class _Drawn(NamedTuple):
    """Draws of estimates: weights [n, D, 4], states after the last period [n, D, 2 + m], sigma [n, D]; and deviations
    [n, 4 + 2 + m] of weights and first states, where there are any."""

    weights: Floats
    states: Floats
    sigma: Floats
    deviations: Floats | None


_N_ESTIMATES = 4096  # draws of estimates, each of which several paths share
_TOGETHER = 64  # series whose draws are held at once


@dataclass
class _Estimates:
    """What sample paths start from. One draw, the estimate, where parameters are taken as known and nothing is missing
    that would move the states. Draws are made again for every block of series that is asked for, because those of
    thousands would fill the memory; those of the block asked for last are kept. sigma: [n], parameters known."""

    one: Found
    run: Run
    rows: Integers
    sigma: Floats
    estimated: bool
    _last: tuple[slice, _Drawn] | None = field(default=None, init=False, repr=False)

    def of(self, some: slice) -> _Drawn:
        if self._last is None or self._last[0] != some:
            self._last = (some, self._draw(some))
        return self._last[1]

    def deviations(self) -> Floats:
        """Standard errors of weights and first states, [n, 4 + 2 + m]; NaN for constants that were tuned."""
        n = len(self.rows)
        found = [self.of(slice(i, min(i + _TOGETHER, n))).deviations for i in range(0, n, _TOGETHER)]
        m = self.run.m if is_seasonal(self.one.form) else 0
        return np.concatenate([np.full((n, 6 + m), math.nan) if each is None else each for each in found])

    def _draw(self, some: slice) -> _Drawn:
        one, run, rows = self.one, self.run, self.rows[some]
        values = np.ascontiguousarray(run.started.values[rows])
        began = np.argmax(~np.isnan(values), axis=1)
        missing = (np.isnan(values) & (np.arange(values.shape[1]) >= began[:, None])).sum(axis=1)
        moved = missing.any() and not is_linear(one.form)
        sigma = self.sigma[some]
        if "tune" in one.form.choices or not (self.estimated or moved):
            return _Drawn(run.weights[rows][:, None], run.last[rows][:, None], sigma[:, None], None)
        assert one.form.letters is not None
        error, trend, season = one.form.letters
        m = run.task.m if season != "N" else 0
        n, steps = len(rows), _N_ESTIMATES
        fixed = np.array([one.form.given.get(name, math.nan) for name in WEIGHTS])
        given = given_states(one.form, run.task.rows(rows), {})[1]
        normals = draws(4 + 2 + m, steps).normals.T * float(self.estimated)
        # a row for each gap, so that the errors of a series do not depend on how many others miss
        unseen = np.random.default_rng(20261).standard_normal((max(int(missing.max()), 1), steps)).T
        weights, states = np.empty((n, steps, 4)), np.zeros((n, steps, 2 + run.m))
        own_states, own_sigma, deviations = np.empty((n, steps, 2 + m)), np.empty(n), np.empty((n, 6 + m))
        smoothing_joint.draw_batch(
            values, error == "M", trend != "N", trend == "Ad", SEASON_CODE[season], m, fixed,
            np.ascontiguousarray(given[:, : 2 + m]), one.shares[rows], one.states[rows],
            np.ascontiguousarray(normals), np.ascontiguousarray(unseen), weights, own_states, own_sigma, deviations,
        )  # fmt: skip
        # in the order of what they lead to, so that paths, which take them by one even coordinate, take them evenly
        leads_to = own_states[:, :, 0] + 0.5 * run.task.horizon * own_states[:, :, 1]
        order = np.argsort(leads_to, axis=1, kind="stable")[:, :, None]
        states[:, :, : 2 + m] = np.take_along_axis(own_states, order, axis=1)
        spread = np.repeat((own_sigma if self.estimated else sigma)[:, None], steps, axis=1)
        return _Drawn(np.take_along_axis(weights, order, axis=1), states, spread, deviations)


@dataclass(frozen=True)
class _Paths:
    """Sample paths of some series."""

    run: Run
    rows: Integers
    mean: Floats
    estimates: _Estimates
    resampled: bool
    stretch: Floats | None

    def __call__(self, some: slice, drawn: Draws) -> NDArray[np.float32]:
        rows, run, estimates = self.rows[some], self.run, self.estimates.of(some)
        paths = np.empty((len(rows), *drawn.normals.shape), dtype=np.float32)
        errors, counts = np.zeros((len(rows), 1)), np.zeros(len(rows), dtype=np.int64)
        if self.resampled:
            errors, counts = _past_errors(run, rows)
        smoothing_paths(
            run.relative[rows], run.season[rows], run.m, np.ascontiguousarray(estimates.weights),
            np.ascontiguousarray(estimates.states), np.ascontiguousarray(estimates.sigma), errors, counts,
            drawn.normals, drawn.uniforms, drawn.which, paths,
        )  # fmt: skip
        x = run.task.x[run.task.which[rows], run.task.values.shape[1] :]
        shift = np.einsum("nhk,nk->nh", x, np.nan_to_num(run.coefficients[rows]))
        paths += shift[:, :, None].astype(np.float32)
        if self.stretch is not None:
            middle = self.mean[some, :, None]
            paths = (middle + (paths - middle) * self.stretch[some, :, None]).astype(np.float32)
        return paths

    def response(self, some: slice) -> Floats:
        """How far the shock of each lead moves the value of each, [rows, H, H], parameters as estimated and to first
        order: lead h moves by c_(h - j) of a shock at lead j, c_0 = 1 and c_k = alpha + beta (phi + ... + phi^k), and
        gamma on top after whole seasons; where something multiplies, in shares of the forecast."""
        rows, run = self.rows[some], self.run
        horizon = self.mean.shape[1]
        alpha, beta, gamma, phi = np.nan_to_num(run.weights[rows]).T[:, :, None]
        k = np.arange(horizon)
        c = alpha + beta * np.cumsum(np.where(k > 0, phi**k, 0.0), axis=1)
        if run.m:
            c = c + np.where((run.season[rows] > 0)[:, None] & (k % run.m == 0), gamma, 0.0)
        c[:, 0] = 1.0
        lag = k[:, None] - k[None, :]
        found = np.where(lag >= 0, c[:, np.maximum(lag, 0)], 0.0)
        relative, multiplied = run.relative[rows], run.season[rows] == SEASON_CODE["M"]
        f = np.where((relative | multiplied)[:, None], np.maximum(np.abs(self.mean[some]), 1e-12), 1.0)
        found *= f[:, :, None]
        found[~relative] /= f[~relative][:, None, :]
        return np.asarray(found)


def _past_errors(run: Run, rows: Integers) -> tuple[Floats, Integers]:
    """Past errors over their sigma, packed to the left, [n, most], and how many; centred, so that bands stay."""
    e = run.residuals[rows]
    relative = np.broadcast_to(run.relative[rows][:, None], e.shape)
    e = np.divide(e, run.started.values[rows] - e, out=e.copy(), where=relative & np.isfinite(e))
    seen = np.isfinite(e)
    count = seen.sum(axis=1)
    mean = mean_of(np.where(seen, e, math.nan))
    size = np.sqrt(mean_of(np.where(seen, (e - mean[:, None]) ** 2, math.nan)))
    scaled = np.divide(e - mean[:, None], size[:, None], out=np.zeros_like(e), where=size[:, None] > 0)
    order = np.argsort(~seen, axis=1, kind="stable")
    return np.ascontiguousarray(np.nan_to_num(np.take_along_axis(scaled, order, axis=1))), count.astype(np.int64)


@dataclass(frozen=True)
class Shifted:
    """A distribution moved by a constant per series."""

    of: Distribution
    by: Floats

    def spread(self) -> Floats:
        return self.of.spread()

    def quantiles(self, p: Floats, together: bool = False) -> Floats:
        found = self.of.quantiles(p, together)
        leads = np.arange(1, found.shape[2] + 1) if together else np.ones(found.shape[2])
        return found + self.by[:, None, None] * leads[None, None, :]

    def paths(self, rows: slice, drawn: Draws) -> Paths:
        return np.asarray(self.of.paths(rows, drawn) + self.by[rows, None, None])
