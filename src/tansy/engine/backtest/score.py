"""All measures of a set of forecasts against what came, per series and pooled."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from tansy.engine.backtest.measures import (
    Floats,
    interval_score,
    mean_absolute_season_step,
    mean_square_step,
    nan_mean,
    pinball,
    wape,
)

CRPS_PROBABILITIES = tuple(round(0.05 * i, 2) for i in range(1, 20))


@dataclass(frozen=True)
class Forecasts:
    """actuals, mean: [series, leads]. quantiles: probability -> [series, leads]. train: [series, periods]."""

    actuals: Floats
    mean: Floats
    quantiles: dict[float, Floats]
    train: Floats


def score(forecasts: Forecasts, season_length: int) -> tuple[dict[str, object], list[dict[str, object]]]:
    """Measures pooled over all series, and of each series; a measure that is undefined is None.

    Pooled: absolute measures over all cells, WAPE as a ratio of sums, scaled ones as means over series.
    """
    each = _measures(forecasts, season_length, 1)
    pooled = _measures(forecasts, season_length, None)
    for name in ("MASE", "RMSSE"):
        pooled[name] = nan_mean(np.asarray(each[name]))
    n = len(forecasts.actuals)
    return _plain(pooled, ()), [_plain(each, (i,)) for i in range(n)]


def _plain(measures: dict[str, object], at: tuple[int, ...]) -> dict[str, object]:
    plain: dict[str, object] = {}
    for name, value in measures.items():
        if isinstance(value, dict):
            plain[name] = _plain(value, at)
        else:
            number = float(np.asarray(value)[at])
            plain[name] = number if np.isfinite(number) else None
    return plain


def _measures(forecasts: Forecasts, m: int, axis: int | None) -> dict[str, object]:
    actuals, mean, train = forecasts.actuals, forecasts.mean, forecasts.train
    e = actuals - mean
    seen = np.where(np.isnan(e), np.nan, actuals)
    mse = nan_mean(e * e, axis)
    last_at = train.shape[1] - 1 - np.argmax(~np.isnan(train[:, ::-1]), axis=1)
    last = train[np.arange(len(train)), last_at]
    naive_mse = nan_mean((seen - last[:, None]) ** 2, axis)
    sizes = np.abs(actuals) + np.abs(mean)
    season_scale = mean_absolute_season_step(train, m)
    step_scale = mean_square_step(train)
    with np.errstate(divide="ignore", invalid="ignore"):
        scaled = {
            "MASE": np.where(season_scale > 0, nan_mean(np.abs(e), 1) / season_scale, np.nan),
            "RMSSE": np.where(step_scale > 0, np.sqrt(nan_mean(e * e, 1) / step_scale), np.nan),
        }
        result: dict[str, object] = {
            "ME": nan_mean(e, axis),
            "MAE": nan_mean(np.abs(e), axis),
            "MSE": mse,
            "RMSE": np.sqrt(mse),
            "MAPE": 100.0 * nan_mean(np.where(actuals != 0, np.abs(e / actuals), np.nan), axis),
            "sMAPE": 200.0 * nan_mean(np.where(sizes > 0, np.abs(e) / sizes, np.where(np.isnan(e), np.nan, 0.0)), axis),
            "WAPE": wape(e, seen, axis),
            **scaled,
            "theil_u": np.where(naive_mse > 0, np.sqrt(mse / naive_mse), np.nan),
        }
    losses = {p: pinball(actuals, q, p) for p, q in sorted(forecasts.quantiles.items())}
    result["pinball"] = {f"{p:g}": nan_mean(loss, axis) for p, loss in losses.items()}
    if all(p in losses for p in CRPS_PROBABILITIES):
        result["crps"] = 2.0 * nan_mean(np.stack([nan_mean(losses[p], axis) for p in CRPS_PROBABILITIES]), 0)
    coverage: dict[str, Floats] = {}
    intervals: dict[str, Floats] = {}
    for low in forecasts.quantiles:
        high = round(1.0 - low, 10)
        if low < 0.5 and high in forecasts.quantiles:
            level = round(1.0 - 2.0 * low, 10)
            a, b = forecasts.quantiles[low], forecasts.quantiles[high]
            inside = np.where(np.isnan(actuals + a + b), np.nan, (actuals >= a) & (actuals <= b))
            coverage[f"{100 * level:g}"] = nan_mean(inside, axis)
            intervals[f"{100 * level:g}"] = nan_mean(interval_score(actuals, a, b, level), axis)
    result["coverage"], result["interval_score"] = coverage, intervals
    return result
