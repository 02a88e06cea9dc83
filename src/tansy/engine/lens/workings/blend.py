"""Arithmetic of a blend: what its parts say of a period, and how that is put together; of the leads too, as what is
published comes from there. How a part comes to its number is that part's own workings."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from tansy.engine.lens.workings.sheet import ACTUAL, ERROR, Cell, Column, Workings, add_errors, begin, letters_of
from tansy.engine.methods import registry
from tansy.engine.methods.blend import Blend
from tansy.engine.methods.fits import Batch, Fits

Floats = NDArray[np.float64]

_FEWEST_TO_TRIM = 3


def of_blend(batch: Batch, form: Blend, fits: Fits) -> Workings:
    """batch: of one series. fits: of the blend, whose leads are shown."""
    values, horizon = batch.values[0], fits.forecast.shape[1]
    first, labels, actual = begin(values, batch.timeline, 0)
    actual += [Cell(why="not come yet")] * horizon
    columns, cells = [ACTUAL], {"actual": actual}
    for j, part in enumerate(form.parts):
        own = registry.fit(part, batch, horizon)
        name = f"part_{letters_of(j)}"
        columns.append(Column(name, str(part), "", f"forecast of {part} for this period"))
        fitted = np.concatenate([(values - own.residuals[0])[first:], own.forecast[0]])
        why = "no forecast one period ahead" if own.defined[0] else "left out: it cannot be fitted to this series"
        cells[name] = [Cell(why=why) if np.isnan(v) else Cell(float(v)) for v in fitted]
    columns += [Column("fitted", "Blend", "", f"the {form.brief}"), *ERROR]
    together = np.concatenate([(values - fits.residuals[0])[first:], fits.forecast[0]])
    parts = [column.name for column in columns if column.name.startswith("part_")]
    cells["fitted"] = []
    for row, value in enumerate(together):
        known = [name for name in parts if cells[name][row].value is not None]
        why = "a part has no forecast one period ahead" if known else "no value"
        cells["fitted"].append(Cell(why=why) if np.isnan(value) else Cell(float(value), _formula(form.rule, known)))
    add_errors(cells)
    labels += batch.timeline.after(horizon).labels
    return Workings(labels, 0, columns, cells, {}, n_ahead=horizon)


def _formula(rule: str, parts: list[str]) -> str:
    listed = ", ".join(f"[{name}]" for name in parts)
    if rule == "median":
        return f"MEDIAN({listed})"
    if rule == "trimmed" and len(parts) >= _FEWEST_TO_TRIM:
        return f"(SUM({listed})-MAX({listed})-MIN({listed}))/{len(parts) - 2}"
    return f"AVERAGE({listed})"
