"""Results of a blend, made of those of its parts when they are read: a blend costs nothing to fit."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from tansy.engine.methods.blend import Blend, between, joined
from tansy.engine.study.seen import Seen
from tansy.engine.study.store import Block, Floats, Results

_EQUAL = 3.0
"""Windows that must have come before the errors in them say as much about weights as that parts are equally good."""


class Blended:
    """The results of a blend at one origin.

    parts: of its parts there. earlier: of its parts at each origin before, oldest first, and first: the columns of
    `seen.came` that come after these; only `weights` looks at them, and only at what had come.
    """

    def __init__(
        self, form: Blend, parts: Sequence[Results], earlier: Sequence[Sequence[Results]] = (),
        first: Sequence[int] = (), seen: Seen | None = None,
    ) -> None:  # fmt: skip
        self._form, self._parts, self._seen = form, parts, seen
        self._earlier = list(zip(earlier, first, strict=True)) if form.rule == "weights" else []

    def rows(self, start: int, stop: int) -> Block:
        """Results of the nodes start..stop. One-step errors of parts go together, so that their sizes are averaged."""
        own = [part.rows(start, stop) for part in self._parts]
        if len(own) == 1:
            return own[0]
        means = np.stack([one.mean for one in own])
        weights = self._weights(start, stop, means[:, :, 0])
        left_out = np.isnan(means[:, :, 0])
        rule = self._form.rule
        sigma = joined(np.where(left_out, np.nan, np.stack([one.sigma for one in own])), rule, weights)
        spread = joined(np.where(left_out[:, :, None], np.nan, np.stack([one.spread for one in own])), rule, weights)
        return Block(
            joined(means, rule, weights), sigma, np.sqrt(spread**2 + between(means)), np.empty((stop - start, 0)), ()
        )

    def _weights(self, start: int, stop: int, shape: Floats) -> Floats | None:
        """[parts, nodes], summing to 1: the reverse of the mean squared errors that had come, shrunk to equal."""
        if self._form.rule != "weights":
            return None
        n_parts = len(shape)
        total, windows = np.zeros(shape.shape), np.zeros(shape.shape[1])
        for parts, first in self._earlier:
            assert self._seen is not None
            came = self._seen.came[start:stop, first:]
            means = np.stack([part.rows(start, stop).mean[:, : came.shape[1]] for part in parts])
            if means.shape[2] == 0:
                continue
            errors = (came[None, :, : means.shape[2]] - means) ** 2
            count = (~np.isnan(errors)).sum(axis=2)
            own = np.nansum(errors, axis=2) / np.maximum(count, 1)
            known = (count > 0).all(axis=0)
            scale = np.where(own.mean(axis=0) > 0.0, own.mean(axis=0), 1.0)
            total += np.where(known, own / scale, 0.0)
            windows += known
        better = 1.0 / np.maximum(total / np.maximum(windows, 1.0), 1e-3)
        own = np.where(windows > 0, better / better.sum(axis=0), 1.0 / n_parts)
        return np.asarray((windows * own + _EQUAL / n_parts) / (windows + _EQUAL))
