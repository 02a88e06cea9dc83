"""How good a study's forecasts were, pooled and per node."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tansy.engine.backtest.measures import gain, nan_mean, wape
from tansy.engine.structure.grouping import Structure

Floats = NDArray[np.float64]

MEASURES = ("MAE", "WAPE", "RMSSE", "gain", "bias")
CHOICE = "choice per series"
PUBLISHED = "published"


@dataclass(frozen=True)
class Judged:
    """What came and what was forecast. actuals, published: [nodes, origins, H]; by_method: [nodes, methods, origins,
    H]; by_reconciliation: name -> [nodes, origins, H]; published_quantiles: [nodes, origins, Q, H]; scale: [nodes,
    origins], the mean squared step of RMSSE; counts: [nodes, origins], where there was anything to forecast from."""

    methods: tuple[str, ...]
    actuals: Floats
    by_method: Floats
    by_reconciliation: dict[str, Floats]
    published: Floats
    published_quantiles: Floats
    scale: Floats
    counts: NDArray[np.bool_]

    @property
    def benchmark(self) -> Floats:
        return self.by_method[:, self.methods.index("seasonal-naive")]


@dataclass(frozen=True)
class Tables:
    """Pooled accuracy.

    by_method: [levels + 1, methods + 2, H + 1, 5], the last level standing for all nodes, the last two methods for the
    choice per series and for what is published, lead 0 for all leads; only cells where every method has a forecast, so
    that all are judged on the same. by_reconciliation: [levels + 1, reconciliations, 5].
    coverage: [levels + 1, H + 1, bands], share of actuals inside, widest band first. cells: [levels + 1], how many
    errors stand behind lead 0.
    """

    method_names: tuple[str, ...]
    reconciliation_names: tuple[str, ...]
    level_names: tuple[str, ...]
    band_levels: tuple[float, ...]
    by_method: Floats
    by_reconciliation: Floats
    coverage: Floats
    cells: NDArray[np.int64]


def _rmsse(errors: Floats, scale: Floats) -> Floats:
    """Root over origins and leads (the last two axes) of e^2 / scale, per node."""
    usable = np.where(scale > 0.0, scale, np.nan)
    return np.sqrt(nan_mean(errors * errors / usable[:, :, None], axis=(1, 2)))


def _measure(errors: Floats, actuals: Floats, scale: Floats, benchmark_rmsse: float) -> list[float]:
    """MAE, WAPE, RMSSE, gain, bias (in percent of volume, forecast minus actual) over some nodes."""
    rmsse = float(nan_mean(_rmsse(errors, scale)))
    seen = ~np.isnan(errors)
    volume = float(np.abs(actuals[seen]).sum())
    bias = -100.0 * float(errors[seen].sum()) / volume if volume > 0 else float("nan")
    improvement = float(gain(np.array(rmsse), np.array(benchmark_rmsse)))
    return [float(nan_mean(np.abs(errors))), float(wape(errors, actuals)), rmsse, improvement, bias]


def _level_masks(structure: Structure) -> list[NDArray[np.bool_]]:
    masks = [structure.level_of == i for i in range(len(structure.levels))]
    return [*masks, np.ones(structure.n_nodes, dtype=bool)]


def tabulate(judged: Judged, structure: Structure, probabilities: Floats) -> Tables:
    """Pool errors over the nodes of each level."""
    masks = _level_masks(structure)
    horizon = judged.actuals.shape[2]
    n_bands = len(probabilities) // 2
    comparable = ~np.isnan(judged.by_method).any(axis=1) & judged.counts[:, :, None]
    forecasts = {
        **{name: judged.by_method[:, j] for j, name in enumerate(judged.methods)},
        CHOICE: judged.by_reconciliation["none"],
        PUBLISHED: judged.published,
    }
    by_method = np.full((len(masks), len(forecasts), horizon + 1, len(MEASURES)), np.nan)
    by_reconciliation = np.full((len(masks), len(judged.by_reconciliation), len(MEASURES)), np.nan)
    coverage = np.full((len(masks), horizon + 1, n_bands), np.nan)
    cells = np.zeros(len(masks), dtype=np.int64)
    compared = np.where(comparable, judged.actuals, np.nan)
    for i, mask in enumerate(masks):
        actuals, scale = compared[mask], judged.scale[mask]
        cells[i] = int((~np.isnan(actuals)).sum())
        for lead in range(horizon + 1):
            at = slice(None) if lead == 0 else slice(lead - 1, lead)
            a = actuals[:, :, at]
            benchmark = float(nan_mean(_rmsse(a - judged.benchmark[mask][:, :, at], scale)))
            for j, forecast in enumerate(forecasts.values()):
                by_method[i, j, lead] = _measure(a - forecast[mask][:, :, at], a, scale, benchmark)
        counted = np.where(judged.counts[:, :, None], judged.actuals, np.nan)[mask]
        benchmark_errors = counted - judged.benchmark[mask]
        both = np.where(np.isnan(benchmark_errors), np.nan, counted)
        benchmark = float(nan_mean(_rmsse(benchmark_errors, scale)))
        for j, forecast in enumerate(judged.by_reconciliation.values()):
            by_reconciliation[i, j] = _measure(both - forecast[mask], both, scale, benchmark)
        q = judged.published_quantiles[mask]
        for b in range(n_bands):
            inside = (counted >= q[:, :, b]) & (counted <= q[:, :, -1 - b])
            share = np.where(np.isnan(counted), np.nan, inside)
            coverage[i, 0, b] = float(nan_mean(share))
            coverage[i, 1:, b] = nan_mean(share, axis=(0, 1))
    return Tables(
        method_names=tuple(forecasts),
        reconciliation_names=tuple(judged.by_reconciliation),
        level_names=(*(level.name for level in structure.levels), "all nodes"),
        band_levels=tuple(float(round(100.0 * (1.0 - 2.0 * p), 6)) for p in probabilities[:n_bands]),
        by_method=by_method,
        by_reconciliation=by_reconciliation,
        coverage=coverage,
        cells=cells,
    )


def score_nodes(judged: Judged) -> tuple[Floats, Floats]:
    """MAE, WAPE, RMSSE, gain and the number of origins that count: per node and method [nodes, methods, 5], and per
    node for what is published [nodes, 5]. Gain is on the origins that a method shares with the seasonal naive."""
    forecasts = np.concatenate([judged.by_method, judged.published[:, None]], axis=1)
    n, k = forecasts.shape[:2]
    scores = np.full((n, k, 5), np.nan)
    actuals = np.where(judged.counts[:, :, None], judged.actuals, np.nan)
    benchmark = actuals - judged.benchmark
    for j in range(k):
        errors = actuals - forecasts[:, j]
        shared = np.where(np.isnan(benchmark), np.nan, errors)
        against = np.where(np.isnan(errors), np.nan, benchmark)
        scores[:, j, 0] = nan_mean(np.abs(errors), axis=(1, 2))
        scores[:, j, 1] = wape(errors, actuals, axis=(1, 2))
        scores[:, j, 2] = _rmsse(errors, judged.scale)
        scores[:, j, 3] = gain(_rmsse(shared, judged.scale), _rmsse(against, judged.scale))
        scores[:, j, 4] = (~np.isnan(errors)).any(axis=2).sum(axis=1)
    return scores[:, :-1], scores[:, -1]


def hits(judged: Judged) -> Floats:
    """Share of actuals inside each band of the backtest, [nodes, bands], widest band first."""
    actuals = np.where(judged.counts[:, :, None], judged.actuals, np.nan)
    q = judged.published_quantiles
    bands = []
    for b in range(q.shape[2] // 2):
        inside = (actuals >= q[:, :, b]) & (actuals <= q[:, :, -1 - b])
        bands.append(nan_mean(np.where(np.isnan(actuals), np.nan, inside), axis=(1, 2)))
    return np.stack(bands, axis=1)
