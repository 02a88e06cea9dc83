"""Every period's arithmetic, so that it can be checked by hand or in a spreadsheet.

A column is a formula in a small notation, from which three things are made: the value, the text with the numbers in it,
and the live formula of a spreadsheet.

    [x]      the cell of column x in this row         [x<]     in the row above
    [x<3]    three rows above                         {alpha}  a parameter

Everything else is spreadsheet arithmetic that Python reads the same way. Rows begin with those that hold the start.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from tansy.engine.methods.fits import Fits
from tansy.engine.methods.notation import Form
from tansy.engine.methods.pooled import Pooled
from tansy.engine.methods.regressors import regressors_of, regressors_of_drivers
from tansy.engine.methods.trends import theta_line
from tansy.engine.timeline import Timeline

Floats = NDArray[np.float64]

_REFERENCE = re.compile(r"\[([a-z_]+)(<\d*)?\]|\{([a-z0-9_]+)\}")


@dataclass(frozen=True)
class Column:
    """name: in formulas; title: on the screen; formula: of a usual row, "" for input. means: what it is."""

    name: str
    title: str
    formula: str
    means: str


@dataclass
class Cell:
    """value: None where there is none; formula: "" for input; why: of an empty cell."""

    value: float | None = None
    formula: str = ""
    why: str = ""


@dataclass(frozen=True)
class Workings:
    """labels: of the rows, n_start of which hold the start. cells: per column name, one per row. parameters: by name,
    as
    formulas name them; parameter_formulas: those that follow from sums, as formulas over whole columns. sums: of the
    columns that a regression adds up."""

    labels: list[str]
    n_start: int
    columns: list[Column]
    cells: dict[str, list[Cell]]
    parameters: dict[str, float]
    parameter_formulas: dict[str, str] = field(default_factory=dict)
    equation: str = ""
    sums: dict[str, float] = field(default_factory=dict)

    def with_numbers(self, name: str, row: int) -> str:
        """The formula of a cell with the numbers in it: "104.2 + 0.30 × 5.1"."""
        cell = self.cells[name][row]

        def number(match: re.Match[str]) -> str:
            value = self.parameters[match[3]] if match[3] else self.cells[match[1]][row - steps(match[2])].value
            return "—" if value is None else f"{value:.6g}" if value >= 0 else f"(−{-value:.6g})"

        spaced = cell.formula
        for sign, shown in (("*", " × "), ("/", " / "), ("+", " + "), ("-", " − ")):
            spaced = spaced.replace(sign, shown)
        return _REFERENCE.sub(number, spaced)

    def addressed(
        self, name: str, row: int, column_of: dict[str, str], first: int, parameter_at: dict[str, str]
    ) -> str:
        """The formula of a cell with the addresses of a spreadsheet. first: its row of our row 0."""

        def address(match: re.Match[str]) -> str:
            if match[3]:
                return parameter_at[match[3]]
            return f"{column_of[match[1]]}{first + row - steps(match[2])}"

        return "=" + _REFERENCE.sub(address, self.cells[name][row].formula)


def steps(back: str | None) -> int:
    """Rows above that a reference means: none for "", one for "<", k for "<k"."""
    if not back:
        return 0
    return int(back[1:]) if len(back) > 1 else 1


_ERROR = (
    Column("error", "Error", "[actual]-[fitted]", "actual minus fitted"),
    Column("absolute", "Absolute error", "ABS([error])", "size of the error"),
    Column("percentage", "Error %", "100*[error]/[actual]", "error in percent of the actual value"),
)
_ACTUAL = Column("actual", "Actual", "", "history, corrected")
_LOG_ACTUAL = Column("log_actual", "ln actual", "LN([actual])", "natural logarithm")


def workings(
    values: Floats, timeline: Timeline, fits: Fits, profile: Floats | None = None,
    drivers: Mapping[str, Floats] | None = None,
) -> Workings:  # fmt: skip
    """Workings of one series' fit (a batch of one). profile: [T or more], the season that its group shares. drivers:
    per name [1, T or more]."""
    form = fits.form(0)
    if form.slope_changes or form.power is not None or not fits.defined[0]:
        return _of_lags(values, timeline, fits)
    if form.family == "regression" and not form.log:
        return _of_regression(values, timeline, fits, drivers or {})
    lift = _lift(timeline, fits, drivers or {}) if form.pooled else None
    if form.family == "arima" and form.orders and not _gaps(values):
        beside = _beside(timeline, fits, drivers or {}) if form.harmonics or form.drivers or form.level_shifts else None
        if beside is None or not np.isnan(beside).any():
            return _of_arima(values, timeline, fits, beside, lift)
    if form.family == "ets":
        return _of_smoothing(values, timeline, fits, _outside(timeline, fits, profile), lift)
    if form.family == "trend" and not (form.words or form.log):
        return _of_trend(values, timeline, fits)
    if form.family == "theta" and not form.log and fits.defined[0]:
        return _of_theta(values, timeline, fits)
    if form.family in _INTERMITTENT and not form.log and (values > 0.0).any():
        return _of_demands(values, timeline, fits)
    return _of_lags(values, timeline, fits)


def _gaps(values: Floats) -> bool:
    known = np.nonzero(~np.isnan(values))[0]
    return bool(np.isnan(values[known[0] :]).any())


def _begin(values: Floats, timeline: Timeline, n_start: int) -> tuple[int, list[str], list[Cell]]:
    first = int(np.argmax(~np.isnan(values))) if (~np.isnan(values)).any() else 0
    labels = ["start"] * n_start + timeline.labels[first:]
    actual = [Cell() for _ in range(n_start)]
    actual += [Cell(None, why="no value") if np.isnan(v) else Cell(float(v)) for v in values[first:]]
    return first, labels, actual


def _errors(cells: dict[str, list[Cell]]) -> None:
    """The three columns of errors beside actual and fitted, in place."""
    for name in ("error", "absolute", "percentage"):
        cells[name] = []
    for actual, fitted in zip(cells["actual"], cells["fitted"], strict=True):
        if actual.value is None or fitted.value is None:
            why = fitted.why or actual.why
            for name in ("error", "absolute", "percentage"):
                cells[name].append(Cell(why=why))
            continue
        e = actual.value - fitted.value
        cells["error"].append(Cell(e, _ERROR[0].formula))
        cells["absolute"].append(Cell(abs(e), _ERROR[1].formula))
        share = 100.0 * e / actual.value if actual.value else None
        cells["percentage"].append(Cell(share, _ERROR[2].formula) if share is not None else Cell(why="the actual is 0"))


def _outside(timeline: Timeline, fits: Fits, profile: Floats | None) -> Floats | None:
    """The season beside the states, [T]: harmonics, or the group's; None without one."""
    form, p = fits.form(0), fits.named_parameters(0)
    if form.shared_season and profile is not None:
        return p["shared-season"] * (profile[: timeline.n_periods] - 1.0)
    if form.harmonics:
        names = timeline.harmonic_names(form.harmonics)
        found: Floats = timeline.harmonics(form.harmonics, 0) @ np.array([p[name] for name in names])
        return found
    return None


def _lift(timeline: Timeline, fits: Fits, drivers: Mapping[str, Floats]) -> Floats:
    """What drivers multiply demand by, [T]."""
    form, p = fits.form(0), fits.named_parameters(0)
    columns = regressors_of_drivers(form.pooled, drivers, 1, timeline, 0)
    effects = np.array([[p[f"pooled {name}"] for name in columns.names]])
    return Pooled(columns.names, effects, np.zeros_like(effects)).lift(columns, timeline.n_periods)[0]


def _beside(timeline: Timeline, fits: Fits, drivers: Mapping[str, Floats]) -> Floats:
    """What harmonics, drivers and level shifts add, [T]; NaN where a driver is not known."""
    form, p = fits.form(0), fits.named_parameters(0)
    columns = regressors_of(form, drivers, 1, timeline, 0)
    found: Floats = columns.x[0] @ np.array([p.get(name, 0.0) for name in columns.names])
    return found if columns.unknown is None else np.where(columns.unknown[0], np.nan, found)


def _of_smoothing(
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
    first, labels, actual = _begin(values, timeline, n_start)
    before = "[level<]" + ("+[damped]" if trend != "N" else "")
    inner = "log" if form.log else "base" if lift is not None else ""
    error = f"[{inner}_error]" if inner else "[error]"
    shock = f"{error}/[season]" if times else error
    columns = [_ACTUAL, *([_LOG_ACTUAL] if form.log else [])]
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
    columns += _ERROR
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
    _errors(cells)
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


def _of_trend(values: Floats, timeline: Timeline, fits: Fits) -> Workings:
    form, p = fits.form(0), fits.named_parameters(0)
    logs, square = form.shape == "exponential", form.shape == "quadratic"
    first, labels, actual = _begin(values, timeline, 0)
    of = "log_actual" if logs else "actual"
    columns = [_ACTUAL, Column("t", "t", "", "number of the period")]
    if logs:
        columns.append(_LOG_ACTUAL)
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
    columns += _ERROR
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
    _errors(cells)
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


def _of_regression(values: Floats, timeline: Timeline, fits: Fits, drivers: Mapping[str, Floats]) -> Workings:
    """One column for each regressor, and the sum of their effects."""
    p = fits.named_parameters(0)
    x = regressors_of(fits.form(0), drivers, 1, timeline, 0)
    first, labels, actual = _begin(values, timeline, 0)
    used = [(j, name) for j, name in enumerate(x.names) if name in p]
    given = [Column(f"x_{_letters(j)}", name, "", "driver") for j, name in used]
    line = "{constant}" + "".join(f"+{{b{j}}}*[x_{_letters(j)}]" for j, _ in used)
    columns = [_ACTUAL, *given, Column("fitted", "Predicted", line, "constant and effects of the drivers"), *_ERROR]
    cells: dict[str, list[Cell]] = {"actual": actual, "fitted": []}
    unknown = x.unknown[0] if x.unknown is not None else np.zeros(len(values), dtype=bool)
    for j, _ in used:
        cells[f"x_{_letters(j)}"] = [
            Cell(why="not known") if unknown[t] else Cell(float(x.x[0, t, j])) for t in range(first, len(values))
        ]
    effects = np.array([p[name] for _, name in used])
    at = p["constant"] + x.x[0, first : len(values)][:, [j for j, _ in used]] @ effects
    cells["fitted"] = [
        Cell(why="a driver is not known") if unknown[first + i] else Cell(float(value), line)
        for i, value in enumerate(at)
    ]
    _errors(cells)
    named = {"constant": p["constant"], **{f"b{j}": p[name] for j, name in used}}
    equation = f"{p['constant']:.6g}" + "".join(f" + {p[name]:.6g} {name}" for _, name in used)
    return Workings(labels, 0, columns, cells, named, equation=equation.replace("+ -", "− "))


def _letters(j: int) -> str:
    """Column names hold letters alone."""
    return (chr(97 + j // 26) if j >= 26 else "") + chr(97 + j % 26)


_SETTLED = 1e-11


def _of_arima(values: Floats, timeline: Timeline, fits: Fits, beside: Floats | None, lift: Floats | None) -> Workings:
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
    first, labels, actual = _begin(values, timeline, 0)
    fitted = (values - fits.residuals[0])[first:]
    factor = lift[first:] if lift is not None else np.ones(len(fitted))
    added = beside[first:] if beside is not None else np.zeros(len(fitted))
    y, of = (np.log(one) if log else one / factor for one in (values[first:], fitted))
    y, of = y - added, of - added
    e = y - of
    longest = max((int(name[1:]) for name in weights), default=0)
    columns = [_ACTUAL, *([_LOG_ACTUAL] if log else [])]
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
    columns += _ERROR
    cells: dict[str, list[Cell]] = {column.name: [] for column in columns}
    cells["actual"] = actual
    settled = False
    for t, value in enumerate(of.tolist()):
        for name, number, text in (
            ("log_actual", y[t] + added[t], _LOG_ACTUAL.formula), ("factor", factor[t], ""), ("beside", added[t], ""),
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
            settled = settled or abs(by_hand - value) <= _SETTLED * max(1.0, abs(value))
        if inner:
            cells["inner_fitted"].append(Cell(value, formula if settled else ""))
            cells["inner_error"].append(Cell(float(e[t]), f"[{source}]-[inner_fitted]"))
            cells["fitted"].append(Cell(float(fitted[t]), back))
        else:
            cells["fitted"].append(Cell(value, formula if settled else ""))
    _errors(cells)
    return Workings(labels, 0, columns, cells, {"c": own, **weights} if own else weights)


def _of_theta(values: Floats, timeline: Timeline, fits: Fits) -> Workings:
    """The line through the adjusted history, and the doubled distance from it, smoothed; their mean is the forecast."""
    indices, seasonal, coefficients, line = theta_line(values[None], timeline.season_length, 0)
    alpha = fits.named_parameters(0)["alpha"]
    index = "[index]" if seasonal[0] else "1"
    adjusted = "[adjusted]" if seasonal[0] else "[actual]"
    columns = [_ACTUAL, Column("t", "t", "", "number of the period")]
    if seasonal[0]:
        columns.append(Column("index", "Index", "", "seasonal index of the period"))
        columns.append(Column("adjusted", "Adjusted", "[actual]/[index]", "seasonally adjusted"))
    columns += [
        Column("line", "Line", "{intercept}+{slope}*[t]", "least-squares line"),
        Column("two", "Line 2", f"2*{adjusted}-[line]", "twice as far from the line"),
        Column("smoothed", "Smoothed", "[smoothed<]+{alpha}*([two]-[smoothed<])", "line 2, smoothed, after the period"),
        Column("fitted", "Fitted", f"([smoothed<]+[line])/2*{index}", "what was forecast one period before"),
        *_ERROR,
    ]
    first, labels, actual = _begin(values, timeline, 0)
    cells: dict[str, list[Cell]] = {column.name: [] for column in columns}
    cells["actual"] = actual
    formulas = {column.name: column.formula for column in columns}
    smoothed = 0.0
    for t, value in enumerate(values[first:]):
        at, own, missing = float(line[0, first + t]), float(indices[0, first + t]), bool(np.isnan(value))
        two = 2.0 * float(value) / own - at
        before = smoothed
        smoothed = two if t == 0 else before if missing else before + alpha * (two - before)
        row = {
            "t": t + 1.0, "index": own, "adjusted": float(value) / own, "line": at, "two": two, "smoothed": smoothed,
            "fitted": 0.5 * (before + at) * own,
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
    _errors(cells)
    intercept, slope = (float(c) for c in coefficients[0])
    return Workings(labels, 0, columns, cells, {"alpha": alpha, "intercept": intercept, "slope": slope})


_INTERMITTENT = {
    "croston": ("interval", "[size<]/[interval<]"),
    "sba": ("interval", "(1-{beta}/2)*[size<]/[interval<]"),
    "tsb": ("probability", "[size<]*[probability<]"),
}


def _of_demands(values: Floats, timeline: Timeline, fits: Fits) -> Workings:
    """Croston's method and its relatives: sizes change with a demand, the probability of `tsb` with every period."""
    other, of_forecast = _INTERMITTENT[fits.form(0).family]
    p = fits.named_parameters(0)
    alpha, beta = p["alpha"], p["beta"]
    means = "periods between demands, smoothed" if other == "interval" else "of a demand in a period, smoothed"
    columns = [
        _ACTUAL,
        Column("since", "Periods", "[since<]+1", "since the demand before, this one included"),
        Column("fitted", "Fitted", of_forecast, "what was forecast one period before"),
        *_ERROR,
        Column("size", "Size", "[size<]+{alpha}*([actual]-[size<])", "of a demand, smoothed; after this period"),
        Column(other, other.title(), "", f"{means}; after this period"),
    ]
    first, labels, actual = _begin(values, timeline, 0)
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
    _errors(cells)
    return Workings(labels, 0, columns, cells, {"alpha": alpha, "beta": beta})


def _of_lags(values: Floats, timeline: Timeline, fits: Fits) -> Workings:
    """Methods whose fitted value is one look back, over gaps and on logarithms too; for all others fitted values and
    errors alone."""
    form, p = fits.form(0), fits.named_parameters(0)
    first, labels, actual = _begin(values, timeline, 0)
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
        own = looked[0] if looked and abs(_looked(looked, y, t, p) - value) <= _SETTLED * max(1.0, abs(value)) else ""
        formula = own or formula
        cells["fitted"].append(Cell(float(value), own))
    _errors(cells)
    columns = [_ACTUAL, Column("fitted", "Fitted", formula, "what was forecast one period before"), *_ERROR]
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
