"""Joint sample paths: they have the published bands, add up, and move together as the past did."""

from __future__ import annotations

import io
from dataclasses import replace
from pathlib import Path

import numpy as np
import polars as pl
import pytest
from numpy.typing import NDArray

from tansy.engine.errors import PathsError
from tansy.engine.panel import Panel
from tansy.engine.study.defaults import default_recipe
from tansy.engine.study.forecast import Forecast
from tansy.engine.study.paths import MOST_PATHS, joint_paths, totals, write_paths
from tansy.engine.study.prepared import Prepared, prepare
from tansy.engine.study.run import run_study
from tansy.engine.study.sums import sums_of
from tansy.engine.timeline import Timeline

LEADS, N = 8, 400
Floats = NDArray[np.float64]


def study(values: Floats, method: str) -> tuple[Forecast, Prepared]:
    n, length = values.shape
    names = [f"A{i:03}" for i in range(n)]
    groups = {name: f"G{i % 4}" for i, name in enumerate(names)}
    panel = Panel(
        Timeline("W", 2800, length, 52), ("product",), {"product": names}, values, {"product": {"group": groups}}
    )
    base = default_recipe(panel, {"product": ["group"]})
    recipe = replace(
        base, methods=(method,), fallback=(method,), origins=5, step=8, leads=LEADS, reconciliation="bottom-up"
    )
    return run_study(panel, recipe, workers=1).published, prepare(panel, recipe)


def all_paths(forecast: Forecast, prepared: Prepared, n: int = N) -> Floats:
    return np.concatenate([paths for _, paths in joint_paths(forecast, prepared.known(), n)]).astype(np.float64)


def shocks(rng: np.random.Generator, n: int, length: int, share: float) -> Floats:
    """Standard normal, of which `share` of the variance is common to all series."""
    return np.sqrt(share) * rng.normal(size=(1, length)) + np.sqrt(1.0 - share) * rng.normal(size=(n, length))


@pytest.mark.parametrize("share", [0.0, 0.6])
def test_what_moves_together_stays_together(share: float) -> None:
    n = 120
    forecast, prepared = study(200.0 + 10.0 * shocks(np.random.default_rng(5), n, 160, share), "mean")
    first = forecast.graph.n_aggregates
    paths = all_paths(forecast, prepared)
    np.testing.assert_allclose(paths.mean(axis=2), forecast.mean[first:], rtol=1e-6)
    # bands as wide as published, as near as 400 even ranks can be; moved to where their mean is the forecast
    found = np.quantile(paths, forecast.probabilities, axis=2)
    for b in range(3):
        published = forecast.quantiles[first:, -1 - b] - forecast.quantiles[first:, b]
        np.testing.assert_allclose(found[-1 - b] - found[b], published, rtol=0.04 if b == 0 else 0.02)
    spread = paths.sum(axis=0).std(axis=1).mean()
    truth = 10.0 * np.sqrt(n * (1.0 + (n - 1) * share))
    # 145 windows give the common part a standard error of 6 %; without one what is left is chance among windows
    assert spread == pytest.approx(truth, rel=0.2)
    of_sum = paths.sum(axis=(0, 1)).std() / (spread * np.sqrt(LEADS))
    assert of_sum == pytest.approx(1.0, abs=0.25)  # weeks of noise level out


def test_a_level_that_drifts_drifts_in_the_paths() -> None:
    rng = np.random.default_rng(6)
    forecast, prepared = study(500.0 + np.cumsum(shocks(rng, 100, 160, 0.0) * 4.0, axis=1), "naive")
    paths = all_paths(forecast, prepared)
    apart = paths - paths.mean(axis=2, keepdims=True)
    spread = paths.std(axis=2)
    together = float(((apart[:, 3] * apart[:, 7]).mean(axis=1) / (spread[:, 3] * spread[:, 7])).mean())
    assert together == pytest.approx(np.sqrt(4 / 8), abs=0.08)  # of a walk; 500 windows were seen
    _, of_sums = sums_of(forecast)
    wide = np.quantile(paths.sum(axis=1), [0.1, 0.9], axis=1)
    published = of_sums[forecast.graph.n_aggregates :, [1, 4], -1]
    assert np.median((wide[1] - wide[0]) / (published[:, 1] - published[:, 0])) == pytest.approx(1.0, abs=0.1)


def test_counts_are_whole_numbers_that_mean_the_forecast() -> None:
    rng = np.random.default_rng(7)
    rates = np.concatenate([np.full(20, 0.02), rng.lognormal(0.0, 1.2, 60)])
    forecast, prepared = study(rng.poisson(rates[:, None], (80, 130)).astype(float), "mean")
    paths = all_paths(forecast, prepared)
    assert (paths == np.round(paths)).all() and (paths >= 0.0).all()
    expected = forecast.mean[forecast.graph.n_aggregates :]
    assert np.abs(paths.mean(axis=2) - expected).max() <= 0.5 / N + 1e-6
    often = expected[:, 0] > 1.0
    variance = paths.var(axis=2)[often].mean(axis=1)
    assert np.median(variance / expected[often].mean(axis=1)) == pytest.approx(1.0, abs=0.3)  # as Poisson counts have


def test_slow_movers_scatter_as_their_counts_do() -> None:
    """Their bands are drawn in to whole numbers; paths that took these as they stand would hold too little."""
    rng = np.random.default_rng(7)
    rates = np.repeat([0.3, 0.6, 1.0], 80)
    forecast, prepared = study(rng.poisson(rates[:, None], (240, 150)).astype(float), "mean")
    first = forecast.graph.n_aggregates
    assert (
        prepared.known().kinds.slow[first:].all() and (forecast.quantiles == np.round(forecast.quantiles))[first:].all()
    )
    paths = all_paths(forecast, prepared)
    for rate in np.unique(rates):
        own = paths[rates == rate]
        # half a unit is all that is known of where a band stood before it was drawn in
        assert own.var(axis=2).mean() / rate == pytest.approx(1.0, abs=0.25)
        assert (own == 0.0).mean() == pytest.approx(np.exp(-rate), abs=0.07)


def test_a_series_with_returns_takes_no_other_below_zero() -> None:
    rng = np.random.default_rng(12)
    values = rng.gamma(0.7, 9.0, (8, 120))
    values[0] = rng.normal(0.0, 20.0, 120)
    forecast, prepared = study(values, "mean")
    first = forecast.graph.n_aggregates
    forecast = replace(forecast, quantiles=forecast.quantiles.copy())
    forecast.quantiles[first + 1 :] = np.maximum(forecast.quantiles[first + 1 :], 0.0)
    paths = all_paths(forecast, prepared)
    assert (paths[0] < 0.0).any() and (paths[1:] >= 0.0).all()
    np.testing.assert_allclose(paths.mean(axis=2), forecast.mean[first:], rtol=1e-5, atol=1e-4)


def test_totals_are_the_sums_of_every_path_and_files_say_so() -> None:
    rng = np.random.default_rng(8)
    values = 50.0 + 5.0 * shocks(rng, 9, 120, 0.3)
    values[3, :100] = np.nan  # one that is new
    forecast, prepared = study(values, "mean")
    paths = all_paths(forecast, prepared, 30)
    names = [level.name for level in forecast.graph.levels]
    nodes, groups = totals(forecast, joint_paths(forecast, prepared.known(), 30), 1)
    for node, found in zip(nodes.tolist(), groups, strict=True):
        below = forecast.graph.below(np.array([node])).series
        np.testing.assert_allclose(found, paths[below].sum(axis=0), rtol=1e-6)
    files = {}
    for level in (*names, ""):
        buffer = io.BytesIO()
        write_paths(forecast, prepared.known(), 30, buffer, level)
        files[level] = pl.read_parquet(io.BytesIO(buffer.getvalue()))
    assert files[""].equals(files[names[-1]])
    assert files[""].columns == ["product", "period", "lead", "path", "value"] and files[""].height == 9 * LEADS * 30
    by_path = files[""].group_by("lead", "path").agg(pl.col("value").cast(float).sum()).sort("lead", "path")
    total = files[names[0]].sort("lead", "path")
    np.testing.assert_allclose(by_path["value"], total["value"], rtol=1e-6)
    one = files[""].filter((pl.col("product") == "A003") & (pl.col("lead") == 2)).sort("path")
    np.testing.assert_array_equal(one["value"].to_numpy(), paths[3, 1].astype(np.float32))
    assert one["period"].unique().to_list() == [forecast.timeline.labels[1]]


def test_what_cannot_be_had_is_said(tmp_path: Path) -> None:
    forecast, prepared = study(np.full((3, 80), 7.0), "mean")
    known = prepared.known()
    with pytest.raises(PathsError, match=f"2 to {MOST_PATHS:,} paths"):
        list(joint_paths(forecast, known, 1))
    with pytest.raises(PathsError, match="no level 'shop'; there are"):
        write_paths(forecast, known, 10, tmp_path / "paths.parquet", "shop")
    np.testing.assert_allclose(all_paths(forecast, prepared, 10), 7.0)  # what never moved does not
