"""Which nodes change sides next, where some are held at zero and the others are free (Judice, Pires 1994)."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Integers = NDArray[np.int64]

MOST_ROUNDS = 200
_PATIENCE = 5


class Pivots:
    """Free nodes that come out negative are held, held ones whose multiplier pulls them up are freed, all at once; when
    the number of offenders has not fallen for some rounds, one at a time changes, which always ends."""

    def __init__(self, n: int) -> None:
        self._fewest, self._patience = n + 1, _PATIENCE

    def of(self, offenders: Integers) -> Integers:
        """Which of the offenders change sides in this round."""
        if len(offenders) < self._fewest:
            self._fewest, self._patience = len(offenders), _PATIENCE
        elif self._patience > 0:
            self._patience -= 1
        else:
            return offenders[-1:]
        return offenders
