"""The choice among forms of exponential smoothing by AICc.

Every form is searched loosely first. Likelihoods with a trend or a season have several tops, and two forms are often
closer to each other than two tops of one. So forms that might still be the best are searched for other tops: linear
forms, which are quick to search, from places where likelihoods of their kind have them; damped trends from the tops of
the undamped ones, and the forms beside a linear one from its tops. The last few are searched to the end.
"""

from __future__ import annotations

import math
from dataclasses import replace
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from tansy.engine.methods.fits import Floats, Integers, aicc
from tansy.engine.methods.smoothing_search import (
    ONE_START,
    Found,
    Onward,
    Task,
    free_weights,
    is_linear,
    search,
    states_beside,
)

_OTHERS_WITHIN = 7.0  # of the least AICc: these are searched for other tops
_TOPS_WITHIN, _MOST_TOPS = 12.0, 3  # of -2 log L: tops of a linear form that lead searches for other forms
_ELSEWHERE = 0.1  # of a weight: what ended so far away lies on another top
_BEHIND = 0.5  # of -2 log L: a form that fits worse by so much than one that it holds lies on the wrong top
_MOVED = 1.0  # of -2 log L: where a linear form gained as much, what forms beside it were judged by no longer holds
_CLOSEST_WITHIN = 2.0  # of the least AICc: forms beside these that could follow no start begin again
_FINALISTS_WITHIN = 0.3  # of the least AICc: these are searched to the end
_SKETCHY, _TIGHT = 0.01, 1e-6  # of -2 log L
_PARABOLA = {"alpha": 0.012, "beta": 0.95}  # shares: level and trend move little, and together

_Bools = NDArray[np.bool_]


class _Kin(NamedTuple):
    """What a form shares with the linear form beside it."""

    trend: str
    season: str
    harmonics: int

    def damped(self) -> _Kin:
        """With the trend damped, where there is one."""
        return self._replace(trend="Ad") if self.trend == "A" else self


class _Tops(NamedTuple):
    """Where searches for a linear form led: shares [n, starts, free], heights [n, starts]; moved [n]: to a better top
    than was known; near [n]: the form may be the best."""

    shares: Floats
    heights: Floats
    moved: _Bools
    near: _Bools


def choose(found: list[Found], task: Task, fixed_states: Floats) -> tuple[list[Found], Integers, Floats]:
    """The forms searched to the end where it matters, the position of the one with the least AICc for each series (0
    where none is defined), and all AICc [n, forms]."""
    n = len(task.values)
    n_seen = (~np.isnan(task.values)).sum(axis=1).astype(float)

    def criteria_of(found: list[Found]) -> Floats:
        return np.stack([_criterion(one, n_seen) for one in found], axis=1)

    criteria = criteria_of(found)
    if len(found) == 1:
        return found, np.zeros(n, dtype=np.int64), criteria
    found = _on_other_tops(found, criteria, task, fixed_states)
    found = _begun_again(found, _within(criteria_of(found), _CLOSEST_WITHIN), task, fixed_states)
    finalists = _within(criteria_of(found), _FINALISTS_WITHIN)
    done = []
    for j, one in enumerate(found):
        rows = np.nonzero(finalists[:, j])[0]
        to_the_end = Onward(one.raw[rows, None], np.full(len(rows), math.inf), _TIGHT)
        done.append(_led(one, to_the_end, rows, task, fixed_states)[0])
    criteria = criteria_of(done)
    return done, np.argmin(criteria, axis=1), criteria


def _begun_again(found: list[Found], closest: _Bools, task: Task, fixed_states: Floats) -> list[Found]:
    """Forms that could follow none of their starts, searched from all there are where one beside them is close."""
    kin = [_kin(one) for one in found]
    begun = list(found)
    for j, one in enumerate(found):
        beside = [i for i in range(len(found)) if kin[i] == kin[j]]
        rows = np.nonzero(np.isnan(one.objective) & np.any(closest[:, beside], axis=1))[0]
        if len(rows):
            searched = search(one.form, task.rows(rows), fixed_states[rows], [], thorough=True, notes={})
            begun[j] = _merged(one, searched, rows)
    return begun


def _criterion(one: Found, n_seen: Floats) -> Floats:
    loglik = -0.5 * (one.objective + n_seen * (math.log(2.0 * math.pi) + 1.0))
    criterion = aicc(loglik, np.full(len(n_seen), float(one.k)), n_seen)
    return np.where(np.isnan(criterion), math.inf, criterion)


def _within(criteria: Floats, distance: float) -> _Bools:
    return np.isfinite(criteria) & (criteria <= criteria.min(axis=1, keepdims=True) + distance)


def _on_other_tops(found: list[Found], criteria: Floats, task: Task, fixed_states: Floats) -> list[Found]:
    """Forms searched for other tops where they, or what follows from them, may be the best. criteria: [n, forms].

    A search is given up where it will neither better the form nor make it the best.
    """
    near = _within(criteria, _OTHERS_WITHIN)
    least = criteria.min(axis=1, keepdims=True)
    needed = np.subtract(criteria, least, out=np.zeros_like(criteria), where=np.isfinite(criteria))
    kin = [_kin(one) for one in found]
    led = list(found)
    tops: dict[_Kin, _Tops] = {}
    for j, one in enumerate(found):
        relatives = [i for i in range(len(found)) if i != j and _are_relatives(found[i], one)]
        linear = is_linear(one.form)
        led_by_it = [i for i in range(len(found)) if i == j or (linear and kin[i] in (kin[j], kin[j].damped()))]
        where: _Bools = np.any(near[:, led_by_it], axis=1)
        for i in relatives:
            where |= near[:, i] & _is_behind(one, led[i])
        if not linear:  # what could not follow its first start is judged by the form beside it
            where |= tops[kin[j]].moved | (tops[kin[j]].near & np.isnan(one.objective))
        rows = np.nonzero(where)[0]
        own, own_task = one.take(rows), task.rows(rows)
        if not linear:
            starts = _beside_tops(own, tops[kin[j]], rows, own_task, fixed_states[rows])
        elif (undamped := next((k for k in tops if k != kin[j] and k.damped() == kin[j]), None)) is not None:
            starts = _damped(own, tops[undamped], rows)
        else:
            starts = _with_any_states(_places(own), own)
        starts = np.concatenate([starts, *(_started_like(led[i].take(rows), own)[:, None] for i in relatives)], axis=1)
        onward = Onward(starts, own.objective - needed[rows, j], _SKETCHY)
        led[j], searched = _led(one, onward, rows, task, fixed_states)
        if linear:
            tops[kin[j]] = _Tops(
                _spread(searched.tops, rows, len(where)),
                _spread(searched.heights, rows, len(where)),
                led[j].objective < one.objective - _MOVED,
                near[:, j],
            )
    return led


def _kin(one: Found) -> _Kin:
    assert one.form.letters is not None
    return _Kin(one.form.letters[1], "N" if one.form.letters[2] == "N" else "A", one.form.harmonics)


def _are_relatives(one: Found, other: Found) -> bool:
    """Whether two forms have the same errors and season."""
    assert one.form.letters is not None
    assert other.form.letters is not None
    return one.form.letters[::2] == other.form.letters[::2] and one.form.harmonics == other.form.harmonics


def _is_behind(one: Found, simpler: Found) -> _Bools:
    """Where a form fits worse than one that it holds, or nearly holds."""
    return (one.k > simpler.k) & (one.objective > simpler.objective + _BEHIND)


def _spread(part: Floats, rows: Integers, n: int) -> Floats:
    whole = np.full((n, *part.shape[1:]), math.nan)
    whole[rows] = part
    return whole


def _distinct(tops: _Tops, rows: Integers) -> Floats:
    """The best few tops of some series that are apart from each other, [rows, _MOST_TOPS, free], NaN where there are
    fewer."""
    shares, heights = tops.shares[rows], tops.heights[rows]
    kept = np.full((len(rows), _MOST_TOPS, shares.shape[2]), math.nan)
    if not shares.shape[1]:
        return kept
    heights = np.where(np.isnan(heights), math.inf, heights)
    heights[heights > heights.min(axis=1, keepdims=True) + _TOPS_WITHIN] = math.inf
    each = np.arange(len(rows))
    for i in range(_MOST_TOPS):
        best = np.argmin(heights, axis=1)
        there = np.isfinite(heights[each, best])
        kept[there, i] = shares[each, best][there]
        heights[(np.abs(shares - kept[:, i, None]) <= _ELSEWHERE).all(axis=2)] = math.inf
    return kept


def _beside_tops(one: Found, tops: _Tops, rows: Integers, task: Task, fixed_states: Floats) -> Floats:
    """Starts [n, starts, raw] from the tops of the linear form beside this one. A parabola (see `_places`) may be a top
    of this one alone, where what is far from zero counts less."""
    shares, names = _distinct(tops, rows), free_weights(one.form)
    if "alpha" in names and "beta" in names:
        usual = np.array([ONE_START[name] for name in names])
        parabola = np.where(np.isnan(one.shares), usual, one.shares)
        for name, share in _PARABOLA.items():
            parabola[:, names.index(name)] = share
        shares = np.concatenate([shares, parabola[:, None]], axis=1)
    return np.concatenate([shares, states_beside(one.form, task, fixed_states, shares)], axis=2)


def _damped(one: Found, tops: _Tops, rows: Integers) -> Floats:
    """Starts [n, starts, raw] from the tops of the undamped trend: all damped little, and the best one much."""
    undamped = _distinct(tops, rows)
    shares = np.concatenate([undamped, undamped[:, :1]], axis=1)
    phi = np.full((*shares.shape[:2], 1), 0.97)
    phi[:, -1] = 0.1
    return _with_any_states(np.concatenate([shares, phi], axis=2), one)


def _places(one: Found) -> Floats:
    """Shares [n, starts, free] where other tops of a linear form may lie: a season that moves where the search ended
    with one that stood still, or the other way round; a trend that bends under a level that hardly moves; a parabola,
    whose level and trend move together but little; a straight line with and without a level of its own; a level that
    hardly moves, and one that does."""
    names, alpha, gamma = free_weights(one.form), one.weights[:, 0], one.weights[:, 2]
    places: list[Floats] = []

    def beside(**shares: Floats | float) -> None:
        place = one.shares.copy()
        for name in set(names) & set(shares):
            place[:, names.index(name)] = shares[name]
        places.append(place)

    if "gamma" in names:
        beside(gamma=np.where(gamma < 0.15, 0.5, 0.03))
    if "beta" in names:
        beside(alpha=np.where(alpha > 0.05, 0.05, 0.6), beta=np.where(alpha > 0.05, 0.4, 0.05))
        beside(**_PARABOLA, phi=0.97)
        beside(alpha=0.005, beta=0.02, phi=0.97)
        beside(alpha=0.5, beta=0.005)
        if "gamma" in names:
            beside(alpha=0.5, beta=0.3, gamma=0.5)
    elif "gamma" in names:
        beside(alpha=0.7, gamma=0.9)
        beside(alpha=0.05, gamma=0.03)
    elif "alpha" in names:
        beside(alpha=0.005)
        beside(alpha=0.5)
    return np.stack(places, axis=1) if places else one.shares[:, None][:, :0]


def _with_any_states(shares: Floats, one: Found) -> Floats:
    """Starts of a linear form, whose states follow from the shares."""
    return np.concatenate([shares, np.zeros((*shares.shape[:2], one.states.shape[1]))], axis=2)


def _started_like(relative: Found, one: Found) -> Floats:
    """Where a search for one form begins to start from where that for a relative ended, [n, raw]; NaN where the two
    ended beside each other."""
    own, theirs = free_weights(one.form), free_weights(relative.form)
    usual = np.tile([ONE_START[name] for name in own], (len(relative.shares), 1))
    for j, name in enumerate(own):
        if name in theirs:
            usual[:, j] = relative.shares[:, theirs.index(name)]
    start = np.hstack([usual, relative.states])
    apart = np.abs(one.weights - relative.weights)[:, [0, 2]].max(axis=1) > _ELSEWHERE
    start[~(apart | _is_behind(one, relative))] = math.nan
    return start


def _led(one: Found, onward: Onward, rows: Integers, task: Task, fixed_states: Floats) -> tuple[Found, Found]:
    """The same fits, those of some rows searched on and kept where that led further; and what those searches found."""
    if not len(rows) or not onward.raw.shape[1]:
        return one, one.take(rows)
    searched = search(one.form, task.rows(rows), fixed_states[rows], [], thorough=False, onward=onward, notes={})
    return _merged(one, searched, rows), searched


def _merged(one: Found, searched: Found, rows: Integers) -> Found:
    """The same fits, those of some rows as searched where that led further."""
    gains = (searched.objective < one.objective[rows]) | (np.isnan(one.objective[rows]) & ~np.isnan(searched.objective))
    at = rows[gains]

    def merged(before: Floats, after: Floats) -> Floats:
        values = before.copy()
        values[at] = after[gains]
        return values

    return replace(
        one,
        shares=merged(one.shares, searched.shares),
        weights=merged(one.weights, searched.weights),
        states=merged(one.states, searched.states),
        coefficients=merged(one.coefficients, searched.coefficients),
        objective=merged(one.objective, searched.objective),
    )
