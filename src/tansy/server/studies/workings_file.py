"""Workings as files: CSV of values, and XLSX with live formulas, so that a planner can check every cell in a sheet."""

from __future__ import annotations

import csv
import io
import re

import xlsxwriter
from xlsxwriter.utility import xl_col_to_name

from tansy.engine.lens.workings.sheet import Workings

_SUMMARY = (
    ("ME", "AVERAGE({error})"),
    ("MAE", "AVERAGE({absolute})"),
    ("MSE", "SUMSQ({error})/COUNT({error})"),
    ("RMSE", "SQRT(SUMSQ({error})/COUNT({error}))"),
    ("MAPE %", "SUMPRODUCT(ABS({percentage}))/COUNT({percentage})"),
    ("WAPE %", '100*SUM({absolute})/SUMIF({error},"<>",{actual})'),
)


def as_csv(found: Workings) -> str:
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(["period", *(column.title for column in found.columns)])
    for row, label in enumerate(found.labels):
        cells = [found.cells[column.name][row].value for column in found.columns]
        writer.writerow([label, *("" if value is None else repr(value + 0.0) for value in cells)])
    return out.getvalue()


def as_xlsx(found: Workings, name: str, method: str, measures: dict[str, float | None]) -> bytes:
    """One sheet: the method, its parameters, a row per period with formulas, and measures under it.

    Every formula comes with its value, for those who only look and never work it out. measures: by name, such as MAE.
    """
    buffer = io.BytesIO()
    book = xlsxwriter.Workbook(buffer, {"in_memory": True})
    sheet = book.add_worksheet("Workings")
    bold, number = book.add_format({"bold": True}), book.add_format({"num_format": "#,##0.00"})
    sheet.write(0, 0, name, bold)
    sheet.write(1, 0, method)
    header = 4 + len(found.parameters)
    first = header + 2  # the spreadsheet's number of our row 0
    last = first + len(found.labels) - 1
    column_of = {column.name: xl_col_to_name(i + 1) for i, column in enumerate(found.columns)}
    parameter_at = {parameter: f"$B${4 + i}" for i, parameter in enumerate(found.parameters)}
    whole = {column: f"${letter}${first}:${letter}${last}" for column, letter in column_of.items()}

    def over_columns(formula: str) -> str:
        text = re.sub(r"\[([a-z_]+)\]", lambda match: whole[match[1]], formula)
        return "=" + re.sub(r"\{([a-z]+)\}", lambda match: parameter_at[match[1]], text)

    for i, (parameter, value) in enumerate(found.parameters.items()):
        sheet.write(3 + i, 0, parameter)
        if parameter in found.parameter_formulas:
            sheet.write_formula(3 + i, 1, over_columns(found.parameter_formulas[parameter]), None, value)
        else:
            sheet.write_number(3 + i, 1, value)
    sheet.write_row(header, 0, ["Period", *(column.title for column in found.columns)], bold)
    for row, label in enumerate(found.labels):
        sheet.write(header + 1 + row, 0, label)
        for i, column in enumerate(found.columns):
            cell = found.cells[column.name][row]
            if cell.value is None:
                continue
            if cell.formula:
                formula = found.addressed(column.name, row, column_of, first, parameter_at)
                sheet.write_formula(header + 1 + row, i + 1, formula, number, cell.value)
            else:
                sheet.write_number(header + 1 + row, i + 1, cell.value, number)
    ranges = {column: whole[column] for column in ("error", "absolute", "percentage", "actual")}
    for i, (title, formula) in enumerate(_SUMMARY):
        sheet.write(last + 1 + i, 0, title, bold)
        known = measures[title.removesuffix(" %")]
        sheet.write_formula(last + 1 + i, 1, "=" + formula.format(**ranges), number, "" if known is None else known)
    sheet.freeze_panes(header + 1, 1)
    sheet.set_column(0, 0, 14)
    sheet.set_column(1, len(found.columns), 13)
    book.close()
    return buffer.getvalue()
