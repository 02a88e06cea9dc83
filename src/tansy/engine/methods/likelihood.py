"""Exponential smoothing and ARIMA, both by concentrated maximum likelihood (`kernels/concentrated.py`)."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from tansy.engine.errors import NotationError
from tansy.engine.kernels import concentrated as kernel
from tansy.engine.methods.fits import Batch, Fits, Floats, Uncertainty
from tansy.engine.methods.notation import Form
from tansy.engine.timeline import PERIODS_PER_YEAR

# Where searches start, as shares of each weight's range: slow and quick smoothing. Damped trends need the second start
# (`numerics.md`, trap 5).
_SMOOTHING_STARTS = (
    {"alpha": 0.2, "beta": 0.1, "gamma": 0.1, "phi": 0.6},
    {"alpha": 0.6, "beta": 0.5, "gamma": 0.5, "phi": 0.9},
)


@dataclass(frozen=True)
class _Problem:
    """A form in the terms of the kernel; see `kernels.concentrated.fit_batch` for each field."""

    family: int
    shape: tuple[int, int, int, int, int]
    n_differences: int
    has_mean: bool
    fixed: Floats
    fixed_states: Floats
    starts: Floats
    names: tuple[str, ...]
    present: tuple[bool, ...]
    n_linear: int

    @property
    def n_parameters(self) -> int:
        return self.starts.shape[1] + self.n_linear + 1


def fit(form: Form, batch: Batch, horizon: int, warm: Floats | None = None, uncertainty: bool = False) -> Fits:
    """Fit a form to every series of a batch.

    warm: [series, free parameters], where the search of a shorter history ended. A series is fitted when it has two
    values more than the form has parameters, and a whole year more where the form has a season or harmonics.
    uncertainty: also find what not knowing the parameters adds to the variances, at several times the cost.
    Raises NotationError where the form cannot be had on this timeline.
    """
    m = batch.timeline.season_length
    if form.harmonics and form.letters and form.letters[2] != "N" and batch.timeline.frequency != "D":
        raise NotationError(
            f"{form}: seasonal states and harmonics are the same season; use ets(A,{form.letters[1]},N)."
        )
    problem = _smoothing(form, m) if form.letters else _arima(form)
    seasonal = form.harmonics > 0 or problem.shape[2] > 0
    year = round(PERIODS_PER_YEAR[batch.timeline.frequency]) if form.harmonics else m
    least_used = problem.n_parameters + (max(year, 2) if seasonal else 2)
    n, length = batch.values.shape
    regressors = batch.timeline.harmonics(form.harmonics, horizon)
    n_free = problem.starts.shape[1]
    forecast, psi_squared, residuals = np.empty((n, horizon)), np.empty((n, horizon)), np.empty((n, length))
    n_parameters = len(problem.names)
    parameters, statistics, raw = np.empty((n, n_parameters)), np.empty((n, 4)), np.empty((n, n_free))
    rows = n if uncertainty else 0
    curvature, forecast_slopes = np.zeros((rows, n_free, n_free)), np.zeros((rows, horizon, n_free))
    parameter_slopes, linear = np.zeros((rows, n_parameters, n_free)), np.zeros((rows, horizon))
    linear_parameters = np.zeros((rows, n_parameters))
    kernel.fit_batch(
        np.ascontiguousarray(batch.values), regressors, problem.family, problem.shape, problem.n_differences,
        problem.has_mean, problem.fixed, problem.fixed_states, problem.starts,
        np.full((n, n_free), math.nan) if warm is None else np.ascontiguousarray(warm), least_used,
        forecast, psi_squared, residuals, parameters, raw, statistics,
        uncertainty, curvature, forecast_slopes, parameter_slopes, linear, linear_parameters,
    )  # fmt: skip
    loglik, sigma2, n_used, sum_squares = (np.ascontiguousarray(column) for column in statistics.T)
    keep = np.array(problem.present)
    names = tuple(name for name, present in zip(problem.names, keep, strict=True) if present)
    return Fits(
        forecast, psi_squared * sigma2[:, None], residuals, parameters[:, keep], names, loglik, sigma2, n_used,
        sum_squares, problem.n_parameters, raw,
        _uncertainty(
            sum_squares / np.maximum(n_used - problem.n_parameters + 1.0, 1.0), curvature, forecast_slopes,
            parameter_slopes[:, keep], linear, linear_parameters[:, keep],
        ) if uncertainty else None,
    )  # fmt: skip


def _uncertainty(
    sigma2: Floats, curvature: Floats, forecast_slopes: Floats, parameter_slopes: Floats, linear: Floats,
    linear_parameters: Floats,
) -> Uncertainty:  # fmt: skip
    """Variances by the delta method on the profile likelihood.

    With u what was searched and b what is linear given u, the inverse of the joint information splits into
    cov(b | u) and (db/du) cov(u) (db/du)', cov(u) being the inverse curvature of the profile (Davison 2003, section
    4.5). A direction in which the likelihood is flat (a weight at its bound) moves the forecast by nothing and is left
    out.
    """
    flat = 1e-5
    size, axes = np.linalg.eigh(curvature) if curvature.shape[1] else (np.zeros((len(sigma2), 0)), curvature)
    inverse = np.where(size > flat, 1.0 / np.where(size > flat, size, 1.0), 0.0)

    def through(slopes: Floats) -> Floats:
        return ((slopes @ axes) ** 2 * inverse[:, None, :]).sum(axis=2)

    return Uncertainty(
        linear=linear,
        searched=through(forecast_slopes),
        standard_errors=np.sqrt(sigma2[:, None] * linear_parameters + through(parameter_slopes)),
    )


def _harmonic_names(form: Form) -> tuple[str, ...]:
    pairs = range(1, form.harmonics + 1)
    return (*(f"sin{k}" for k in pairs), *(f"cos{k}" for k in pairs))


def _smoothing(form: Form, season_length: int) -> _Problem:
    assert form.letters is not None
    has_trend, damped = form.letters[1] != "N", form.letters[1] == "Ad"
    m = season_length if form.letters[2] != "N" else 0
    if m == 1:
        raise NotationError(f"{form}: a season of one period has no seasonal states; use ets(A,{form.letters[1]},N).")
    seasons = [f"season{j}" for j in range(1, m + 1)]
    given_seasons = {name for name in form.given if name.startswith("season")}
    if given_seasons and given_seasons != set(seasons):
        raise NotationError(f"{form}: give all of season1 to season{m}, or none of them.")
    has = {"alpha": True, "beta": has_trend, "gamma": m > 0, "phi": damped, "level": True, "trend": has_trend}
    searched = [name for name in ("alpha", "beta", "gamma", "phi") if has[name] and name not in form.given]
    if "beta" in searched and form.given.get("alpha") == 0.0:
        raise NotationError(f"{form}: with alpha = 0 give beta too, because beta is never above alpha.")
    starts = [[start[name] for name in searched] for start in _SMOOTHING_STARTS[: 2 if damped else 1]]
    names = ("alpha", "beta", "gamma", "phi", "level", "trend", *seasons, *_harmonic_names(form))
    n_states = sum(1 for name in ("level", "trend") if has[name] and name not in form.given)
    n_states += m - 1 if m and not given_seasons else 0
    return _Problem(
        family=kernel.SMOOTHING,
        shape=(int(has_trend), int(damped), m, 0, 0),
        n_differences=0,
        has_mean=False,
        fixed=np.array([form.given.get(name, math.nan) for name in names[:4]]),
        fixed_states=np.array([form.given.get(name, math.nan) for name in names[4 : 6 + m]]),
        starts=np.array(starts).reshape(len(starts), len(searched)),
        names=names,
        present=tuple(has.get(name, True) for name in names),
        n_linear=n_states + 2 * form.harmonics,
    )


def _arima(form: Form) -> _Problem:
    assert form.orders is not None
    p, d, q = form.orders
    has_mean = d == 0 or "drift" in form.words
    # First partial autocorrelations, before tanh: a mild pattern, and a persistent one where both parts compete.
    grid = [(0.4, -0.2), (1.2, 0.6)] if p and q else [(0.4, 0.2)]
    starts = [[ar, *[0.0] * (p - 1)][:p] + [ma, *[0.0] * (q - 1)][:q] for ar, ma in grid]
    coefficients = (*(f"ar{i}" for i in range(1, p + 1)), *(f"ma{i}" for i in range(1, q + 1)))
    harmonics = _harmonic_names(form)
    return _Problem(
        family=kernel.ARIMA,
        shape=(0, 0, 0, p, q),
        n_differences=d,
        has_mean=has_mean,
        fixed=np.full(4, math.nan),
        fixed_states=np.full(2, math.nan),
        starts=np.array(starts).reshape(len(starts), p + q),
        names=(*coefficients, "mean" if d == 0 else "drift", *harmonics),
        present=(*[True] * (p + q), has_mean, *[True] * len(harmonics)),
        n_linear=int(has_mean) + len(harmonics),
    )
