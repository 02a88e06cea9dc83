"""Arithmetic of exponential smoothing, period by period."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from tansy.engine.lens.workings.sheet import ACTUAL, ERROR, LOG_ACTUAL, Cell, Column, Workings, add_errors, begin
from tansy.engine.methods.fits import Fits
from tansy.engine.methods.pooled import Pooled
from tansy.engine.methods.regressors import regressors_of_drivers
from tansy.engine.timeline import Timeline

Floats = NDArray[np.float64]


def outside_states(timeline: Timeline, fits: Fits, profile: Floats | None) -> Floats | None:
    """The season beside the states, [T]: harmonics, or the group's; None without one."""
    form, p = fits.form(0), fits.named_parameters(0)
    if form.shared_season and profile is not None:
        return p["shared-season"] * (profile[: timeline.n_periods] - 1.0)
    if form.harmonics:
        names = timeline.harmonic_names(form.harmonics)
        found: Floats = timeline.harmonics(form.harmonics, 0) @ np.array([p[name] for name in names])
        return found
    return None


def lift_of(timeline: Timeline, fits: Fits, drivers: Mapping[str, Floats]) -> Floats:
    """What drivers multiply demand by, [T]."""
    form, p = fits.form(0), fits.named_parameters(0)
    columns = regressors_of_drivers(form.pooled, drivers, 1, timeline, 0)
    effects = np.array([[p[f"pooled {name}"] for name in columns.names]])
    return Pooled(columns.names, effects, np.zeros_like(effects)).lift(columns, timeline.n_periods)[0]


def of_smoothing(
    values: Floats, timeline: Timeline, fits: Fits, outside: Floats | None, lift: Floats | None
) -> Workings:
    """The recursion, on the scale where it runs: of the values, of their logarithms, or without what drivers did."""
    form = fits.form(0)
    assert form.letters is not None
    _, trend, season = form.letters
    p = fits.named_parameters(0)
    m = timeline.season_length if season != "N" else 0
    times = season == "M"
    n_start = max(m, 1)
    used = _used_up(values, fits)
    first, labels, actual = begin(values, timeline, n_start)
    before = "[level<]" + ("+[damped]" if trend != "N" else "")
    inner = "log" if form.log else "base" if lift is not None else ""
    error = f"[{inner}_error]" if inner else "[error]"
    shock = f"{error}/[season]" if times else error
    columns = [ACTUAL, *([LOG_ACTUAL] if form.log else [])]
    if lift is not None:
        columns.append(Column("factor", "Drivers ×", "", "what drivers multiply demand by"))
        columns.append(Column("base_actual", "Without", "[actual]/[factor]", "actual without what drivers did"))
    if trend != "N":
        formula = "{phi}*[trend<]" if trend == "Ad" else "[trend<]"
        means = "trend of the period before, damped" if trend == "Ad" else "trend of the period before"
        columns.append(Column("damped", "Damped trend" if trend == "Ad" else "Trend before", formula, means))
    if m:
        columns.append(
            Column("season", "Season", f"[new_season<{m}]", f"season of the same period, {m} periods before")
        )
    if outside is not None:
        what = "the season of its group, as far as the series follows it" if form.shared_season else "sines and cosines"
        columns.append(Column("outside", "Yearly season", "", what))
    of_level = f"({before})*[season]" if times else before + ("+[season]" if m else "")
    of_level += "+[outside]" if outside is not None else ""
    if form.log:
        columns.append(Column("log_fitted", "ln fitted", of_level, "its logarithm as forecast one period before"))
        columns.append(Column("log_error", "ln error", "[log_actual]-[log_fitted]", "error of the logarithm"))
    if lift is not None:
        columns.append(Column("base_fitted", "Fitted without", of_level, "forecast before what drivers do"))
        columns.append(Column("base_error", "Error without", "[base_actual]-[base_fitted]", "error without drivers"))
    of_fitted = {"log": "EXP([log_fitted])", "base": "[base_fitted]*[factor]", "": of_level}[inner]
    columns.append(Column("fitted", "Fitted", of_fitted, "what was forecast one period before"))
    columns += ERROR
    columns.append(Column("level", "Level", f"{before}+{{alpha}}*{shock}", "level after this period"))
    if trend != "N":
        columns.append(Column("trend", "Trend", f"[damped]+{{beta}}*{shock}", "trend after this period"))
    if m:
        of_season = f"[season]+{{gamma}}*{error}" + (f"/({before})" if times else "")
        columns.append(Column("new_season", "New season", of_season, f"season for {m} periods later"))
    cells: dict[str, list[Cell]] = {column.name: [Cell() for _ in range(n_start)] for column in columns}
    cells["actual"] = actual
    cells["level"][-1] = Cell(p["level"])
    if trend != "N":
        cells["trend"][-1] = Cell(p["trend"])
    for j in range(m):
        cells["new_season"][j] = Cell(p[f"season{j + 1}"])
    formulas = {column.name: column.formula for column in columns}
    level, slope = p["level"], p.get("trend", 0.0)
    phi = {"N": 0.0, "A": 1.0, "Ad": p.get("phi", 1.0)}[trend]
    seasons = [p[f"season{j + 1}"] for j in range(m)]
    why = "used for the start"
    for t, value in enumerate(values[first:]):
        if t < used:  # its value went into the start; the start stands above the first period with a forecast
            for column in columns[1:]:
                cells[column.name].append(Cell(why=why))
            if t == used - 1:
                cells["level"][-1] = Cell(level)
                if trend != "N":
                    cells["trend"][-1] = Cell(slope)
            for j in range(m):
                if j == t % m and t >= used - m:
                    cells["new_season"][-1] = Cell(seasons[j])
            continue
        damped = phi * slope
        q = level + damped
        s = seasons[t % m] if m else 0.0
        beside = float(outside[first + t]) if outside is not None else 0.0
        mu = q * s if times else q + s + beside
        missing = bool(np.isnan(value))
        factor = float(lift[first + t]) if lift is not None else 1.0
        own = float(np.log(value)) if form.log and not missing else float(value) / factor
        e = 0.0 if missing else own - mu
        hit = e / s if times else e
        level, slope = q + p["alpha"] * hit, damped + p.get("beta", 0.0) * hit
        rest = {"damped": damped, "season": s, "level": level, "trend": slope, "fitted": mu}
        if inner:
            rest |= {f"{inner}_fitted": mu, "fitted": float(np.exp(mu)) if form.log else mu * factor}
            if lift is not None:
                cells["factor"].append(Cell(factor))
            for name, number in ((f"{inner}_actual", own), (f"{inner}_error", e)):
                cells[name].append(Cell(why="no value") if missing else Cell(number, formulas[name]))
        if m:
            seasons[t % m] = s + p.get("gamma", 0.0) * (e / q if times else e)
            rest["new_season"] = seasons[t % m]
        if outside is not None:
            cells["outside"].append(Cell(beside))
        for name, number in rest.items():
            if name in formulas:
                formula = formulas[name]
                if missing and name in ("level", "trend", "new_season"):  # no error: the state goes on
                    formula = {"level": before, "trend": "[damped]", "new_season": "[season]"}[name]
                cells[name].append(Cell(number, formula))
    add_errors(cells)
    if used:  # the start has moved down to the periods that it was taken from
        for name in ("level", "trend", "new_season"):
            if name in cells:
                for j in range(n_start):
                    cells[name][j] = Cell()
    names = ("alpha", "beta", "gamma", "phi")
    return Workings(labels, n_start, columns, cells, {name: p[name] for name in names if name in p})


def _used_up(values: Floats, fits: Fits) -> int:
    """Periods at the beginning whose values went into the start."""
    if not fits.form(0).choices:
        return 0
    first = int(np.argmax(~np.isnan(values)))
    return int(np.argmax(np.isfinite(fits.residuals[0]))) - first
