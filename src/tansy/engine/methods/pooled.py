"""Effects of drivers that many series share: one series rarely has enough promotions to tell what they do.

Each series says by a log-linear regression of counts what a driver multiplies its demand by, and how sure it is. Within
a group, such as all stores of a product, the estimates are drawn towards their common mean as far as they are unsure,
and that mean towards the one of the wider group, such as the products of a product group.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tansy.engine.methods.regressors import Regressors, regressors_of_drivers
from tansy.engine.timeline import PERIODS_PER_YEAR, Timeline

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]

_ROUNDS = 8
_PAIRS = 3
_UNSURE = 1e6  # variance of an effect that a series says nothing about
_CHUNK = 500  # series; bounds the memory of their design matrices
_FARTHEST = 4.0  # of the logarithm of a factor
_AS_SAID = 20.0  # series that would make it half of what is taken for the variance that they show
_LARGEST_RATIO = 10.0


@dataclass(frozen=True)
class Pooled:
    """names: [k], of the columns of x(...). effects, errors: [series, k], of the logarithm of demand, after pooling."""

    names: tuple[str, ...]
    effects: Floats
    errors: Floats

    def rows(self, which: NDArray[np.bool_] | Integers | slice) -> Pooled:
        return Pooled(self.names, self.effects[which], self.errors[which])

    def only(self, names: tuple[str, ...]) -> Pooled:
        """Those of some columns, as they were found beside the others."""
        at = [self.names.index(name) for name in names]
        return Pooled(names, self.effects[:, at], self.errors[:, at])

    def logs(self, columns: Regressors, n_past: int) -> Floats:
        """Logarithm of what each column multiplies demand by, [series, T + H, k], against its mean over the `n_past`
        periods known."""
        found: Floats = _about_usual(columns, n_past) * self.effects[:, None, :]
        return found

    def lift(self, columns: Regressors, n_past: int) -> Floats:
        """What drivers multiply demand by, [series, T + H], against their mean over the `n_past` periods known."""
        about = self.logs(columns, n_past).sum(axis=2)
        lift: Floats = np.exp(np.clip(about, -_FARTHEST, _FARTHEST))
        return lift

    def doubt(self, columns: Regressors, n_past: int, lifted: Floats) -> tuple[Floats, Floats]:
        """Variances [series, H] of means `lifted` [series, H] because the effects are estimated, to first order and
        taking the effects of different drivers as independent: of lead h, and of the sum of leads 1..h, all of which
        an effect moves together."""
        moved = lifted[:, :, None] * _about_usual(columns, n_past)[:, n_past:] * self.errors[:, None, :]
        return (moved**2).sum(axis=2), (np.cumsum(moved, axis=1) ** 2).sum(axis=2)


def _about_usual(columns: Regressors, n_past: int) -> Floats:
    """Drivers [series, T + H, k] less their mean over the `n_past` periods known."""
    known = np.ones((len(columns.x), n_past)) if columns.unknown is None else (~columns.unknown).astype(np.float64)
    past = columns.x[:, :n_past] * known[:, :, None]
    usual = past.sum(axis=1) / np.maximum(known.sum(axis=1), 1.0)[:, None]
    about: Floats = columns.x - usual[:, None, :]
    return about


def pooled_effects(
    entries: tuple[str, ...],
    history: Floats,
    drivers: Mapping[str, Floats],
    timeline: Timeline,
    groups: tuple[Integers, ...],
) -> Pooled:
    """Effects of the drivers in `entries` on every row of `history` [series, T], NaN missing.

    drivers: per name [series, T or more]. groups: from the narrowest to the widest, [series] each.
    """
    n = len(history)
    columns = regressors_of_drivers(entries, drivers, n, timeline, 0)
    estimates, variances = np.zeros((n, len(columns.names))), np.full((n, len(columns.names)), _UNSURE)
    seen = np.full((n, len(columns.names)), np.nan)
    for start in range(0, n, _CHUNK):
        rows = slice(start, min(start + _CHUNK, n))
        unknown = None if columns.unknown is None else columns.unknown[rows]
        estimates[rows], variances[rows], seen[rows] = _own(history[rows], columns.x[rows], unknown, timeline)
    variances = np.where(variances < _UNSURE, variances * _as_seen(seen, groups[-1]), variances)
    effects, doubt = estimates.copy(), variances.copy()
    for k in range(estimates.shape[1]):
        effects[:, k], doubt[:, k] = drawn_together(estimates[:, k], variances[:, k], groups)
    return Pooled(columns.names, effects, np.sqrt(doubt))


def _as_seen(ratios: Floats, group_of: Integers) -> Floats:
    """How much larger than a Poisson regression says the variances are, [series, k], from what the series of each group
    show of it, ratios [series, k], NaN nothing. Sales that a driver lifts also scatter more, by how much only many
    series tell."""
    _, group = np.unique(group_of, return_inverse=True)
    there = np.isfinite(ratios)
    usual = np.where(there, np.minimum(ratios, _LARGEST_RATIO), 0.0)
    found = np.empty_like(usual)
    for j in range(usual.shape[1]):
        of_group = np.bincount(group, usual[:, j]) + _AS_SAID
        found[:, j] = (of_group / (np.bincount(group, there[:, j]) + _AS_SAID))[group]
    return found


def _own(y: Floats, x: Floats, unknown: NDArray[np.bool_] | None, timeline: Timeline) -> tuple[Floats, Floats, Floats]:
    """Effects and their variances from each series alone, [n, k]: Poisson regression of y on level, trend, the year and
    x by iterated weighted least squares (McCullagh, Nelder 1989, section 2.5), its variance times the dispersion.

    The third: variance from the errors where each driver moves (White 1980, with the correction for leverage that makes
    it unbiased where the model is true: MacKinnon, White 1985) over that variance.
    """
    n, length = y.shape
    k = x.shape[2]
    seen = ~np.isnan(y)
    if unknown is not None:
        seen &= ~unknown
    pairs = min(_PAIRS, int(PERIODS_PER_YEAR[timeline.frequency] // 2))
    t = np.linspace(-1.0, 1.0, length)
    common = np.column_stack([np.ones(length), t, timeline.harmonics(pairs, 0)])
    own = np.concatenate([np.broadcast_to(common, (n, *common.shape)), x], axis=2)
    weight = seen.astype(np.float64)
    count = weight.sum(axis=1)
    # drivers about their mean, so that the level stays the level; a faint ridge keeps flat directions in place
    centre = (own[:, :, -k:] * weight[:, :, None]).sum(axis=1) / np.maximum(count, 1.0)[:, None]
    own = own.copy()
    own[:, :, -k:] = (own[:, :, -k:] - centre[:, None, :]) * weight[:, :, None]
    demand = np.where(seen, np.maximum(np.nan_to_num(y), 0.0), 0.0)
    level = demand.sum(axis=1) / np.maximum(count, 1.0)
    usable = (level > 0.0) & (count >= own.shape[2] + 5)
    mean = np.where(seen, 0.5 * (demand + level[:, None]) + 1e-3, 1e-3)
    size = own.shape[2]
    ridge = np.eye(size) * 1e-6
    b = np.zeros((n, size))
    gram = np.broadcast_to(np.eye(size), (n, size, size))
    for _ in range(_ROUNDS):
        w = mean * weight
        working = np.where(seen, np.log(mean) + (demand - mean) / mean, 0.0)
        weighted = own * w[:, :, None]
        gram = weighted.swapaxes(1, 2) @ own
        scale = np.maximum(np.einsum("nii->n", gram) / size, 1e-9)
        gram = gram + scale[:, None, None] * ridge
        b = np.linalg.solve(gram, np.einsum("nti,nt->ni", weighted, working)[:, :, None])[:, :, 0]
        mean = np.exp(np.clip(np.einsum("nti,ni->nt", own, b), -20.0, 20.0))
    pearson = (np.where(seen, (demand - mean) ** 2 / np.maximum(mean, 1e-9), 0.0)).sum(axis=1)
    dispersion = np.maximum(pearson / np.maximum(count - size, 1.0), 1.0 / np.maximum(count, 1.0))
    inverse = np.linalg.inv(gram)
    variance = dispersion[:, None] * np.einsum("nii->ni", inverse)[:, -k:]
    leads_to = own @ inverse  # [n, T, size]
    leverage = np.clip(mean * weight * np.einsum("nti,nti->nt", leads_to, own), 0.0, 0.95)
    score = np.where(seen, (demand - mean) ** 2, 0.0) / (1.0 - leverage)
    as_seen = np.einsum("ntk,nt->nk", leads_to[:, :, -k:] ** 2, score) / np.maximum(variance, 1e-300)
    moved = (np.abs(own[:, :, -k:]).max(axis=1) > 1e-9) & usable[:, None] & (np.abs(b[:, -k:]) < _FARTHEST)
    effects = np.where(moved, b[:, -k:], 0.0)
    return effects, np.where(moved, np.maximum(variance, 1e-10), _UNSURE), np.where(moved, as_seen, np.nan)


def drawn_together(estimates: Floats, variances: Floats, groups: tuple[Integers, ...]) -> tuple[Floats, Floats]:
    """Estimates [n] with their variances, drawn towards the mean of their group, and it towards that of the wider one.

    Variance between the members of a group by the method of moments (DerSimonian, Laird 1986); an estimate keeps the
    weight tau^2 / (tau^2 + variance), a little more where the group is small. groups: from the narrowest to the widest;
    each lies within one of the next.
    """
    if not groups:
        return estimates, variances
    own, rest = groups[0], groups[1:]
    names, which = np.unique(own, return_inverse=True)
    which = which.ravel()
    m = len(names)

    def total(values: Floats) -> Floats:
        return np.bincount(which, weights=values, minlength=m).astype(np.float64)

    w = 1.0 / variances
    sum_w = total(w)
    mean = total(w * estimates) / sum_w
    q = total(w * (estimates - mean[which]) ** 2)
    informed = total((variances < _UNSURE / 2).astype(float))
    slack = sum_w - total(w * w) / sum_w
    between = np.where(
        slack > 1e-12, np.maximum(q - np.maximum(informed - 1.0, 0.0), 0.0) / np.maximum(slack, 1e-12), 0.0
    )
    widened = 1.0 / (variances + between[which])
    sum_widened = total(widened)
    mean = total(widened * estimates) / sum_widened
    mean, of_mean = drawn_together(mean, 1.0 / sum_widened, tuple(_of_groups(group, which, m) for group in rest))
    # Morris (1983, section 4): how little a small group says about its own scatter keeps some weight on each estimate
    known, size = variances < _UNSURE / 2, informed[which]
    enough = known & (size >= 5)
    factor = np.where(enough, (size - 3.0) / np.maximum(size - 1.0, 1.0), 1.0)
    lost = factor * variances / (between[which] + variances)
    apart = estimates - mean[which]
    drawn = mean[which] + (1.0 - lost) * apart
    doubt = (1.0 - lost) * variances + lost**2 * of_mean[which]
    doubt += np.where(enough, 2.0 / np.maximum(size - 3.0, 1.0) * lost**2 * apart**2, 0.0)
    return drawn, doubt


def _of_groups(group: Integers, which: Integers, m: int) -> Integers:
    """The wider group of each narrower one."""
    found = np.zeros(m, dtype=np.int64)
    found[which] = group
    return found
