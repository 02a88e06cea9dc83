"""Which method each series gets, at every origin and at the end.

The choice is one in time: at an origin it is made on errors that had come by then, of the origins before; a window that
is not complete counts with the leads that have come. So the accuracy of what is published is that of a planner who
chose this way all along.

A handful of noisy windows cannot tell one good method from the next, series by series. So the recipe's fallback stands
until evidence says otherwise: first of a series' group, whose errors are compared window by window, by the mean
logarithm of their ratio, so that every series counts alike and no scale outvotes the others. Another method takes the
place of the fallback where it is better by more than `margin` standard errors of that difference, over series and over
windows. A series leaves the choice of its group only for a method that is better on it by a good share, what its own
windows say being shrunk to what those of its group say. A recipe without a fallback has nothing to prefer: the least
error decides for the group.

A method that was tested at less than a third of the windows of the best-tested one has too little to show for itself,
and is not chosen.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import IntEnum

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]
Booleans = NDArray[np.bool_]

MEASURES = ("squared", "absolute")
_LEAST_TESTED = 3  # a method with fewer than a third of the windows of the best-tested one is not chosen
_FEWEST_WINDOWS = 3  # below which a series has nothing to say against its group
_MOST_LOG = 1.0  # of a ratio of errors: more is a fit that went wrong, or one that is exact
_FEWEST_NODES = 20  # kinds of a level with fewer nodes are judged with the others of their level


@dataclass(frozen=True)
class ChoiceRule:
    """measure: squared or absolute errors. margin: standard errors by which a method must be better. own: share by
    which another method must be better on a series than the choice of its group, as far as that can be believed."""

    measure: str = "squared"
    margin: float = 2.0
    own: float = 0.1


class Ground(IntEnum):
    """Why a series has its method: nothing was tested on it; nothing was better than what stands; its group does
    better with it; its own windows speak for it; the recipe has no fallback, and its group errs least with it."""

    UNTESTED = 0
    STANDS = 1
    GROUP = 2
    OWN = 3
    LEAST = 4


@dataclass(frozen=True)
class Choices:
    """method: [series], its position, -1 where none is defined. ground: [series], see `Ground`. stood: [series], the
    method that it took the place of. ahead and doubt: [series], by how much the error is below that of the one that
    stood, as a share, and the standard error of that share; NaN where nothing took its place. windows: [series], how
    many spoke."""

    method: Integers
    ground: Integers
    stood: Integers
    ahead: Floats
    doubt: Floats
    windows: Integers


def groups_of(level_of: Integers, kind: Integers) -> Integers:
    """Group of each node: its kind within its level, or its level where that kind has few nodes."""
    n_kinds = int(kind.max(initial=0)) + 1
    fine = level_of * (n_kinds + 1) + kind + 1
    sizes = np.bincount(fine)
    return np.asarray(np.where(sizes[fine] >= _FEWEST_NODES, fine, level_of * (n_kinds + 1)))


def choose(
    losses: Floats, defined: Booleans, eligible: Booleans, fallback: Integers, group: Integers, rule: ChoiceRule,
    first: Integers | None = None,
) -> Choices:  # fmt: skip
    """Choose a method for every series.

    Parameters
    ----------
    losses : [series, methods, windows], mean error of each window as `rule.measure` has it; NaN where none has come.
        Methods are given from simple to rich, and a tie goes to the simpler.
    defined : [series, methods], where there is a forecast to choose.
    eligible : [methods], which may be chosen for what they have shown.
    fallback : positions of the methods to take until others have shown to be better, the first that is defined.
    first : [series], what stands there before the fallback, -1 for nothing else.
    group : [series].
    """
    each = np.arange(len(defined))
    standing = _standing(defined, eligible, fallback)
    if first is not None:
        standing = np.where((first >= 0) & defined[each, np.maximum(first, 0)], first, standing)
    at = np.maximum(standing, 0)
    usable = defined & eligible
    usable[each, at] |= standing >= 0
    ratios = _Ratios.of(losses, at, usable, 2.0 if rule.measure == "squared" else 1.0)
    best, better, error = ratios.best_of_groups(group, rule.margin, prefer=len(fallback) > 0)
    taken = (best >= 0) & usable[each, np.maximum(best, 0)] & (best != standing)
    of_group = np.where(taken, best, standing)
    own, believed, doubt = ratios.left(of_group, group, rule)
    left = own != of_group
    windows = (~np.isnan(losses[each, at])).sum(axis=1)
    ground = np.select(
        [np.isnan(ratios.total).all(axis=1), left, taken],
        [Ground.UNTESTED, Ground.OWN, Ground.GROUP if len(fallback) else Ground.LEAST],
        Ground.STANDS if len(fallback) else Ground.LEAST,
    )
    ahead = 1.0 - np.exp(np.where(left, believed, np.where(taken, better, np.nan)))
    return Choices(
        method=np.where(standing >= 0, own, -1),
        ground=ground,
        stood=np.where(left, of_group, standing),
        ahead=ahead,
        doubt=np.where(left, doubt, np.where(taken, error, np.nan)) * (1.0 - ahead),
        windows=windows,
    )


def _standing(defined: Booleans, eligible: Booleans, fallback: Integers) -> Integers:
    """What stands without evidence: the first fallback that is defined, else the simplest eligible method that is,
    else the simplest."""
    everything = np.arange(defined.shape[1])
    order = np.concatenate([fallback, everything[eligible], everything])
    found = order[np.argmax(defined[:, order], axis=1)]
    return np.asarray(np.where(defined.any(axis=1), found, -1))


@dataclass(frozen=True)
class _Ratios:
    """Logarithms of the errors of each method over those of the one that stands: in each window [series, methods,
    windows], NaN where one of them has none, and over all of these [series, methods], NaN of a method that may not be
    chosen or has too few."""

    windows: Floats
    total: Floats

    @classmethod
    def of(cls, losses: Floats, standing: Integers, usable: Booleans, power: float) -> _Ratios:
        beside = losses[np.arange(len(losses)), standing][:, None, :]
        known = ~np.isnan(losses) & ~np.isnan(beside)
        tests = known.sum(axis=2)
        enough = usable & (tests > 0) & (_LEAST_TESTED * tests >= tests.max(axis=1, keepdims=True, initial=0))
        tiny = 1e-12 * np.where(known, beside, 0.0).max(axis=2, initial=0.0)[:, :, None] + 1e-200
        own, other = np.where(known, losses, 0.0), np.where(known, beside, 0.0)
        by_window = _log_ratio(own + tiny, other + tiny, power)
        in_all = _log_ratio(own.sum(axis=2) + tiny[:, :, 0], other.sum(axis=2) + tiny[:, :, 0], power)
        return cls(np.where(known & enough[:, :, None], by_window, np.nan), np.where(enough, in_all, np.nan))

    def best_of_groups(self, group: Integers, margin: float, prefer: bool) -> tuple[Integers, Floats, Floats]:
        """Method that the group of each series prefers, -1 for what stands, the mean ratio of it there and the standard
        error of that, [series] each. prefer: whether what stands must be beaten by more than the margin."""
        _, at = np.unique(group, return_inverse=True)
        at = at.ravel()
        n_groups, n_methods = int(at.max(initial=-1)) + 1, self.total.shape[1]
        mean, error = np.full((n_groups, n_methods), np.nan), np.full((n_groups, n_methods), np.nan)
        for j in range(n_methods):
            mean[:, j], error[:, j] = self._of_method(j, at, n_groups)
        better = mean < -margin * error if prefer else ~np.isnan(mean)
        best = np.argmin(np.where(better, mean, np.inf), axis=1)
        groups = np.arange(n_groups)
        found = np.where(better.any(axis=1), best, -1)
        return found[at], mean[groups, best][at], error[groups, best][at]

    def _of_method(self, j: int, at: Integers, n_groups: int) -> tuple[Floats, Floats]:
        """Mean ratio of a method over each group, and its standard error: the larger of that over series and that over
        windows. Series of one window share its weather: together they count as one. NaN where fewer than half of the
        series that others were tested on speak for it; the error of one series in one window is infinite."""
        some = ~np.isnan(self.total).all(axis=1)
        known = ~np.isnan(self.total[:, j])
        count = np.bincount(at[known], minlength=n_groups)
        enough = (count > 0) & (2 * count >= np.bincount(at[some], minlength=n_groups))
        own = self.total[known, j]
        mean = _over(np.bincount(at[known], own, n_groups), count)
        squares = np.bincount(at[known], (own - mean[at[known]]) ** 2, n_groups)
        deviation = np.sqrt(_over(squares, count - 1))
        over_series = _over(deviation, np.sqrt(count))
        windows = np.full((n_groups, self.windows.shape[2]), np.nan)
        for i in range(windows.shape[1]):
            here = ~np.isnan(self.windows[:, j, i])
            windows[:, i] = _over(
                np.bincount(at[here], self.windows[here, j, i], n_groups), np.bincount(at[here], minlength=n_groups)
            )
        over_windows, n_windows = _standard_error(windows)
        error = np.where(n_windows > 1, np.fmax(over_series, over_windows), deviation)
        return np.where(enough, mean, np.nan), np.where(np.isnan(error), np.inf, error)

    def left(self, chosen: Integers, group: Integers, rule: ChoiceRule) -> tuple[Integers, Floats, Floats]:
        """The choice of each series where its own windows speak against that of its group, the ratio that is believed
        then and the standard error of that, [series] each.

        How much better another method is on a series is believed as far as series of the group differ by more than the
        noise of their windows explains (empirical Bayes: Efron, Morris 1975); where none does, nobody leaves.
        """
        each, at = np.arange(len(chosen)), np.maximum(chosen, 0)
        _, of = np.unique(group, return_inverse=True)
        of = of.ravel()
        found, least, doubts = chosen.copy(), np.zeros(len(chosen)), np.zeros(len(chosen))
        for j in range(self.total.shape[1]):
            relative = self.total[:, j] - self.total[each, at]
            error, n_windows = _standard_error(self.windows[:, j] - self.windows[each, at])
            known = (n_windows >= _FEWEST_WINDOWS) & ~np.isnan(relative) & (chosen != j)
            if not known.any():
                continue
            own, noise, of_own = relative[known], error[known] ** 2, of[known]
            count = np.bincount(of_own)
            mean, usual = (_over(np.bincount(of_own, one), count)[of_own] for one in (own, noise))
            varies = _over(np.bincount(of_own, (own - mean) ** 2), count - 1)[of_own]
            true = np.maximum(np.nan_to_num(varies) - usual, 0.0)
            belief = _over(true, true + usual)
            believed = mean + np.nan_to_num(belief) * (own - mean)
            doubt = np.sqrt(true * (1.0 - np.nan_to_num(belief)))
            leaves = (believed < math.log(1.0 - rule.own)) & (believed < -rule.margin * doubt) & (count[of_own] > 2)
            leaves &= believed < least[known]
            rows = np.nonzero(known)[0][leaves]
            found[rows], least[rows], doubts[rows] = j, believed[leaves], doubt[leaves]
        return found, least, doubts


def _log_ratio(own: Floats, other: Floats, power: float) -> Floats:
    return np.asarray(np.clip(np.log(own / other) / power, -_MOST_LOG, _MOST_LOG))


def _standard_error(values: Floats) -> tuple[Floats, Integers]:
    """Of the mean over the last axis, NaN left out, and how many there are; NaN of fewer than two."""
    known = ~np.isnan(values)
    count = known.sum(axis=-1)
    mean = _over(np.where(known, values, 0.0).sum(axis=-1), count)
    squares = (np.where(known, values - mean[..., None], 0.0) ** 2).sum(axis=-1)
    return np.sqrt(_over(_over(squares, count - 1), count)), count


def _over(total: Floats | Integers, count: Floats | Integers) -> Floats:
    return np.divide(total, count, out=np.full(np.shape(total), np.nan), where=np.asarray(count) > 0)
