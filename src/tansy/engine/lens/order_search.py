"""The path of a search over orders, written out."""

from __future__ import annotations

from dataclasses import dataclass

from tansy.engine.methods.arima_fit import resolved
from tansy.engine.methods.as_json import number
from tansy.engine.methods.fits import Fits

_REFUSED = (
    "",
    "a root of phi next to the unit circle: one more difference says it better",
    "roots that all but cancel",
)


@dataclass(frozen=True)
class Model:
    """One model that was tried. refused: why it may not stand, "" if it may."""

    model: str
    aicc: float | None
    refused: str


def searched(fits: Fits, m: int) -> list[Model]:
    """Models tried for the first series of a batch, in the order in which they were; none where orders were given.

    m: season length. AICc is that of a loose search, polished for those that came near the best.
    """
    search = fits.search
    if search is None or search.differences[0, 0] < 0:
        return []
    form = fits.form(0)
    d, seasonal_d = search.differences[0].tolist()
    found = []
    for i in range(int(search.n_tried[0])):
        p, q, sp, sq, mean = search.models[0, i].tolist()
        text = str(resolved(form, (p, d, q, sp, seasonal_d, sq, mean), m))
        found.append(Model(text, number(float(search.criteria[0, i])), _REFUSED[int(search.refused[0, i])]))
    return found
