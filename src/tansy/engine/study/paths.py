"""Coherent joint sample paths: futures that may come, for those who simulate stock.

Each series and lead has the distribution that is published for it, at even ranks; which ranks come together is taken
from the past (Clark, Gangopadhyay, Hay, Rajagopalan, Wilby 2004): a path stands for a window of past periods, the same
for all series, and a series stands in it where its error in that window stood among its errors in all of them. So a
week that was poor everywhere is poor everywhere in some path. Errors are those of a plain forecast, the last season, or
by weeks the level of the last two months under the season of the group, and ranks are all that is taken from them. How
the leads of one series go together is not the plain forecast's: scores of the ranks are turned to go together as errors
of the backtest do, which bands of sums stand on too.

Paths are of the series; those of totals are their sums, so that every path adds up at every node.
"""

from __future__ import annotations

import io
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
from numpy.typing import NDArray
from scipy.special import ndtri

from tansy.engine.backtest.intervals import are_whole, groups
from tansy.engine.backtest.known import Known
from tansy.engine.errors import PathsError
from tansy.engine.study.export import key_column
from tansy.engine.study.forecast import Forecast

Floats = NDArray[np.float64]
Singles = NDArray[np.float32]
Integers = NDArray[np.int64]
Booleans = NDArray[np.bool_]

MOST_PATHS = 2_000
MOST_VALUES = 200_000_000
"""Of all paths together: 800 MB."""
_BLOCK = 256  # series at a time
_BLOCKS_ASKED = 8  # how leads go together
_EDGE = 1e-3
_SHORT_SEASON = 13  # periods; longer ones are shared with the group
_LEVEL_OF = 8  # periods
_SEED = 2026
_NEARLY = 1e-9  # of the largest error: what ties are told apart by


def joint_paths(forecast: Forecast, known: Known, n: int) -> Iterator[tuple[slice, Singles]]:
    """Paths of the series, block after block: which, and [series, H, n]. Their mean over the paths is the forecast; of
    what is sold in whole units it is that of n paths that are whole.

    known: what there was to know at the end of the history, of all nodes. Raises PathsError where there would be too
    many, or none.
    """
    first, n_series, horizon = forecast.graph.n_aggregates, forecast.graph.n_series, forecast.leads
    if not 2 <= n <= MOST_PATHS:
        raise PathsError(f"Ask for 2 to {MOST_PATHS:,} paths, not {n:,}.")
    if n * n_series * horizon > MOST_VALUES:
        most = MOST_VALUES // (n_series * horizon)
        raise PathsError(f"{n:,} paths of {n_series:,} series over {horizon} leads are too many; ask for {most:,}.")
    values = known.values[first:]
    whole = are_whole(known.judged[first:]) & (forecast.mean[first:] >= 0.0).all(axis=1)
    quantiles = _before_rounding(forecast, whole, known.kinds.slow[first:])
    nonnegative = np.asarray((forecast.quantiles[first:] >= 0.0).all(axis=(1, 2)))
    windows = _Windows(values, known, horizon, n)
    of_leads = forecast.together[groups(forecast.graph.level_of, len(forecast.graph.levels))[first]]
    turned = _turned(windows, of_leads)
    for start in range(0, n_series, _BLOCK):
        rows = slice(start, min(start + _BLOCK, n_series))
        mean = forecast.mean[first:][rows]
        even = _at_even_ranks(quantiles[rows], forecast.probabilities, n)
        even = _about(mean, even, nonnegative[rows])
        even[whole[rows]] = _whole(even[whole[rows]], mean[whole[rows]])
        ranks = _ranks(np.einsum("gh,shn->sgn", turned, windows.scores(rows)))
        yield rows, np.take_along_axis(even, ranks, axis=2).astype(np.float32)


def _turned(windows: _Windows, of_leads: Floats) -> Floats:
    """[H, H], what makes of scores that go together as those of the windows do such that go together as `of_leads`."""
    of_windows = windows.of_leads()
    before, after = (np.linalg.cholesky(_no_edge(one)) for one in (of_windows, of_leads))
    return np.asarray(np.linalg.solve(before.T, after.T).T)


def _no_edge(correlation: Floats) -> Floats:
    """Correlations that are no more than nearly perfect, so that they have a root."""
    return np.asarray((1.0 - _EDGE) * correlation + _EDGE * np.eye(len(correlation)))


def _ranks(values: Floats) -> Integers:
    """Along the last axis."""
    return np.argsort(np.argsort(values, axis=-1), axis=-1)


class _Windows:
    """Past windows of as many periods as are forecast, one for each of n paths, and what a plain forecast missed in
    them."""

    def __init__(self, values: Floats, known: Known, horizon: int, n: int) -> None:
        length, season = values.shape[1], known.timeline.season_length
        self._values, self._known, self._horizon = values, known, horizon
        self._season = season if season <= _SHORT_SEASON and length >= 2 * season + horizon else 0
        back = self._season * -(-horizon // self._season) if self._season else min(_LEVEL_OF, length)
        self._starts = np.arange(back, max(length - horizon + 1, back + 1))
        # all windows in turn, in an order of chance
        rng, count = np.random.default_rng(_SEED), len(self._starts)
        self._of_path = np.concatenate([rng.permutation(count) for _ in range(-(-n // count))])[:n]

    def scores(self, rows: slice) -> Floats:
        """Normal scores of the ranks of the errors, [series, H, n]; ties are told apart by chance."""
        errors = self._errors(rows)[:, self._of_path].swapaxes(1, 2)
        jitter = np.random.default_rng([_SEED, rows.start]).random(errors.shape)
        largest = np.abs(errors).max(axis=2, keepdims=True, initial=0.0)
        n = errors.shape[2]
        scores = ndtri((np.arange(n) + 0.5) / n)
        return np.asarray(scores[_ranks(errors + _NEARLY * np.maximum(largest, 1.0) * jitter)])

    def of_leads(self) -> Floats:
        """How scores of leads go together, [H, H], over blocks of series from the first to the last."""
        starts = np.arange(0, len(self._values), _BLOCK)
        asked = starts[np.unique(np.linspace(0, len(starts) - 1, _BLOCKS_ASKED).round().astype(int))]
        total = np.zeros((self._horizon, self._horizon))
        for start in asked.tolist():
            scores = self.scores(slice(start, min(start + _BLOCK, len(self._values))))
            total += np.einsum("shn,sgn->hg", scores, scores)
        size = np.sqrt(np.diagonal(total))
        return np.asarray(total / np.outer(size, size))

    def _errors(self, rows: slice) -> Floats:
        """[series, windows, H]; nothing where something is not known."""
        values = self._values[rows]
        at = self._starts[:, None] + np.arange(self._horizon)
        inside = np.minimum(at, values.shape[1] - 1)
        if self._season:
            back = self._season * -(-(np.arange(self._horizon) + 1) // self._season)
            expected = values[:, inside - back]
        else:
            first = self._known.graph.n_aggregates
            profile = self._known.profiles[self._known.season_group[first + rows.start : first + rows.stop]]
            known = ~np.isnan(values)
            sold, usual = (
                np.pad(np.cumsum(np.where(known, one, 0.0), axis=1), ((0, 0), (1, 0)))
                for one in (values, profile[:, : values.shape[1]])
            )
            since = self._starts - min(_LEVEL_OF, self._starts[0])
            of_season = usual[:, self._starts] - usual[:, since]
            level = np.divide(
                sold[:, self._starts] - sold[:, since], of_season, out=np.zeros_like(of_season), where=of_season > 0.0
            )
            expected = level[:, :, None] * profile[:, inside]
        return np.nan_to_num(values[:, inside] - expected)


def _before_rounding(forecast: Forecast, whole: Booleans, slow: Booleans) -> Floats:
    """Quantiles of the series as they were before they were drawn to whole numbers, [series, Q, H], give or take half a
    unit: those of slow movers were drawn in (`intervals.whole_bands`), and in whole units all others outwards. A band
    of whole numbers as it stands would be too narrow for the counts that it holds, or too wide."""
    apart = np.where(forecast.probabilities < 0.5, -0.5, 0.5)[None, :, None]
    drawn = np.where(whole & slow, 1.0, -1.0 if forecast.is_whole else 0.0)[:, None, None]
    quantiles = forecast.quantiles[forecast.graph.n_aggregates :]
    certain = (quantiles[:, :1] == quantiles[:, -1:]) & (quantiles[:, :1] == 0.0)  # zero by decision has no band
    return np.asarray(quantiles + np.where(certain, 0.0, drawn * apart))


def _at_even_ranks(quantiles: Floats, p: Floats, n: int) -> Floats:
    """Values at the probabilities (k + 1/2) / n, [series, H, n], ascending: between the quantiles, and beyond them, on
    straight lines over the normal's."""
    z, asked = ndtri(p), ndtri((np.arange(n) + 0.5) / n)
    k = np.clip(np.searchsorted(z, asked) - 1, 0, len(z) - 2)
    share = (asked - z[k]) / (z[k + 1] - z[k])
    q = np.maximum.accumulate(quantiles, axis=1).swapaxes(1, 2)
    return np.asarray(q[..., k] * (1.0 - share) + q[..., k + 1] * share)


def _about(mean: Floats, values: Floats, nonnegative: Booleans) -> Floats:
    """Ascending values [series, H, n] moved to where their mean is the forecast's [series, H]; where none may be below
    zero, what would fall below it is nothing, and the others are moved further (the nearest such values: Held, Wolfe,
    Crowder 1974)."""
    n = values.shape[2]
    total = n * mean[..., None]
    descending = values[..., ::-1]
    move = (total - np.cumsum(descending, axis=2)) / np.arange(1, n + 1)
    last = np.maximum((descending + move > 0.0).sum(axis=2, keepdims=True) - 1, 0)
    kept = np.take_along_axis(move, np.where(nonnegative[:, None, None], last, n - 1), axis=2)
    moved = values + kept
    return np.asarray(np.where(nonnegative[:, None, None], np.maximum(moved, 0.0), moved))


def _whole(values: Floats, mean: Floats) -> Floats:
    """Values [series, H, n], ascending, as whole numbers that still ascend and have the mean of the forecast, as nearly
    as n of them can."""
    low = np.floor(values + 1e-9)
    missing = np.round(mean * values.shape[2]) - low.sum(axis=2)
    # largest remainders, the higher value first where they are as large
    order = np.argsort(np.argsort(-(values - low)[..., ::-1], axis=2, kind="stable"), axis=2)[..., ::-1]
    return np.asarray(np.sort(low + (order < missing[:, :, None]), axis=2))


def totals(forecast: Forecast, blocks: Iterator[tuple[slice, Singles]], level: int) -> tuple[Integers, Singles]:
    """Paths of the nodes of a level above the series, [nodes, H, n], and which nodes they are."""
    graph = forecast.graph
    nodes = np.nonzero(graph.level_of == level)[0]
    parts = graph.summation.matrix[nodes].tocsc()
    found: Singles | None = None
    for rows, paths in blocks:
        own = parts[:, rows] @ paths.reshape(len(paths), -1)
        if found is None:
            found = np.zeros((len(nodes), *paths.shape[1:]), dtype=np.float32)
        found += own.reshape(found.shape)
    assert found is not None
    return nodes, found


def write_paths(forecast: Forecast, known: Known, n: int, to: Path | io.BytesIO, level: str = "") -> None:
    """Parquet: the key columns, period, lead, path and value, a row each; of the series, or of the nodes of a level.

    Raises PathsError, also where there is no such level.
    """
    graph = forecast.graph
    names = [one.name for one in graph.levels]
    if level and level not in names:
        raise PathsError(f"There is no level {level!r}; there are {', '.join(map(repr, names))}.")
    blocks = joint_paths(forecast, known, n)
    finest = graph.n_aggregates
    parts: Iterator[tuple[Integers, Singles]]
    if level and level != names[-1]:
        parts = iter([totals(forecast, blocks, names.index(level))])
    else:
        parts = ((np.arange(finest + rows.start, finest + rows.stop), paths) for rows, paths in blocks)
    writer: pq.ParquetWriter | None = None
    for nodes, paths in parts:
        table = _table(forecast, nodes, paths)
        if writer is None:
            writer = pq.ParquetWriter(to, table.schema, compression="zstd")
        writer.write_table(table)
    if writer is not None:
        writer.close()


def _table(forecast: Forecast, nodes: Integers, paths: Singles) -> pa.Table:
    n_nodes, horizon, n = paths.shape
    beside = ("period", "lead", "path", "value")
    columns: dict[str, pa.Array] = {}
    each = pa.array(np.repeat(np.arange(n_nodes, dtype=np.int32), horizon * n))
    for key, codes in forecast.graph.key_codes.items():
        texts = pa.array([codes[node] for node in nodes.tolist()], pa.string())
        columns[key_column(key, beside)] = texts.take(each)
    leads = np.tile(np.repeat(np.arange(horizon, dtype=np.int32), n), n_nodes)
    periods = pa.array(forecast.timeline.labels, pa.string())
    columns["period"] = periods.take(pa.array(leads))
    columns["lead"] = pa.array(leads + 1)
    columns["path"] = pa.array(np.tile(np.arange(1, n + 1, dtype=np.int32), n_nodes * horizon))
    columns["value"] = pa.array(paths.ravel())
    return pa.table(columns)
