"""Seasonal ARIMA by exact Gaussian likelihood (`kernels/arima.py`)."""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from tansy.engine.errors import NotationError
from tansy.engine.kernels import arima as kernel
from tansy.engine.kernels import arima_best as kernel_best
from tansy.engine.kernels.arima_model import CONSTANT, DRIFT, NO_MEAN, Orders
from tansy.engine.kernels.differencing import LEVEL_AT_5_PERCENT, STRONG_SEASON
from tansy.engine.methods.distribution import Normal
from tansy.engine.methods.fits import Batch, Fits, Floats, Integers, Search, note, too_few
from tansy.engine.methods.form import Form
from tansy.engine.methods.regressors import no_effect, regressors_of
from tansy.engine.timeline import PERIODS_PER_YEAR

_STARTS = {"ar": (-0.8, 0.2, 1.0, 2.2), "ma": (-0.8, 0.2, 1.0, 2.2)}
_STARTS_WITH_SEASON = {"ar": (0.2, 1.0, 2.2), "ma": (-0.8, 0.2, 1.2), "sar": (0.5,), "sma": (0.5,)}
"""Where a search may begin: first partial autocorrelation of each factor, before tanh; the others start at zero."""
_CYCLE = {"ar1": 2.5, "ar2": -2.2, "ma1": 2.3, "ma2": -1.0}
"""One more start: a slow cycle, whose top is narrow."""
_ENOUGH = 1e-8  # of -2 log L
_LONG_SEASON = 24
_LARGEST = 1e100  # squares of larger values leave the range of numbers


BOUNDS = {"p": (5, 8), "q": (5, 8), "P": (2, 3), "Q": (2, 3), "together": (5, 8), "d": (2, 2), "D": (1, 1)}
"""What arima(best) tries, by default and at the very most; `together` is p + q + P + Q."""


def fit(form: Form, batch: Batch, horizon: int, bands: str) -> Fits:
    """Fit a form, or the one with the least AICc, to every series of a batch.

    A series is fitted when it has two values more than the form has parameters and differences, and a whole year more
    where it has harmonics.
    """
    if form.orders is None:
        return _best(form, batch, horizon, bands)
    p, d, q = form.orders
    sp, sd, sq = form.seasonal
    m = max(form.period, 1)
    mean = _mean(form)
    names = _coefficient_names((p, q, sp, sq))
    fixed = np.array([form.given.get(name, math.nan) for name in names])
    _check_given(form, (p, q, sp, sq))
    starts = _starts(form, names)
    room = _Room(form, batch, horizon, (p, q, sp, sq), starts.shape[1], bands)
    k = starts.shape[1] + int(mean != NO_MEAN) + len(room.columns.names) + 1
    least_used = k + max(room.year, 2) + d + m * sd
    kernel.fit_batch(
        room.values, room.columns.x, room.columns.which, Orders(p, q, sp, sq, m), (d, sd), mean, fixed, starts,
        least_used, _ENOUGH, room.outputs, bands == "estimated", room.uncertain,
    )  # fmt: skip
    n = len(batch.values)
    linear = {
        NO_MEAN: ("", ""), CONSTANT: ("constant" if d + sd else "mean", ""), DRIFT: ("", "drift"),
    }[mean]  # fmt: skip
    return room.fits((form,), np.zeros(n, dtype=np.int64), np.full(n, float(k)), linear, least_used)


def _best(form: Form, batch: Batch, horizon: int, bands: str) -> Fits:
    """Orders searched for each series; the notes say what was tested and tried."""
    bound = {name: int(form.given.get(name, usual)) for name, (usual, _) in BOUNDS.items()}
    m = batch.timeline.season_length
    outside = form.harmonics and batch.timeline.frequency != "D"  # of days the week stays beside a yearly season
    if m == 1 or outside or "no-season" in form.words:
        m = 1
        bound |= {"P": 0, "Q": 0, "D": 0}
    elif m > _LONG_SEASON:  # each seasonal coefficient of a long season is estimated from a few seasons
        bound |= {name: min(bound[name], int(form.given.get(name, 1))) for name in ("P", "Q")}
    if "exhaustive" in form.words:
        _check_room(form, bound)
    most = kernel_best.Most(*(bound[name] for name in ("p", "q", "P", "Q", "together", "d", "D")))
    given = (int(form.given.get("d", -1)), int(form.given.get("D", 0 if m == 1 else -1)))
    room = _Room(form, batch, horizon, most[:4], bound["together"], bands)
    least_used = max(room.year, 2) + 4
    n = len(batch.values)
    found, tested = np.empty((n, 7), np.int64), np.empty((n, 5))
    tried, n_tried = np.zeros((n, kernel_best.MOST_TRIED, kernel_best.TRIED)), np.empty(n, np.int64)
    kernel_best.search_batch(
        room.values, room.columns.x, room.columns.which, m, most, given, "exhaustive" in form.words,
        least_used, found, tested, tried, n_tried, room.outputs, bands == "estimated", room.uncertain,
    )  # fmt: skip
    kinds, form_of = np.unique(found, axis=0, return_inverse=True)
    forms = tuple(resolved(form, kind, m) for kind in kinds.tolist())
    k = found[:, [0, 2, 3, 5]].sum(axis=1) + (found[:, 6] != NO_MEAN) + len(room.columns.names) + 1.0
    fits = room.fits(forms, form_of.ravel().astype(np.int64), k, ("mean", "drift"), least_used)
    notes = dict(fits.notes)
    for i in np.nonzero(found[:, 0] >= 0)[0].tolist():
        notes[i] = (*notes.get(i, ()), _why(found[i], tested[i], tried[i, : n_tried[i]], m, given))
    search = Search(
        tested[:, 0], tested[:, 1:4], found[:, [1, 4]], tried[:, :, :5].astype(np.int64), tried[:, :, 5],
        tried[:, :, 6].astype(np.int64), n_tried,
    )  # fmt: skip
    return replace(fits, notes=notes, search=search)


def _check_room(form: Form, bound: dict[str, int]) -> None:
    ranges = [range(bound[name] + 1) for name in ("p", "q", "P", "Q")]
    models = 2 * sum(sum(orders) <= bound["together"] for orders in itertools.product(*ranges))
    if models > kernel_best.MOST_TRIED:
        raise NotationError(
            f"{form}: {models} models lie within these bounds, and at most {kernel_best.MOST_TRIED} are tried one by "
            "one; lower p, q, P, Q or together."
        )


def resolved(form: Form, kind: Sequence[int], m: int) -> Form:
    """A form with its orders (p, d, q, P, D, Q, mean) filled in; as it is where p is below zero."""
    p, d, q, sp, sd, sq, mean = kind
    if p < 0:
        return form
    given: dict[str, float] = {"mean": 0.0} if d + sd == 0 and mean == NO_MEAN else {}
    return replace(
        form, orders=(p, d, q), seasonal=(sp, sd, sq), period=m if sp + sd + sq else 0, given=given,
        words=("drift",) if mean == DRIFT else (),
    )  # fmt: skip


def _why(found: Integers, tested: Floats, tried: Floats, m: int, given: tuple[int, int]) -> str:
    """What was tested and tried, in words."""
    d, seasonal_d = int(found[1]), int(found[4])
    says = []
    if m > 1 and given[1] >= 0:
        says.append(f"D = {seasonal_d} as given")
    elif m > 1:
        says.append(f"season strength {tested[0]:.2f} (differenced at lag {m} above {STRONG_SEASON}): D = {seasonal_d}")
    levels = [f"{value:.2f}" for value in tested[1:4] if not math.isnan(value)]
    if given[0] >= 0:
        says.append(f"d = {d} as given")
    else:
        says.append(f"level test {', then '.join(levels)} (differenced above {LEVEL_AT_5_PERCENT}): d = {d}")
    refused = int((tried[:, 6] > 0).sum())
    says.append(
        f"{len(tried)} models tried" + (f", {refused} refused as nearly the same as a simpler one" if refused else "")
    )
    return "; ".join(says)


class _Room:
    """Arrays that the kernels write, and what becomes of them."""

    def __init__(
        self, form: Form, batch: Batch, horizon: int, most: tuple[int, int, int, int], free: int, bands: str
    ) -> None:
        n, length = batch.values.shape
        self.columns = regressors_of(form, batch.drivers, n, batch.timeline, horizon)
        self.values = np.ascontiguousarray(batch.values)
        if self.columns.unknown is not None:
            self.values = np.where(self.columns.unknown, math.nan, self.values)
        self.year = round(PERIODS_PER_YEAR[batch.timeline.frequency]) if form.harmonics else 2
        names = _coefficient_names(most)
        self.n_coefficients, self.bands = len(names), bands
        self.names = [*names, "mean", "drift", *self.columns.names]
        n_names = len(self.names)
        self.outputs = kernel.Outputs(
            np.empty((n, horizon)), np.empty((n, horizon)), np.empty((n, horizon)), np.empty((n, length)),
            np.empty((n, n_names)), np.empty((n, free)), np.empty((n, 4)), np.empty(n, np.int64),
        )  # fmt: skip
        rows, linear = (n if bands == "estimated" else 0), n_names - len(names)
        self.uncertain = kernel.Uncertain(
            np.zeros((rows, free, free)), np.zeros((rows, horizon, free)), np.zeros((rows, n_names, free)),
            np.zeros((rows, horizon)), np.zeros((rows, horizon)), np.zeros((rows, linear, linear)),
        )  # fmt: skip

    def fits(
        self, forms: tuple[Form, ...], form_of: Integers, k: Floats, linear: tuple[str, str], least_used: int
    ) -> Fits:
        """linear: names of the columns for mean or constant and for drift, "" where the form has none: names depend on
        the form alone, never on which series share the batch. least_used: fewest values that were fitted."""
        forecast, psi_squared, psi_total, residuals, parameters, _, statistics, _ = self.outputs
        notes: dict[int, tuple[str, ...]] = {}
        for i, missing in self.columns.missing.items():
            forecast[i] = math.nan
            notes[i] = (f"not fitted: {missing}",)
        for i in np.nonzero(np.isnan(forecast[:, 0]))[0].tolist():
            notes.setdefault(i, _why_not(self.values[i], least_used))
        first = self.n_coefficients
        k = k - self._without_effect(parameters, notes)
        loglik, sigma2, n_used, sum_squares = (np.ascontiguousarray(column) for column in statistics.T)
        distribution, errors, shared = None, None, None
        if self.bands == "known":
            distribution = Normal(forecast, psi_squared * sigma2[:, None], psi_total * sigma2[:, None])
        elif self.bands == "estimated":
            curvature, forecast_slopes, parameter_slopes, of_leads, of_sums, covariance = self.uncertain
            self._leave_out_what_has_no_curvature(notes)
            free = (sum_squares / np.maximum(n_used - k + 1.0, 1.0))[:, None]
            summed = np.cumsum(forecast_slopes, axis=1)
            distribution = Normal(
                forecast,
                free * (psi_squared + of_leads) + _through(forecast_slopes, curvature),
                free * (psi_total + of_sums) + _through(summed, curvature),
                plain=psi_squared * sigma2[:, None],
            )
            shared = _through_both(parameter_slopes, curvature)
            shared[:, first:, first:] += sigma2[:, None, None] * covariance
            errors = np.sqrt(np.einsum("nii->ni", shared))
        names = np.array([*self.names[:first], *linear, *self.names[first + 2 :]])
        keep = names != ""
        return Fits(
            forecast, residuals, parameters[:, keep], tuple(names[keep].tolist()), loglik, sigma2, n_used,
            sum_squares, k, forms, form_of, None if errors is None else errors[:, keep], distribution, notes,
            covariance=None if shared is None else shared[:, keep][:, :, keep],
        )  # fmt: skip

    def _leave_out_what_has_no_curvature(self, notes: dict[int, tuple[str, ...]]) -> None:
        """Where the likelihood beside the top is no number, as of a series that a form fits without error, the
        coefficients are taken as known, and a note says so; in place."""
        of_search = self.uncertain[:3]
        lost = ~np.all([np.isfinite(one).all(axis=(1, 2)) for one in of_search], axis=0)
        for one in of_search:
            one[lost] = 0.0
        note(notes, lost, "bands take the coefficients as known: the likelihood beside them is no number")

    def _without_effect(self, parameters: Floats, notes: dict[int, tuple[str, ...]]) -> Floats:
        """How many drivers of each series have no effect that could be estimated; they are taken out and noted."""
        first = self.n_coefficients + 2
        never = np.isnan(parameters[:, first:]) & ~np.isnan(self.outputs.forecast[:, :1])
        for i in np.nonzero(never.any(axis=1))[0].tolist():
            names = [name for name, out in zip(self.columns.names, never[i].tolist(), strict=True) if out]
            notes[i] = (*notes.get(i, ()), no_effect(names))
        return never.sum(axis=1).astype(np.float64)


def _why_not(y: Floats, least_used: int) -> tuple[str, ...]:
    """Note for a series [T] that could not be fitted."""
    seen = y[~np.isnan(y)]
    if len(seen) < least_used:
        return too_few(y)
    if np.abs(seen).max() > _LARGEST:
        return (f"not fitted: values above {_LARGEST:g} are too large to calculate with",)
    return ("not fitted: no coefficients of this form could be found",)


def _mean(form: Form) -> int:
    assert form.orders is not None
    if form.orders[1] + form.seasonal[1] == 0:
        return NO_MEAN if "mean" in form.given else CONSTANT
    return DRIFT if "drift" in form.words else CONSTANT if "constant" in form.words else NO_MEAN


def _coefficient_names(orders: tuple[int, int, int, int]) -> list[str]:
    """In the order of the kernels; orders: p, q, P, Q."""
    sizes = zip(("ar", "ma", "sar", "sma"), orders, strict=True)
    return [f"{name}{i}" for name, size in sizes for i in range(1, size + 1)]


def _check_given(form: Form, orders: tuple[int, int, int, int]) -> None:
    """Raise NotationError where a factor is given as a whole and is not stationary, or not invertible."""
    for name, size, sign in zip(("ar", "ma", "sar", "sma"), orders, (1.0, -1.0, 1.0, -1.0), strict=True):
        own = [form.given[f"{name}{i}"] for i in range(1, size + 1) if f"{name}{i}" in form.given]
        if len(own) == size and np.any(np.abs(np.roots([1.0, *(-sign * c for c in own)])) >= 1.0):
            what = "stationary" if sign > 0 else "invertible"
            raise NotationError(f"{form}: {name}1 to {name}{size} as given are not {what}; draw them towards zero.")


def _starts(form: Form, names: list[str]) -> Floats:
    """Where searches may begin, [starts, free]. A factor with a coefficient by hand begins at zero."""
    given = {name.rstrip("0123456789") for name in form.given}
    first = _STARTS_WITH_SEASON if form.period else _STARTS
    free = [name for name in names if name not in form.given]
    choices: list[tuple[float, ...]] = []
    for name in free:
        factor = name.rstrip("0123456789")
        choices.append(first[factor] if name == f"{factor}1" and factor not in given else (0.0,))
    points = list(itertools.product(*choices))
    if "ar2" in free and not given:
        points.append(tuple(_CYCLE.get(name, 0.0) for name in free))
    return np.array(points, dtype=float).reshape(len(points), len(choices))


def _through(slopes: Floats, curvature: Floats) -> Floats:
    """Variance of what moves by `slopes` [series, X, free] with the numbers searched: the delta method on the profile
    likelihood.

    With u what was searched and b what is linear given u, the inverse of the joint information splits into
    cov(b | u) and (db/du) cov(u) (db/du)', cov(u) being the inverse curvature of the profile (Davison 2003, section
    4.5). A direction in which the likelihood is flat moves the forecast by nothing and is left out.
    """
    if not curvature.shape[1]:
        return np.zeros(slopes.shape[:2])
    inverse, along = _spread_along(slopes, curvature)
    through: Floats = (along**2 * inverse[:, None, :]).sum(axis=2)
    return through


def _through_both(slopes: Floats, curvature: Floats) -> Floats:
    """Covariances [series, X, X] to the variances of `_through`."""
    if not curvature.shape[1]:
        return np.zeros((*slopes.shape[:2], slopes.shape[1]))
    inverse, along = _spread_along(slopes, curvature)
    through: Floats = (along * inverse[:, None, :]) @ along.swapaxes(1, 2)
    return through


def _spread_along(slopes: Floats, curvature: Floats) -> tuple[Floats, Floats]:
    """Variance along each axis of the curvature [series, free], zero where it is flat, and the slopes along it."""
    flat = 1e-5
    size, axes = np.linalg.eigh(curvature)
    return np.where(size > flat, 1.0 / np.where(size > flat, size, 1.0), 0.0), slopes @ axes
