"""All nodes of a study on one sheet: two forests, and a small picture for every node."""

from __future__ import annotations

import base64
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tansy.engine.graph.graph import Axis, Graph
from tansy.engine.study.run import Study

Floats = NDArray[np.float64]

MISSING = 255


def rows_of(axis: Axis) -> list[dict[str, Any]]:
    """The places of an axis, each after its parent."""
    parts = zip(
        range(len(axis.names)), axis.depths.tolist(), axis.parents.tolist(), axis.n_series.tolist(), strict=True
    )
    return [
        {**_called(axis, place), "depth": depth, "parent": parent, "series": n_series}
        for place, depth, parent, n_series in parts
    ]


def _called(axis: Axis, place: int) -> dict[str, str]:
    """Name of a place, and its code where that is another."""
    name, code = axis.names[place], axis.codes[place]
    return {"name": name} if code == name else {"name": name, "code": code}


def sparks(history: Floats, forecast: Floats, season_length: int) -> NDArray[np.uint8]:
    """Last season and forecast of every node as bytes 0 to 254 between zero and its own maximum; 255 is missing."""
    line = np.concatenate([history[:, -max(season_length, 12) :], forecast], axis=1)
    low = np.minimum(np.nanmin(np.where(np.isnan(line), 0.0, line), axis=1), 0.0)[:, None]
    high = np.nanmax(np.where(np.isnan(line), 0.0, line), axis=1)[:, None]
    scaled = np.divide(254.0 * (line - low), high - low, out=np.zeros_like(line), where=high > low)
    return np.where(np.isnan(line), MISSING, np.round(np.nan_to_num(scaled))).astype(np.uint8)


def sheet(study: Study) -> dict[str, Any]:
    """Rows (first axis), columns (second, or one for all) and, column by column, what each node shows.

    Where there are more than two axes, the sheet holds the nodes that take in all of the others. A node with several
    parents stands below each of them.
    """
    graph = study.graph
    two = len(graph.axes) > 1
    rows, row = graph.axes[0], graph.place[:, 0]
    whole = {"name": "All", "depth": 0, "parent": -1, "series": graph.n_series}
    at_a_top = np.stack([axis.parents[graph.place[:, d]] < 0 for d, axis in enumerate(graph.axes)], axis=1)
    shown = np.nonzero(at_a_top[:, 2:].all(axis=1))[0]
    if graph.everywhere is not None:
        rows, shown = graph.everywhere
        row = np.arange(len(shown))
    else:
        row = row[shown]
    pictures = sparks(study.history, study.forecast, study.timeline.season_length)
    scores = np.where(np.isfinite(study.node_scores), study.node_scores, np.nan)
    groups = study.kinds.groups()
    words = [", ".join(name for name, members in groups.items() if members[i]) for i in shown.tolist()]
    kinds = {text: k for k, text in enumerate(dict.fromkeys(words))}

    def rounded(k: int, digits: int) -> list[float | None]:
        return [None if np.isnan(v) else round(float(v), digits) + 0.0 for v in scores[shown, k]]

    return {
        "rows": rows_of(rows),
        "columns": rows_of(graph.axes[1]) if two else [whole],
        "node": [graph.refs[i] for i in shown.tolist()],
        "row": row.tolist(),
        "column": graph.place[shown, 1].tolist() if two else [0] * len(shown),
        "wape": rounded(1, 1),
        "rmsse": rounded(2, 3),
        "gain": rounded(3, 1),
        "kinds": list(kinds),
        "kind": [kinds[text] for text in words],
        "spark": [base64.b64encode(picture.tobytes()).decode() for picture in pictures[shown]],
        "n_past": int(pictures.shape[1] - study.forecast.shape[1]),
    }


def trails(graph: Graph) -> list[list[list[dict[str, Any]]]]:
    """For every node and axis, the way from a top to the node: names, and the node with the rest held fixed."""
    node_at = {tuple(places): node for node, places in enumerate(graph.place.tolist())}
    found = []
    for places in graph.place.tolist():
        ways = []
        for d, axis in enumerate(graph.axes):
            way = []
            for place in axis.way(places[d]):
                node = node_at.get((*places[:d], place, *places[d + 1 :]))
                if node is not None:  # a structure need not have every combination
                    way.append({**_called(axis, place), "node": graph.refs[node]})
            ways.append(way)
        found.append(ways)
    return found
