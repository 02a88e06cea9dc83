"""The workings: their formulas, read by an evaluator of their own, give the numbers of the engine."""

from __future__ import annotations

import math
import re

import numpy as np
import pytest

from tansy.engine.lens.tries import best_of, describe, in_sample, try_methods
from tansy.engine.lens.workings import workings
from tansy.engine.lens.workings.sheet import Workings
from tansy.engine.methods.fits import Batch
from tansy.engine.timeline import Timeline
from tests.engine.test_smoothing import fitted

Y = np.array([112, 118, 132, 129, 121, 135, 148, 148, 136, 119, 104, 118, 115, 126, 141, 135, 125, 149, 170, 170.0])
TIMELINE = Timeline("M", 24000, len(Y), 4)
DRIVERS = {"price": 2.0 + 0.3 * np.sin(np.arange(len(Y) + 40.0))[None, :]}


def evaluate(found: Workings) -> dict[str, list[float | None]]:
    """Every cell from its formula and the inputs alone, row by row, as a spreadsheet would."""
    known = {
        "ABS": abs, "LN": math.log, "EXP": math.exp, "MEDIAN": lambda *x: float(np.median(x)), "MAX": max, "MIN": min,
        "AVERAGE": lambda *x: sum(x) / len(x), "SUM": lambda *x: sum(x),
    }  # fmt: skip
    values: dict[str, list[float | None]] = {column.name: [] for column in found.columns}
    for row in range(len(found.labels)):
        pending = [column.name for column in found.columns]
        for name in values:
            values[name].append(None)
        while pending:
            ready = []
            for name in pending:
                cell = found.cells[name][row]
                own = re.findall(r"\[([a-z_]+)\]", cell.formula)
                if any(other in pending for other in own):
                    continue
                ready.append(name)
                if not cell.formula:
                    values[name][row] = cell.value
                    continue

                def number(match: re.Match[str], row: int = row) -> str:
                    if match[3]:
                        return repr(found.parameters[match[3]])
                    back = 0 if match[2] is None else int(match[2][1:] or 1)
                    return repr(values[match[1]][row - back])

                text = re.sub(r"\[([a-z_]+)(<\d*)?\]|\{([a-z0-9_]+)\}", number, cell.formula)
                values[name][row] = eval(text, {"__builtins__": {}}, known)
            assert ready, f"formulas of row {row} go round in a circle"
            pending = [name for name in pending if name not in ready]
    return values


@pytest.mark.parametrize(
    "text",
    [
        "ets(A,N,N; alpha=0.4)", "ets(A,Ad,A)", "ets(A,N,N) + harmonics(1)", "ets(A,Ad,N) + shared-season",
        "ets(M,A,M)", "ets(A,A,N; alpha=0.5, beta=0.2, start=first)",
        "ets(A,A,A; alpha=0.3, beta=0.1, gamma=0.2, start=season)", "trend(linear)", "trend(quadratic)",
        "trend(exponential)", "moving-average(3)", "moving-average(3; weights=3/2/1)", "naive",
        "seasonal-naive", "drift", "mean", "croston", "sba(alpha=0.2, beta=0.1)", "tsb", "theta",
        "log ets(A,Ad,A)", "log ets(A,A,N; alpha=0.4, beta=0.1, start=first)", "arima(1,0,1; ma1=0.3)",
        "arima(0,1,0)(1,0,0)4", "arima(1,1,0; drift)", "arima(2,0,0)(0,1,0)4",
        "regression(price, log price) + harmonics(1)", "boxcox(0.5) naive", "log naive", "log drift", "log mean",
        "log moving-average(3)", "ets(A,N,N) + pooled(price)",
        "ets(A,Ad,A) + pooled(log price)", "arima(0,1,1) + pooled(log price)", "log arima(1,0,0)(1,0,0)4",
        "arima(1,0,0) + harmonics(1) + x(price)", "log arima(0,1,0) + x(log price) + level-shift(2024-04)",
    ],
)  # fmt: skip
def test_formulas_give_the_fitted_values_and_errors_of_the_engine(text: str) -> None:
    y = Y.copy()
    if text in (
        "naive",
        "mean",
        "moving-average(3)",
        "ets(A,Ad,A)",
        "ets(M,A,M)",
        "trend(linear)",
        "theta",
        "log ets(A,Ad,A)",
    ):
        y[7] = math.nan
    if text.startswith(("croston", "sba", "tsb")):
        y = np.array([0, 0, 3, 0, math.nan, 0, 2, 1, 0, 0, 0, 4, 0, 0, math.nan, 5, 0, 0, 0, 2])
    profile = 1 + 0.1 * np.cos(np.arange(len(Y) + 4))
    fits = fitted(text, y, m=4, profiles=profile[None, :], drivers=DRIVERS)
    found = workings(Batch(y[None], TIMELINE, DRIVERS, profiles=profile[None]), fits)
    values = evaluate(found)
    if text != "boxcox(0.5) naive":  # which shows what is fitted, not how
        assert any(cell.formula for cell in found.cells["fitted"])
    errors = np.array([math.nan if e is None else e for e in values["error"]])[found.n_start :]
    np.testing.assert_allclose(errors, fits.residuals[0], atol=1e-9)
    for name, cells in found.cells.items():
        for row, cell in enumerate(cells):
            value = values[name][row]
            assert (value is None) == (cell.value is None)
            if value is not None:
                assert value == pytest.approx(cell.value, rel=1e-9, abs=1e-9)
                assert cell.formula == "" or found.with_numbers(name, row)
            elif row >= found.n_start and name == "fitted":
                assert cell.why  # an empty cell says why


@pytest.mark.parametrize("rule", ["mean", "median", "trimmed"])
def test_a_blend_shows_its_parts_and_how_they_are_put_together_in_the_leads_too(rule: str) -> None:
    """The fourth part needs two seasons and more, and is left out of a short history."""
    y = Y[:9].copy()
    parts = ("naive", "mean", "ets(A,N,N)", "arima(2,0,2)(2,1,1)4")
    fits = fitted(f"blend({rule}; {'; '.join(parts)})", y, m=4)
    found = workings(Batch(y[None], Timeline("M", 24000, 9, 4)), fits)
    values = evaluate(found)
    errors = [math.nan if e is None else e for e in values["error"]]
    np.testing.assert_allclose(errors[:9], fits.residuals[0], atol=1e-9)
    np.testing.assert_allclose([v or math.nan for v in values["fitted"][9:]], fits.forecast[0], rtol=1e-12)
    assert found.labels[9] == "2000-10"
    assert "left out" in found.cells["part_d"][9].why
    assert [column.title for column in found.columns[1:5]] == list(parts)


def test_the_sums_of_a_regression_give_its_line() -> None:
    """Slope and intercept from the sums that the screen shows, by the textbook formula."""
    y = Y.copy()
    y[5] = math.nan
    fits = fitted("trend(linear)", y, m=4)
    s = workings(Batch(y[None], TIMELINE), fits).sums
    n = len(Y) - 1
    slope = (n * s["t_actual"] - s["t"] * s["actual"]) / (n * s["t_squared"] - s["t"] ** 2)
    found = fits.named_parameters(0)
    assert slope == pytest.approx(found["slope"])
    assert (s["actual"] - slope * s["t"]) / n == pytest.approx(found["intercept"])


def test_a_cell_shows_its_formula_with_the_numbers_and_with_addresses() -> None:
    found = workings(Batch(Y[None, :3], TIMELINE.until(3)), fitted("ets(A,N,N; alpha=0.5, level=110)", Y[:3]))
    assert found.with_numbers("level", 1) == "110 + 0.5 × 2"
    columns = {column.name: "BCDEFGH"[i] for i, column in enumerate(found.columns)}
    assert (
        found.addressed("level", 1, columns, 10, {"alpha": "$B$1"})
        == f"={columns['level']}10+$B$1*{columns['error']}11"
    )


def test_tries_are_scored_on_the_same_periods_and_a_wrong_one_spoils_only_itself() -> None:
    tries = try_methods(Y, TIMELINE, ["naive", "moving-average(5)", "ets(Q)", "mean"], 6)
    assert [one.problem != "" for one in tries] == [False, False, True, False]
    measures = in_sample(Y, tries, 4)
    naive = np.diff(Y)[4:]  # the moving average has its first forecast for the sixth period
    assert measures[0]["MAE"] == pytest.approx(np.abs(naive).mean())
    assert measures[0]["ME"] == pytest.approx(naive.mean())
    assert measures[0]["MASE"] == pytest.approx(np.abs(naive).mean() / np.abs(Y[4:] - Y[:-4]).mean())
    assert measures[2]["MAE"] is None
    assert best_of(measures)["MAE"] == min((0, 1, 3), key=lambda i: measures[i]["MAE"] or 0.0)
    told = describe(tries[0], Y, (50.0, 80.0, 95.0))
    assert [band["level"] for band in told["bands"]] == [95.0, 80.0, 50.0]
    assert told["forecast"] == [170.0] * 6
