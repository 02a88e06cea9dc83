"""Values that the rules find suspicious, each with a score, what it was expected to be, and what could stand there."""

from __future__ import annotations

from dataclasses import dataclass, fields, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import special

from tansy.engine.cleaning.expectation import Expectation, expect
from tansy.engine.cleaning.rules import RULES, Rules
from tansy.engine.cleaning.siblings import siblings
from tansy.engine.panel import Panel
from tansy.engine.timeline import PERIODS_PER_YEAR, Timeline

Floats = NDArray[np.float64]
Booleans = NDArray[np.bool_]
Integers = NDArray[np.int64]

LARGEST_SCORE = 40.0
_LEAST_MISSED = 0.5  # units a period
_LONGEST_ZERO_SHARE = 0.25  # of a year; a longer pause is a season or an end, not a stock-out
_NEAR = 4  # periods on each side for the local median
_MONTHS_ASIDE = 3  # periods of a twelfth of a year on each side of a shift of level


@dataclass(frozen=True)
class Suspicions:
    """One entry per suspicious value, or per run of them; all arrays [n], ordered by series and start.

    series, start: position of the first value. length: periods. rule: position in RULES. score: standard deviations of
    a normal that would be as rare. received: the value, of a run its first. expected, low, high: what was to be
    expected and the range it would usually lie in (two standard deviations, never below zero). median, interpolated:
    further replacements, NaN where there are none. ratio: new level over old level, of a shift of level, else NaN.
    """

    series: Integers
    start: Integers
    length: Integers
    rule: Integers
    score: Floats
    received: Floats
    expected: Floats
    low: Floats
    high: Floats
    median: Floats
    interpolated: Floats
    ratio: Floats

    def n_values(self) -> int:
        """How many values lie in them, each counted once where several rules name it."""
        t = np.repeat(self.start, self.length) + np.arange(self.length.sum())
        t -= np.repeat(np.cumsum(self.length) - self.length, self.length)
        return np.unique(np.stack([np.repeat(self.series, self.length), t]), axis=1).shape[1]

    def __len__(self) -> int:
        return len(self.series)

    def where(self, chosen: Booleans | Integers) -> Suspicions:
        return Suspicions(**{field.name: getattr(self, field.name)[chosen] for field in fields(self)})

    def proposal(self, replace: str) -> Floats:
        """The value to stand in for each; NaN is unknown. Runs are always replaced by unknown."""
        whole = {"expected": self.expected, "median": self.median, "interpolated": self.interpolated}
        if replace == "unknown":
            return np.full(len(self), np.nan)
        spike = np.isin(self.rule, [RULES.index(rule) for rule in ("spike", "fence", "same-week")])
        return np.where(spike, whole[replace], np.nan)

    def is_change(self) -> Booleans:
        """Whether there is anything to correct; a shift of level is only told."""
        return self.rule != RULES.index("level-shift")


def find_suspicious(panel: Panel, rules: Rules, level_of_siblings: dict[str, list[str]] | None = None) -> Suspicions:
    """Apply the rules to every series of a panel.

    level_of_siblings: the structure, per key its attributes from coarse to fine, by which siblings are told. Promotions
    and holidays are taken from the yes/no drivers of the panel, stock on hand from its `stock` driver.
    """
    values, timeline = panel.values, panel.timeline
    pools = siblings(panel, level_of_siblings or {})
    on = [panel.past_driver(name) > 0.0 for name in panel.switches()]
    found = expect(values, timeline, pools, on, robust=rules.level == "robust")
    parts: list[Suspicions] = []
    if "out-of-stock" in rules.find and "stock" in panel.drivers:
        parts.append(_out_of_stock(values, panel.past_driver("stock"), found))
    if "spike" in rules.find:
        parts.append(_single("spike", values, found, _tails(values, found), rules.spike))
    if "zero-run" in rules.find:
        parts.append(_zero_runs(values, timeline, found, rules.zero_run))
    if "fence" in rules.find:
        parts.append(_fences(values, found, rules.fence))
    if "same-week" in rules.find:
        parts.append(_same_week(values, timeline, found, rules.same_week))
    if "level-shift" in rules.find:
        parts.append(_level_shifts(values, timeline, found, rules.level_shift))
    return _joined(parts, panel)


def _tails(values: Floats, found: Expectation) -> Floats:
    """Score of every value, NaN where it is not worth asking, from the tail of the negative binomial.

    P(Y >= y) = I_p(y, r) with r = 1 / dispersion and p = mu / (mu + r), I the regularised incomplete beta function
    (Abramowitz, Stegun 1964, 26.5.26); it is defined for broken values too. The doubt about mu widens the dispersion.
    """
    unit = found.unit[:, None]
    y, mu = values / unit, found.mean / unit
    c = found.dispersion[:, None] + found.doubt
    with np.errstate(invalid="ignore"):
        far = np.abs(y - mu) > 2.0 * np.sqrt(mu + c * mu * mu)
        high, low = far & (y > mu), far & (y < mu) & (y > 0.0)
    score = np.full(values.shape, np.nan)
    score[high] = _upper(y[high], mu[high], c[high])
    score[low] = _lower(y[low], mu[low], c[low])
    return score


def _upper(y: Floats, mu: Floats, c: Floats) -> Floats:
    r = 1.0 / c
    return _as_deviations(special.betainc(np.maximum(y, 1e-3), r, mu / (mu + r)))


def _lower(y: Floats, mu: Floats, c: Floats) -> Floats:
    r = 1.0 / c
    return _as_deviations(special.betainc(r, y + 1.0, r / (mu + r)))


def _as_deviations(probability: NDArray[np.floating[Any]]) -> Floats:
    """The point of a standard normal that is exceeded with this probability."""
    return np.minimum(-special.ndtri(np.maximum(probability, 1e-300)), LARGEST_SCORE)


def _single(rule: str, values: Floats, found: Expectation, score: Floats, threshold: float) -> Suspicions:
    with np.errstate(invalid="ignore"):
        i, t = np.nonzero(score >= threshold)
    return _entries(rule, values, found, i, t, np.ones_like(i), score[i, t])


def _entries(
    rule: str,
    values: Floats,
    found: Expectation,
    i: Integers,
    t: Integers,
    length: Integers,
    score: Floats,
    ratio: Floats | None = None,
) -> Suspicions:
    spread = found.spread()
    expected = found.mean[i, t]
    nothing = np.full(len(i), np.nan)
    return Suspicions(
        series=i.astype(np.int64),
        start=t.astype(np.int64),
        length=length.astype(np.int64),
        rule=np.full(len(i), RULES.index(rule), dtype=np.int64),
        score=score,
        received=values[i, t],
        expected=expected,
        low=np.maximum(expected - 2.0 * spread[i, t], 0.0),
        high=expected + 2.0 * spread[i, t],
        median=nothing,
        interpolated=nothing,
        ratio=nothing if ratio is None else ratio,
    )


def _runs(inside: Booleans) -> tuple[Integers, Integers, Integers]:
    """Series, start and length of every run of True along the periods."""
    edge = np.diff(np.pad(inside.astype(np.int8), ((0, 0), (1, 1))), axis=1)
    i, start = np.nonzero(edge == 1)
    _, end = np.nonzero(edge == -1)
    return i, start, end - start


def _zero_runs(values: Floats, timeline: Timeline, found: Expectation, threshold: float) -> Suspicions:
    """Runs of zeros between sales whose probability, all periods together, is too small."""
    sold = values > 0.0
    before = np.maximum.accumulate(sold, axis=1)
    after = np.maximum.accumulate(sold[:, ::-1], axis=1)[:, ::-1]
    i, start, length = _runs((values == 0.0) & before & after)
    mu = found.mean / found.unit[:, None]
    c = found.dispersion[:, None] + found.doubt
    surprise = np.zeros((len(values), values.shape[1] + 1))
    np.cumsum(np.log1p(c * mu) / c, axis=1, out=surprise[:, 1:])
    log_p = surprise[i, start + length] - surprise[i, start]
    score = _as_deviations(np.exp(-np.minimum(log_p, 690.0)))
    longest = max(1, round(_LONGEST_ZERO_SHARE * PERIODS_PER_YEAR[timeline.frequency]))
    total = np.zeros_like(surprise)
    np.cumsum(found.mean, axis=1, out=total[:, 1:])
    mean = (total[i, start + length] - total[i, start]) / np.maximum(length, 1)
    # where less than half a unit a period was to be expected, that there was none is nothing to decide about
    kept = (score >= threshold) & (length <= longest) & (mean >= _LEAST_MISSED)
    i, start, length = i[kept], start[kept], length[kept]
    return replace(_entries("zero-run", values, found, i, start, length, score[kept]), expected=mean[kept])


def _out_of_stock(values: Floats, stock: Floats, found: Expectation) -> Suspicions:
    """Periods that began or ended without stock. What was sold in them need not be what was wanted."""
    empty = stock <= 0.0
    touched = empty.copy()
    touched[:, 1:] |= empty[:, :-1]  # a period begins with what the one before left
    i, start, length = _runs(touched & ~np.isnan(values))
    return _entries("out-of-stock", values, found, i, start, length, np.full(len(i), LARGEST_SCORE))


def _fences(values: Floats, found: Expectation, width: float) -> Suspicions:
    """Tukey's fences (1977) on value over shared factor: beyond `width` interquartile ranges from the quartiles."""
    x = values / found.factor
    ordered = np.sort(x, axis=1)
    count = (~np.isnan(x)).sum(axis=1)
    row = np.arange(len(x))
    q1 = ordered[row, np.clip((count - 1) // 4, 0, None)]
    q3 = ordered[row, np.clip(3 * (count - 1) // 4, 0, None)]
    reach = (q3 - q1)[:, None]
    with np.errstate(invalid="ignore", divide="ignore"):
        beyond = np.maximum(x - q3[:, None], q1[:, None] - x) / reach
        i, t = np.nonzero((beyond > width) & (reach > 0.0) & (values > 0.0))
    return _entries("fence", values, found, i, t, np.ones_like(i), np.minimum(beyond[i, t], LARGEST_SCORE))


def _same_week(values: Floats, timeline: Timeline, found: Expectation, threshold: float) -> Suspicions:
    """Against the same part of the other years, each brought to this year's level; siblings play no part."""
    year = PERIODS_PER_YEAR[timeline.frequency]
    length = values.shape[1]
    level = found.mean / found.factor
    share = np.minimum(values, found.mean + 5.0 * found.spread()) / level
    total, count = np.zeros_like(values), np.zeros_like(values)
    reach = 1 if year > 24 else 0
    for k in range(-int(length // year) - 1, int(length // year) + 2):
        for shift in range(-reach, reach + 1):
            by = round(k * year) + shift
            if k == 0 or abs(by) >= length:
                continue
            to = slice(max(0, -by), length - max(0, by))
            of = slice(max(0, by), length - max(0, -by))
            other = share[:, of]
            total[:, to] += np.nan_to_num(other)
            count[:, to] += ~np.isnan(other)
    with np.errstate(invalid="ignore", divide="ignore"):
        mean = np.where(count >= 2, total / count * level, np.nan)
    c = found.dispersion[:, None]
    doubt = np.where(count >= 2, (c + found.unit[:, None] / np.maximum(level, 1e-9)) / np.maximum(count, 1), 0.0)
    by_years = Expectation(
        np.maximum(np.nan_to_num(mean), 1e-9 * found.unit[:, None]), doubt, found.dispersion, found.unit, found.factor,
        found.sold_out,
    )  # fmt: skip
    score = _tails(np.where(np.isnan(mean), np.nan, values), by_years)
    return _single("same-week", values, by_years, score, threshold)


def _level_shifts(values: Floats, timeline: Timeline, found: Expectation, threshold: float) -> Suspicions:
    """Where a quarter of a year before and after differ in level, siblings and season allowed for."""
    unit = found.unit[:, None]
    seen = ~np.isnan(values) & ~found.sold_out
    side = max(4, round(_MONTHS_ASIDE * PERIODS_PER_YEAR[timeline.frequency] / 12))
    length = values.shape[1]
    if length < 2 * side + 1:
        return _entries("level-shift", values, found, *(np.empty(0, dtype=np.int64),) * 3, np.empty(0))
    y = np.where(seen, np.clip(values, 0.0, found.mean + 5.0 * found.spread()), 0.0) / unit
    usual = y.sum(axis=1) / np.maximum((found.factor * seen).sum(axis=1), 1e-9)
    mu = usual[:, None] * found.factor
    weight = seen / (1.0 + found.dispersion[:, None] * mu)
    sums = np.zeros((2, len(values), length + 1))
    np.cumsum(y * weight, axis=1, out=sums[0][:, 1:])
    np.cumsum(mu * weight, axis=1, out=sums[1][:, 1:])
    t = np.arange(side, length - side + 1)
    sold_before, due_before = (part[:, t] - part[:, t - side] for part in sums)
    sold_after, due_after = (part[:, t + side] - part[:, t] for part in sums)
    sold_before, sold_after = np.maximum(sold_before, 0.0), np.maximum(sold_after, 0.0)
    with np.errstate(divide="ignore", invalid="ignore"):
        ratio = ((sold_after + 0.5) / (due_after + 0.5)) / ((sold_before + 0.5) / (due_before + 0.5))
        score = np.abs(np.log(ratio)) / np.sqrt(1.0 / (sold_before + 0.5) + 1.0 / (sold_after + 0.5))
    score[np.abs(np.log(ratio)) < np.log(1.3)] = 0.0
    score = np.minimum(np.nan_to_num(score), LARGEST_SCORE)
    around = np.lib.stride_tricks.sliding_window_view(
        np.pad(score, ((0, 0), (side, side)), constant_values=0.0), 2 * side + 1, axis=1
    ).max(axis=2)
    first = score > np.pad(score, ((0, 0), (1, 0)))[:, :-1]
    i, at = np.nonzero((score >= threshold) & (score >= around) & first)
    return _entries("level-shift", values, found, i, t[at], np.full(len(i), side), score[i, at], ratio[i, at])


def _joined(parts: list[Suspicions], panel: Panel) -> Suspicions:
    """All entries by series and start, one for each start, with their further replacements."""
    if not parts:
        empty = np.empty(0)
        return Suspicions(*(np.empty(0, dtype=np.int64),) * 4, *(empty,) * 8)
    names = [field.name for field in fields(Suspicions)]
    every = Suspicions(**{name: np.concatenate([getattr(part, name) for part in parts]) for name in names})
    order = np.lexsort((every.rule, every.start, every.series))
    every = every.where(order)
    shift = every.rule == RULES.index("level-shift")
    same = np.zeros(len(every), dtype=bool)
    same[1:] = (every.series[1:] == every.series[:-1]) & (every.start[1:] == every.start[:-1])
    every = every.where(~same | shift)
    median, interpolated = _neighbours(panel.values, every)
    known = panel.values[every.series]
    rounded = (np.isnan(known) | (known == np.round(known))).all(axis=1)

    def shown(values: Floats) -> Floats:
        return np.where(rounded, np.round(values), values)

    return replace(every, expected=shown(every.expected), median=shown(median), interpolated=shown(interpolated))


def _neighbours(values: Floats, every: Suspicions) -> tuple[Floats, Floats]:
    """Median of the values around each entry, and the straight line between the values next to it."""
    n_periods = values.shape[1]
    if not len(every):
        return np.empty(0), np.empty(0)
    offsets = np.concatenate([np.arange(-_NEAR, 0), np.arange(1, _NEAR + 1)])
    at = every.start[:, None] + offsets + np.where(offsets > 0, every.length[:, None] - 1, 0)
    inside = (at >= 0) & (at < n_periods)
    around = np.where(inside, values[every.series[:, None], np.clip(at, 0, n_periods - 1)], np.nan)
    known = ~np.isnan(around)
    ordered = np.sort(around, axis=1)
    n, row = known.sum(axis=1), np.arange(len(around))
    median = 0.5 * (ordered[row, np.maximum((n - 1) // 2, 0)] + ordered[row, np.minimum(n // 2, 2 * _NEAR - 1)])
    left, right = around[:, _NEAR - 1], around[:, _NEAR]
    line = np.where(np.isnan(left), right, np.where(np.isnan(right), left, 0.5 * (left + right)))
    return np.where(n > 0, median, np.nan), line
