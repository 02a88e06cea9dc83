"""Forecasts of series that pruning left without one of their own: their share of the smallest node that has one; and of
nodes that it left with one in longer periods only: the share of each lead in its block.

The share is what a series sold of the node in the last season, as it was known at the origin. Its spread is that share
of the node's, and how far its past lay from the share of the node's past.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from tansy.engine.graph.time_levels import Blocks
from tansy.engine.methods.form import Form
from tansy.engine.methods.notation import parse
from tansy.engine.study.chosen import Chosen
from tansy.engine.study.longer import Longer
from tansy.engine.study.seen import Seen

SHARE, LONGER = "share", "longer periods"
"""What stands for a method where a series gets its share, and where leads get theirs of longer periods."""

NO_METHODS = {SHARE: "a share of another node", LONGER: "a share of a longer period"}


def shared_out(
    chosen: Chosen, methods: tuple[str, ...], n_aggregates: int, seen: list[Seen]
) -> tuple[Chosen, tuple[str, ...]]:
    """What was chosen, with the shares of those that have no forecast of their own, and the methods with SHARE among
    them. seen: per origin and for the end."""
    number = len(methods)
    method, base, sigma, spread = chosen.method.copy(), chosen.base.copy(), chosen.sigma.copy(), chosen.spread.copy()
    for o, one in enumerate(seen):
        shares = one.shares
        assert shares is not None
        rows = n_aggregates + shares.series
        chosen.evidence.defined[o, rows] = False  # but for the yardstick, which is no choice of theirs
        has = method[shares.node, o] >= 0
        method[rows, o] = np.where(has, number, -1)
        base[rows, o] = shares.share[:, None] * base[shares.node, o]
        sigma[rows, o] = np.hypot(shares.share * sigma[shares.node, o], shares.apart)
        spread[rows, o] = np.hypot(shares.share[:, None] * spread[shares.node, o], shares.apart[:, None])
    found = replace(_with_another(chosen), method=method, base=base, sigma=sigma, spread=spread)
    return found, (*methods, SHARE)


def out_of_longer(
    chosen: Chosen, methods: tuple[str, ...], longer: list[Longer], blocks: Blocks, seen: list[Seen]
) -> tuple[Chosen, tuple[str, ...]]:
    """The same with the leads of those that are forecast in longer periods only, and LONGER; what was chosen as it is
    where none are. longer: per origin and for the end, as seen."""
    number = len(methods)
    if not any(one.within is not None and len(one.within.nodes) for one in seen):
        return chosen, methods
    method, base, sigma, spread = chosen.method.copy(), chosen.base.copy(), chosen.sigma.copy(), chosen.spread.copy()
    for o, one in enumerate(seen):
        within = one.within
        assert within is not None
        rows = within.nodes
        chosen.evidence.defined[o, rows] = False
        at = np.stack([blocks.block_of(k) for k in range(len(blocks.n_of))])[within.level]  # [k, H]
        mean, doubt = (np.take_along_axis(own[rows], at, axis=1) for own in (longer[o].mean, longer[o].spread))
        base[rows, o] = within.share * mean
        spread[rows, o] = np.hypot(within.share * doubt, within.apart[:, None])
        sigma[rows, o] = spread[rows, o, 0]
        method[rows, o] = np.where(np.isnan(base[rows, o]).any(axis=1), -1, number)
    found = replace(_with_another(chosen), method=method, base=base, sigma=sigma, spread=spread)
    return found, (*methods, LONGER)


def _with_another(chosen: Chosen) -> Chosen:
    """With room for something that stands for a method, and has no scores and parameters of its own."""
    scores = np.concatenate([chosen.scores, np.full((len(chosen.scores), 1, chosen.scores.shape[2]), np.nan)], axis=1)
    return replace(chosen, scores=scores, parameter_names=(*chosen.parameter_names, ()))


def form_of(text: str) -> Form | None:
    """The method of a study by its text; None for what only stands for one."""
    return None if text in NO_METHODS else parse(text)


def brief_of(text: str) -> str:
    """The method in a few words."""
    form = form_of(text)
    return form.brief if form else NO_METHODS[text]
