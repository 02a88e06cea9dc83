"""All nodes of a study on one sheet: two trees, and a small picture for every node."""

from __future__ import annotations

import base64
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tansy.engine.structure.grouping import Dimension, Structure
from tansy.engine.study.run import Study

Floats = NDArray[np.float64]

MISSING = 255


def tree(dimension: Dimension) -> tuple[list[dict[str, Any]], dict[tuple[int, int], int]]:
    """The values of a dimension, each after its parent, and the row of each (depth, value)."""
    children: dict[tuple[int, int], list[tuple[int, int]]] = {}
    for depth, parents in enumerate(dimension.parents, start=1):
        for value, parent in enumerate(parents.tolist()):
            children.setdefault((depth - 1, parent), []).append((depth, value))
    counts = [
        np.bincount(member, minlength=len(names))
        for member, names in zip(dimension.member, dimension.names, strict=True)
    ]
    rows: list[dict[str, Any]] = []
    row_of: dict[tuple[int, int], int] = {}
    todo: list[tuple[tuple[int, int], int]] = [((0, 0), -1)]
    while todo:
        (depth, value), parent = todo.pop()
        row_of[depth, value] = len(rows)
        rows.append(
            {**_called(dimension, depth, value), "depth": depth, "parent": parent, "series": int(counts[depth][value])}
        )
        below = children.get((depth, value), [])
        todo.extend((child, row_of[depth, value]) for child in reversed(below))
    return rows, row_of


def _called(dimension: Dimension, depth: int, value: int) -> dict[str, str]:
    """Name of a value, and its code where that is another."""
    name, code = dimension.names[depth][value], dimension.codes[depth][value]
    return {"name": name} if code == name else {"name": name, "code": code}


def sparks(history: Floats, forecast: Floats, season_length: int) -> NDArray[np.uint8]:
    """Last season and forecast of every node as bytes 0 to 254 between zero and its own maximum; 255 is missing."""
    line = np.concatenate([history[:, -max(season_length, 12) :], forecast], axis=1)
    low = np.minimum(np.nanmin(np.where(np.isnan(line), 0.0, line), axis=1), 0.0)[:, None]
    high = np.nanmax(np.where(np.isnan(line), 0.0, line), axis=1)[:, None]
    scaled = np.divide(254.0 * (line - low), high - low, out=np.zeros_like(line), where=high > low)
    return np.where(np.isnan(line), MISSING, np.round(np.nan_to_num(scaled))).astype(np.uint8)


def sheet(study: Study) -> dict[str, Any]:
    """Rows (first dimension), columns (second, or one for all) and, column by column, what each node shows.

    Where there are more than two dimensions, the sheet holds the nodes that take in all of the others.
    """
    structure = study.structure
    rows, row_of = tree(structure.dimensions[0])
    two = len(structure.dimensions) > 1
    columns, column_of = (
        tree(structure.dimensions[1])
        if two
        else ([{"name": "All", "depth": 0, "parent": -1, "series": structure.n_series}], {(0, 0): 0})
    )
    depths = np.array([level.depths for level in structure.levels])[structure.level_of]
    shown = np.nonzero((depths[:, 2:] == 0).all(axis=1))[0]
    pictures = sparks(study.history, study.forecast, study.timeline.season_length)
    scores = np.where(np.isfinite(study.node_scores), study.node_scores, np.nan)

    def at(d: int, lookup: dict[tuple[int, int], int]) -> list[int]:
        return [
            lookup[depth, value]
            for depth, value in zip(depths[shown, d].tolist(), structure.values[shown, d].tolist(), strict=True)
        ]

    groups = study.kinds.groups()
    words = [", ".join(name for name, members in groups.items() if members[i]) for i in shown.tolist()]
    kinds = {text: k for k, text in enumerate(dict.fromkeys(words))}

    def rounded(k: int, digits: int) -> list[float | None]:
        return [None if np.isnan(v) else round(float(v), digits) + 0.0 for v in scores[shown, k]]

    return {
        "rows": rows,
        "columns": columns,
        "node": shown.tolist(),
        "row": at(0, row_of),
        "column": at(1, column_of) if two else [0] * len(shown),
        "wape": rounded(1, 1),
        "rmsse": rounded(2, 3),
        "gain": rounded(3, 1),
        "kinds": list(kinds),
        "kind": [kinds[text] for text in words],
        "spark": [base64.b64encode(picture.tobytes()).decode() for picture in pictures[shown]],
        "n_past": int(pictures.shape[1] - study.forecast.shape[1]),
    }


def trails(structure: Structure) -> list[list[list[dict[str, Any]]]]:
    """For every node and dimension, the way from "all" to the node: names, and the node with the rest held fixed."""
    level_at = {level.depths: i for i, level in enumerate(structure.levels)}
    node_at = {
        (i, *values): node
        for node, (i, values) in enumerate(zip(structure.level_of.tolist(), structure.values.tolist(), strict=True))
    }
    found = []
    for i, values in zip(structure.level_of.tolist(), structure.values.tolist(), strict=True):
        depths = structure.levels[i].depths
        ways = []
        for d, dimension in enumerate(structure.dimensions):
            way: list[dict[str, Any]] = []
            value = values[d]
            for depth in range(depths[d], -1, -1):
                others = level_at[(*depths[:d], depth, *depths[d + 1 :])]
                node = node_at[(others, *values[:d], value, *values[d + 1 :])]
                way.append({**_called(dimension, depth, value), "node": node})
                if depth:
                    value = int(dimension.parents[depth - 1][value])
            ways.append(way[::-1])
        found.append(ways)
    return found
