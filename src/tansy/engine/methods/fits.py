"""What every method is given and what it gives back."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, fields, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tansy.engine.methods.distribution import Distribution, Normal
from tansy.engine.methods.form import Form
from tansy.engine.methods.learned import Learned
from tansy.engine.methods.pooled import Pooled
from tansy.engine.timeline import Timeline

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]

BANDS = ("none", "known", "estimated")
"""Whether a fit finds a distribution: none, one with all parameters taken as known, or one with their uncertainty."""


@dataclass(frozen=True)
class Batch:
    """Series to be fitted together: values [series, periods], NaN missing, and the timeline they stand on.

    drivers: per name [series, periods + leads or more], known ahead, NaN not known; only forms that name them use them.
    pooled: per entries of pooled(...), the effects of these series; a form without any takes the batch for one group.
    learned: what a learner found for these series; without it, it learns from the batch.
    sources: [groups, periods], histories with enough signal to estimate a season from, or profiles: [groups, periods +
    leads or more], that season already; source_of: [series], the group whose season a series may share; None where the
    batch is one group.
    """

    values: Floats
    timeline: Timeline
    drivers: Mapping[str, Floats] = field(default_factory=dict)
    pooled: Mapping[tuple[str, ...], Pooled] = field(default_factory=dict)
    learned: Learned | None = None
    sources: Floats | None = None
    profiles: Floats | None = None
    source_of: Integers | None = None

    def rows(self, which: NDArray[np.bool_] | Integers) -> Batch:
        """Some of the series."""
        return replace(
            self,
            values=np.ascontiguousarray(self.values[which]),
            drivers={name: one[which] for name, one in self.drivers.items()},
            pooled={entries: one.rows(which) for entries, one in self.pooled.items()},
            learned=None if self.learned is None else self.learned.rows(which),
            sources=self.own_sources,
            source_of=self.groups[which],
        )

    @property
    def own_sources(self) -> Floats:
        """The sources, or the batch as one group [1, periods]: NaN where none of its series has a value."""
        if self.sources is not None:
            return self.sources
        total = np.nansum(self.values, axis=0, keepdims=True)
        return np.where(np.isnan(self.values).all(axis=0), np.nan, total)

    @property
    def groups(self) -> Integers:
        return np.zeros(len(self.values), dtype=np.int64) if self.source_of is None else self.source_of


@dataclass(frozen=True)
class Search:
    """How the orders of each series were found.

    strength [series]: of the season; levels [series, 3]: statistic of level stationarity after each difference, NaN not
    reached. differences [series, 2]: d and D, -1 where nothing was fitted. models [series, most, 5]: p, q, P, Q and
    whether with a mean or drift, in the order they were tried; criteria [series, most]: their AICc; refused [series,
    most]: 0 not, 1 a root of phi near the unit circle, 2 roots that cancel. n_tried [series].
    """

    strength: Floats
    levels: Floats
    differences: Integers
    models: Integers
    criteria: Floats
    refused: Integers
    n_tried: Integers


@dataclass(frozen=True)
class Fits:
    """One method fitted to a batch. Rows of series that have too few values are NaN.

    forecast [series, H]: means. residuals [series, T]: one-step errors, actual minus fitted. parameters [series, P],
    named by parameter_names, NaN where a series has none of the name. loglik, sigma2, n_used, sum_squares [series];
    sigma2 and sum_squares are of relative errors where they are multiplicative. n_parameters [series]: k, which counts
    the variance; 0 where there is no likelihood. forms and form_of [series]: the method with its choices resolved.
    notes: series -> what was done and why. tried and criteria [series, tried]: AICc of the forms that were tried.
    search: how orders were found. covariance [series, P, P]: of the estimates, zero for what is given. freedom
    [series]: degrees of Student's tests of them, None where tests are normal.
    """

    forecast: Floats
    residuals: Floats
    parameters: Floats
    parameter_names: tuple[str, ...]
    loglik: Floats
    sigma2: Floats
    n_used: Floats
    sum_squares: Floats
    n_parameters: Floats
    forms: tuple[Form, ...]
    form_of: Integers
    standard_errors: Floats | None = None
    distribution: Distribution | None = None
    notes: dict[int, tuple[str, ...]] = field(default_factory=dict)
    tried: tuple[str, ...] = ()
    criteria: Floats | None = None
    search: Search | None = None
    covariance: Floats | None = None
    freedom: Floats | None = None

    @property
    def defined(self) -> NDArray[np.bool_]:
        return ~np.isnan(self.forecast[:, 0])

    @property
    def aic(self) -> Floats:
        return np.where(self.n_parameters > 0, -2.0 * self.loglik + 2.0 * self.n_parameters, np.nan)

    @property
    def aicc(self) -> Floats:
        return aicc(self.loglik, self.n_parameters, self.n_used)

    @property
    def bic(self) -> Floats:
        penalty = self.n_parameters * np.log(np.maximum(self.n_used, 1.0))
        return np.where(self.n_parameters > 0, -2.0 * self.loglik + penalty, np.nan)

    def named_parameters(self, series: int) -> dict[str, float]:
        found = zip(self.parameter_names, self.parameters[series], strict=True)
        return {name: float(value) for name, value in found if np.isfinite(value)}

    def named_errors(self, series: int) -> dict[str, float]:
        """Standard error of each estimated parameter of one series; parameters given by hand have none."""
        if self.standard_errors is None:
            return {}
        found = zip(self.parameter_names, self.standard_errors[series], strict=True)
        return {name: float(error) for name, error in found if np.isfinite(error) and error > 0.0}

    def form(self, series: int) -> Form:
        return self.forms[self.form_of[series]]


def joined(parts: Sequence[tuple[Integers, Fits]]) -> Fits:
    """Fits of all series from fits of some each, (rows, fits), that agree in all but their form; every series is in one
    part.

    Parameters stand by name. Distributions are normal. Where the search ended is not kept: it means something else for
    every form.
    """
    first = parts[0][1]
    n = sum(len(rows) for rows, _ in parts)
    names = tuple(dict.fromkeys(name for _, one in parts for name in one.parameter_names))
    parameters = np.full((n, len(names)), np.nan)
    errors, covariance = np.full((n, len(names)), np.nan), np.zeros((n, len(names), len(names)))
    notes: dict[int, tuple[str, ...]] = {}
    form_of = np.zeros(n, dtype=np.int64)
    forms: list[Form] = []
    for rows, one in parts:
        at = np.array([names.index(name) for name in one.parameter_names], dtype=np.int64)
        parameters[rows[:, None], at] = one.parameters
        if one.standard_errors is not None:
            errors[rows[:, None], at] = one.standard_errors
        if one.covariance is not None:
            covariance[rows[:, None, None], at[:, None], at] = one.covariance
        notes |= {int(rows[i]): text for i, text in one.notes.items()}
        form_of[rows] = len(forms) + one.form_of
        forms += one.forms

    def whole(name: str) -> Floats:
        return _scattered([(rows, getattr(one, name)) for rows, one in parts], n)

    def whole_of(name: str, kind: type) -> Any:
        """A part of the fits that is made of arrays itself."""
        if getattr(first, name) is None:
            return None
        pieces = [(rows, getattr(one, name)) for rows, one in parts]
        assert all(isinstance(piece, kind) for _, piece in pieces)
        arrays = [[(rows, getattr(piece, own.name)) for rows, piece in pieces] for own in fields(kind)]
        return kind(*(None if each[0][1] is None else _scattered(each, n) for each in arrays))

    return Fits(
        whole("forecast"), whole("residuals"), parameters, names, whole("loglik"), whole("sigma2"), whole("n_used"),
        whole("sum_squares"), whole("n_parameters"), tuple(forms), form_of,
        None if first.standard_errors is None else errors, whole_of("distribution", Normal), notes,
        search=whole_of("search", Search), covariance=None if first.covariance is None else covariance,
        freedom=None if first.freedom is None else whole("freedom"),
    )  # fmt: skip


def _scattered(parts: Sequence[tuple[Integers, NDArray[Any]]], n: int) -> NDArray[Any]:
    """Rows of several arrays put where they belong in one."""
    found = np.zeros((n, *parts[0][1].shape[1:]), dtype=parts[0][1].dtype)
    for rows, piece in parts:
        found[rows] = piece
    return found


def aicc(loglik: Floats, k: Floats, n: Floats) -> Floats:
    """Corrected Akaike criterion, infinite where n - k - 1 <= 0 and NaN without a likelihood (k = 0)."""
    room = n - k - 1.0
    correction = np.divide(2.0 * k * (k + 1.0), room, out=np.zeros_like(room), where=room > 0)
    found = np.where(room > 0, -2.0 * loglik + 2.0 * k + correction, np.inf)  # also where a fit is exact
    return np.where(k > 0, found, np.nan)


def all_positive(values: Floats) -> NDArray[np.bool_]:
    """Whether every observed value of each series [n, T] is above zero, [n]."""
    return np.asarray(~(np.nan_to_num(values, nan=1.0) <= 0.0).any(axis=1))


def too_few(values: Floats) -> tuple[str, ...]:
    """Note for a series that could not be fitted."""
    return (f"not fitted: {int((~np.isnan(values)).sum())} values are too few for this method",)


def note(notes: dict[int, tuple[str, ...]], which: NDArray[np.bool_], text: str) -> None:
    """Add a note to each series of a mask."""
    for i in np.nonzero(which)[0].tolist():
        notes[i] = (*notes.get(i, ()), text)
