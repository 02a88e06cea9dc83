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
    choice per series and for what is published, lead 0 for all leads; each on all cells that it has a forecast for, its
    gain on those that it shares with the seasonal naive. cells and shared: [levels + 1, methods + 2], how many these
    are over all leads. by_reconciliation: [levels + 1, reconciliations, 5].
    coverage: [levels + 1, H + 1, bands], share of actuals inside, widest band first.
    """

    method_names: tuple[str, ...]
    reconciliation_names: tuple[str, ...]
    level_names: tuple[str, ...]
    band_levels: tuple[float, ...]
    by_method: Floats
    by_reconciliation: Floats
    coverage: Floats
    cells: NDArray[np.int64]
    shared: NDArray[np.int64]


def _rmsse(errors: Floats, scale: Floats) -> Floats:
    """Root over origins and leads (the last two axes) of e^2 / scale, per node."""
    usable = np.where(scale > 0.0, scale, np.nan)
    return np.sqrt(nan_mean(errors * errors / usable[:, :, None], axis=(1, 2)))


def _measure(errors: Floats, benchmark_errors: Floats, actuals: Floats, scale: Floats) -> list[float]:
    """MAE, WAPE, RMSSE, gain, bias (in percent of volume, actual minus forecast) over some nodes. The gain is on the
    cells where both have an error."""
    seen = ~np.isnan(errors)
    volume = float(np.abs(actuals[seen]).sum())
    bias = 100.0 * float(errors[seen].sum()) / volume if volume > 0 else float("nan")
    shared = seen & ~np.isnan(benchmark_errors)
    rmsse = nan_mean(_rmsse(errors, scale))
    own = rmsse if shared.sum() == seen.sum() else nan_mean(_rmsse(np.where(shared, errors, np.nan), scale))
    against = nan_mean(_rmsse(np.where(shared, benchmark_errors, np.nan), scale))
    return [
        float(nan_mean(np.abs(errors))), float(wape(errors, actuals)), float(rmsse), float(gain(own, against)), bias,
    ]  # fmt: skip


def _levels(structure: Structure) -> list[slice]:
    """Nodes of each level, then all."""
    each = [slice(level.first, level.first + level.n_nodes) for level in structure.levels]
    return [*each, slice(0, structure.n_nodes)]


def tabulate(judged: Judged, structure: Structure, probabilities: Floats) -> Tables:
    """Pool errors over the nodes of each level."""
    levels = _levels(structure)
    horizon = judged.actuals.shape[2]
    n_bands = len(probabilities) // 2
    forecasts = {
        **{name: judged.by_method[:, j] for j, name in enumerate(judged.methods)},
        CHOICE: judged.by_reconciliation["none"],
        PUBLISHED: judged.published,
    }
    by_method = np.full((len(levels), len(forecasts), horizon + 1, len(MEASURES)), np.nan)
    by_reconciliation = np.full((len(levels), len(judged.by_reconciliation), len(MEASURES)), np.nan)
    coverage = np.full((len(levels), horizon + 1, n_bands), np.nan)
    cells, shared = np.zeros((2, len(levels), len(forecasts)), dtype=np.int64)
    came = np.where(judged.counts[:, :, None], judged.actuals, np.nan)
    for i, nodes in enumerate(levels):
        counted, scale = came[nodes], judged.scale[nodes]
        benchmark = counted - judged.benchmark[nodes]
        for j, forecast in enumerate(forecasts.values()):
            errors = counted - forecast[nodes]
            cells[i, j] = int((~np.isnan(errors)).sum())
            shared[i, j] = int((~np.isnan(errors + benchmark)).sum())
            by_method[i, j, 0] = _measure(errors, benchmark, counted, scale)
            for lead in range(horizon):
                at = slice(lead, lead + 1)
                by_method[i, j, lead + 1] = _measure(errors[..., at], benchmark[..., at], counted[..., at], scale)
        for j, forecast in enumerate(judged.by_reconciliation.values()):
            by_reconciliation[i, j] = _measure(counted - forecast[nodes], benchmark, counted, scale)
        q = judged.published_quantiles[nodes]
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
        by_method=by_method + 0.0,
        by_reconciliation=by_reconciliation + 0.0,
        coverage=coverage,
        cells=cells,
        shared=shared,
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
