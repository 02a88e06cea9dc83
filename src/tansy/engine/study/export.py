"""A study as files: forecasts, accuracy and a summary. The same tables are downloaded from the screens."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator
from itertools import chain
from pathlib import Path
from typing import Any

import numpy as np
import polars as pl
import pyarrow as pa
import pyarrow.parquet as pq
from numpy.typing import NDArray
from scipy.special import ndtri

from tansy.engine.cleaning.corrections import Corrections
from tansy.engine.graph.graph import Graph
from tansy.engine.panel import Panel
from tansy.engine.study.accuracy import MEASURES, PUBLISHED
from tansy.engine.study.forecast import Forecast
from tansy.engine.study.run import Backtest, Study
from tansy.engine.study.sums import sums_of

Floats = NDArray[np.float64]


_NODES_AT_ONCE = 4096
_BACKTEST_COLUMNS = ("node", "origin", "lead", "period", "method", "mean", "actual")

SUM = "sum"
OWN_COLUMNS = (
    "node", "level", "period", "lead", "statistical", "forecast", SUM, "received", "corrected", "unjudged", "reason",
    "score",
)  # fmt: skip
"""Columns of the files beside those of the keys."""


def key_column(key: str, beside: tuple[str, ...] = OWN_COLUMNS) -> str:
    """Column of a key in the files: its own name, with "key " before it where that is the name of a column beside."""
    taken = key.casefold() in beside or re.fullmatch(r"(sum_)?q[0-9.e-]+", key.casefold())
    return f"key {key}" if taken else key


def csv_of(table: pl.DataFrame, numbers_stay: bool = False) -> bytes:
    """CSV of a table. A text that a spreadsheet would take for a formula gets an apostrophe before it.

    numbers_stay: texts that are numbers do not, in a table whose numbers are texts as they were written.
    """
    texts = pl.col(pl.String)
    escaped = texts.str.replace(r"^([=+\-@\t\r])", "'${1}")
    if numbers_stay:
        escaped = pl.when(texts.str.contains(r"^[+-]?[\d.,\s]+$")).then(texts).otherwise(escaped).name.keep()
    return table.with_columns(escaped).write_csv().encode()


def probability_name(p: float) -> str:
    """Column of a quantile: q0.025."""
    return f"q{p:g}"


def node_keys(graph: Graph, beside: tuple[str, ...] = OWN_COLUMNS) -> dict[str, list[str]]:
    """What every node is on each key column: the code of a product, the name of a group, or "every product"."""
    return {key_column(key, beside): codes for key, codes in graph.key_codes.items()}


def forecasts(published: Forecast) -> pl.DataFrame:
    """A row per node and lead: the key columns, node, level, period, lead, statistical, forecast, a column per
    quantile, and the same of the sum over the leads from 1 to this one. `statistical` is the forecast before planners
    changed it.

    The series themselves are the rows of the last level.
    """
    graph, n, horizon = published.graph, published.graph.n_nodes, published.leads
    texts = {
        **node_keys(graph),
        "node": [graph.name(i) for i in range(n)],
        "level": [graph.levels[i].name for i in graph.level_of.tolist()],
    }
    columns: dict[str, Any] = {name: np.repeat(np.array(t, dtype=object), horizon) for name, t in texts.items()}
    columns["period"] = np.tile(np.array(published.timeline.labels, dtype=object), n)
    columns["lead"] = np.tile(np.arange(1, horizon + 1, dtype=np.int32), n)
    columns["statistical"] = published.statistical.ravel()
    columns["forecast"] = published.mean.ravel()
    for q, p in enumerate(published.probabilities):
        columns[probability_name(float(p))] = published.quantiles[:, q].ravel()
    sums, of_sums = sums_of(published)
    columns[SUM] = sums.ravel()
    for q, p in enumerate(published.probabilities):
        columns[f"{SUM}_{probability_name(float(p))}"] = of_sums[:, q].ravel()
    return pl.DataFrame(columns, schema_overrides=dict.fromkeys((*texts, "period"), pl.String))


def save_backtest(path: Path) -> Callable[[Backtest], None]:
    """What writes all forecasts of a backtest to a Parquet file: a row per node, origin, lead and method, with the
    mean, quantiles and what came. A method's own quantiles are normal, with its parameters taken as known."""

    def write(found: Backtest) -> None:
        tables = _backtest_tables(found)
        first = next(tables)
        with pq.ParquetWriter(path, first.schema, compression="zstd") as writer:
            for table in chain([first], tables):
                writer.write_table(table)

    return write


def _backtest_tables(found: Backtest) -> Iterator[pa.Table]:
    """Tables of blocks of nodes, one method and origin after another."""
    prepared, graph, timeline = found.prepared, found.prepared.graph, found.prepared.timeline
    z, leads = ndtri(found.probabilities), prepared.recipe.leads
    keys_of = node_keys(graph, _BACKTEST_COLUMNS)
    periods = np.array([*timeline.labels, *timeline.after(leads).labels], dtype=object)
    for start in range(0, graph.n_nodes, _NODES_AT_ONCE):
        rows = slice(start, min(start + _NODES_AT_ONCE, graph.n_nodes))
        n = rows.stop - start
        names = np.repeat(np.array([graph.name(i) for i in range(start, rows.stop)], dtype=object), leads)
        keys = {name: np.repeat(np.array(column[rows], dtype=object), leads) for name, column in keys_of.items()}
        for o, n_seen in enumerate(prepared.seen_at):

            def own(mean: Floats, spread: Floats) -> tuple[Floats, Floats]:
                return mean, mean[:, None] + z[None, :, None] * spread[:, None]

            forecasts = {
                PUBLISHED: (found.published[rows, o], found.published_quantiles[rows, o]),
                "choice": own(found.chosen.base[rows, o], found.chosen.spread[rows, o]),
            }
            for name, results in zip(found.methods, found.endings[o].results, strict=True):
                block = results.rows(rows.start, rows.stop)
                forecasts[name] = own(block.mean, block.spread)
            for name, (mean, quantiles) in forecasts.items():
                columns: dict[str, Any] = dict(keys)
                columns["node"] = names
                columns["origin"] = np.full(n * leads, timeline.labels[n_seen - 1], dtype=object)
                columns["lead"] = np.tile(np.arange(1, leads + 1, dtype=np.int32), n)
                columns["period"] = np.tile(periods[n_seen : n_seen + leads], n)
                columns["method"] = np.full(n * leads, name, dtype=object)
                columns["mean"] = mean.ravel() + 0.0
                for q, p in enumerate(found.probabilities):
                    columns[probability_name(float(p))] = quantiles[:, q].ravel() + 0.0
                columns["actual"] = found.actuals[rows, o].ravel()
                yield pa.table({key: pa.array(values, from_pandas=True) for key, values in columns.items()})


def accuracy(study: Study) -> pl.DataFrame:
    """Long table: level, method, lead (0 for all), measure, value."""
    tables = study.tables
    values = tables.by_method
    i, j, lead, k = (index.ravel() for index in np.indices(values.shape))
    return pl.DataFrame(
        {
            "level": np.array(tables.level_names, dtype=object)[i].tolist(),
            "method": np.array(tables.method_names, dtype=object)[j].tolist(),
            "lead": lead,
            "measure": np.array(MEASURES, dtype=object)[k].tolist(),
            "value": values.ravel(),
        }
    ).with_columns(pl.col("value").fill_nan(None))


def corrections(changes: Corrections, panel: Panel) -> pl.DataFrame:
    """A row per changed value: the key columns, period, received, corrected (empty for unknown), unjudged (yes where no
    forecast is scored by it), reason, score; as `read_corrections` takes it.

    panel: as received.
    """
    at = changes.series
    labels = np.array(panel.timeline.labels, dtype=object)
    keys = {key_column(name): np.array(panel.keys[name], dtype=object)[at].tolist() for name in panel.key_names}
    columns: dict[str, Any] = dict(keys)
    columns["period"] = labels[changes.period].tolist()
    columns["received"] = panel.values[at, changes.period]
    columns["corrected"] = changes.value
    columns["unjudged"] = np.where(changes.unjudged, "yes", "").tolist()
    columns["reason"] = list(changes.reason)
    columns["score"] = np.round(changes.score, 3)
    texts = dict.fromkeys((*keys, "period", "unjudged", "reason"), pl.String)
    return pl.DataFrame(columns, schema_overrides=texts).with_columns(
        pl.col("received", "corrected", "score").fill_nan(None)
    )


def summary(study: Study) -> dict[str, Any]:
    """Counts, errors, coverage, seconds per step, memory."""
    tables = study.tables
    published = tables.method_names.index(PUBLISHED)
    finest = len(study.graph.levels) - 1

    def measures(level: int) -> dict[str, float | None]:
        found = tables.by_method[level, published, 0]
        return {name: _number(value) for name, value in zip(MEASURES, found, strict=True)}

    def coverage(level: int) -> dict[str, float | None]:
        return {f"{b:g}": _number(tables.coverage[level, 0, i]) for i, b in enumerate(tables.band_levels)}

    return {
        "recipe": study.recipe.name,
        "series": study.graph.n_series,
        "nodes": study.graph.n_nodes,
        "levels": len(study.graph.levels),
        "periods": study.timeline.n_periods,
        "first": study.timeline.labels[0],
        "last": study.timeline.labels[-1],
        "leads": int(study.forecast.shape[1]),
        "origins": [study.timeline.labels[n - 1] for n in study.seen_at],
        "methods": list(study.methods),
        "published": {"finest": measures(finest), "all nodes": measures(finest + 1)},
        "coverage": {"finest": coverage(finest), "all nodes": coverage(finest + 1)},
        "tasks": {"computed": study.tasks.computed, "reused": study.tasks.reused},
        "values_corrected": len(study.corrections),
        "adjustments": {
            "laid": sum(not step.problem for step in study.adjusted),
            "left_out": [step.problem for step in study.adjusted if step.problem],
        },
        "largest_gap": study.largest_gap,
        "negative_values": int((study.forecast < 0).sum()),
        "seconds": {name: round(value, 3) for name, value in study.seconds.items()},
        "peak_memory_mb": round(study.peak_memory_mb, 1),
    }


def _number(value: float) -> float | None:
    return float(value) if np.isfinite(value) else None


def write(study: Study, panel: Panel, folder: Path, form: str = "parquet") -> dict[str, Any]:
    """Write forecasts.parquet or .csv, accuracy.csv, corrections.csv and summary.json; returns the summary.

    panel: as received, with the values that were corrected.
    """
    folder.mkdir(parents=True, exist_ok=True)
    table = forecasts(study.published)
    if form == "csv":
        (folder / "forecasts.csv").write_bytes(csv_of(table))
    else:
        table.write_parquet(folder / "forecasts.parquet")
    (folder / "accuracy.csv").write_bytes(csv_of(accuracy(study)))
    (folder / "corrections.csv").write_bytes(csv_of(corrections(study.corrections, panel)))
    result = summary(study)
    (folder / "summary.json").write_text(json.dumps(result, indent=2) + "\n", encoding="utf-8")
    return result
