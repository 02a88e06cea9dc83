"""Forecasts of all nodes made to add up, with what is zero by decision held at zero."""

from __future__ import annotations

from hashlib import blake2b

import numpy as np
from numpy.typing import NDArray

from tansy.engine.graph.graph import Graph
from tansy.engine.reconcile.covariance import CORRELATED
from tansy.engine.reconcile.methods import Evidence, middle_of, reconcile

Floats = NDArray[np.float64]
Booleans = NDArray[np.bool_]


def nothing_below(graph: Graph, zero: Booleans) -> Booleans:
    """Nodes and leads [nodes, H] with nothing below that can be sold; zero: the finest nodes' [finest, H]."""
    return np.asarray(graph.summation.sum_up((~zero).astype(np.float64)) == 0.0)


def believed(sigma: Floats, base: Floats, floor: Floats, few: Booleans) -> Floats:
    """One-step sigma [nodes] as it is believed: not below `floor`, what the scale of the series allows, and, where
    `few` values speak for it, not below that of a count with the forecast's mean. NaN where there is nothing to
    forecast from. base: [nodes, H]."""
    as_count = np.sqrt(np.maximum(np.nan_to_num(base).mean(axis=1), 0.0))
    found = np.where(few, np.maximum(np.nan_to_num(sigma), as_count), sigma)
    return np.where(np.isnan(base[:, 0]), np.nan, np.maximum(found, floor))


def key_of(
    graph: Graph, base: Floats, name: str, given: Evidence | list[Evidence], nonnegative: bool, zero: Booleans
) -> str:
    """Key of all that reconciled forecasts depend on."""
    content = blake2b(f"{name} {nonnegative} {base.shape}".encode(), digest_size=16)
    matrix = graph.summation.matrix
    parts = [matrix.indptr, matrix.indices, base, zero]
    for one in given if isinstance(given, list) else [given]:
        parts += [one.error_variance]
    first = given[0] if isinstance(given, list) else given
    by_name = {"errors": name in CORRELATED, "volume": bool(middle_of(name)) or name == "top-down"}
    parts += [getattr(first, part) for part, counts in by_name.items() if counts and getattr(first, part) is not None]
    for part in parts:
        content.update(np.ascontiguousarray(part).tobytes())
    return content.hexdigest()


def reconciled(
    graph: Graph, base: Floats, name: str, given: Evidence | list[Evidence], nonnegative: bool, zero: Booleans
) -> Floats:
    """Reconciled forecasts [nodes, H]. given: for all leads, or for each; leads that have the same, and the same nodes
    held at zero, are done together. zero: [finest, H]. A series that is forecast as exactly nothing, such as on a day
    on which it is never sold, is held there too: what the totals lack is no reason to expect it. Where
    fewer than two errors have come `variance` stands for what goes by correlations, and `shrinkage` for `sample` where
    they are fewer than the nodes."""
    if nonnegative:
        zero = zero | (base[graph.n_aggregates :] == 0.0)
    masks, which = np.unique(zero, axis=1, return_inverse=True)
    done = np.empty_like(base)
    every = np.arange(base.shape[1])
    runs = [(given, every)] if isinstance(given, Evidence) else [(one, every[h : h + 1]) for h, one in enumerate(given)]
    for own, of_run in runs:
        for k in np.unique(which.ravel()[of_run]).tolist():
            leads = of_run[which.ravel()[of_run] == k]
            held = np.ascontiguousarray(masks[:, k])
            done[:, leads] = reconcile(
                graph.summation, np.nan_to_num(base[:, leads]), as_it_can(name, own), own, nonnegative, held
            )
    return done


def as_it_can(name: str, given: Evidence) -> str:
    """The reconciliation that stands for one that lacks errors."""
    if name not in CORRELATED:
        return name
    n_nodes, n_errors = (len(given.error_variance), 0) if given.errors is None else given.errors.shape
    if n_errors < 2:
        return "variance"
    return "shrinkage" if name == "sample" and n_errors < n_nodes else name
