"""Seasonal naive, naive, drift, mean and moving averages: what every other method has to beat."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from tansy.engine.kernels import simple as kernel
from tansy.engine.methods.distribution import Normal
from tansy.engine.methods.fits import Batch, Fits, Floats, note, too_few
from tansy.engine.methods.form import BEST, Field, Form, Surroundings, number_text, whole
from tansy.engine.methods.method_text import WHOLE, Written, read_number
from tansy.engine.timeline import MOST_PERIODS

_KINDS = {
    "seasonal-naive": (kernel.SEASONAL_NAIVE, ()),
    "naive": (kernel.NAIVE, ()),
    "drift": (kernel.DRIFT, ("drift",)),
    "mean": (kernel.MEAN, ("mean",)),
    "moving-average": (kernel.MOVING_AVERAGE, ("window",)),
}
_PARAMETERS = {"drift": 2, "mean": 2}
_LONGEST_WINDOW = 26


_WORDS = {
    "seasonal-naive": "The same period of the last season.",
    "naive": "The last value.",
    "mean": "The mean of all values.",
    "drift": "The last value, and the mean step from the first value to it.",
}


@dataclass(frozen=True)
class Simple(Form):
    """Seasonal naive, naive, mean and drift."""

    bare = True
    names = ("seasonal-naive", "naive", "mean", "drift")
    examples = names
    menu = (("seasonal-naive", "last season"), ("naive", "last value"), ("mean", "mean"), ("drift", "drift"))

    @classmethod
    def read(cls, written: Written) -> Simple:
        return cls(written.name, log=written.around["log"], power=written.around["power"])

    def richness(self) -> tuple[int, int]:
        return self.names.index(self.family), 0

    @property
    def has_season(self) -> bool:
        return self.family == "seasonal-naive"

    def in_words(self) -> str:
        return _WORDS[self.family]

    def fit(self, batch: Batch, horizon: int, bands: str) -> Fits:
        return _fit(self, batch, horizon, bands)


@dataclass(frozen=True)
class MovingAverage(Form):
    family: str = "moving-average"

    names = ("moving-average",)
    examples = ("moving-average(k)",)
    menu = (("moving-average(4)", "moving average"),)

    @classmethod
    def read(cls, written: Written) -> MovingAverage:
        main, options = written.main.strip(), written.options
        if main != "best" and not (WHOLE.fullmatch(main) and 1 <= int(main) <= MOST_PERIODS):
            raise written.wrong("write moving-average(k) with the number of periods, or moving-average(best).")
        window = BEST if main == "best" else int(main)
        weights: tuple[float, ...] = ()
        listed = options.pairs.pop("weights", None)
        if listed is not None:
            try:
                weights = tuple(read_number(piece) for piece in listed.split("/"))
            except ValueError:
                raise written.wrong(f"weights are numbers with / between, newest first, not {listed!r}.") from None
            if len(weights) != window or min(weights) < 0.0 or sum(weights) <= 0.0:
                raise written.wrong("there is one weight for each period of the window, newest first, none below zero.")
        written.nothing_more()
        return cls(window=window, weights=weights, log=written.around["log"], power=written.around["power"])

    def main(self) -> str:
        return number_text(self.window)

    def options(self) -> list[str]:
        return ["weights=" + "/".join(f"{weight:g}" for weight in self.weights)] if self.weights else []

    def richness(self) -> tuple[int, int]:
        return 4, max(self.window, 0)

    def in_words(self) -> str:
        kind = "A weighted mean" if self.weights else "The mean"
        return f"{kind} of the last values, with the window {'chosen by error' if self.window < 0 else self.window}."

    def fit(self, batch: Batch, horizon: int, bands: str) -> Fits:
        return _fit(self, batch, horizon, bands)

    def fields(self, around: Surroundings) -> list[Field]:
        label = f"Window, {around.noun}s (empty: chosen by error)"
        return [Field("window", label, "number", None if self.window == BEST else self.window, least=1)]

    def changed(self, name: str, value: Any, around: Surroundings) -> MovingAverage:
        if name != "window":
            raise KeyError(name)
        return replace(self, window=BEST if value is None else whole(value), weights=())


@dataclass(frozen=True)
class SeasonalMedian(Form):
    """The median of the same period of the last seasons: one wild season does not come back as the next forecast."""

    family: str = "seasonal-median"
    names = ("seasonal-median",)
    examples = ("seasonal-median(k)",)
    menu = (("seasonal-median(3)", "median of last seasons"),)

    @classmethod
    def read(cls, written: Written) -> SeasonalMedian:
        main, most = written.main.strip(), len(_DOUBT_OF_MEDIAN)
        if not (WHOLE.fullmatch(main) and 2 <= int(main) <= most):
            raise written.wrong(f"write seasonal-median(k) with 2 to {most} seasons.")
        written.nothing_more()
        return cls(window=int(main), log=written.around["log"], power=written.around["power"])

    def main(self) -> str:
        return str(self.window)

    def richness(self) -> tuple[int, int]:
        return 4, 10_000 + self.window

    @property
    def has_season(self) -> bool:
        return True

    def in_words(self) -> str:
        return f"The median of the same period of the last {self.window} seasons."

    def fit(self, batch: Batch, horizon: int, bands: str) -> Fits:
        n, length = batch.values.shape
        forecast, each, together = (np.empty((n, horizon)) for _ in range(3))
        residuals, statistics = np.empty((n, length)), np.empty((n, 4))
        kernel.fit_seasonal_median_batch(
            np.ascontiguousarray(batch.values), batch.timeline.season_length, self.window,
            _DOUBT_OF_MEDIAN[self.window - 1], forecast, each, together, residuals, statistics,
        )  # fmt: skip
        return _fits(self, batch, bands, np.empty((n, 0)), (), forecast, each, together, residuals, statistics)

    def fields(self, around: Surroundings) -> list[Field]:
        return [Field("window", "Seasons", "count", self.window, least=2, most=len(_DOUBT_OF_MEDIAN))]

    def changed(self, name: str, value: Any, around: Surroundings) -> SeasonalMedian:
        if name != "window":
            raise KeyError(name)
        return replace(self, window=min(max(whole(value), 2), len(_DOUBT_OF_MEDIAN)))


_DOUBT_OF_MEDIAN = (1.0, 0.5, 0.4487, 0.2982, 0.2868, 0.2147)
"""Variance of the median of 1, 2, ... standard normal values (Teichroew 1956)."""


def _fit(form: Form, batch: Batch, horizon: int, bands: str) -> Fits:
    """A season of one period makes the seasonal naive the naive method.

    The variances of `methods.md` hold the uncertainty of mean and drift already; parameters taken as known make no
    difference. The moving average's are those of the sum of its own weights' errors: see the kernel.
    """
    kind, names = _KINDS[form.family]
    n, length = batch.values.shape
    season_length = batch.timeline.season_length
    forecast, each, together = (np.empty((n, horizon)) for _ in range(3))
    residuals, parameters, statistics = np.empty((n, length)), np.empty((n, 1)), np.empty((n, 4))
    weights = np.array(form.weights or [1.0] * max(form.window, 1))
    windows = np.arange(1, min(_LONGEST_WINDOW, max(length - 2, 1)) + 1)
    windows = windows if form.window == BEST else np.array([len(weights)])
    kernel.fit_simple_batch(
        np.ascontiguousarray(batch.values), kind, season_length, weights / weights.sum(), windows,
        forecast, each, together, residuals, parameters, statistics,
    )  # fmt: skip
    return _fits(
        form, batch, bands, parameters[:, : len(names)], names, forecast, each, together, residuals, statistics
    )


def _fits(
    form: Form, batch: Batch, bands: str, parameters: Floats, names: tuple[str, ...], forecast: Floats, each: Floats,
    together: Floats, residuals: Floats, statistics: Floats,
) -> Fits:  # fmt: skip
    """What the kernels wrote, with notes on what could not be fitted."""
    n = len(forecast)
    loglik, sigma2, n_used, sum_squares = (np.ascontiguousarray(column) for column in statistics.T)
    notes = {i: too_few(batch.values[i]) for i in np.nonzero(np.isnan(forecast[:, 0]))[0].tolist()}
    note(notes, ~np.isnan(forecast[:, 0]) & np.isnan(each[:, 0]), "no bands: no past forecast to see its errors from")
    return Fits(
        forecast, residuals, parameters, names, loglik, sigma2, n_used, sum_squares,
        np.full(n, float(_PARAMETERS.get(form.family, 1))), (form,), np.zeros(n, dtype=np.int64),
        distribution=None if bands == "none" else Normal(forecast, each, together), notes=notes,
    )  # fmt: skip
