"""Arithmetic of ARIMA, period by period."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from tansy.engine.lens.workings.sheet import (
    ACTUAL,
    ERROR,
    LOG_ACTUAL,
    SETTLED,
    Cell,
    Column,
    Workings,
    add_errors,
    begin,
)
from tansy.engine.methods.fits import Fits
from tansy.engine.methods.regressors import regressors_of
from tansy.engine.timeline import Timeline

Floats = NDArray[np.float64]


def beside_of(timeline: Timeline, fits: Fits, drivers: Mapping[str, Floats]) -> Floats:
    """What harmonics, drivers and level shifts add, [T]; NaN where a driver is not known."""
    form, p = fits.form(0), fits.named_parameters(0)
    columns = regressors_of(form, drivers, 1, timeline, 0)
    found: Floats = columns.x[0] @ np.array([p.get(name, 0.0) for name in columns.names])
    return found if columns.unknown is None else np.where(columns.unknown[0], np.nan, found)


def of_arima(values: Floats, timeline: Timeline, fits: Fits, beside: Floats | None, lift: Floats | None) -> Workings:
    """Past values and past errors times their weights, the polynomials multiplied out; of logarithms, of what is left
    without pooled drivers, and of what `beside` leaves, where the form says so. In the first periods the exact
    likelihood weighs them otherwise, because it knows that nothing came before; there the fitted value stands alone."""
    form, p = fits.form(0), fits.named_parameters(0)
    assert form.orders is not None
    m = max(form.period, 1)
    past, errors = np.ones(1), np.ones(1)
    for names, sign in ((("ar", "sar"), -1.0), (("ma", "sma"), 1.0)):
        found = np.ones(1)
        for name, lag in zip(names, (1, m), strict=True):
            numbers = [int(key[len(name) :]) for key in p if key.rstrip("0123456789") == name]
            factor = np.zeros(max(numbers, default=0) * lag + 1)
            factor[0] = 1.0
            for i in numbers:
                factor[i * lag] = sign * p[f"{name}{i}"]
            found = np.convolve(found, factor)
        past, errors = (found, errors) if sign < 0 else (past, found)
    own = float(past.sum()) * (
        p.get("mean", 0.0) + p.get("constant", 0.0) + p.get("drift", 0.0) * m ** form.seasonal[1]
    )
    for lag in [1] * form.orders[1] + [m] * form.seasonal[1]:
        past = np.convolve(past, np.r_[1.0, np.zeros(lag - 1), -1.0])
    weights = {f"a{j}": -float(past[j]) for j in np.nonzero(np.abs(past) > 1e-15)[0].tolist() if j}
    weights |= {f"e{j}": float(errors[j]) for j in np.nonzero(errors)[0].tolist() if j}
    log, apart = fits.form(0).log, beside is not None or lift is not None
    inner = log or apart
    source = "inner_actual" if apart else "log_actual" if log else "actual"
    sources = {"a": source, "e": "inner_error" if inner else "error"}
    formula = ("{c}" if own else "0") + "".join(f"+{{{name}}}*[{sources[name[0]]}<{name[1:]}]" for name in weights)
    first, labels, actual = begin(values, timeline, 0)
    fitted = (values - fits.residuals[0])[first:]
    factor = lift[first:] if lift is not None else np.ones(len(fitted))
    added = beside[first:] if beside is not None else np.zeros(len(fitted))
    y, of = (np.log(one) if log else one / factor for one in (values[first:], fitted))
    y, of = y - added, of - added
    e = y - of
    longest = max((int(name[1:]) for name in weights), default=0)
    columns = [ACTUAL, *([LOG_ACTUAL] if log else [])]
    plain = "[log_actual]" if log else "[actual]"
    if lift is not None:
        columns.append(Column("factor", "Drivers ×", "", "what pooled drivers multiply demand by"))
        plain += "/[factor]"
    if beside is not None:
        columns.append(Column("beside", "Added", "", "what drivers, harmonics and level shifts add"))
        plain += "-[beside]"
    back = "[inner_fitted]" + ("+[beside]" if beside is not None else "")
    back = f"EXP({back})" if log else f"({back})*[factor]" if lift is not None else back
    means = "past values and errors, weighted; without a formula where the start is felt"
    if apart:
        columns.append(Column("inner_actual", "Without", plain, "actual without what drivers and harmonics did"))
    if inner:
        short = ("Fitted without", "Error without") if apart else ("ln fitted", "ln error")
        columns.append(Column("inner_fitted", short[0], formula, means))
        columns.append(Column("inner_error", short[1], f"[{source}]-[inner_fitted]", "its error"))
        columns.append(Column("fitted", "Fitted", back, "what was forecast one period before"))
    else:
        columns.append(Column("fitted", "Fitted", formula, means))
    columns += ERROR
    cells: dict[str, list[Cell]] = {column.name: [] for column in columns}
    cells["actual"] = actual
    settled = False
    for t, value in enumerate(of.tolist()):
        for name, number, text in (
            ("log_actual", y[t] + added[t], LOG_ACTUAL.formula), ("factor", factor[t], ""), ("beside", added[t], ""),
            ("inner_actual", y[t], plain),
        ):  # fmt: skip
            if name in cells:
                cells[name].append(Cell(float(number), text))
        if np.isnan(value):
            for name in ("inner_fitted", "inner_error", "fitted"):
                if name in cells:
                    cells[name].append(Cell(why="used up by differencing"))
            continue
        if t >= longest and not np.isnan(e[t - longest : t]).any():
            by_hand = own + sum(w * (y if name[0] == "a" else e)[t - int(name[1:])] for name, w in weights.items())
            settled = settled or abs(by_hand - value) <= SETTLED * max(1.0, abs(value))
        if inner:
            cells["inner_fitted"].append(Cell(value, formula if settled else ""))
            cells["inner_error"].append(Cell(float(e[t]), f"[{source}]-[inner_fitted]"))
            cells["fitted"].append(Cell(float(fitted[t]), back))
        else:
            cells["fitted"].append(Cell(value, formula if settled else ""))
    add_errors(cells)
    return Workings(labels, 0, columns, cells, {"c": own, **weights} if own else weights)
