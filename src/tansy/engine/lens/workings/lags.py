"""Arithmetic of methods that look back, and of those for slow movers, period by period."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from tansy.engine.lens.workings.sheet import ACTUAL, ERROR, SETTLED, Cell, Column, Workings, add_errors, begin
from tansy.engine.methods.fits import Fits
from tansy.engine.methods.form import Form
from tansy.engine.timeline import Timeline

Floats = NDArray[np.float64]


INTERMITTENT = {
    "croston": ("interval", "[size<]/[interval<]"),
    "sba": ("interval", "(1-{beta}/2)*[size<]/[interval<]"),
    "tsb": ("probability", "[size<]*[probability<]"),
}


def of_demands(values: Floats, timeline: Timeline, fits: Fits) -> Workings:
    """Croston's method and its relatives: sizes change with a demand, the probability of `tsb` with every period."""
    other, of_forecast = INTERMITTENT[fits.form(0).family]
    p = fits.named_parameters(0)
    alpha, beta = p["alpha"], p["beta"]
    means = "periods between demands, smoothed" if other == "interval" else "of a demand in a period, smoothed"
    columns = [
        ACTUAL,
        Column("since", "Periods", "[since<]+1", "since the demand before, this one included"),
        Column("fitted", "Fitted", of_forecast, "what was forecast one period before"),
        *ERROR,
        Column("size", "Size", "[size<]+{alpha}*([actual]-[size<])", "of a demand, smoothed; after this period"),
        Column(other, other.title(), "", f"{means}; after this period"),
    ]
    first, labels, actual = begin(values, timeline, 0)
    cells: dict[str, list[Cell]] = {column.name: [] for column in columns}
    cells["actual"] = actual
    fitted = values - fits.residuals[0]
    since, size, at, began = 0, 0.0, 0.0, False
    after_demand = True  # the count begins anew
    for t, value in enumerate(values[first:]):
        since += 1
        cells["since"].append(Cell(float(since), "" if after_demand else "[since<]+1"))
        known, demand = not np.isnan(value), bool(value > 0.0 or value < 0.0)
        after_demand = demand
        if not began:
            cells["fitted"].append(Cell(why="no demand before it"))
            if not demand:
                cells["size"].append(Cell(why="no demand yet"))
                cells[other].append(Cell(why="no demand yet"))
                continue
            began, size, at = True, float(value), float(since) if other == "interval" else 1.0 / since
            cells["size"].append(Cell(size, "[actual]"))
            cells[other].append(Cell(at, "[since]" if other == "interval" else "1/[since]"))
            since = 0
            continue
        cells["fitted"].append(Cell(float(fitted[first + t]), of_forecast) if known else Cell(why="no value"))
        of_size, of_other = "[size<]", f"[{other}<]"
        if other == "probability" and known:
            at += beta * (float(demand) - at)
            of_other = f"[{other}<]+{{beta}}*({int(demand)}-[{other}<])"
        if demand:
            size += alpha * (float(value) - size)
            of_size = columns[-2].formula
            if other == "interval":
                at += beta * (since - at)
                of_other = f"[{other}<]+{{beta}}*([since]-[{other}<])"
            since = 0
        cells["size"].append(Cell(size, of_size))
        cells[other].append(Cell(at, of_other))
    add_errors(cells)
    return Workings(labels, 0, columns, cells, {"alpha": alpha, "beta": beta})


def of_lags(values: Floats, timeline: Timeline, fits: Fits) -> Workings:
    """Methods whose fitted value is one look back, over gaps and on logarithms too; for all others fitted values and
    errors alone."""
    form, p = fits.form(0), fits.named_parameters(0)
    first, labels, actual = begin(values, timeline, 0)
    y, fitted = values[first:], (values - fits.residuals[0])[first:]
    known = np.nonzero(~np.isnan(y))[0]
    back = {"naive": 1, "drift": 1, "seasonal-naive": timeline.season_length}.get(form.family, int(p.get("window", 0)))
    cells: dict[str, list[Cell]] = {"actual": actual, "fitted": []}
    formula = ""
    for t, value in enumerate(fitted):
        if np.isnan(value):
            why = f"needs {back} values before it" if t < back else "no value"
            cells["fitted"].append(Cell(why=why if actual[t].value is not None or t < back else "no value"))
            continue
        looked = _look_back(form, t, known[known < t], timeline.season_length, p)
        own = looked[0] if looked and abs(_looked(looked, y, t, p) - value) <= SETTLED * max(1.0, abs(value)) else ""
        formula = own or formula
        cells["fitted"].append(Cell(float(value), own))
    add_errors(cells)
    columns = [ACTUAL, Column("fitted", "Fitted", formula, "what was forecast one period before"), *ERROR]
    return Workings(labels, 0, columns, cells, p)


def _look_back(
    form: Form, t: int, before: NDArray[np.int64], m: int, p: dict[str, float]
) -> tuple[str, list[tuple[float, int]], str, bool] | None:
    """The formula of the fitted value at row t, from the rows known before it; and what it says: weights and rows back,
    the parameter that is added, and whether it is all on logarithms. None where there is no such look."""
    if form.pooled or form.power is not None or form.slope_changes:
        return None
    added = {"mean": "mean", "drift": "drift"}.get(form.family, "")
    lags: list[int]
    if form.family in ("naive", "drift") and len(before):
        lags = [t - int(before[-1])]
    elif form.family == "seasonal-naive" and len(before):
        same = before[(t - before) % max(m, 1) == 0]
        lags = [t - int(same[-1])] if len(same) else []
    elif form.family == "moving-average" and len(before) >= int(p.get("window", 0)) > 0:
        lags = [t - int(at) for at in before[::-1][: int(p["window"])]]
    else:
        lags = []
    if (not lags and form.family != "mean") or (added and added not in p):
        return None
    weights = [w / sum(form.weights) for w in form.weights] or [1.0 / len(lags) for _ in lags]
    one = "LN([actual<{}])" if form.log else "[actual<{}]"
    looked = [one.format(lag) for lag in lags]
    if form.weights:
        looked = [f"{w:.15g}*{text}" for w, text in zip(weights, looked, strict=True)]
    text = "+".join(looked)
    if len(lags) > 1 and not form.weights:
        text = f"({text})/{len(lags)}"
    text = "+".join(part for part in (text, f"{{{added}}}" if added else "") if part)
    return f"EXP({text})" if form.log else text, list(zip(weights, lags, strict=True)), added, form.log


def _looked(looked: tuple[str, list[tuple[float, int]], str, bool], y: Floats, t: int, p: dict[str, float]) -> float:
    """The value of a look back."""
    _, terms, added, log = looked
    total = sum(w * (np.log(y[t - lag]) if log else y[t - lag]) for w, lag in terms) + (p[added] if added else 0.0)
    return float(np.exp(total) if log else total)
