"""A file of edges: which node or series lies below which parent."""

from __future__ import annotations

import polars as pl

from tansy.engine.errors import FileError
from tansy.engine.panel import Edges
from tansy.engine.reading.findings import Example, Finding


def is_edges_table(table: pl.DataFrame) -> bool:
    return {"parent", "child"} <= set(table.columns)


def read_edges(table: pl.DataFrame, name: str, keys: dict[str, list[str]]) -> tuple[Edges, list[Finding]]:
    """Edges of a table with the columns parent and child, and optionally split, level and the key columns.

    A child is a node, or where there is one key column a series. Where there are several, a row leaves child empty and
    names a series in the key columns. level is what the parent's level is called; split tells apart the ways in which a
    parent is divided. Raises FileError, with the row, where a row lacks its parent or its child or has two children.
    """
    several = len(keys) > 1
    columns = {column: [text.strip() for text in table[column].to_list()] for column in table.columns}
    n = table.height
    parents, named = columns["parent"], columns["child"]
    parts = [columns.get(key, [""] * n) for key in keys] if several else []
    children: list[tuple[str, ...]] = []
    for row, (parent, child, *codes) in enumerate(zip(parents, named, *parts, strict=True), start=2):
        if not parent:
            raise FileError(f"{name}, row {row}: there is no parent.")
        if child and any(codes):
            raise FileError(f"{name}, row {row}: {child!r} and a series are both named; give each a row of its own.")
        if not child and not (codes and all(codes)):
            needed = f"a child, or {' and '.join(keys)}" if several else "a child"
            raise FileError(f"{name}, row {row}: there is no child below {parent!r}; give {needed}.")
        children.append((child,) if child else tuple(codes))
    blank = [""] * n
    levels: dict[tuple[str, tuple[str, ...], str], str] = {}
    for edge, level in zip(
        zip(parents, children, columns.get("split", blank), strict=True), columns.get("level", blank), strict=True
    ):
        levels.setdefault(edge, level)
    edges = Edges(
        name,
        tuple(parent for parent, _, _ in levels),
        tuple(child for _, child, _ in levels),
        tuple(split for _, _, split in levels),
        tuple(levels.values()),
        several,
    )
    return edges, _findings(edges, n - len(levels), set(zip(*keys.values(), strict=True)))


def _findings(edges: Edges, n_repeated: int, series: set[tuple[str, ...]]) -> list[Finding]:
    found = []
    if n_repeated:
        found.append(Finding("copy", n_repeated, f"rows of {edges.name} that stand there twice count once"))
    totals = {(parent,) for parent in edges.parents}
    unknown = [child for child in dict.fromkeys(edges.children) if child not in totals and child not in series]
    if unknown:
        examples = [Example(0, "child", " × ".join(child)) for child in unknown[:3]]
        found.append(
            Finding(
                "unknown-child", len(unknown),
                f"in {edges.name}, but neither series nor parents; left out until they have sales", examples,
            )
        )  # fmt: skip
    return found
