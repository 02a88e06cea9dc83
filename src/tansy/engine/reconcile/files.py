"""Reconciliation of forecasts that stand in files: base forecasts, a structure, and what W is made of."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np
import polars as pl
from numpy.typing import NDArray

from tansy.engine.errors import FileError, RecipeError
from tansy.engine.graph.constraints import Summation, from_edges
from tansy.engine.reading.table import read_table
from tansy.engine.reconcile.around import Clash, around_fixed
from tansy.engine.reconcile.covariance import Covariance, mean_squares
from tansy.engine.reconcile.joint import JointPaths, Singles
from tansy.engine.reconcile.methods import Evidence, check, covariance, middle_of, reconcile
from tansy.engine.reconcile.projection import DenseProjection, Projection, projection

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]


@dataclass(frozen=True)
class Files:
    """base: node, lead, value. structure: parent, child and, where they count, split and level, the parent's.
    residuals: node, period, value. history: the same, of the finest nodes. fixed: like base, nodes whose values stay as
    they are there."""

    base: Path
    structure: Path
    residuals: Path | None = None
    history: Path | None = None
    fixed: Path | None = None


def reconcile_files(
    files: Files,
    method: str,
    nonnegative: bool = False,
    season: int = 0,
    variances: bool = False,
    quantiles: Floats | None = None,
) -> pl.DataFrame:
    """A table of node, lead, value and, if asked for, variance: of the error of the reconciled node, if W is true, and
    quantiles over joint paths of the residuals, taken to be as large at every lead.

    season: periods of the history whose volume is shared by; all without it. quantiles: their probabilities. Raises
    FileError and RecipeError, in one sentence with the place.
    """
    check(method)
    summation, nodes, levels = _structure(files.structure)
    index = pl.DataFrame({"node": nodes, "at": np.arange(len(nodes), dtype=np.int64)})
    base, leads = _matrix(files.base, "lead", index)
    _all_there(base, files.base, nodes, leads)
    given = _evidence(files, method, nodes, levels, index, summation.n_aggregates, season)
    if files.fixed is None:
        result = reconcile(summation, base, method, given, nonnegative)
    else:
        result = _around(files.fixed, summation, nodes, index, base, leads, method, given, nonnegative)
    columns = {
        "node": pl.Series(nodes).gather(np.repeat(np.arange(len(nodes)), len(leads))),
        "lead": pl.Series(leads).gather(np.tile(np.arange(len(leads)), len(nodes))),
        "value": pl.Series(result.ravel() + 0.0),
    }
    if variances or quantiles is not None:
        if files.fixed is not None:
            raise RecipeError("Variances and quantiles are those without fixed nodes; ask for one or the other.")
        w = covariance(method, summation, given)
        own = projection(summation, w)
        if variances:
            columns["variance"] = pl.Series(np.repeat(own.variances(), len(leads)))
        if quantiles is not None:
            found = _quantiles(
                own, w, base, given, result[summation.n_aggregates :] if nonnegative else None, quantiles
            )
            columns |= {f"q{p:g}": pl.Series(found[:, k].ravel() + 0.0) for k, p in enumerate(quantiles.tolist())}
    return pl.DataFrame(columns)


def _quantiles(
    own: Projection | DenseProjection, w: Covariance, base: Floats, given: Evidence, mean: Floats | None, p: Floats
) -> Singles:
    """[nodes, Q, leads]."""
    if given.errors is None:
        raise FileError("Quantiles need --residuals, which their paths are made of.")
    size = np.sqrt(w.variances)[:, None]
    return JointPaths(own, base, np.repeat(size, base.shape[1], axis=1), given.errors / size, mean).quantiles(p)


def _structure(path: Path) -> tuple[Summation, list[str], dict[str, str]]:
    """The sums, the names of the nodes, and the level that each total is said to be of."""
    edges = _columns(path, "parent", "child")
    parents, children = edges["parent"].to_list(), edges["child"].to_list()
    splits = edges["split"].to_list() if "split" in edges.columns else [""] * edges.height
    nodes, summation = from_edges(parents, children, splits)
    levels = dict(zip(parents, edges["level"].to_list(), strict=True)) if "level" in edges.columns else {}
    return summation, nodes, levels


def _evidence(
    files: Files,
    method: str,
    nodes: list[str],
    levels: dict[str, str],
    index: pl.DataFrame,
    n_aggregates: int,
    season: int,
) -> Evidence:
    variance, errors, volume, middle = np.full(len(nodes), np.nan), None, None, None
    if files.residuals is not None:
        errors, _ = _matrix(files.residuals, "period", index)
        variance = mean_squares(errors)
    elif method in ("variance", "combined", "shrinkage", "sample"):
        raise FileError(f"The method {method} needs --residuals.")
    if files.history is not None:
        sold, _ = _matrix(files.history, "period", index)
        volume = np.nansum(sold[:, -season:] if season else sold, axis=1)[n_aggregates:]
    elif method == "top-down" or middle_of(method):
        raise FileError(f"The method {method} needs --history, to share forecasts out by what was sold.")
    level = middle_of(method)
    if level:
        chosen = [i for i, name in enumerate(nodes) if levels.get(name) == level]
        if not chosen:
            known = ", ".join(dict.fromkeys(levels.values())) or "none, for want of a column level"
            raise RecipeError(f"There is no level {level!r} in {files.structure.name}; there are: {known}.")
        middle = np.array(chosen, dtype=np.int64)
    return Evidence(variance, errors, volume, middle)


def _around(
    path: Path, summation: Summation, nodes: list[str], index: pl.DataFrame, base: Floats, leads: list[str],
    method: str, given: Evidence, nonnegative: bool,
) -> Floats:  # fmt: skip
    values, own_leads = _matrix(path, "lead", index)
    fixed = np.nonzero(~np.isnan(values).all(axis=1))[0]
    if own_leads != leads:
        raise FileError(f"{path.name} has the leads {', '.join(own_leads)} where the base has {', '.join(leads)}.")
    _all_there(values[fixed], path, [nodes[i] for i in fixed.tolist()], leads)
    still = np.zeros(summation.n_finest, dtype=bool)
    w = covariance(method, summation, given)
    try:
        found = around_fixed(summation, base, w, fixed, values[fixed], still, nonnegative, negligible=0.0)
    except Clash as clash:
        raise RecipeError(clash.sentence([nodes[i] for i in clash.nodes.tolist()])) from None
    return summation.sum_up(found)


def _long(path: Path, *names: str) -> pl.DataFrame:
    """Some columns: of a Parquet file as they are, else as texts."""
    try:
        with path.open("rb") as file:
            is_parquet = file.read(4) == b"PAR1"
    except OSError as error:
        raise FileError(f"{path.name}: {error.strerror}.") from None
    if not is_parquet:
        return _columns(path, *names)
    try:
        schema = pl.read_parquet_schema(path)
        _lacks(path, list(schema), names)
        return pl.read_parquet(path, columns=list(names)).with_columns(pl.col(*names[:-1]).cast(pl.String))
    except (pl.exceptions.PolarsError, OSError):
        raise FileError(f"{path.name} cannot be read as Parquet; save it anew.") from None


def _columns(path: Path, *names: str) -> pl.DataFrame:
    table = read_table(path)
    _lacks(path, table.columns, names)
    return table


def _lacks(path: Path, columns: list[str], names: tuple[str, ...]) -> None:
    missing = [name for name in names if name not in columns]
    if missing:
        raise FileError(f"{path.name} lacks the column {missing[0]!r}; it has {', '.join(columns)}.")


def _matrix(path: Path, across: str, index: pl.DataFrame) -> tuple[Floats, list[str]]:
    """[nodes, leads or periods] from a long file, NaN where it has no row; leads in numerical order where they are
    numbers. Raises FileError with the row where a value is no number, a node unknown, or a row there twice."""
    table = _long(path, "node", across, "value")
    values = table["value"].cast(pl.Float64, strict=False)
    if values.null_count():
        row = int(values.is_null().arg_max() or 0)
        raise FileError(f"{path.name}, row {row + 2}, column 'value': {table['value'][row]!r} is not a number.")
    rows = table.select("node").join(index, on="node", how="left", maintain_order="left")["at"]
    if rows.null_count():
        unknown = table["node"][int(rows.is_null().arg_max() or 0)]
        raise FileError(f"{path.name}: node {unknown!r} is not in the structure.")
    labels = sorted(
        table[across].unique().to_list(), key=lambda t: (not t.isdecimal(), int(t) if t.isdecimal() else 0, t)
    )
    order = pl.DataFrame({across: labels, "column": np.arange(len(labels), dtype=np.int64)})
    columns = table.select(across).join(order, on=across, how="left", maintain_order="left")["column"]
    at = rows.to_numpy() * len(labels) + columns.to_numpy()
    matrix = np.full(index.height * len(labels), np.nan)
    matrix[at] = values.to_numpy()
    if int((~np.isnan(matrix)).sum()) < int(values.is_not_nan().sum()):
        again = int(np.nonzero(pl.Series(at).is_duplicated().to_numpy())[0][-1])
        what = f"node {table['node'][again]!r}, {across} {table[across][again]}"
        raise FileError(f"{path.name}, row {again + 2}: {what} stands there twice.")
    return matrix.reshape(index.height, len(labels)), labels


def _all_there(matrix: Floats, path: Path, nodes: list[str], labels: list[str]) -> None:
    if np.isnan(matrix).any():
        i, j = np.argwhere(np.isnan(matrix))[0]
        raise FileError(f"{path.name} has no value for node {nodes[i]!r}, lead {labels[j]}.")
