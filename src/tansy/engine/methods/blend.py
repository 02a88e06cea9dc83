"""Blends: several methods at once, whose forecasts are put together to one.

Parts are few and different; what one of them gets wrong the others level out, and none has to be picked from a handful
of noisy windows. A part that cannot be fitted to a series is left out there.
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.special import ndtr

from tansy.engine.errors import NotationError
from tansy.engine.methods.distribution import Distribution, Draws, Paths
from tansy.engine.methods.fits import Batch, Fits, Floats
from tansy.engine.methods.form import RICHEST, Field, Form, Surroundings
from tansy.engine.methods.holders import Within

RULES = ("mean", "median", "trimmed", "weights")
MOST_PARTS = 8
_OF_NORMAL = ndtr([-1.0, 0.0, 1.0])
_SAID = {
    "mean": "The mean of",
    "median": "The median of",
    "trimmed": "The mean, without the highest and the lowest, of",
    "weights": "The mean, weighted by the errors that have come, of",
}


@dataclass(frozen=True)
class Blend(Form):
    """rule: how forecasts are put together. parts: methods, none of them a blend."""

    family: str = "blend"
    rule: str = "mean"
    parts: tuple[Form, ...] = ()

    names = ("blend",)
    examples = ("blend(mean; method; method)",)

    @classmethod
    def of(cls, text: str, rule: str, parts: Sequence[Form]) -> Blend:
        """Raises NotationError where it makes no blend."""
        if rule not in RULES:
            raise NotationError(f"{text!r}: a blend begins with one of {', '.join(RULES)}, not {rule!r}.")
        if not 1 <= len(parts) <= MOST_PARTS:
            raise NotationError(f"{text!r}: a blend has 1 to {MOST_PARTS} methods, with ; between them.")
        twice = [str(one) for i, one in enumerate(parts) if one in parts[:i]]
        if twice:
            raise NotationError(f"{text!r}: {twice[0]} stands there twice.")
        return cls(rule=rule, parts=tuple(parts))

    def __str__(self) -> str:
        return f"blend({'; '.join([self.rule, *map(str, self.parts)])})"

    @property
    def leaves(self) -> tuple[Form, ...]:
        return self.parts

    @property
    def brief(self) -> str:
        families = Counter(part.family for part in self.parts)
        counted = [name if n == 1 else f"{n} {name}" for name, n in families.items()]
        return f"{'weighted mean' if self.rule == 'weights' else self.rule} of {', '.join(counted)}"

    @property
    def simplicity(self) -> tuple[int, int]:
        return RICHEST + 1, len(self.parts)

    @property
    def searched(self) -> bool:
        return any(part.searched for part in self.parts)

    @property
    def has_season(self) -> bool:
        return any(part.has_season or part.harmonics for part in self.parts)

    def in_words(self) -> str:
        return f"{_SAID[self.rule]} {len(self.parts)} methods."

    def fields(self, around: Surroundings) -> list[Field]:
        rules = (("mean", "mean"), ("median", "median"), ("trimmed", "mean without extremes"), ("weights", "weighted"))
        return [Field("rule", "Parts are put together by", "choice", self.rule, rules)]

    def changed(self, name: str, value: Any, around: Surroundings) -> Blend:
        if name != "rule" or value not in RULES:
            raise KeyError(name)
        return replace(self, rule=str(value))


class Blends:
    """The holder of blends: fits the parts and puts them together. Without a backtest there are no errors to weight by,
    and `weights` is the mean."""

    def holds(self, form: Form) -> bool:
        return isinstance(form, Blend)

    def in_words(self, form: Form) -> str:
        return ""

    def fit(self, form: Form, batch: Batch, horizon: int, bands: str, within: Within) -> Fits:
        assert isinstance(form, Blend)
        parts = [within(part, batch, horizon, bands) for part in form.parts]
        n = len(batch.values)
        means = np.stack([part.forecast for part in parts])
        residuals = np.stack([part.residuals for part in parts])
        present = ~np.isnan(means[:, :, 0])
        lacking = (np.isnan(residuals) & present[:, :, None]).any(axis=0)
        forecast = joined(means, form.rule)
        errors = np.where(lacking, math.nan, joined(residuals, form.rule))
        used = (~np.isnan(errors)).sum(axis=1).astype(np.float64)
        squares = np.where(np.isnan(errors), 0.0, errors**2).sum(axis=1)
        sigma2 = np.divide(squares, used, out=np.full(n, math.nan), where=used > 0)
        distribution = None
        if bands != "none":
            assert all(part.distribution is not None for part in parts)
            within_each = [part.distribution for part in parts if part.distribution is not None]
            distribution = within_each[0] if len(parts) == 1 else Mixed(tuple(within_each), means, forecast)
        notes: dict[int, tuple[str, ...]] = {}
        for part, own in zip(form.parts, parts, strict=True):
            for i, said in own.notes.items():
                notes[i] = (*notes.get(i, ()), *(f"{part}: {one}" for one in said))
        nothing = np.full(n, math.nan)
        return Fits(
            forecast, errors, np.empty((n, 0)), (), nothing, sigma2, used, squares, np.zeros(n), (form,),
            np.zeros(n, dtype=np.int64), distribution=distribution, notes=notes,
        )  # fmt: skip


def joined(parts: Floats, rule: str, weights: Floats | None = None) -> Floats:
    """Numbers of parts [parts, series, ...] as one, [series, ...]; what is NaN is left out, NaN where all are.

    weights: [parts, series], of the rule `weights`; equal ones without. Of one part it is that part's number, to the
    bit.
    """
    present = ~np.isnan(parts)
    count = present.sum(axis=0)
    if rule == "median":
        ordered = np.sort(parts, axis=0)  # what is NaN comes last
        low = np.take_along_axis(ordered, np.maximum(count - 1, 0)[None] // 2, axis=0)[0]
        high = np.take_along_axis(ordered, np.minimum(count // 2, len(parts) - 1)[None], axis=0)[0]
        found = np.where(count % 2 == 1, low, 0.5 * (low + high))
        return np.asarray(np.where(count > 0, found, math.nan))
    known = np.where(present, parts, 0.0)
    if rule == "weights" and weights is not None:
        own = np.where(present, weights.reshape(*weights.shape, *(1,) * (parts.ndim - 2)), 0.0)
        total = own.sum(axis=0)
        own = own / np.where(total > 0.0, total, 1.0)
        return np.asarray(np.where(count > 0, (known * own).sum(axis=0), math.nan))
    summed, number = known.sum(axis=0), np.maximum(count, 1)
    if rule == "trimmed":
        enough = count > 2
        extremes = np.where(present, parts, -np.inf).max(axis=0), np.where(present, parts, np.inf).min(axis=0)
        for extreme in extremes:
            summed = summed - np.where(enough, extreme, 0.0)
        number = np.where(enough, count - 2, number)
    return np.asarray(np.where(count > 0, summed / number, math.nan))


def between(means: Floats) -> Floats:
    """Variance of the parts' means [parts, series, H] about their mean, [series, H]: how little is known which of them
    is right."""
    centre = joined(means, "mean")
    found = joined((means - centre) ** 2, "mean")
    return np.where(np.isnan(found), 0.0, found)


def _widened(values: Floats, thirds: Floats, means: Floats, forecast: Floats) -> Floats:
    """Averaged quantiles [series, H, k] about the blend's forecast [series, H], wider by what the parts' means [parts,
    series, H] differ. thirds: [series, H, 3], averaged at a normal's mean and a standard deviation to either side."""
    low, middle, high = np.moveaxis(thirds, 2, 0)
    spread, apart = 0.5 * (high - low), between(means)
    wider = np.sqrt(1.0 + np.divide(apart, spread**2, out=np.zeros_like(apart), where=spread > 0.0))
    moved = forecast - joined(means, "mean")
    return np.asarray(middle[..., None] + (values - middle[..., None]) * wider[..., None] + moved[..., None])


@dataclass(frozen=True)
class Mixed:
    """Of a blend: the parts' quantiles averaged, about the blend's mean, and wider by what the parts differ.

    means: [parts, series, H], NaN of parts that are left out. forecast: [series, H], of the blend.
    """

    parts: tuple[Distribution, ...]
    means: Floats
    forecast: Floats

    def spread(self) -> Floats:
        within = joined(self._of_parts([part.spread() for part in self.parts]), "mean")
        return np.asarray(np.sqrt(within**2 + between(self.means)))

    def quantiles(self, p: Floats, together: bool = False) -> Floats:
        means = np.cumsum(self.means, axis=2) if together else self.means
        forecast = np.cumsum(self.forecast, axis=1) if together else self.forecast
        asked = np.concatenate([p, _OF_NORMAL])
        own = self._of_parts([part.quantiles(asked, together) for part in self.parts])
        found = joined(own, "mean")
        moved = np.moveaxis(found, 1, 2)
        return np.moveaxis(_widened(moved[..., : len(p)], moved[..., len(p) :], means, forecast), 2, 1)

    def paths(self, rows: slice, drawn: Draws) -> Paths:
        """Each lead has the parts' paths averaged by rank, as `quantiles` has it; which ranks go together over the
        leads, and over series, is what the averages of the parts' paths at the same draws say."""
        own = np.stack([np.asarray(part.paths(rows, drawn), np.float64) for part in self.parts])
        means = self.means[:, rows]
        own[np.isnan(means[:, :, 0])] = math.nan
        order = np.argsort(joined(own, "mean"), axis=2, kind="stable")
        ranked = joined(np.sort(own, axis=3), "mean")
        n = ranked.shape[2]
        thirds = ranked[:, :, [round(q * (n - 1)) for q in _OF_NORMAL.tolist()]]
        ranked = _widened(ranked, thirds, means, self.forecast[rows])
        found = np.empty_like(ranked)
        np.put_along_axis(found, order, ranked, axis=2)
        return found

    def _of_parts(self, of: list[Floats]) -> Floats:
        found = np.stack(of)
        left_out: NDArray[np.bool_] = np.isnan(self.means[:, :, 0])
        found[left_out] = math.nan
        return found
