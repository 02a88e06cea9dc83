"""What the choice of a study stood on, kept so that another rule can be tried on it without fitting anything."""

from __future__ import annotations

import io
from dataclasses import dataclass, fields, replace

import numpy as np
from numpy.typing import NDArray

from tansy.engine.backtest.choice import MEASURES, ChoiceRule, Choices, choose
from tansy.engine.backtest.measures import nan_mean
from tansy.engine.study.accuracy import over

Floats = NDArray[np.float64]
Singles = NDArray[np.float32]
Integers = NDArray[np.int64]
Booleans = NDArray[np.bool_]


@dataclass(frozen=True)
class Early:
    """Losses [measures, nodes, methods] of one window for the nodes from `start` on, as they were known at origin `o`,
    where that is not what is known of them at the end: leads were still to come, or a gap was still open."""

    o: int
    window: int
    start: int
    losses: Singles


@dataclass(frozen=True)
class Evidence:
    """losses: [measures, nodes, methods, origins], mean error of each window as it is known at the end, NaN where none
    has come; see `choice.choose`. early: what of these was otherwise at an origin. defined: [origins + 1, nodes,
    methods]. group, kept: [origins + 1, nodes], who chose together, and the method kept by hand, -1 for none. eligible:
    [methods]. fallback: positions of methods; first: [origins + 1, nodes], what stands before them, -1 for nothing
    else. level_of: [nodes]."""

    losses: Singles
    early: list[Early]
    defined: Booleans
    group: Integers
    kept: Integers
    eligible: Booleans
    fallback: Integers
    first: Integers
    level_of: Integers

    def losses_at(self, o: int, measure: str) -> Floats:
        """As they were known at one of the origins, or at the end, [nodes, methods, windows]."""
        m = MEASURES.index(measure)
        found = self.losses[m, :, :, :o].astype(np.float64)
        for one in self.early:
            if one.o == o:
                found[one.start : one.start + one.losses.shape[1], :, one.window] = one.losses[m]
        return found

    def choose(self, o: int, rule: ChoiceRule) -> Choices:
        """What the rule chooses at one of the origins, or at the end; without what was kept by hand."""
        losses = self.losses_at(o, rule.measure)
        return choose(losses, self.defined[o], self.eligible, self.fallback, self.group[o], rule, self.first[o])

    def taken(self, o: int, chosen: Integers) -> Integers:
        """The methods that nodes have, given what was chosen: that kept by hand where it is defined."""
        kept = self.kept[o]
        by_hand = (kept >= 0) & self.defined[o][np.arange(len(kept)), np.maximum(kept, 0)]
        return np.where(by_hand, kept, chosen)

    def methods(self, rule: ChoiceRule) -> Integers:
        """What nodes would have had at every origin and at the end, [nodes, origins + 1]."""
        ends = range(len(self.defined))
        return np.stack([self.taken(o, self.choose(o, rule).method) for o in ends], axis=1)

    def with_fallback(self, fallback: Integers) -> Evidence:
        """The same, with other methods to stand everywhere until others have shown to be better."""
        return replace(self, fallback=fallback, first=np.full_like(self.first, -1))

    def errors(self, methods: Integers) -> Floats:
        """Errors of methods had at every origin [nodes, origins + 1] over all windows, [measures, nodes]: the root of
        the mean square, and the mean absolute, in naive steps, windows counting alike."""
        n_nodes, n_origins = len(methods), len(self.defined) - 1
        own = np.full((len(MEASURES), n_nodes, n_origins), np.nan)
        each = np.arange(n_nodes)
        for o in range(n_origins):
            at = np.maximum(methods[:, o], 0)
            own[:, :, o] = np.where(methods[:, o] >= 0, self.losses[:, each, at, o], np.nan)
        found = nan_mean(own, axis=2)
        found[MEASURES.index("squared")] = np.sqrt(found[MEASURES.index("squared")])
        return found

    def by_level(self, errors: Floats) -> Floats:
        """Means over the nodes of each level, [measures, levels]."""
        known = ~np.isnan(errors)
        n, found = int(self.level_of.max()) + 1, []
        for own, some in zip(errors, known, strict=True):
            counts = np.bincount(self.level_of[some], minlength=n).astype(np.float64)
            found.append(over(np.bincount(self.level_of[some], own[some], n).astype(np.float64), counts))
        return np.stack(found)

    def packed(self) -> bytes:
        file = io.BytesIO()
        arrays = {field.name: getattr(self, field.name) for field in fields(self) if field.name != "early"}
        arrays["defined"] = np.packbits(self.defined)
        arrays |= {f"early {one.o} {one.window} {one.start}": one.losses for one in self.early}
        np.savez_compressed(file, allow_pickle=False, shape=np.array(self.defined.shape), **arrays)
        return file.getvalue()

    @classmethod
    def unpacked(cls, data: bytes) -> Evidence:
        with np.load(io.BytesIO(data), allow_pickle=False) as file:
            found = dict(file)
        shape = tuple(found.pop("shape").tolist())
        early = []
        for name in [name for name in found if name.startswith("early ")]:
            o, window, start = map(int, name.split()[1:])
            early.append(Early(o, window, start, found.pop(name)))
        defined = np.unpackbits(found.pop("defined"), count=int(np.prod(shape))).astype(bool).reshape(shape)
        found.setdefault("first", np.full(shape[:2], -1))  # as it was before there was one
        return cls(early=early, defined=defined, **found)
