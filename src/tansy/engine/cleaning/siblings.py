"""Which series are siblings: those of one product, and those of one group of products in one group of stores."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from tansy.engine.panel import Panel


def siblings(panel: Panel, levels: dict[str, list[str]]) -> list[NDArray[np.int64]]:
    """Group of every series, [n_series], per kind of sibling; none where no two series have anything in common.

    levels: per key, its attributes from coarse to fine. The first kind are the series of one value of a key that has
    many series (one product in all stores); the last the finest group of the first key within the coarsest of the next.
    """
    names = list(panel.key_names)
    kinds = [_codes([(key,) for key in panel.keys[name]]) for name in (names[:1] if len(names) > 1 else [])]
    words: list[list[str]] = []
    for i, name in enumerate(names):
        known = panel.attributes.get(name, {})
        chosen = [level for level in levels.get(name, []) if level in known]
        if chosen:
            table = known[chosen[-1] if i == 0 else chosen[0]]
            words.append([table.get(key, "") for key in panel.keys[name]])
    if words:
        kinds.insert(0, _codes(list(zip(*words, strict=True))))
    return [codes for codes in kinds if len(codes) and np.bincount(codes).max() > 1]


def _codes(texts: list[tuple[str, ...]]) -> NDArray[np.int64]:
    position = {text: i for i, text in enumerate(dict.fromkeys(texts))}
    return np.array([position[text] for text in texts], dtype=np.int64)
