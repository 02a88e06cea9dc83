"""What a learner found out about all series of a study at once."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tansy.engine.methods.drives import NOTHING, Drives

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]


@dataclass(frozen=True)
class Learned:
    """mean, spread: [series, H], NaN where a series has no level. errors: [series, R], of the last R periods, one step
    ahead. together: [H, H], how errors of leads go together, as correlations. drives: what it goes by."""

    mean: Floats
    spread: Floats
    errors: Floats
    together: Floats
    drives: Drives = NOTHING

    def rows(self, which: NDArray[np.bool_] | Integers | slice) -> Learned:
        return Learned(self.mean[which], self.spread[which], self.errors[which], self.together, self.drives)

    def until(self, lead: int) -> Learned:
        return Learned(
            self.mean[:, :lead], self.spread[:, :lead], self.errors, self.together[:lead, :lead], self.drives
        )
