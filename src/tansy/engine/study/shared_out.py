"""Forecasts of series that pruning left without one of their own: their share of the smallest node that has one.

The share is what a series sold of the node in the last season, as it was known at the origin. Its spread is that share
of the node's, and how far its past lay from the share of the node's past.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from tansy.engine.methods.form import Form
from tansy.engine.methods.notation import parse
from tansy.engine.study.chosen import Chosen
from tansy.engine.study.seen import Seen

SHARE = "share"
"""What stands for a method where a series gets its share."""


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
    scores = np.concatenate([chosen.scores, np.full((len(method), 1, chosen.scores.shape[2]), np.nan)], axis=1)
    names = (*chosen.parameter_names, ())
    found = replace(chosen, method=method, base=base, sigma=sigma, spread=spread, scores=scores, parameter_names=names)
    return found, (*methods, SHARE)


def form_of(text: str) -> Form | None:
    """The method of a study by its text; None for SHARE, which is none."""
    return None if text == SHARE else parse(text)


def brief_of(text: str) -> str:
    """The method in a few words."""
    form = form_of(text)
    return form.brief if form else "a share of another node"
