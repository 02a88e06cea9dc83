"""Exponential smoothing: all 18 forms, the choice among them, parsimonious seasons, and constants given or tuned.

Forms that are linear in their states are fitted by `kernels/smoothing_linear.py`, the others from there by
`kernels/smoothing_joint.py`. Whatever was estimated or given is then run through one plain recursion
(`kernels/smoothing_apply.py`), which is what fitted values, likelihood and forecasts come from.
"""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from tansy.engine.errors import NotationError
from tansy.engine.kernels import (
    smoothing_apply,
    smoothing_doubt,
    smoothing_joint,
    smoothing_lanes,
    smoothing_linear,
    smoothing_tune,
)
from tansy.engine.kernels.paths import smoothing_paths
from tansy.engine.methods.distribution import Chosen, Distribution, Draws, Normal, Simulated, draws
from tansy.engine.methods.fits import Batch, Fits, Floats, Integers, aicc, all_positive, note, too_few
from tansy.engine.methods.notation import RESTRICTIONS, Form
from tansy.engine.methods.regressors import pairs_of
from tansy.engine.methods.shared_season import season_profiles
from tansy.engine.timeline import PERIODS_PER_YEAR, Timeline

_SEASON_CODE = {"N": 0, "A": 1, "M": 2}
_WEIGHTS = ("alpha", "beta", "gamma", "phi")

# Where searches may start, as shares of each weight's range, and how many of the best are followed to the end. Damped
# trends need several (`numerics.md`, trap 5).
_GRID = {"alpha": (0.2, 0.6, 0.9), "beta": (0.05, 0.3, 0.7), "gamma": (0.05, 0.5, 0.9), "phi": (0.3, 0.95)}
_ONE_START = {"alpha": 0.45, "beta": 0.15, "gamma": 0.2, "phi": 0.95}
# Likelihoods with a season often have one top where gamma is small and one where it is large.
_LIVELY_SEASON = {"gamma": 0.9}
_LIVELY_LEVEL = {"alpha": 0.9, "gamma": 0.05}
_JOINT_DESCENTS = 4
_SKETCHY, _LOOSE, _TIGHT = 0.01, 1e-3, 1e-6  # of -2 log L
_FINALISTS_WITHIN = 0.3  # of the least AICc: these are searched again, more thoroughly
_OTHER_TOPS_WITHIN = 1.0  # of the least AICc: these are searched from the other side of each weight too
_RELATIVES_WITHIN = 10.0  # of the least AICc: these are searched again from where a relative ended elsewhere
_ELSEWHERE = 0.1  # of alpha or gamma


@dataclass(frozen=True)
class _Found:
    """One form fitted to some series. weights [n, 4], states [n, 2 + m], coefficients [n, regressors], objective [n]
    is -2 log L up to a constant, raw [n, ...] where the search ended. k: parameters and the variance."""

    form: Form
    shares: Floats
    weights: Floats
    states: Floats
    coefficients: Floats
    objective: Floats
    evaluations: Integers
    k: int

    @property
    def raw(self) -> Floats:
        return np.hstack([self.shares, self.states])


@dataclass(frozen=True)
class _Task:
    """What searches share. values [n, T]; x [groups, T + H, columns]; which [n]; m; year, in periods; horizon."""

    values: Floats
    x: Floats
    which: Integers
    m: int
    year: int
    horizon: int

    def rows(self, which: NDArray[np.bool_] | Integers) -> _Task:
        return replace(self, values=np.ascontiguousarray(self.values[which]), which=self.which[which])


def fit(form: Form, batch: Batch, horizon: int, warm: Floats | None = None, bands: str = "none") -> Fits:
    """Fit a form, or the best of several, to every series of a batch.

    warm: `raw` of the fits to a shorter history. bands: see `fits.BANDS`.
    A series is fitted when it has two values more than the form has parameters, and a whole season more where it has
    one. Raises NotationError where the form cannot be had on this timeline.
    """
    m = batch.timeline.season_length
    candidates = _candidates(form, batch)
    most_pairs = max(one.harmonics for one in candidates)
    notes: dict[int, tuple[str, ...]] = {}
    values, x = np.ascontiguousarray(batch.values), _harmonics(batch, most_pairs, horizon)
    if form.shared_season:
        profiles = batch.profiles
        if profiles is None:
            profiles = season_profiles(batch.own_sources, batch.timeline, horizon)
        x = np.ascontiguousarray(profiles[:, : values.shape[1] + horizon, None] - 1.0)
    which = batch.groups if form.shared_season else np.zeros(len(values), np.int64)
    task = _Task(values, x, which, m, round(PERIODS_PER_YEAR[batch.timeline.frequency]), horizon)
    started, fixed_states = _started(form, task, notes)
    found: list[_Found] = []
    column = 0
    for one in candidates:
        width = len(_free_weights(one)) + 2 + (m if _is_seasonal(one) else 0)
        own_warm = None if warm is None else warm[:, column : column + width]
        column += width
        found.append(_search(one, started, fixed_states, found, own_warm, thorough=len(candidates) == 1, notes=notes))
    if not form.letters and any(one.letters and "M" in one.letters for one in candidates):
        note(notes, ~all_positive(values), "multiplicative forms were not tried: they need values above zero")
    found, chosen, criteria = _choose(found, started, fixed_states)
    return _finish(form, batch, task, started, found, chosen, criteria, bands, notes)


def _candidates(form: Form, batch: Batch) -> list[Form]:
    """Forms to try, additive ones first: the others start from their fits."""
    m, daily = batch.timeline.season_length, batch.timeline.frequency == "D"
    outside = bool(form.harmonics) or form.shared_season
    if form.letters:
        if form.letters[2] != "N" and m == 1:
            raise NotationError(f"{form}: a season of one period has no states; use ets(A,{form.letters[1]},N).")
        if outside and form.letters[2] != "N" and not daily:
            raise NotationError(f"{form}: the season is there twice; use ets(A,{form.letters[1]},N).")
        letters = [form.letters]
    else:
        trends = (
            ["N"] if "no-trend" in form.words else ["N", "Ad"] if "damped-trend" in form.words else ["N", "A", "Ad"]
        )
        seasons = ["N"] + (["A"] if m > 1 and (not outside or daily) else [])
        letters = [("A", t, s) for s in seasons for t in trends]
        if not outside and "no-multiplicative" not in form.words:
            letters += [("M", t, s) for s in (*seasons, *(["M"] if m > 1 else [])) for t in trends]
    pairs = pairs_of(form, batch.timeline)
    words = tuple(word for word in form.words if word not in RESTRICTIONS)
    return [replace(form, letters=one, harmonics=k, words=words) for k in pairs for one in letters]


def _harmonics(batch: Batch, pairs: int, horizon: int) -> Floats:
    """[1, T + H, columns], in the order of `_beside`."""
    names = batch.timeline.harmonic_names(pairs)
    order = [names.index(name) for name in _beside(pairs, batch.timeline)]
    return np.ascontiguousarray(batch.timeline.harmonics(pairs, horizon)[None, :, order])


def _beside(pairs: int, timeline: Timeline) -> list[str]:
    """Names of harmonics, each sine beside its cosine, so that fewer pairs are the first columns."""
    return sorted(timeline.harmonic_names(pairs), key=lambda name: (int(name[3:]), name[:3] == "cos"))


def _n_outside(form: Form, task: _Task) -> int:
    """Columns that the season beside the states takes; the last of all pairs may have no sine."""
    return int(form.shared_season) or min(2 * form.harmonics, task.x.shape[2])


def _is_seasonal(form: Form) -> bool:
    return form.letters is not None and form.letters[2] != "N"


def _free_weights(form: Form) -> list[str]:
    assert form.letters is not None
    has = {
        "alpha": True,
        "beta": form.letters[1] != "N",
        "gamma": form.letters[2] != "N",
        "phi": form.letters[1] == "Ad",
    }
    return [name for name in _WEIGHTS if has[name] and name not in form.given]


def _started(form: Form, task: _Task, notes: dict[int, tuple[str, ...]]) -> tuple[_Task, Floats]:
    """The values that are fitted and the first states that are given, [n, 2 + m] with NaN where estimated.

    With start=first the level is the first value (with a trend: the second, and the trend the step to it); with
    start=season it is the mean of the first season, the season its deviations or ratios, and the trend the step to the
    mean of the second season over m. The values used for that have no forecast: the recursion begins after them.
    """
    n = len(task.values)
    m = task.m if _is_seasonal(form) or not form.letters else 0
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


def _search(
    form: Form, task: _Task, fixed_states: Floats, before: list[_Found], warm: Floats | None, *, thorough: bool,
    polish: bool = False, notes: dict[int, tuple[str, ...]],
) -> _Found:  # fmt: skip
    """Fit one form. before: what was fitted so far, for forms that start from another one's fit. thorough: many starts,
    to the end; polish: from where an earlier search ended, alone."""
    assert form.letters is not None
    error, trend, season = form.letters
    m = task.m if season != "N" else 0
    free = _free_weights(form)
    if "beta" in free and form.given.get("alpha") == 0.0:
        raise NotationError(f"{form}: with alpha = 0 give beta too, because beta is never above alpha.")
    fixed = np.array([form.given.get(name, math.nan) for name in _WEIGHTS])
    given = np.ascontiguousarray(fixed_states[:, : 2 + m])
    n, n_free = len(task.values), len(free)
    k = n_free + _n_outside(form, task) + 1
    k += int(np.isnan(given[:1, 0]).sum()) + (int(np.isnan(given[:1, 1]).sum()) if trend != "N" else 0)
    k += m - 1 if m and np.isnan(given[:1, 2]).any() else 0
    if "tune" in form.choices:
        return _tuned(form, task, fixed, given, free, k)
    least = k + _season_needed(form, task)
    enough = _TIGHT if thorough else _SKETCHY if polish else _LOOSE
    if error == "A" and season != "M":
        starts = _grid(free) if thorough else _few_starts(free)
        starts = starts[:0] if polish else starts
        own = np.full((n, n_free), math.nan) if warm is None else np.ascontiguousarray(warm[:, :n_free])
        descents = 1 + int(thorough) * (2 + ("phi" in free))
        return _linear(form, task, fixed, given, k, least, starts, descents, own, enough)
    positive = all_positive(task.values)
    if not before:
        note(notes, ~positive, "not fitted: multiplicative forms need values above zero")
    task = replace(task, values=np.where(positive[:, None], task.values, math.nan))
    shares_at, states_at = _joint_starts(form, task, fixed, before, thorough, warm, n_free, m)
    shares, weights = np.empty((n, n_free)), np.empty((n, 4))
    states, objective, evaluations = np.empty((n, 2 + m)), np.empty(n), np.empty(n, np.int64)
    found = (shares, weights, states, objective, evaluations)
    if m == 0 and np.isnan(given).all():
        smoothing_lanes.search_batch(
            task.values, True, trend != "N", trend == "Ad", fixed, shares_at.reshape(n * shares_at.shape[1], n_free),
            states_at.reshape(-1, 2), 1, np.empty((n, n_free)), least, enough, *found,
        )  # fmt: skip
    else:
        smoothing_joint.search_batch(
            task.values, error == "M", trend != "N", trend == "Ad", _SEASON_CODE[season], m, fixed, given,
            shares_at, states_at, _JOINT_DESCENTS if thorough else 1, least, enough, *found,
        )  # fmt: skip
    return _Found(form, shares, weights, states, np.zeros((n, task.x.shape[2])), objective, evaluations, k)


def _grid(free: list[str]) -> Floats:
    points = list(itertools.product(*(_GRID[name] for name in free)))
    return np.array(points, dtype=float).reshape(len(points), len(free))


def _few_starts(free: list[str], thorough: bool = False) -> Floats:
    starts = [_ONE_START, {**_ONE_START, **_LIVELY_SEASON}] if "gamma" in free else [_ONE_START]
    starts += [{**_ONE_START, **_LIVELY_LEVEL}] if thorough else []
    return np.array([[start[name] for name in free] for start in starts])


def _season_needed(form: Form, task: _Task) -> int:
    """Values that a form needs beyond one for each parameter: a year where it has a yearly season beside its states, a
    season where it estimates one."""
    if form.harmonics or form.shared_season:
        return max(task.year, 2)
    return max(task.m, 2) if _is_seasonal(form) and not any(name.startswith("season") for name in form.given) else 2


def _linear(
    form: Form, task: _Task, fixed: Floats, given: Floats, k: int, least: int, starts: Floats, descents: int,
    warm: Floats, enough: float,
) -> _Found:  # fmt: skip
    assert form.letters is not None
    _, trend, season = form.letters
    m = task.m if season != "N" else 0
    n, n_free = len(task.values), starts.shape[1]
    columns = _n_outside(form, task)
    shares, weights, states = np.empty((n, n_free)), np.empty((n, 4)), np.empty((n, 2 + m))
    coefficients, precision = np.empty((n, columns)), np.empty((n, columns))
    objective, evaluations = np.empty(n), np.empty(n, np.int64)

    def search(values: Floats, x: Floats, warm: Floats, starts: Floats, found: Floats, variances: Floats) -> None:
        smoothing_linear.search_batch(
            values, x, form.harmonics > 0, task.which, trend != "N", trend == "Ad", m, fixed, given, starts, descents,
            warm, least, enough, shares, weights, states, found, variances, objective, evaluations,
        )  # fmt: skip

    if not (m or columns) and np.isnan(given).all():
        smoothing_lanes.search_batch(
            task.values, False, trend != "N", trend == "Ad", fixed, starts, np.empty((0, 2)), descents, warm, least,
            enough, shares, weights, states, objective, evaluations,
        )  # fmt: skip
        return _Found(form, shares, weights, states, np.zeros((n, task.x.shape[2])), objective, evaluations, k)
    x = np.ascontiguousarray(task.x[:, :, :columns])
    search(task.values, x, warm, starts, coefficients, precision)
    if form.shared_season:
        # The season as the group has it would have the coefficient of the usual level. What the series itself says is
        # drawn towards that as far as it is uncertain: the positive-part rule of Stein for one number.
        usual = np.where(states[:, 0] > 0.0, _mean(task.values), 0.0)
        apart = coefficients[:, 0] - usual
        doubt = precision[:, 0]
        kept = np.maximum(1.0 - np.divide(doubt, apart**2, out=np.ones(n), where=apart != 0.0), 0.0)
        coefficients[:, 0] = usual + kept * apart
        shift = coefficients * x[task.which, : task.values.shape[1], 0]
        search(
            task.values - shift,
            np.empty((len(x), x.shape[1], 0)),
            shares.copy(),
            starts[:0],
            np.empty((n, 0)),
            np.empty((n, 0)),
        )
    padded = np.zeros((n, task.x.shape[2]))
    padded[:, :columns] = coefficients
    return _Found(form, shares, weights, states, padded, objective, evaluations, k)


def _mean(values: Floats) -> Floats:
    seen = ~np.isnan(values)
    count = seen.sum(axis=1)
    return np.divide(np.where(seen, values, 0.0).sum(axis=1), count, out=np.zeros(len(values)), where=count > 0)


def _joint_starts(
    form: Form,
    task: _Task,
    fixed: Floats,
    before: list[_Found],
    thorough: bool,
    warm: Floats | None,
    n_free: int,
    m: int,
) -> tuple[Floats, Floats]:
    """Shares [n, starts, free] and states [n, starts, 2 + m] from the additive form beside this one."""
    assert form.letters is not None
    _, trend, season = form.letters
    if warm is not None:
        shares_at, states_at = warm[:, None, :n_free].copy(), warm[:, None, n_free : n_free + 2 + m].copy()
        new = np.isnan(states_at[:, 0, 0])  # could not be fitted at the origin before
        if new.any():
            part = [replace(one, shares=one.shares[new], states=one.states[new]) for one in before]
            cold = _joint_starts(form, task.rows(new), fixed, part, thorough, None, n_free, m)
            shares_at[new], states_at[new] = cold[0][:, :1], cold[1][:, :1]
        return np.ascontiguousarray(shares_at), np.ascontiguousarray(states_at)
    beside = ("A", trend, "A" if season != "N" else "N")
    found = [one for one in before if one.form.letters == beside and one.form.harmonics == form.harmonics]
    if not found:
        weights = {name: value for name, value in form.given.items() if name in _WEIGHTS}
        nothing_given = np.full((len(task.values), 2 + m), math.nan)
        # A damped trend often ends where an undamped one does: begin there too.
        also = [("A", "A", beside[2])] if trend == "Ad" and thorough else []
        for letters in (beside, *also):
            known = {name: value for name, value in weights.items() if name != "phi" or letters[1] == "Ad"}
            simple = Form("ets", letters=letters, given=known)
            found.append(_search(simple, task, nothing_given, [], None, thorough=thorough, notes={}))
    shares, states = [], []
    for one in found:
        share = one.shares
        if share.shape[1] < n_free:  # the undamped trend has no phi
            share = np.hstack([share, np.full((len(share), n_free - share.shape[1]), 0.95)])
        state = one.states.copy()
        if season == "M":
            level = np.where(state[:, :1] > 0.0, state[:, :1], _mean(task.values)[:, None])
            factor = np.maximum(1.0 + state[:, 2:] / np.where(level > 0.0, level, 1.0), 0.05)
            state[:, 2:] = factor / factor.mean(axis=1, keepdims=True)
        shares.append(share)
        states.append(state)
    if season != "N":  # the additive fit may sit on the wrong one of several tops
        for start in _few_starts(_free_weights(form), thorough)[: None if thorough else 1]:
            shares.append(np.tile(start, (len(task.values), 1)))
            states.append(states[0])
    return np.ascontiguousarray(np.stack(shares, axis=1)), np.ascontiguousarray(np.stack(states, axis=1))


def _tuned(form: Form, task: _Task, fixed: Floats, given: Floats, free: list[str], k: int) -> _Found:
    """Constants with the least in-sample error of a measure, the first states as given."""
    assert form.letters is not None
    _, trend, season = form.letters
    n, m = len(task.values), task.m if season != "N" else 0
    grid = _grid(free)
    shares, weights, score = np.empty((n, len(free))), np.empty((n, 4)), np.empty(n)
    smoothing_tune.tune_batch(
        task.values, trend != "N", trend == "Ad", _SEASON_CODE[season], m, fixed, given,
        smoothing_tune.MEASURES.index(form.choices["tune"]), grid, shares, weights, score,
    )  # fmt: skip
    states = np.where(np.isnan(score)[:, None], math.nan, given)
    if trend == "N":
        states[:, 1] = 0.0
    return _Found(form, shares, weights, states, np.zeros((n, task.x.shape[2])), score, np.zeros(n, np.int64), k)


def _choose(found: list[_Found], task: _Task, fixed_states: Floats) -> tuple[list[_Found], Integers, Floats]:
    """The forms searched to the end where it matters, the position of the one with the least AICc for each series (0
    where none is defined), and all AICc [n, forms].

    Candidates were searched loosely; those close to the best are searched again before the choice.
    """
    n = len(task.values)
    n_seen = (~np.isnan(task.values)).sum(axis=1).astype(float)

    def criterion(one: _Found) -> Floats:
        loglik = -0.5 * (one.objective + n_seen * (math.log(2.0 * math.pi) + 1.0))
        return np.nan_to_num(aicc(loglik, np.full(n, float(one.k)), n_seen), nan=np.inf)

    criteria = np.stack([criterion(one) for one in found], axis=1)
    if len(found) == 1:
        return found, np.zeros(n, dtype=np.int64), criteria
    found = _on_other_sides(found, criteria, task, fixed_states)
    criteria = np.stack([criterion(one) for one in found], axis=1)
    found = _beside_relatives(found, criteria, task, fixed_states)
    criteria = np.stack([criterion(one) for one in found], axis=1)
    finalists = np.isfinite(criteria) & (criteria <= criteria.min(axis=1, keepdims=True) + _FINALISTS_WITHIN)
    done = [
        _again(one, one.raw, task, fixed_states, finalists[:, j], thorough=True) if finalists[:, j].any() else one
        for j, one in enumerate(found)
    ]
    criteria = np.stack([criterion(one) for one in done], axis=1)
    return done, np.argmin(criteria, axis=1), criteria


def _on_other_sides(found: list[_Found], criteria: Floats, task: _Task, fixed_states: Floats) -> list[_Found]:
    """Forms near the best one searched again from the other side of where they ended: a season that moves where it
    stood still, or the other way round, and a level that hardly moves."""
    near = np.isfinite(criteria) & (criteria <= criteria.min(axis=1, keepdims=True) + _OTHER_TOPS_WITHIN)
    led = list(found)
    for j, one in enumerate(found):
        for start in _other_sides(one):
            rows = near[:, j] & ~np.isnan(start).any(axis=1)
            if rows.any():
                led[j] = _again(led[j], start, task, fixed_states, rows, thorough=False)
    return led


def _other_sides(one: _Found) -> list[Floats]:
    """Starts beside where a search ended, NaN where it ended there."""
    names, alpha, gamma = _free_weights(one.form), one.weights[:, 0], one.weights[:, 2]
    starts = []
    if "gamma" in names:
        still = one.raw.copy()
        still[:, names.index("gamma")] = np.where(gamma < 0.15, 0.5, 0.03)
        starts.append(still)
    if "alpha" in names and "beta" in names:
        bent, slow = one.raw.copy(), one.raw.copy()
        bent[:, names.index("alpha")] = np.where(alpha > 0.05, 0.05, 0.6)
        bent[:, names.index("beta")] = np.where(alpha > 0.05, 0.4, 0.05)
        slow[:, names.index("alpha")] = 0.005
        slow[:, names.index("beta")] = 0.02
        starts += [bent, slow]
    return starts


def _beside_relatives(found: list[_Found], criteria: Floats, task: _Task, fixed_states: Floats) -> list[_Found]:
    """Forms near the best one searched again from the other tops that the likelihoods of their relatives showed, those
    with the same errors and season: the best of them leads the others, and is led by them."""
    families: dict[tuple[str, str, int], list[int]] = {}
    for j, one in enumerate(found):
        assert one.form.letters is not None
        families.setdefault((one.form.letters[0], one.form.letters[2], one.form.harmonics), []).append(j)
    near = np.isfinite(criteria) & (criteria <= criteria.min(axis=1, keepdims=True) + _RELATIVES_WITHIN)
    led = list(found)
    for members in families.values():
        leader = np.array(members)[np.argmin(criteria[:, members], axis=1)]
        for j in members:
            for other in members:
                if j == other:
                    continue
                apart = np.abs(found[j].weights - found[other].weights)[:, [0, 2]].max(axis=1) > _ELSEWHERE
                rows = near[:, j] & near[:, other] & apart & ((leader == other) | (leader == j))
                if rows.any():
                    start = _started_like(found[other], found[j])
                    led[j] = _again(led[j], start, task, fixed_states, rows, thorough=False)
    return led


def _started_like(relative: _Found, one: _Found) -> Floats:
    """Where a search for one form begins to start from where that for a relative ended."""
    own, theirs = _free_weights(one.form), _free_weights(relative.form)
    usual = np.tile([_ONE_START[name] for name in own], (len(one.shares), 1))
    for j, name in enumerate(own):
        if name in theirs:
            usual[:, j] = relative.shares[:, theirs.index(name)]
    return np.hstack([usual, relative.states])


def _again(
    one: _Found, start: Floats, task: _Task, fixed_states: Floats, rows: NDArray[np.bool_], *, thorough: bool
) -> _Found:
    """The same fits, those of `rows` searched on from a start of theirs, and kept where that led further."""
    polished = _search(
        one.form, task.rows(rows), fixed_states[rows], [], start[rows], thorough=thorough, polish=True, notes={}
    )
    gains = polished.objective < one.objective[rows]
    at = np.nonzero(rows)[0][gains]

    def merged(before: Floats, after: Floats) -> Floats:
        values = before.copy()
        values[at] = after[gains]
        return values

    return replace(
        one,
        shares=merged(one.shares, polished.shares),
        weights=merged(one.weights, polished.weights),
        states=merged(one.states, polished.states),
        coefficients=merged(one.coefficients, polished.coefficients),
        objective=merged(one.objective, polished.objective),
    )


def _finish(
    form: Form, batch: Batch, task: _Task, started: _Task, found: list[_Found], chosen: Integers, criteria: Floats,
    bands: str, notes: dict[int, tuple[str, ...]],
) -> Fits:  # fmt: skip
    """Run what was found through the recursion and put it all together."""
    n, length = task.values.shape
    m, horizon, columns = task.m, task.horizon, task.x.shape[2]
    each = np.arange(n)
    widest = m if any(_is_seasonal(one.form) for one in found) else 0

    def picked(name: str, width: int) -> Floats:
        padded = np.full((len(found), n, width), math.nan)
        for j, one in enumerate(found):
            own = getattr(one, name)
            padded[j, :, : own.shape[1]] = own
        return np.ascontiguousarray(padded[chosen, each])

    weights, states = picked("weights", 4), picked("states", 2 + widest)
    coefficients = picked("coefficients", columns)
    letters = [one.form.letters for one in found]
    relative = np.array([one is not None and one[0] == "M" for one in letters])[chosen]
    season = np.array([_SEASON_CODE[one[2]] for one in letters if one])[chosen]
    residuals, last = np.empty((n, length)), np.empty((n, 2 + widest))
    forecast, each_variance, total_variance = (np.empty((n, horizon)) for _ in range(3))
    statistics = np.empty((n, 4))
    smoothing_apply.apply_batch(
        started.values, task.x, task.which, relative, season, widest, weights, states, np.nan_to_num(coefficients),
        residuals, last, forecast, each_variance, total_variance, statistics,
    )  # fmt: skip
    loglik, sigma2, n_used, sum_squares = (np.ascontiguousarray(column) for column in statistics.T)
    undefined = np.isnan(forecast[:, 0])
    for i in np.nonzero(undefined)[0].tolist():
        if not any(text.startswith("not fitted") for text in notes.get(i, ())):
            notes[i] = (*notes.get(i, ()), *too_few(task.values[i]))
    most_pairs = max(one.form.harmonics for one in found)
    outside = ["shared-season"] if form.shared_season else _beside(most_pairs, batch.timeline)
    of_form = [_n_outside(one.form, task) for one in found]
    names, parameters = _parameters(outside, of_form, letters, chosen, weights, states, coefficients, widest)
    parameters[undefined] = math.nan
    exact = ~undefined & (sum_squares == 0.0)
    note(notes, exact, "the method repeats this series without any error; the bands have no width")
    fits = Fits(
        forecast, residuals, parameters, names, loglik, sigma2, n_used, sum_squares,
        np.array([one.k for one in found], dtype=float)[chosen], np.hstack([one.raw for one in found]),
        tuple(one.form for one in found), chosen, notes=notes,
        tried=tuple(str(one.form) for one in found) if len(found) > 1 else (),
        criteria=criteria if len(found) > 1 else None,
    )  # fmt: skip
    if bands != "none":
        run = _Run(batch, task, started, weights, states, coefficients, last, relative, season, residuals, widest)
        fits = _with_distribution(form, fits, found, run, each_variance, total_variance, bands)
    if "add-bias" in form.words:
        bias = _mean(residuals)
        fits = replace(fits, forecast=fits.forecast + bias[:, None])
        if fits.distribution is not None:
            fits = replace(fits, distribution=_Shifted(fits.distribution, bias))
    return fits


def _parameters(
    outside: list[str], of_form: list[int], letters: list[tuple[str, str, str] | None], chosen: Integers,
    weights: Floats, states: Floats, coefficients: Floats, m: int,
) -> tuple[tuple[str, ...], Floats]:  # fmt: skip
    """Names over all candidates, and values [n, P], NaN where the chosen form has none of the name.

    outside: names beside the states, of which each candidate has the first so many, `of_form`.
    """
    names = [*_WEIGHTS, "level", "trend", *(f"season{j}" for j in range(1, m + 1)), *outside]
    values = np.hstack([weights, states, coefficients[:, : len(outside)]])
    has = np.zeros((len(letters), len(names)), dtype=bool)
    for j, one in enumerate(letters):
        assert one is not None
        trend, seasonal = one[1] != "N", one[2] != "N"
        has[j] = [
            True,
            trend,
            seasonal,
            one[1] == "Ad",
            True,
            trend,
            *[seasonal] * m,
            *(i < of_form[j] for i in range(len(outside))),
        ]
    values[~has[chosen]] = math.nan
    any_has = has.any(axis=0)
    return tuple(np.array(names)[any_has].tolist()), np.ascontiguousarray(values[:, any_has])


@dataclass(frozen=True)
class _Run:
    """What a distribution is made from: a chosen form run over each series."""

    batch: Batch
    task: _Task
    started: _Task
    weights: Floats
    states: Floats
    coefficients: Floats
    last: Floats
    relative: NDArray[np.bool_]
    season: Integers
    residuals: Floats
    m: int


def _with_distribution(
    form: Form, fits: Fits, found: list[_Found], run: _Run, each: Floats, together: Floats, bands: str
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
        linear = one.form.letters is not None and one.form.letters[0] == "A" and one.form.letters[2] != "M"
        own: tuple[Floats, ...] = (each[rows], together[rows], np.zeros_like(each[rows]), np.zeros_like(each[rows]))
        if linear and bands == "estimated":
            *own, errors[rows] = _doubt(one, fits, run, rows, each[rows], together[rows])  # type: ignore[assignment]
        if linear and not resampled:
            mean[rows] = fits.forecast[rows]
            variance[rows], total[rows], tails[rows], total_tails[rows] = own
            continue
        drawn, own_errors = _draws(one, fits, run, rows, bands == "estimated" and not linear)
        if own_errors is not None:
            errors[rows, : own_errors.shape[1]] = own_errors
        ratio = np.divide(own[0], each[rows], out=np.ones_like(own[0]), where=each[rows] > 0)
        stretch = np.sqrt(ratio) if linear else None
        paths = _Paths(run, rows, fits.forecast[rows], *drawn, resampled, stretch)
        simulated.append((rows, Simulated(len(rows), each.shape[1], paths, None if resampled else paths.response)))
    distribution: Distribution = Normal(mean, variance, total)
    if bands == "estimated":
        distribution = Normal(mean, variance, total, None, tails, total_tails, each)
    if simulated:
        distribution = Chosen(n, [(np.arange(n), distribution), *simulated])
    position = {
        name: i for i, name in enumerate([*_WEIGHTS, "level", "trend", *(f"season{j + 1}" for j in range(run.m))])
    }
    first_outside = len(position)
    outside = [name for name in fits.parameter_names if name not in position]
    at = [position[name] if name in position else first_outside + outside.index(name) for name in fits.parameter_names]
    return replace(fits, distribution=distribution, standard_errors=errors[:, at] if bands == "estimated" else None)


def _doubt(
    one: _Found, fits: Fits, run: _Run, rows: Integers, known: Floats, known_total: Floats
) -> tuple[Floats, Floats, Floats, Floats, Floats]:
    """Variances, excess kurtosis of both, and standard errors with everything estimated, for a linear form.

    Tuned constants have no likelihood: their variances are the known ones, with sigma2 = Q/(n - k + 1).
    """
    assert one.form.letters is not None
    _, trend, season = one.form.letters
    m = run.task.m if season != "N" else 0
    columns = _n_outside(one.form, run.task)
    horizon, n = run.task.horizon, len(rows)
    if "tune" in one.form.choices:
        used = fits.n_used[rows]
        wider = (used / np.maximum(used - one.k + 1.0, 1.0))[:, None]
        none = np.zeros_like(known)
        return known * wider, known_total * wider, none, none, np.full((n, 6 + run.m + run.task.x.shape[2]), math.nan)
    fixed = np.array([one.form.given.get(name, math.nan) for name in _WEIGHTS])
    given = np.full((n, 2 + m), math.nan)
    if one.form.choices or any(name not in _WEIGHTS for name in one.form.given):
        given = _started(one.form, run.task.rows(rows), {})[1]
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


def _draws(
    one: _Found, fits: Fits, run: _Run, rows: Integers, estimated: bool
) -> tuple[tuple[Floats, Floats, Floats], Floats | None]:
    """Draws of weights [n, D, 4], states after the last period [n, D, 2 + m] and sigma [n, D]; one draw, the estimate,
    where parameters are taken as known."""
    known = (run.weights[rows][:, None], run.last[rows][:, None], np.sqrt(fits.sigma2[rows])[:, None])
    if not estimated or "tune" in one.form.choices:
        return known, None
    assert one.form.letters is not None
    error, trend, season = one.form.letters
    m = run.task.m if season != "N" else 0
    n = len(rows)
    fixed = np.array([one.form.given.get(name, math.nan) for name in _WEIGHTS])
    given = _started(one.form, run.task.rows(rows), {})[1]
    normals = np.ascontiguousarray(draws(4 + 2 + m, _N_ESTIMATES).normals.T)
    steps = _N_ESTIMATES
    weights, states = np.empty((n, steps, 4)), np.empty((n, steps, 2 + m))
    sigma, deviations = np.empty(n), np.empty((n, 6 + m))
    smoothing_joint.draw_batch(
        np.ascontiguousarray(run.started.values[rows]), error == "M", trend != "N", trend == "Ad", _SEASON_CODE[season],
        m, fixed, np.ascontiguousarray(given[:, : 2 + m]), one.shares[rows], one.states[rows], normals,
        weights, states, sigma, deviations,
    )  # fmt: skip
    # in the order of what they lead to, so that paths, which take them by one even coordinate, take them evenly
    order = np.argsort(states[:, :, 0] + 0.5 * run.task.horizon * states[:, :, 1], axis=1, kind="stable")[:, :, None]
    weights = np.take_along_axis(weights, order, axis=1)
    padded = np.zeros((n, steps, 2 + run.m))
    padded[:, :, : 2 + m] = np.take_along_axis(states, order, axis=1)
    return (weights, padded, np.repeat(sigma[:, None], steps, axis=1)), deviations


_N_ESTIMATES = 1024  # draws of estimates, each of which several paths share


@dataclass(frozen=True)
class _Paths:
    """Sample paths of some series."""

    run: _Run
    rows: Integers
    mean: Floats
    weights: Floats
    states: Floats
    sigma: Floats
    resampled: bool
    stretch: Floats | None

    def __call__(self, some: slice, drawn: Draws) -> NDArray[np.float32]:
        rows, run = self.rows[some], self.run
        paths = np.empty((len(rows), *drawn.normals.shape), dtype=np.float32)
        errors, counts = np.zeros((len(rows), 1)), np.zeros(len(rows), dtype=np.int64)
        if self.resampled:
            errors, counts = _past_errors(run, rows)
        smoothing_paths(
            run.relative[rows], run.season[rows], run.m, np.ascontiguousarray(self.weights[some]),
            np.ascontiguousarray(self.states[some]), np.ascontiguousarray(self.sigma[some]), errors, counts,
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
        relative, multiplied = run.relative[rows], run.season[rows] == _SEASON_CODE["M"]
        f = np.where((relative | multiplied)[:, None], np.maximum(np.abs(self.mean[some]), 1e-12), 1.0)
        found *= f[:, :, None]
        found[~relative] /= f[~relative][:, None, :]
        return np.asarray(found)


def _past_errors(run: _Run, rows: Integers) -> tuple[Floats, Integers]:
    """Past errors over their sigma, packed to the left, [n, most], and how many; centred, so that bands stay."""
    e = run.residuals[rows]
    relative = np.broadcast_to(run.relative[rows][:, None], e.shape)
    e = np.divide(e, run.started.values[rows] - e, out=e.copy(), where=relative & np.isfinite(e))
    seen = np.isfinite(e)
    count = seen.sum(axis=1)
    mean = _mean(np.where(seen, e, math.nan))
    size = np.sqrt(_mean(np.where(seen, (e - mean[:, None]) ** 2, math.nan)))
    scaled = np.divide(e - mean[:, None], size[:, None], out=np.zeros_like(e), where=size[:, None] > 0)
    order = np.argsort(~seen, axis=1, kind="stable")
    return np.ascontiguousarray(np.nan_to_num(np.take_along_axis(scaled, order, axis=1))), count.astype(np.int64)


@dataclass(frozen=True)
class _Shifted:
    """A distribution moved by a constant per series."""

    of: Distribution
    by: Floats

    def quantiles(self, p: Floats, together: bool = False) -> Floats:
        found = self.of.quantiles(p, together)
        leads = np.arange(1, found.shape[2] + 1) if together else np.ones(found.shape[2])
        return found + self.by[:, None, None] * leads[None, None, :]
