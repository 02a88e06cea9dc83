"""Searching the likelihood of one form of exponential smoothing.

Forms that are linear in their states are fitted by `kernels/smoothing_linear.py`, the others from there by
`kernels/smoothing_joint.py`; those without a season by `kernels/smoothing_lanes.py`, many series side by side.
"""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from tansy.engine.errors import NotationError
from tansy.engine.kernels import smoothing_joint, smoothing_lanes, smoothing_linear, smoothing_tune
from tansy.engine.methods.fits import Floats, Integers, all_positive, note
from tansy.engine.methods.form import Form

SEASON_CODE = {"N": 0, "A": 1, "M": 2}
WEIGHTS = ("alpha", "beta", "gamma", "phi")

# Where searches may start, as shares of each weight's range, and how many of the best are followed to the end. Damped
# trends need several (`numerics.md`, trap 5).
_GRID = {"alpha": (0.2, 0.6, 0.9), "beta": (0.05, 0.3, 0.7), "gamma": (0.05, 0.5, 0.9), "phi": (0.3, 0.95)}
ONE_START = {"alpha": 0.45, "beta": 0.15, "gamma": 0.2, "phi": 0.95}
# Likelihoods with a season often have one top where gamma is small and one where it is large.
_LIVELY_SEASON = {"gamma": 0.9}
_LIVELY_LEVEL = {"alpha": 0.9, "gamma": 0.05}
_JOINT_DESCENTS = 4
_LOOSE, _TIGHT = 0.01, 1e-6  # of -2 log L


@dataclass(frozen=True)
class Found:
    """One form fitted to some series. weights [n, 4], states [n, 2 + m], coefficients [n, regressors], objective [n]
    is -2 log L up to a constant, raw [n, ...] where the search ended. k: parameters and the variance. tops [n, starts,
    free] and heights [n, starts]: where each start of its own led a linear form, and the objective there."""

    form: Form
    shares: Floats
    weights: Floats
    states: Floats
    coefficients: Floats
    objective: Floats
    k: int
    tops: Floats
    heights: Floats

    @property
    def raw(self) -> Floats:
        return np.hstack([self.shares, self.states])

    def take(self, rows: Integers) -> Found:
        """The fits of some series."""
        return replace(
            self, shares=self.shares[rows], weights=self.weights[rows], states=self.states[rows],
            coefficients=self.coefficients[rows], objective=self.objective[rows], tops=self.tops[rows],
            heights=self.heights[rows],
        )  # fmt: skip


@dataclass(frozen=True)
class Task:
    """What searches share. values [n, T]; x [groups, T + H, columns]; which [n]; m; year, in periods; horizon."""

    values: Floats
    x: Floats
    which: Integers
    m: int
    year: int
    horizon: int

    def rows(self, which: NDArray[np.bool_] | Integers) -> Task:
        return replace(self, values=np.ascontiguousarray(self.values[which]), which=self.which[which])


def n_outside(form: Form, task: Task) -> int:
    """Columns that the season beside the states takes; the last of all pairs may have no sine."""
    return int(form.shared_season) or min(2 * form.harmonics, task.x.shape[2])


def is_seasonal(form: Form) -> bool:
    return form.letters is not None and form.letters[2] != "N"


def is_linear(form: Form) -> bool:
    """Whether nothing multiplies: values are linear in the states."""
    return form.letters is not None and form.letters[0] == "A" and form.letters[2] != "M"


def free_weights(form: Form) -> list[str]:
    assert form.letters is not None
    has = {
        "alpha": True,
        "beta": form.letters[1] != "N",
        "gamma": form.letters[2] != "N",
        "phi": form.letters[1] == "Ad",
    }
    return [name for name in WEIGHTS if has[name] and name not in form.given]


def given_states(form: Form, task: Task, notes: dict[int, tuple[str, ...]]) -> tuple[Task, Floats]:
    """The values that are fitted and the first states that are given, [n, 2 + m] with NaN where estimated.

    With start=first the level is the first value (with a trend: the second, and the trend the step to it); with
    start=season it is the mean of the first season, the season its deviations or ratios, and the trend the step to the
    mean of the second season over m. The values used for that have no forecast: the recursion begins after them.
    """
    n = len(task.values)
    m = task.m if is_seasonal(form) or not form.letters else 0
    states = np.full((n, 2 + m), math.nan)
    if not form.letters:
        return task, states
    for name, value in form.given.items():
        if name in ("level", "trend"):
            states[:, 0 if name == "level" else 1] = value
    seasons = [f"season{j}" for j in range(1, m + 1)]
    named = {name for name in form.given if name.startswith("season")}
    if named and named != set(seasons):
        raise NotationError(f"{form}: give all of season1 to season{m}, or none of them.")
    if named:
        states[:, 2:] = [form.given[name] for name in seasons]
        if form.letters[2] == "M" and min(form.given[name] for name in seasons) <= 0.0:
            raise NotationError(f"{form}: the factors of a multiplicative season are above zero.")
    start = form.choices.get("start")
    if start is None:
        return task, states
    has_trend = form.letters[1] != "N"
    used = m if start == "season" else 2 if has_trend else 1
    needed = 2 * m if start == "season" and has_trend else used
    values = task.values.copy()
    began = np.argmax(~np.isnan(values), axis=1)
    at = began[:, None] + np.arange(needed)[None, :]
    inside = at[:, -1] < values.shape[1]
    head = np.take_along_axis(values, np.minimum(at, values.shape[1] - 1), axis=1)
    usable = inside & ~np.isnan(head).any(axis=1)
    if start == "season":
        states[:, 0] = head[:, :m].mean(axis=1)
        if has_trend:
            states[:, 1] = (head[:, m:].mean(axis=1) - states[:, 0]) / m
        multiplicative = form.letters[2] == "M"
        level = np.where(states[:, :1] > 0.0, states[:, :1], math.nan) if multiplicative else states[:, :1]
        states[:, 2:] = head[:, :m] / level if multiplicative else head[:, :m] - level
    else:
        states[:, 0] = head[:, used - 1]
        if has_trend:
            states[:, 1] = head[:, 1] - head[:, 0]
        if m:
            states[:, 2:] = 1.0 if form.letters[2] == "M" else 0.0
    usable &= np.isfinite(states[:, : 2 if has_trend else 1]).all(axis=1)
    values[np.arange(values.shape[1])[None, :] < (began + used)[:, None]] = math.nan
    values[~usable] = math.nan
    note(notes, ~usable, f"not fitted: start={start} needs the first {needed} values, without a gap")
    return replace(task, values=values), states


@dataclass(frozen=True)
class Onward:
    """Where a search goes on: from `raw` [n, starts, ...] of earlier ones, NaN where there are fewer. It is given up
    where it will not come below target [n] (NaN: never), and ends where -2 log L is promised to fall by less than
    `enough`."""

    raw: Floats
    target: Floats
    enough: float


def search(
    form: Form, task: Task, fixed_states: Floats, before: list[Found], *, thorough: bool,
    onward: Onward | None = None, notes: dict[int, tuple[str, ...]],
) -> Found:  # fmt: skip
    """Fit one form. before: what was fitted so far, for forms that start from another one's fit. thorough: many starts,
    to the end. onward: from there alone."""
    assert form.letters is not None
    error, trend, season = form.letters
    m = task.m if season != "N" else 0
    free = free_weights(form)
    if "beta" in free and form.given.get("alpha") == 0.0:
        raise NotationError(f"{form}: with alpha = 0 give beta too, because beta is never above alpha.")
    fixed = np.array([form.given.get(name, math.nan) for name in WEIGHTS])
    given = np.ascontiguousarray(fixed_states[:, : 2 + m])
    n, n_free = len(task.values), len(free)
    k = n_parameters(form, task, given)
    if "tune" in form.choices:
        return _tuned(form, task, fixed, given, free, k)
    least = k + _season_needed(form, task)
    enough = _TIGHT if thorough else _LOOSE
    target = np.full(n, math.inf)
    if onward is not None:
        target, enough = onward.target, onward.enough
    if is_linear(form):
        starts = _grid(free) if thorough else _few_starts(free)
        own = np.empty((n, 0, n_free))
        if onward is not None:
            starts, own = starts[:0], np.ascontiguousarray(onward.raw[:, :, :n_free])
        descents = 1 + int(thorough) * (2 + ("phi" in free))
        return _linear(form, task, fixed, given, k, least, starts, descents, own, target, enough)
    positive = all_positive(task.values)
    if not before and onward is None:
        note(notes, ~positive, "not fitted: multiplicative forms need values above zero")
    task = replace(task, values=np.where(positive[:, None], task.values, math.nan))
    if onward is not None:
        shares_at = np.ascontiguousarray(onward.raw[:, :, :n_free])
        states_at = np.ascontiguousarray(onward.raw[:, :, n_free : n_free + 2 + m])
    else:
        shares_at, states_at = _joint_starts(form, task, fixed, before, thorough, n_free, m)
    shares, weights = np.empty((n, n_free)), np.empty((n, 4))
    states, objective = np.empty((n, 2 + m)), np.empty(n)
    found = (shares, weights, states, objective)
    if m == 0 and np.isnan(given).all():
        smoothing_lanes.search_batch(
            task.values, True, trend != "N", trend == "Ad", fixed, shares_at.reshape(n * shares_at.shape[1], n_free),
            states_at.reshape(-1, 2), 1, np.empty((n, 0, n_free)), target, least, enough, *found,
            np.empty((n, 0, n_free)), np.empty((n, 0)),
        )  # fmt: skip
    else:
        descents = shares_at.shape[1] if onward is not None else _JOINT_DESCENTS if thorough else 1
        smoothing_joint.search_batch(
            task.values, error == "M", trend != "N", trend == "Ad", SEASON_CODE[season], m, fixed, given,
            shares_at, states_at, descents, target, least, enough, *found,
        )  # fmt: skip
    x, none = np.zeros((n, task.x.shape[2])), np.empty((n, 0))
    return Found(form, shares, weights, states, x, objective, k, np.empty((n, 0, n_free)), none)


def n_parameters(form: Form, task: Task, given: Floats) -> int:
    """How many numbers a form estimates, with the variance. given: [n, 2 + m], NaN where a state is estimated."""
    assert form.letters is not None
    _, trend, season = form.letters
    k = len(free_weights(form)) + n_outside(form, task) + 1
    k += int(np.isnan(given[:1, 0]).sum()) + (int(np.isnan(given[:1, 1]).sum()) if trend != "N" else 0)
    return k + (task.m - 1 if season != "N" and np.isnan(given[:1, 2]).any() else 0)


def states_beside(form: Form, task: Task, fixed_states: Floats, shares: Floats) -> Floats:
    """First states [n, starts, 2 + m] that belong to shares [n, starts, free] in the form that differs from this one by
    being linear: where searches for this one may begin."""
    assert form.letters is not None
    _, trend, season = form.letters
    m = task.m if season != "N" else 0
    fixed = np.array([form.given.get(name, math.nan) for name in WEIGHTS])
    given = fixed_states[:, : 2 + m].copy()
    if season == "M":
        given[:, 2:] = math.nan  # factors say nothing of terms
    states = np.empty((*shares.shape[:2], 2 + m))
    smoothing_linear.states_beside(
        task.values, trend != "N", trend == "Ad", m, fixed, given, np.ascontiguousarray(shares), states
    )
    if season == "M":
        states[:, :, 2:] = _factors(states[:, :, :1], states[:, :, 2:], mean_of(task.values)[:, None, None])
    return states


def _factors(level: Floats, terms: Floats, usual: Floats) -> Floats:
    """Seasonal terms as factors with mean one. usual: stands in for a level that is not above zero."""
    level = np.where(level > 0.0, level, np.where(usual > 0.0, usual, 1.0))
    factor = np.maximum(1.0 + terms / level, 0.05)
    return np.asarray(factor / factor.mean(axis=-1, keepdims=True))


def _grid(free: list[str]) -> Floats:
    points = list(itertools.product(*(_GRID[name] for name in free)))
    return np.array(points, dtype=float).reshape(len(points), len(free))


def _few_starts(free: list[str], thorough: bool = False) -> Floats:
    starts = [ONE_START, {**ONE_START, **_LIVELY_SEASON}] if "gamma" in free else [ONE_START]
    starts += [{**ONE_START, **_LIVELY_LEVEL}] if thorough else []
    return np.array([[start[name] for name in free] for start in starts])


def _season_needed(form: Form, task: Task) -> int:
    """Values that a form needs beyond one for each parameter: a year where it has a yearly season beside its states, a
    season where it estimates one."""
    if form.harmonics or form.shared_season:
        return max(task.year, 2)
    return max(task.m, 2) if is_seasonal(form) and not any(name.startswith("season") for name in form.given) else 2


def _linear(
    form: Form, task: Task, fixed: Floats, given: Floats, k: int, least: int, starts: Floats, descents: int,
    own: Floats, target: Floats, enough: float,
) -> Found:  # fmt: skip
    assert form.letters is not None
    _, trend, season = form.letters
    m = task.m if season != "N" else 0
    n, n_free = len(task.values), starts.shape[1]
    columns = n_outside(form, task)
    shares, weights, states = np.empty((n, n_free)), np.empty((n, 4)), np.empty((n, 2 + m))
    coefficients, precision = np.empty((n, columns)), np.empty((n, columns))
    objective = np.empty(n)

    def search(
        values: Floats, x: Floats, starts: Floats, own: Floats, target: Floats, found: Floats, variances: Floats
    ) -> tuple[Floats, Floats]:
        tops, heights = np.empty((n, own.shape[1], n_free)), np.empty((n, own.shape[1]))
        smoothing_linear.search_batch(
            values, x, form.harmonics > 0, task.which, trend != "N", trend == "Ad", m, fixed, given, starts, descents,
            own, target, least, enough, shares, weights, states, found, variances, objective,
            tops, heights,
        )  # fmt: skip
        return tops, heights

    if not (m or columns) and np.isnan(given).all():
        tops, heights = np.empty((n, own.shape[1], n_free)), np.empty((n, own.shape[1]))
        smoothing_lanes.search_batch(
            task.values, False, trend != "N", trend == "Ad", fixed, starts, np.empty((0, 2)), descents, own, target,
            least, enough, shares, weights, states, objective, tops, heights,
        )  # fmt: skip
        x = np.zeros((n, task.x.shape[2]))
        return Found(form, shares, weights, states, x, objective, k, tops, heights)
    x = np.ascontiguousarray(task.x[:, :, :columns])
    tops, heights = search(task.values, x, starts, own, target, coefficients, precision)
    if form.shared_season:
        # The season as the group has it would have the coefficient of the usual level. What the series itself says is
        # drawn towards that as far as it is uncertain: the positive-part rule of Stein for one number.
        usual = np.where(states[:, 0] > 0.0, mean_of(task.values), 0.0)
        apart = coefficients[:, 0] - usual
        doubt = precision[:, 0]
        kept = np.maximum(1.0 - np.divide(doubt, apart**2, out=np.ones(n), where=apart != 0.0), 0.0)
        coefficients[:, 0] = usual + kept * apart
        shift = coefficients * x[task.which, : task.values.shape[1], 0]
        search(
            task.values - shift,
            np.empty((len(x), x.shape[1], 0)),
            starts[:0],
            shares[:, None].copy(),
            np.full(n, math.inf),
            np.empty((n, 0)),
            np.empty((n, 0)),
        )
    padded = np.zeros((n, task.x.shape[2]))
    padded[:, :columns] = coefficients
    return Found(form, shares, weights, states, padded, objective, k, tops, heights)


def mean_of(values: Floats) -> Floats:
    seen = ~np.isnan(values)
    count = seen.sum(axis=1)
    return np.divide(np.where(seen, values, 0.0).sum(axis=1), count, out=np.zeros(len(values)), where=count > 0)


def _joint_starts(
    form: Form,
    task: Task,
    fixed: Floats,
    before: list[Found],
    thorough: bool,
    n_free: int,
    m: int,
) -> tuple[Floats, Floats]:
    """Shares [n, starts, free] and states [n, starts, 2 + m] from the additive form beside this one."""
    assert form.letters is not None
    _, trend, season = form.letters
    beside = ("A", trend, "A" if season != "N" else "N")
    found = [one for one in before if one.form.letters == beside and one.form.harmonics == form.harmonics]
    if not found:
        weights = {name: value for name, value in form.given.items() if name in WEIGHTS}
        nothing_given = np.full((len(task.values), 2 + m), math.nan)
        # A damped trend often ends where an undamped one does: begin there too.
        also = [("A", "A", beside[2])] if trend == "Ad" and thorough else []
        for letters in (beside, *also):
            known = {name: value for name, value in weights.items() if name != "phi" or letters[1] == "Ad"}
            simple = replace(form, letters=letters, given=known, words=(), choices={}, harmonics=0)
            found.append(search(simple, task, nothing_given, [], thorough=thorough, notes={}))
    shares, states = [], []
    for one in found:
        share = one.shares
        if share.shape[1] < n_free:  # the undamped trend has no phi
            share = np.hstack([share, np.full((len(share), n_free - share.shape[1]), 0.95)])
        state = one.states.copy()
        if season == "M":
            state[:, 2:] = _factors(state[:, :1], state[:, 2:], mean_of(task.values)[:, None])
        shares.append(share)
        states.append(state)
    if season != "N":  # the additive fit may sit on the wrong one of several tops
        for start in _few_starts(free_weights(form), thorough)[: None if thorough else 1]:
            shares.append(np.tile(start, (len(task.values), 1)))
            states.append(states[0])
    return np.ascontiguousarray(np.stack(shares, axis=1)), np.ascontiguousarray(np.stack(states, axis=1))


def _tuned(form: Form, task: Task, fixed: Floats, given: Floats, free: list[str], k: int) -> Found:
    """Constants with the least in-sample error of a measure, the first states as given."""
    assert form.letters is not None
    _, trend, season = form.letters
    n, m = len(task.values), task.m if season != "N" else 0
    grid = _grid(free)
    shares, weights, score = np.empty((n, len(free))), np.empty((n, 4)), np.empty(n)
    smoothing_tune.tune_batch(
        task.values, trend != "N", trend == "Ad", SEASON_CODE[season], m, fixed, given,
        smoothing_tune.MEASURES.index(form.choices["tune"]), grid, shares, weights, score,
    )  # fmt: skip
    states = np.where(np.isnan(score)[:, None], math.nan, given)
    if trend == "N":
        states[:, 1] = 0.0
    x = np.zeros((n, task.x.shape[2]))
    return Found(form, shares, weights, states, x, score, k, np.empty((n, 0, len(free))), np.empty((n, 0)))
