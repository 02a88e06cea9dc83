"""The sheet with live formulas, recalculated from its inputs alone, as a spreadsheet does when it is opened."""

from __future__ import annotations

import io
import math
import re
import zipfile
from typing import Any
from xml.etree import ElementTree

import numpy as np
import pytest
from rest_framework.test import APIClient

from tansy.engine.lens.tries import in_sample, try_methods
from tansy.server.studies.models import Node, Study, unpack

NS = {"s": "http://schemas.openxmlformats.org/spreadsheetml/2006/main"}
_TOKEN = re.compile(r"\$?([A-Z]{1,2})\$?(\d+)(?::\$?([A-Z]{1,2})\$?(\d+))?")


def number_of(letters: str) -> int:
    found = 0
    for letter in letters:
        found = 26 * found + ord(letter) - 64
    return found


class Sheet:
    """Cells by (column, row): numbers, texts, and formulas that are worked out when they are asked for."""

    def __init__(self, content: bytes) -> None:
        book = zipfile.ZipFile(io.BytesIO(content))
        texts = [
            "".join(node.itertext())
            for node in ElementTree.fromstring(book.read("xl/sharedStrings.xml")).findall("s:si", NS)
        ]
        self.formulas: dict[tuple[int, int], str] = {}
        self.values: dict[tuple[int, int], Any] = {}
        self.kept: dict[tuple[int, int], float] = {}
        for cell in ElementTree.fromstring(book.read("xl/worksheets/sheet1.xml")).iter(f"{{{NS['s']}}}c"):
            match = _TOKEN.fullmatch(cell.attrib["r"])
            assert match
            at = (number_of(match[1]), int(match[2]))
            formula, value = cell.find("s:f", NS), cell.find("s:v", NS)
            if formula is not None:
                self.formulas[at] = formula.text or ""
                self.kept[at] = float(value.text or 0) if value is not None else math.nan
            elif value is not None:
                self.values[at] = texts[int(value.text or 0)] if cell.attrib.get("t") == "s" else float(value.text or 0)

    def cell(self, at: tuple[int, int]) -> Any:
        if at not in self.values and at in self.formulas:
            self.values[at] = self._worked_out(self.formulas[at])
        return self.values.get(at)

    def area(self, first: tuple[int, int], last: tuple[int, int]) -> list[Any]:
        columns, rows = range(first[0], last[0] + 1), range(first[1], last[1] + 1)
        return [self.cell((column, row)) for row in rows for column in columns]

    def _worked_out(self, formula: str) -> float:
        def python(match: re.Match[str]) -> str:
            at = (number_of(match[1]), int(match[2]))
            if match[3] is None:
                return f"cell({at})"
            return f"area({at}, {(number_of(match[3]), int(match[4]))})"

        text = _TOKEN.sub(python, formula.lstrip("="))

        def numbers(*given: Any) -> list[float]:
            """Of areas and single cells."""
            listed = [one for area in given for one in (area if isinstance(area, list) else [area])]
            return [one for one in listed if isinstance(one, float)]

        def every(name: str) -> Any:
            """A function of a number that a spreadsheet also takes over an area, value by value."""
            own = {"ABS": abs, "LN": math.log, "EXP": math.exp}[name]
            return lambda one: [own(v) for v in numbers(one)] if isinstance(one, list) else own(one)

        def products(*areas: list[Any]) -> float:
            rows = zip(*areas, strict=True)
            return sum(math.prod(row) for row in rows if all(isinstance(one, float) for one in row))

        known = {
            "cell": lambda at: self.cell(at), "area": self.area, "SQRT": math.sqrt, "SUMPRODUCT": products,
            "SUM": lambda *areas: sum(numbers(*areas)), "COUNT": lambda area: len(numbers(area)),
            "AVERAGE": lambda *areas: sum(numbers(*areas)) / len(numbers(*areas)),
            "MAX": lambda *areas: max(numbers(*areas)), "MIN": lambda *areas: min(numbers(*areas)),
            "SUMSQ": lambda area: sum(one * one for one in numbers(area)),
            "SUMIF": lambda where, _, what: sum(b for a, b in zip(where, what, strict=True) if a is not None),
            **{name: every(name) for name in ("ABS", "LN", "EXP")},
        }  # fmt: skip
        return float(eval(text, {"__builtins__": {}}, known))

    def under(self, title: str) -> float:
        """What stands to the right of a title in the first column."""
        (row,) = [row for (column, row), value in self.values.items() if column == 1 and value == title]
        return float(self.cell((2, row)))


@pytest.mark.parametrize(
    "method",
    [
        "ets(A,Ad,A)", "ets(M,N,M)", "ets(A,A,N; alpha=0.4, beta=0.1, start=first)", "trend(linear)",
        "trend(quadratic)", "trend(exponential)", "moving-average(3)", "seasonal-naive", "theta", "tsb", "croston",
        "log ets(A,N,N)", "arima(1,1,1)", "ets(A,N,N) + shared-season",
        "blend(trimmed; naive; mean; ets(A,N,N); theta)",
    ],
)  # fmt: skip
def test_a_sheet_worked_out_anew_has_the_numbers_of_the_engine(client: APIClient, done: Study, method: str) -> None:
    address = f"/api/studies/{done.pk}/nodes/4/workings"
    page = client.get(f"{address}/", {"method": method}).json()
    answer = client.get(f"{address}.xlsx", {"method": method})
    sheet = Sheet(answer.content)
    assert len(sheet.formulas) > len(page["labels"]), "there is nothing to work out"
    # every cell of a formula, worked out from the numbers given, is the value that was sent along with it
    for at, kept in sheet.kept.items():
        assert sheet.cell(at) == pytest.approx(kept, rel=1e-9, abs=1e-9), f"{at}: {sheet.formulas[at]}"

    fitted = [column["name"] for column in page["columns"]].index("fitted")
    shown = [row[fitted]["value"] for row in page["rows"]]
    (header,) = [row for (column, row), value in sheet.values.items() if column == 1 and value == "Period"]
    for i, value in enumerate(shown):
        cell = sheet.cell((2 + fitted, header + 1 + i))
        assert (cell is None) == (value is None)
        if value is not None:
            assert cell == pytest.approx(value, rel=1e-9, abs=1e-9)

    node = Node.objects.get(study=done, position=4)
    values, timeline = unpack(node.history), done.load.timeline
    if "shared" not in method:
        (measures,) = in_sample(
            values, try_methods(values, timeline, [method], 1, None, {}, {}), timeline.season_length
        )
        for title, name in (("ME", "ME"), ("MAE", "MAE"), ("RMSE", "RMSE"), ("WAPE %", "WAPE"), ("MAPE %", "MAPE")):
            assert sheet.under(title) == pytest.approx(measures[name], rel=1e-9), title
    assert np.isfinite(sheet.under("MSE"))
