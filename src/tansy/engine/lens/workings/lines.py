"""Arithmetic of straight lines and regressions, period by period."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from tansy.engine.lens.workings.sheet import (
    ACTUAL,
    ERROR,
    LOG_ACTUAL,
    Cell,
    Column,
    Workings,
    add_errors,
    begin,
    letters_of,
)
from tansy.engine.methods.fits import Fits
from tansy.engine.methods.regressors import regressors_of
from tansy.engine.methods.trends import theta_line
from tansy.engine.timeline import Timeline

Floats = NDArray[np.float64]


def of_trend(values: Floats, timeline: Timeline, fits: Fits) -> Workings:
    form, p = fits.form(0), fits.named_parameters(0)
    logs, square = form.shape == "exponential", form.shape == "quadratic"
    first, labels, actual = begin(values, timeline, 0)
    of = "log_actual" if logs else "actual"
    columns = [ACTUAL, Column("t", "t", "", "number of the period")]
    if logs:
        columns.append(LOG_ACTUAL)
    columns.append(Column("t_squared", "t²", "[t]*[t]", "for the sum of squares"))
    columns.append(
        Column("t_actual", "t × ln actual" if logs else "t × actual", f"[t]*[{of}]", "for the sum of products")
    )
    if square:
        columns.append(Column("t_cubed", "t³", "[t]*[t]*[t]", "for the normal equations"))
        columns.append(Column("t_fourth", "t⁴", "[t]*[t]*[t]*[t]", "for the normal equations"))
        columns.append(Column("t_squared_actual", "t² × actual", "[t]*[t]*[actual]", "for the normal equations"))
    line = "{intercept}+{slope}*[t]" + ("+{curvature}*[t]*[t]" if square else "")
    columns.append(Column("fitted", "Fitted", f"EXP({line})" if logs else line, "the curve at this period"))
    columns += ERROR
    cells: dict[str, list[Cell]] = {column.name: [] for column in columns}
    cells["actual"] = actual
    for i, value in enumerate(values[first:]):
        t = i + 1.0
        known = not np.isnan(value)
        y = float(np.log(value)) if logs and known else float(value)
        at = p["intercept"] + p["slope"] * t + (p["curvature"] * t * t if square else 0.0)
        row = {
            "t": t, "log_actual": y, "t_squared": t * t, "t_actual": t * y, "t_cubed": t**3, "t_fourth": t**4,
            "t_squared_actual": t * t * y, "fitted": float(np.exp(at)) if logs else at,
        }  # fmt: skip
        for column in columns[1:]:
            if column.name in row:
                needs_value = column.name not in ("t", "fitted")
                empty = needs_value and not known
                cells[column.name].append(Cell(why="no value") if empty else Cell(row[column.name], column.formula))
    add_errors(cells)
    n, sums = "COUNT([actual])", {name: f"SUM([{name}])" for name in ("t_squared", "t_actual")}
    total_t = 'SUMIF([actual],"<>",[t])' if np.isnan(values[first:]).any() else "SUM([t])"
    formulas = {}
    if not square:
        formulas["slope"] = (
            f"({n}*{sums['t_actual']}-{total_t}*SUM([{of}]))/({n}*{sums['t_squared']}-{total_t}*{total_t})"
        )
        formulas["intercept"] = f"(SUM([{of}])-{{slope}}*{total_t})/{n}"
    equation = f"{p['intercept']:.6g} + {p['slope']:.6g} t" + (f" + {p['curvature']:.6g} t²" if square else "")
    equation = f"exp({equation})" if logs else equation
    summed = [c.name for c in columns if c.name not in ("fitted", "error", "absolute", "percentage")]
    observed = [i for i, cell in enumerate(actual) if cell.value is not None]
    totals = {name: float(sum(cells[name][i].value or 0.0 for i in observed)) for name in summed}
    return Workings(labels, 0, columns, cells, p, formulas, equation.replace("+ -", "− "), totals)


def of_regression(values: Floats, timeline: Timeline, fits: Fits, drivers: Mapping[str, Floats]) -> Workings:
    """One column for each regressor, and the sum of their effects."""
    p = fits.named_parameters(0)
    x = regressors_of(fits.form(0), drivers, 1, timeline, 0)
    first, labels, actual = begin(values, timeline, 0)
    used = [(j, name) for j, name in enumerate(x.names) if name in p]
    given = [Column(f"x_{letters_of(j)}", name, "", "driver") for j, name in used]
    line = "{constant}" + "".join(f"+{{b{j}}}*[x_{letters_of(j)}]" for j, _ in used)
    columns = [ACTUAL, *given, Column("fitted", "Predicted", line, "constant and effects of the drivers"), *ERROR]
    cells: dict[str, list[Cell]] = {"actual": actual, "fitted": []}
    unknown = x.unknown[0] if x.unknown is not None else np.zeros(len(values), dtype=bool)
    for j, _ in used:
        cells[f"x_{letters_of(j)}"] = [
            Cell(why="not known") if unknown[t] else Cell(float(x.x[0, t, j])) for t in range(first, len(values))
        ]
    effects = np.array([p[name] for _, name in used])
    at = p["constant"] + x.x[0, first : len(values)][:, [j for j, _ in used]] @ effects
    cells["fitted"] = [
        Cell(why="a driver is not known") if unknown[first + i] else Cell(float(value), line)
        for i, value in enumerate(at)
    ]
    add_errors(cells)
    named = {"constant": p["constant"], **{f"b{j}": p[name] for j, name in used}}
    equation = f"{p['constant']:.6g}" + "".join(f" + {p[name]:.6g} {name}" for _, name in used)
    return Workings(labels, 0, columns, cells, named, equation=equation.replace("+ -", "− "))


def of_theta(values: Floats, timeline: Timeline, fits: Fits) -> Workings:
    """The line through the adjusted history, and the doubled distance from it, smoothed; their mean is the forecast."""
    season, coefficients, line = theta_line(values[None], timeline.season_length, 0)
    shows, multiplies = bool(season.shows[0]), bool(season.factors[0])
    undone, back = ("[actual]/[index]", "*[index]") if multiplies else ("[actual]-[index]", "+[index]")
    fitted = f"([smoothed<]+[line])/2{back if shows else ''}"
    alpha = fits.named_parameters(0)["alpha"]
    adjusted = "[adjusted]" if shows else "[actual]"
    columns = [ACTUAL, Column("t", "t", "", "number of the period")]
    if shows:
        said = "seasonal index of the period" if multiplies else "what the period of the season adds"
        columns.append(Column("index", "Index" if multiplies else "Season", "", said))
        columns.append(Column("adjusted", "Adjusted", undone, "seasonally adjusted"))
    columns += [
        Column("line", "Line", "{intercept}+{slope}*[t]", "least-squares line"),
        Column("two", "Line 2", f"2*{adjusted}-[line]", "twice as far from the line"),
        Column("smoothed", "Smoothed", "[smoothed<]+{alpha}*([two]-[smoothed<])", "line 2, smoothed, after the period"),
        Column("fitted", "Fitted", fitted, "what was forecast one period before"),
        *ERROR,
    ]
    first, labels, actual = begin(values, timeline, 0)
    cells: dict[str, list[Cell]] = {column.name: [] for column in columns}
    cells["actual"] = actual
    formulas = {column.name: column.formula for column in columns}
    smoothed = 0.0
    for t, value in enumerate(values[first:]):
        at, missing = float(line[0, first + t]), bool(np.isnan(value))
        factor, added = float(season.indices[0, first + t]), float(season.added[0, first + t])
        two = 2.0 * (float(value) / factor - added) - at
        before = smoothed
        smoothed = two if t == 0 else before if missing else before + alpha * (two - before)
        row = {
            "t": t + 1.0, "index": factor if multiplies else added, "adjusted": float(value) / factor - added,
            "line": at, "two": two, "smoothed": smoothed, "fitted": (0.5 * (before + at) + added) * factor,
        }  # fmt: skip
        for name, number in row.items():
            if name not in formulas:
                continue
            if missing and name in ("adjusted", "two"):
                cells[name].append(Cell(why="no value"))
            elif name == "fitted" and t == 0:
                cells[name].append(Cell(why="the smoothing starts here"))
            else:
                formula = formulas[name]
                if name == "smoothed" and (t == 0 or missing):
                    formula = "[two]" if t == 0 else "[smoothed<]"
                cells[name].append(Cell(number, formula))
    add_errors(cells)
    intercept, slope = (float(c) for c in coefficients[0])
    return Workings(labels, 0, columns, cells, {"alpha": alpha, "intercept": intercept, "slope": slope})
