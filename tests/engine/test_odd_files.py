"""Small bad and odd files: each gets the sentence that says where and what to do, or the panel that was meant."""
# ruff: noqa: E501  a case reads best on one line

from __future__ import annotations

import io
import zipfile
from collections.abc import Callable
from datetime import date, datetime, timedelta
from pathlib import Path
from typing import Any

import numpy as np
import polars as pl
import pytest
import xlsxwriter
from hypothesis import given, settings
from hypothesis import strategies as st

from tansy.engine.errors import FileError
from tansy.engine.reading import foreign
from tansy.engine.reading.append import later_options
from tansy.engine.reading.history import Reading, read_panel
from tansy.engine.reading.options import ReadOptions

NAN = float("nan")


def read(folder: Path, content: str | bytes, name: str = "sales.csv", **options: Any) -> Reading:
    path = folder / name
    path.write_bytes(content if isinstance(content, bytes) else content.encode())
    return read_panel(path, ReadOptions(**options))


def book(*sheets: tuple[str, Callable[[Any, Any], None]]) -> bytes:
    buffer = io.BytesIO()
    with xlsxwriter.Workbook(buffer) as made:
        for name, fill in sheets:
            fill(made, made.add_worksheet(name))
    return buffer.getvalue()


def zipped(**files: bytes) -> bytes:
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, content in files.items():
            archive.writestr(name, content)
    return buffer.getvalue()


def days(n: int, start: str = "2025-01-06", units: str = "1") -> str:
    dates = pl.date_range(
        pl.lit(start).str.to_date(), pl.lit(start).str.to_date() + pl.duration(days=n - 1), eager=True
    )
    return "date,sku,units\n" + "".join(f"{d},A,{units}\n" for d in dates)


HEAD = "week,sku,units\n"

REFUSED: dict[str, tuple[str | bytes, dict[str, Any], str]] = {
    "nothing": ("", {}, "is empty"),
    "blanks": ("\n \n\n", {}, "empty but for blanks"),
    "header only": (HEAD, {}, "a header but no rows"),
    "one column": ("week\n2025-W01\n", {}, "only one column"),
    "no header": ("2025-W01,A,12\n2025-W02,A,13\n", {}, "looks like data"),
    "unnamed column": ("week,,units\n2025-W01,A,1\n", {}, "column 2 has no name"),
    "twice the name": ("week,units,units\n2025-W01,1,2\n", {}, "two columns are named 'units'"),
    "too many cells": (HEAD + "2025-W01,A,1\n2025-W02,A,1,7\n", {}, "row 3: 4 cells"),
    "open quote": (HEAD + '2025-W01,B,1\n2025-W01,"A,1\n2025-W02,A,1\n', {}, "row 3: a quote that is out of place"),
    "quote closed far below": (HEAD + '2025-W01,"A' + "\n2025-W02,A,1" * 12_000 + '",2\n', {}, "cell of 'sku' holds more than 32,767"),
    "quote closed below": (HEAD + '2025-W01,A,1\n2025-W01,"B,1\n2025-W02,A,1\n2025-W02,B 2",1\n', {}, "row 3: a cell of 'sku' goes on for 3 lines"),
    "quote closed in the next row": (HEAD + '2025-W01,A,1\n2025-W01,"B,1\n2025-W02,B",1\n', {}, "row 3: a cell of 'sku' goes on for 2 lines"),
    "text after a quote": (HEAD + '2025-W01,"2in" hose,1\n2025-W02,A,1\n', {}, "row 2: a quote that is out of place"),
    "a cell too long": (HEAD + "2025-W01,A,1\n2025-W01," + "x" * 32_768 + ",1\n", {}, "row 3: a cell of 'sku' holds more than 32,767"),
    "inches, quotes, too many cells": (HEAD + '2025-W01,2" hose,1\n2025-W01,"a, b",1\n2025-W02,A,1,7\n', {}, "row 4: 4 cells"),
    "inches, too many cells": (HEAD + '2025-W01,2" hose,1\n2025-W02,A,1,7\n', {}, "row 3: 4 cells"),
    "one endless line": ("week,sku,units," * 80_000, {}, "row 1: no line ends within 1,048,576"),
    "binary": (b"\x00\x01\x02\x03" * 100, {}, "binary file"),
    "picture": (b"\x89PNG\r\n\x1a\n\x00\x00" * 9, {}, "binary file"),
    "no time": ("sku,units\nA,1\nB,2\n", {}, "holds dates or periods"),
    "no numbers": ("week,sku,remark\n2025-W01,A,good\n2025-W02,B,bad\n", {}, "cannot be told, none holds numbers"),
    "two numbers": ("week,sku,a,b\n2025-W01,A,1,2\n2025-W02,B,1,2\n", {}, r"several hold numbers \(a, b\)"),
    "no number where sales are": (HEAD + "2025-W01,A,\n2025-W02,A,5 pcs\n", {"value": "units"}, "column 'units', row 3: '5 pcs' is no number, nor is any other"),
    "named wrongly": (HEAD + "2025-W01,A,1\n", {"value": "Units"}, "no column 'Units'; its columns are week, sku, units"),
    "periods in two ways": (HEAD + "2025-W01,A,1\n2025-W02,A,1\n2025-02,A,1\n", {}, "row 4: '2025-02' is written as months"),
    "no period at all": (HEAD + "soon,A,1\nlater,A,2\n", {"time": "week"}, "row 2: 'soon' is not a date"),
    "days and months first": ("date,sku,units\n13/01/2025,A,1\n01/13/2025,A,1\n", {}, "mixes dates"),
    "every two weeks": ("date,sku,units\n" + "".join(f"{date(2025, 1, 6) + timedelta(14 * i)},A,1\n" for i in range(12)), {}, "some 14 days apart, as no frequency has it"),
    "twice a month": ("date,sku,units\n" + "".join(f"2025-{m:02d}-{d:02d},A,1\n" for m in range(1, 8) for d in (1, 16)), {}, "some 15 days apart"),
    "years first, of two digits": ("date,sku,units\n" + "".join(f"25/01/{d:02d},A,1\n" for d in range(1, 29)), {}, "which part of '25/01/01' is the year"),
    "mistyped year": ("date,sku,units\n2025-01-01,A,1\n2925-01-01,A,1\n2025-01-03,A,1\n", {}, "mistyped year"),
    "weeks to months": (HEAD + "2025-W01,A,1\n2025-W02,A,1\n", {"frequency": "M"}, "weeks, which cannot be put together into months"),
    "no whole week": (days(3, "2025-01-07"), {"frequency": "W"}, "no week is complete"),
    "no key and no period": (HEAD + "2025-W99,A,1\n2025-W01,,1\n", {"keys": ("sku",)}, "no row has both"),
    "wide asked of long": (HEAD + "2025-W01,A,1\n", {"layout": "wide"}, "not in wide layout"),
    "no workbook": (zipped(hello=b"x"), {}, "not a readable XLSX workbook"),
    "broken zip": (b"PK\x03\x04" + b"\x07" * 60, {}, "not a readable XLSX workbook"),
    "empty workbook": (book(("one", lambda b, s: None)), {}, "no sheet with rows"),
    "no such sheet": (book(("one", lambda b, s: s.write_row(0, 0, ["a", "b"]))), {"sheet": "two"}, "no sheet 'two'; its sheets are one"),
    "broken parquet": (b"PAR1" + b"\x01" * 50, {}, "cannot be read as one"),
}  # fmt: skip


@pytest.mark.parametrize("case", REFUSED)
def test_what_cannot_be_read_gets_its_sentence(tmp_path: Path, case: str) -> None:
    content, options, sentence = REFUSED[case]
    with pytest.raises(FileError, match=sentence) as caught:
        read(tmp_path, content, **options)
    assert "\n" not in str(caught.value) and str(caught.value).startswith("sales.csv")


def _formulas(made: Any, sheet: Any) -> None:
    sheet.write_row(0, 0, ["week", "sku", "units"])
    sheet.write_row(1, 0, ["2025-W01", "A", 4])
    sheet.write_row(2, 0, ["2025-W02", "A"])
    sheet.write_formula(2, 2, "=C2*2", None, 8)


def _merged(made: Any, sheet: Any) -> None:
    sheet.merge_range(0, 0, 0, 3, "Sales of the spring")  # a title above, then an empty row
    sheet.write_row(2, 0, ["sku", "week", "units"])
    sheet.merge_range(3, 0, 4, 0, "A")
    sheet.write_row(3, 1, ["2025-W01", 4])
    sheet.write_row(4, 1, ["2025-W02", 8])


def _dates(made: Any, sheet: Any) -> None:
    style = made.add_format({"num_format": "dd/mm/yy"})
    sheet.write_row(0, 0, ["date", "sku", "units"])
    for i, serial in enumerate((45658, 45659)):  # 2025-01-01 and the day after
        sheet.write_number(i + 1, 0, serial, style)
        sheet.write_row(i + 1, 1, ["A", 4 * (i + 1)])


def _second(made: Any, sheet: Any) -> None:
    sheet.write_row(0, 0, ["week", "sku", "units"])
    sheet.write_row(1, 0, ["2025-W01", "A", 1])
    sheet.write_row(2, 0, ["2025-W02", "A", 2])


READ: dict[str, tuple[str | bytes, dict[str, Any], list[float], dict[str, int]]] = {
    "serial numbers": ("date,sku,units\n45658,A,1\n45659,A,2\n45660,A,3\n", {}, [1, 2, 3], {}),
    "serial header": ("sku,45658,45665,45672\nA,1,2,3\n", {}, [1, 2, 3], {}),
    "codes like serials": ("week,sku,units\n2025-W01,45658,1\n2025-W02,45658,2\n", {}, [1, 2], {}),
    "quarters": ("quarter,sku,units\n2025-Q1,A,1\n2025 Q2,A,2\n", {}, [1, 2], {}),
    "months": ("month,sku,units\n2025-01,A,1\n2025-2,A,2\n", {}, [1, 2], {}),
    "years": ("year,sku,units\n2024,A,1\n2025,A,2\n", {}, [1, 2], {}),
    "month ends": ("date,sku,units\n2025-01-31,A,1\n2025-02-28,A,2\n2025-03-31,A,3\n", {}, [1, 2, 3], {}),
    "week 53": (HEAD + "2026-W52,A,1\n2026-W53,A,2\n2027-W01,A,3\n", {}, [1, 2, 3], {}),
    "sundays": ("date,sku,units\n2025-01-05,A,1\n2025-01-12,A,2\n2025-01-19,A,3\n", {}, [1, 2, 3], {}),
    "clock times": ("date,sku,units\n2025-01-01 00:00:00,A,1\n2025-01-02T00:00,A,2\n", {}, [1, 2], {}),
    "times of day": ("date,sku,units\n2025-01-01T14:05:33.5+02:00,A,1\n2025-01-01 23:59,A,2\n2025-01-02 00:00Z,A,2\n", {}, [3, 2],
                     {"time-of-day": 2, "duplicate": 1}),
    "local times": ("date,sku,units\n13.01.2025 9:05,A,1\n13.01.2025 21:05:00,A,1\n14.01.2025 12:00 AM,A,2\n", {}, [2, 2],
                    {"time-of-day": 2, "duplicate": 1}),
    "short years": ("date,sku,units\n31.12.24,A,1\n01.01.25,A,2\n", {}, [1, 2], {}),
    "short years, month first": ("date,sku,units\n1/30/25,A,1\n1/31/25,A,2\n2/1/25,A,3\n", {}, [1, 2, 3], {}),
    "short years as headings": ("sku,30.12.24,06.01.25,13.01.25\nA,1,2,3\n", {}, [1, 2, 3], {}),
    "weeks as numbers": ("week,sku,units\n202451,A,1\n202452,A,2\n202501,A,3\n", {}, [1, 2, 3], {}),
    "months as numbers": ("month,sku,units\n202411,A,1\n202412,A,2\n202501,A,3\n", {}, [1, 2, 3], {}),
    "weeks as headings": ("sku,202452,202501,202502\nA,1,2,3\n", {}, [1, 2, 3], {}),
    "every two weeks, added up": ("date,sku,units\n" + "".join(f"{date(2025, 1, 27) + timedelta(14 * i)},A,1\n" for i in range(12)), {"frequency": "4W"}, [2] * 5, {"unfinished-period": 2}),
    "two days of each week": ("date,sku,units\n" + "".join(f"{date(2025, 1, 7) + timedelta(7 * w + 3 * d)},A,1\n" for w in range(9) for d in (0, 1)), {}, ([1, 0, 0, 1, 0, 0, 0] * 9)[:60], {"gap": 42}),
    "days that follow chance": ("date,sku,units\n" + "".join(f"2025-01-{d:02d},A,1\n" for d in (1, 4, 8, 10, 13, 14, 17, 21, 23, 28)), {"gaps": "unknown"}, [1.0 if d in (1, 4, 8, 10, 13, 14, 17, 21, 23, 28) else NAN for d in range(1, 29)], {"gap": 18}),
    "minus behind": (HEAD + "2025-W01,A,1\n2025-W02,A,12-\n2025-W03,A,(3)\n", {}, [1, -12, -3], {"negative": 2}),
    "currencies": ("week;sku;units\n2025-W01;A;1.234,50 €\n2025-W02;A;€ 2,50\n2025-W03;A;-3,00€\n", {}, [1234.5, 2.5, -3], {"negative": 1}),
    "pipes": ("week|sku|units\n2025-W01|A|1\n2025-W02|A|2\n", {}, [1, 2], {}),
    "pasted cells": ("week\tsku\tunits\n2025-W01\tA\t1,5\n2025-W02\tA\t2,5\n", {}, [1.5, 2.5], {}),
    "inches": ('week,sku,units\n2025-W01,hose 2",1\n2025-W02,hose 2",2\n', {}, [1, 2], {}),
    "inches beside quotes": (HEAD + '2025-W01,"2"" hose",1\n2025-W02,2" hose,2\n', {}, [1, 2], {}),
    "no line's end": ("week,sku\u2028a,units\n2025-W01,A\u2028,1\n2025-W02,A\u2028,2\n", {}, [1, 2], {}),
    "no line's end above": ("Sales\x0bof\u2028spring\n\n" + HEAD + "2025-W01,A,1\n2025-W02,A,2\n", {}, [1, 2], {}),
    "returns alone": (HEAD.strip() + "\r2025-W01,A,1\r2025-W02,A,2\r", {}, [1, 2], {}),
    "returns here and there": (HEAD.strip() + "\r2025-W01,A,1\n2025-W02,A,2\r\r\n", {}, [1, 2], {}),
    "a cell as long as may be": (HEAD + "2025-W01," + "x" * 32_767 + ",1\n2025-W02," + "x" * 32_767 + ",2\n", {}, [1, 2], {}),
    "quoted line ends": ('week,sku,units\n2025-W01,"A\nB",1\n2025-W02,"A\nB",2\n', {}, [1, 2], {}),
    "empty lines before": ("\n,,\nweek,sku,units\n2025-W01,A,1\n2025-W02,A,2\n", {}, [1, 2], {}),
    "empty lines between": (HEAD + "\n\n2025-W01,A,1\n\r\n\n2025-W02,A,2\n\n", {}, [1, 2], {}),
    "separators in lines of a cell": ('week,sku,units\n2025-W01,"A, red\nB, blue",1\n2025-W02,"A, red\nB, blue",2\n', {}, [1, 2], {}),
    "empty lines beside quotes": (HEAD + '\n2025-W01,"A\n\n",1\n\n2025-W02,"A\n\n",2\n', {}, [1, 2], {}),
    "returns and a feed": ((HEAD + "2025-W01,A,1\n2025-W02,A,2\n").replace("\n", "\r\r\n"), {}, [1, 2], {}),
    "empty lines after": (HEAD + "2025-W01,A,1\n2025-W02,A,2\n,,\n,,\n", {}, [1, 2], {}),
    "windows line ends": (HEAD.strip() + "\r\n2025-W01,A,1\r\n2025-W02,A,2\r\n", {}, [1, 2], {}),
    "latin 1": ("week;sku;units\n2025-W01;Töpfe;1\n2025-W02;Töpfe;2\n".encode("latin-1"), {}, [1, 2], {}),
    "negatives dropped": (HEAD + "2025-W01,A,1\n2025-W02,A,-2\n2025-W03,A,3\n", {"negatives": "drop", "gaps": "unknown"},
                          [1, NAN, 3], {"negative": 1, "gap": 1}),
    "negatives turned": (HEAD + "2025-W01,A,1\n2025-W02,A,-2\n", {"negatives": "positive"}, [1, 2], {"negative": 1}),
    "gaps on a line": (HEAD + "2025-W01,A,1\n2025-W04,A,4\n", {"gaps": "interpolate"}, [1, 2, 3, 4], {"gap": 2}),
    "days to weeks": (days(23), {"frequency": "W"}, [7, 7, 7], {"unfinished-period": 1}),
    "days to weeks, all": (days(23), {"frequency": "W", "unfinished": "keep"}, [7, 7, 7, 2], {"unfinished-period": 1}),
    "days to sunday weeks": (days(16, "2025-01-05"), {"frequency": "W", "week_start": "sunday"}, [7, 7],
                             {"unfinished-period": 1}),
    "days to months": (days(69, "2025-01-01"), {"frequency": "M"}, [31, 28], {"unfinished-period": 1}),
    "twice on one day": (days(14) + "2025-01-07,A,5\n", {"frequency": "W", "duplicates": "last"}, [11, 7], {"duplicate": 1}),
    "weeks to fours": (HEAD + "".join(f"2025-W{w:02d},A,{w}\n" for w in range(2, 14)), {"frequency": "4W"}, [18, 34],
                       {"unfinished-period": 2}),
    "formulas": (book(("one", _formulas)), {}, [4, 8], {}),
    "merged cells below a title": (book(("one", _merged)), {}, [4, 8], {}),
    "dates of a sheet": (book(("one", _dates)), {}, [4, 8], {}),
    "second sheet": (book(("one", _formulas), ("two", _second)), {"sheet": "two"}, [1, 2], {}),
    "first sheet empty": (book(("blank", lambda b, s: None), ("two", _second)), {}, [1, 2], {}),
    "future rows say drivers": ("week,sku,units,promo\n2025-W01,A,1,0\n2025-W02,A,2,1\n2025-W03,A,,1\n", {}, [1, 2], {}),
}  # fmt: skip


@pytest.mark.parametrize("case", READ)
def test_what_is_odd_gives_the_panel_that_was_meant(tmp_path: Path, case: str) -> None:
    content, options, values, findings = READ[case]
    reading = read(tmp_path, content, **options)
    np.testing.assert_array_equal(reading.panel.values, [values])
    assert {f.kind: f.count for f in reading.findings} == findings


def test_there_are_forty_of_them() -> None:
    assert len(REFUSED) + len(READ) >= 40


def test_rows_left_out_come_with_their_line_and_reason(tmp_path: Path) -> None:
    text = "note\n".join(["\n", ""]) + HEAD + "2025-W01,A,1\nsoon,A,2\n2025-W02,,3\n2025-W03,A,-1\n2025-W03,A,1\n"
    refused = read(tmp_path, text.replace("note\n", ""), negatives="drop").refused
    assert refused.columns == ["row", "reason", "week", "sku", "units"]
    assert refused.rows() == [
        (4, "week is no period of this calendar", "soon", "A", "2"),
        (5, "sku is empty", "2025-W02", "", "3"),
        (6, "units is negative", "2025-W03", "A", "-1"),
    ]


def test_an_unfinished_period_is_one_as_sparse_as_none_before(tmp_path: Path) -> None:
    rows = [f"2025-W{w:02d},S{i},1\n" for w in range(1, 21) for i in range(20 if w < 20 else 3)]
    reading = read(tmp_path, HEAD + "".join(rows))
    assert reading.panel.timeline.labels[-1] == "2025-W19" and reading.refused.height == 3
    # where weeks as sparse have been before, it is the way of the business
    season = [f"2025-W{w:02d},S{i},1\n" for w in range(1, 21) for i in range(3 if w in (9, 20) else 20)]
    assert read(tmp_path, HEAD + "".join(season)).panel.timeline.labels[-1] == "2025-W20"


def test_drivers_beside_and_in_the_file(tmp_path: Path) -> None:
    (tmp_path / "plan.csv").write_text(
        "sku,date,price,promo\nA,2025-01-06,2.5,no\nA,2025-01-13,2.0,yes\nA,2025-01-20,2.5,no\nB,2025-01-13,4,no\n"
    )
    (tmp_path / "events.csv").write_text("week,event\n2025-W02,Spring fair\n2025-W04,Spring fair\n2025-W03,Open day\n")
    (tmp_path / "products.csv").write_text("sku,family\nA,pots\nB,tools\n")
    text = "week,sku,units,stock on hand\n2025-W02,A,1,5\n2025-W02,B,1,0\n2025-W03,A,1,4\n2025-W03,B,2,9\n"
    others = {"plan.csv": "", "events.csv": "", "products.csv": ""}
    reading = read(tmp_path, text, attribute_files=others)
    panel = reading.panel
    assert set(reading.options.driver_files) == {"plan.csv", "events.csv"}
    assert reading.options.attribute_files == {"products.csv": ""} and panel.attributes["sku"]["family"]["B"] == "tools"
    assert panel.n_ahead == 1 and panel.timeline.labels == ["2025-W02", "2025-W03"]
    np.testing.assert_array_equal(panel.drivers["price"], [[2.5, 2.0, 2.5], [NAN, 4.0, NAN]])
    np.testing.assert_array_equal(panel.drivers["promo"], [[0, 1, 0], [0, 0, NAN]])
    np.testing.assert_array_equal(panel.drivers["Spring fair"], [[1, 0, 1], [1, 0, 1]])
    np.testing.assert_array_equal(panel.drivers["stock"][:, :2], [[5, 4], [0, 9]])
    assert panel.switches() == ["promo", "Open day", "Spring fair"]


def test_a_column_of_doubtful_periods_is_one_where_it_is_named_so(tmp_path: Path) -> None:
    (tmp_path / "plan.csv").write_text("date,price\n06.01.25,2\n13.01.25,3\n")
    (tmp_path / "products.csv").write_text("sku,launch year,model\nA,2019,202401\nB,2020,202402\n")
    reading = read(
        tmp_path, HEAD + "2025-W02,A,1\n2025-W03,B,1\n", attribute_files={"plan.csv": "", "products.csv": ""}
    )
    assert reading.options.driver_files == ("plan.csv",) and "model" in reading.panel.attributes["sku"]
    np.testing.assert_array_equal(reading.panel.drivers["price"], [[2, 3], [2, 3]])


def test_gaps_ahead_are_a_finding(tmp_path: Path) -> None:
    text = "week,sku,units,price\n2025-W01,A,1,2\n2025-W01,B,1,3\n2025-W02,A,,2\n2025-W03,A,,2\n2025-W03,B,,3\n"
    finding = next(f for f in read(tmp_path, text).findings if f.kind == "driver-gap")
    assert finding.count == 1 and finding.examples[0].column == "price of B" and finding.examples[0].text == "2025-W02"


def test_contradicting_attributes_are_a_finding(tmp_path: Path) -> None:
    (tmp_path / "products.csv").write_text("sku,family\nA,pots\nA,tools\n")
    reading = read(tmp_path, HEAD + "2025-W01,A,1\n2025-W02,A,1\n", attribute_files={"products.csv": ""})
    finding = next(f for f in reading.findings if f.kind == "contradiction")
    assert finding.count == 1 and reading.panel.attributes["sku"]["family"]["A"] == "pots"


def test_a_zip_bomb_is_refused_before_it_is_unpacked(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("TANSY_READ_BYTES", "20000000")
    bomb = zipped(**{"xl/worksheets/sheet1.xml": b"0" * 30_000_000})
    assert len(bomb) < 100_000
    with pytest.raises(FileError, match="unpacks to more than can be read"):
        read(tmp_path, bomb, "bomb.xlsx")


def test_more_cells_than_fit_are_refused(tmp_path: Path) -> None:
    rows = "".join(f"2025-01-01,S{i},1\n" for i in range(20_000)) + "1990-01-02,S0,1\n"
    with pytest.raises(FileError, match="more than fit"):
        read(tmp_path, "date,sku,units\n" + rows)


@pytest.mark.parametrize(("how", "left_out"), [("first", [("3", "9")]), ("last", [("2", "1")]), ("sum", [])])
def test_duplicates_that_are_passed_over_are_among_the_rows_left_out(
    tmp_path: Path, how: str, left_out: list[tuple[str, str]]
) -> None:
    refused = read(tmp_path, HEAD + "2025-W01,A,1\n2025-W01,A,9\n2025-W02,A,2\n", duplicates=how).refused
    assert [(str(row), units) for row, units in refused.select("row", "units").rows()] == left_out


def test_a_few_dates_of_events_are_days_and_not_years(tmp_path: Path) -> None:
    """New Year's days fall on different weekdays; each touches the week that it lies in."""
    (tmp_path / "events.csv").write_text("day,event\n2025-01-01,New Year\n2026-01-01,New Year\n")
    weeks = "".join(f"2025-W{w:02d},A,1\n" for w in range(1, 53)) + "2026-W01,A,1\n2026-W02,A,1\n"
    panel = read(tmp_path, HEAD + weeks, attribute_files={"events.csv": ""}).panel
    assert np.nonzero(panel.drivers["New Year"][0])[0].tolist() == [0, 52]


# --- what a cell says is a number


def _text_among_numbers(made: Any, sheet: Any) -> None:
    sheet.write_row(0, 0, ["shop", "product", *(f"2024-{m:02d}" for m in range(1, 13))])
    sheet.write_row(1, 0, ["S1", "A", *[346.5] * 12])
    sheet.write_row(2, 0, ["S1", "B", *[10] * 11])
    sheet.write_string(2, 13, "10,5")


def _text_among_numbers_long(made: Any, sheet: Any) -> None:
    sheet.write_row(0, 0, ["month", "product", "units"])
    for m in range(1, 13):
        sheet.write_row(m, 0, [f"2024-{m:02d}", "A", 346.5])
        sheet.write_row(12 + m, 0, [f"2024-{m:02d}", "B", 10])
    sheet.write_string(24, 2, "10,5")


@pytest.mark.parametrize("fill", [_text_among_numbers, _text_among_numbers_long])
def test_one_text_does_not_change_what_the_numbers_beside_it_are(tmp_path: Path, fill: Any) -> None:
    reading = read(tmp_path, book(("one", fill)), "sales.xlsx")
    assert np.nansum(reading.panel.values) == 12 * 346.5 + 11 * 10 + 10.5
    assert reading.decimal == "comma"


@pytest.mark.parametrize("layout", ["long", "wide"])
def test_both_decimals_in_one_column_are_read_each_as_written_and_are_a_finding(tmp_path: Path, layout: str) -> None:
    text = "month;sku;units\n2024-01;A;346.5\n2024-02;A;10,5\n2024-03;A;7,25\n2024-04;A;1.234\n"
    if layout == "wide":
        text = "sku;2024-01;2024-02;2024-03;2024-04\nA;346.5;10,5;7,25;1.234\n"
    reading = read(tmp_path, text)
    np.testing.assert_array_equal(reading.panel.values, [[346.5, 10.5, 7.25, 1234.0]])
    finding = next(f for f in reading.findings if f.kind == "two-decimals")
    assert finding.count == 1 and finding.examples[0].text == "346.5" and reading.decimal == "comma"


def test_numbers_of_a_parquet_file_are_numbers_and_its_texts_are_read(tmp_path: Path) -> None:
    months = [f"2024-{m:02d}" for m in range(1, 5)]
    table = pl.DataFrame(
        {"month": months, "sku": "A", "units": [346.5, 1.234, None, -0.0], "price": ["1,5", "2", "", "1,25"]}
    )
    table.write_parquet(tmp_path / "sales.parquet")
    reading = read_panel(tmp_path / "sales.parquet", ReadOptions(gaps="unknown"))
    np.testing.assert_array_equal(reading.panel.values, [[346.5, 1.234, NAN, 0.0]])
    assert not np.signbit(reading.panel.values[0, 3])
    np.testing.assert_array_equal(reading.panel.drivers["price"], [[1.5, 2.0, NAN, 1.25]])


CELL = st.one_of(
    st.integers(-10_000, 10**9).map(lambda n: ("number", float(n))),
    st.floats(-1e6, 1e9, allow_nan=False).map(lambda x: ("number", float(f"{x:.12g}") + 0.0)),
    st.decimals(-9999, 9999, places=2).map(lambda d: ("comma", float(d))),
    st.decimals(-9999, 9999, places=2).map(lambda d: ("point", float(d))),
    st.just(("empty", NAN)),
)


@settings(max_examples=15, deadline=None)
@given(
    rows=st.lists(st.lists(CELL, min_size=4, max_size=4), min_size=1, max_size=5),
    periods=st.sampled_from(["text", "date", "serial", "month name"]),
    layout=st.sampled_from(["long", "wide"]),
)
def test_any_panel_written_as_xlsx_in_any_types_is_read_back_exactly(
    tmp_path_factory: pytest.TempPathFactory, rows: list[list[tuple[str, float]]], periods: str, layout: str
) -> None:
    rows[0][0] = ("number", 1.0)
    rows[-1][3] = ("number", 2.5)  # so that no period is empty at an end

    def fill(made: Any, sheet: Any) -> None:
        style = made.add_format({"num_format": "mmm yy"})

        def period(r: int, c: int, t: int) -> None:
            day = date(2024, t + 1, 1)
            if periods == "text":
                sheet.write_string(r, c, f"2024-{t + 1:02d}")
            elif periods == "month name":
                sheet.write_string(r, c, day.strftime("%b %Y"))
            elif periods == "date":
                sheet.write_datetime(r, c, datetime(2024, t + 1, 1), style)
            else:
                sheet.write_number(r, c, (day - date(1899, 12, 30)).days)

        def cell(r: int, c: int, kind: str, value: float) -> None:
            if kind == "number":
                sheet.write_number(r, c, value)
            elif kind != "empty":
                text = f"{value:.2f}"
                sheet.write_string(r, c, text.replace(".", ",") if kind == "comma" else text)

        if layout == "wide":
            sheet.write_string(0, 0, "sku")
            for t in range(4):
                period(0, 1 + t, t)
            for i, row in enumerate(rows):
                sheet.write_string(1 + i, 0, f"P{i}")
                for t, (kind, value) in enumerate(row):
                    cell(1 + i, 1 + t, kind, value)
            return
        sheet.write_row(0, 0, ["month", "sku", "units"])
        for i, row in enumerate(rows):
            for t, (kind, value) in enumerate(row):
                period(1 + 4 * i + t, 0, t)
                sheet.write_string(1 + 4 * i + t, 1, f"P{i}")
                cell(1 + 4 * i + t, 2, kind, value)

    path = tmp_path_factory.mktemp("any") / "sales.xlsx"
    path.write_bytes(book(("one", fill)))
    roles = {} if layout == "wide" else {"time": "month", "value": "units"}
    reading = read_panel(path, ReadOptions(gaps="unknown", keys=("sku",), unfinished="keep", **roles))  # type: ignore[arg-type]
    expected = np.array([[value for _, value in row] for row in rows])
    assert reading.panel.timeline.labels == ["2024-01", "2024-02", "2024-03", "2024-04"]
    np.testing.assert_array_equal(reading.panel.values, expected)


# --- headings and periods as people write them

MONTHS_WRITTEN = {
    "01/2023": ["01/2023", "02/2023", "03/2023"],
    "01.2023": ["01.2023", "02.2023", "03.2023"],
    "Jan 2023": ["Jan 2023", "Feb 2023", "Mar 2023"],
    "Jan-23": ["Jan-23", "Feb-23", "Mar-23"],
    "January 2023": ["January 2023", "February 2023", "March 2023"],
    "202301": ["202301", "202302", "202303"],
    "2023M01": ["2023M01", "2023M02", "2023M03"],
    "German": ["Jän. 2023".replace("Jän.", "Jan."), "Febr. 2023", "März 2023"],
    "French": ["janv. 2023", "févr. 2023", "mars 2023"],
    "Spanish": ["ene-23", "feb-23", "mar-23"],
    "2023 Jan": ["2023 Jan", "2023 Feb", "2023 Mar"],
    "last working day": ["31.01.2023", "28.02.2023", "31.03.2023"],
    "some day of each": ["2023-01-30", "2023-02-27", "2023-03-31"],
    "month first": ["01/01/2023", "02/01/2023", "03/01/2023"],
}


@pytest.mark.parametrize("layout", ["long", "wide"])
@pytest.mark.parametrize("form", ["csv", "xlsx"])
@pytest.mark.parametrize("written", MONTHS_WRITTEN)
def test_months_are_understood_however_they_are_written(tmp_path: Path, written: str, form: str, layout: str) -> None:
    months = MONTHS_WRITTEN[written]
    rows = [["month", "sku", "units"], *([m, "A", str(i + 1)] for i, m in enumerate(months))]
    if layout == "wide":
        rows = [["sku", *months], ["A", "1", "2", "3"]]
    if form == "csv":
        content: bytes | str = "\n".join(";".join(row) for row in rows) + "\n"
    else:
        content = book(("one", lambda made, sheet: [sheet.write_row(i, 0, row) for i, row in enumerate(rows)]))
    reading = read(tmp_path, content, f"sales.{form}")
    assert reading.panel.timeline.labels == ["2023-01", "2023-02", "2023-03"]
    assert reading.panel.timeline.season_length == 12
    np.testing.assert_array_equal(reading.panel.values, [[1, 2, 3]])


TITLED = {
    "title": [["Sales by product"], [], ["sku", "2023-01", "2023-02", "2023-03"], ["A", "1", "2", "3"]],
    "title of two cells": [["Created", "2024-05-01"], [], ["sku", "2023-01", "2023-02", "2023-03"], ["A", "1", "2", "3"]],
    "years above months": [["sku", "2023", "", ""], ["", "Jan", "Feb", "Mär"], ["A", "1", "2", "3"]],
    "years above months, a title": [["Report"], ["", "2023", "", ""], ["sku", "Jan", "Feb", "Mar"], ["A", "1", "2", "3"]],
    "long": [["Report", "", ""], ["made by", "Ines", ""], ["month", "sku", "units"], *([f"2023-0{m}", "A", str(m)] for m in (1, 2, 3))],
}  # fmt: skip


@pytest.mark.parametrize("form", ["csv", "xlsx"])
@pytest.mark.parametrize("case", TITLED)
def test_titles_above_the_header_and_headers_of_two_rows(tmp_path: Path, case: str, form: str) -> None:
    rows = TITLED[case]
    if form == "csv":
        content: bytes | str = "\n".join(",".join(row) for row in rows) + "\n"
    else:
        content = book(("one", lambda made, sheet: [sheet.write_row(i, 0, row) for i, row in enumerate(rows)]))
    reading = read(tmp_path, content, f"sales.{form}")
    assert reading.panel.timeline.labels == ["2023-01", "2023-02", "2023-03"]
    assert reading.panel.keys["sku"] == ["A"]
    np.testing.assert_array_equal(reading.panel.values, [[1, 2, 3]])


@pytest.mark.parametrize("first", [0, 1])
def test_numbered_periods_need_no_dates(tmp_path: Path, first: int) -> None:
    text = "t,units\n" + "".join(f"{first + i},{10 + i}\n" for i in range(12))
    for options in ({}, {"frequency": "N"}):
        reading = read(tmp_path, text, time="t", value="units", keys=("series",), **options)
        timeline = reading.panel.timeline
        assert (timeline.frequency, timeline.season_length, timeline.labels[0]) == ("N", 1, str(first))
    assert read(tmp_path, text, season_length=4).panel.timeline.season_length == 4
    assert read(tmp_path, text).options.time == "t"


# --- files that would take the machine down


def _far_cell(made: Any, sheet: Any) -> None:
    sheet.write_row(0, 0, ["week", "sku", "units"])
    sheet.write_string(1_047_999, 16_383, " ")


def test_a_cell_far_away_is_a_sentence_and_not_the_end(tmp_path: Path) -> None:
    with pytest.raises(FileError, match="cell far outside the table") as caught:
        read(tmp_path, book(("one", _far_cell)), "far.xlsx")
    assert "\n" not in str(caught.value)


def test_any_damage_to_a_workbook_or_parquet_file_is_a_sentence(tmp_path: Path) -> None:
    pl.DataFrame({"week": ["2025-W01"] * 50, "sku": "A", "units": range(50)}).write_parquet(tmp_path / "good.parquet")
    originals = {"sales.xlsx": book(("one", _second)), "sales.parquet": (tmp_path / "good.parquet").read_bytes()}
    rng = np.random.default_rng(5)
    for name, whole in originals.items():
        for _ in range(12):
            damaged = bytearray(whole)
            for at in rng.integers(4, len(whole), 6).tolist():
                damaged[at] = int(rng.integers(0, 256))
            try:
                read(tmp_path, bytes(damaged), name)
            except FileError as error:
                assert "\n" not in str(error) and str(error).startswith(name)


def test_a_reader_that_takes_too_long_is_stopped(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = tmp_path / "sales.xlsx"
    path.write_bytes(book(("one", _second)))
    monkeypatch.setattr(foreign, "SECONDS", 0.01)
    with pytest.raises(FileError, match=r"longer than 0\.01 s to read"):
        read_panel(path, ReadOptions())


def test_utf_16_cut_short_is_a_sentence(tmp_path: Path) -> None:
    with pytest.raises(FileError, match="begins as UTF-16 but is damaged"):
        read(tmp_path, "week,sku,units\n2025-W01,A,1\n".encode("utf-16")[:-1])


def test_columns_that_say_nothing_are_periods_where_somebody_says_so(tmp_path: Path) -> None:
    text = "sku;shop;wk A;wk B;wk C;wk D\nP1;S1;1;2;3;4\nP2;S1;5;;7;8\n"
    said = {"period_columns": ("wk A", "wk B", "wk C", "wk D")}
    numbered = read(tmp_path, text, **said).panel
    assert numbered.timeline.frequency == "N" and numbered.timeline.labels == ["1", "2", "3", "4"]
    assert numbered.keys == {"sku": ["P1", "P2"], "shop": ["S1", "S1"]}
    np.testing.assert_array_equal(numbered.values, [[1, 2, 3, 4], [5, NAN, 7, 8]])
    for first, labels in {
        "2023-W51": ["2023-W51", "2023-W52", "2024-W01", "2024-W02"], "2023-11": ["2023-11", "2023-12", "2024-01", "2024-02"],
        "Nov 2023": ["2023-11", "2023-12", "2024-01", "2024-02"], "2023-Q3": ["2023-Q3", "2023-Q4", "2024-Q1", "2024-Q2"],
    }.items():  # fmt: skip
        reading = read(tmp_path, text, **said, first_period=first, unfinished="keep")
        assert reading.panel.timeline.labels == labels, first
        np.testing.assert_array_equal(reading.panel.values, numbered.values)
    for wrong, sentence in (
        ({**said, "first_period": "soon"}, "'soon', the first period"),
        ({"period_columns": ("wk A", "wk Z")}, "no column 'wk Z', which is to be a period"),
    ):
        with pytest.raises(FileError, match=sentence):
            read(tmp_path, text, **wrong)
    # two columns whose headings can be read are fewer than are guessed to be periods
    two = read(tmp_path, "sku;2024-01;2024-02\nP1;1;2\nP2;3;4\n", period_columns=("2024-01", "2024-02"))
    assert two.panel.timeline.labels == ["2024-01", "2024-02"]
    before = read(tmp_path, text, **said).options
    later = later_options(before, ["sku", "shop", "wk A", "wk B", "wk C", "wk D", "wk E", "Total"])
    assert later.period_columns == (*said["period_columns"], "wk E")
    assert later_options(before, ["sku", "shop", "week", "units"]).period_columns == (), "a long file is read as one"


# --- copies and totals


def test_copies_and_returns_are_findings_of_their_own(tmp_path: Path) -> None:
    rows = [f"2025-W{w:02d},A,{w}\n" for w in range(1, 31)]
    returns = [f"2025-W{w:02d},A,-1\n" for w in range(1, 21)]
    text = HEAD + "".join(rows) + "".join(rows) + "".join(returns)
    reading = read(tmp_path, text)
    assert {f.kind: f.count for f in reading.findings} == {"copy": 30, "duplicate": 20, "negative": 20}
    assert reading.n_refused == 30 and np.nansum(reading.panel.values) == sum(range(1, 31)) - 20
    assert np.nansum(read(tmp_path, text, copies="all").panel.values) == 2 * sum(range(1, 31)) - 20


TOTALS_WRITTEN = {
    "row": "sku;2025-01;2025-02;2025-03\nA;1;2;3\nB;4;5;6\nC;1;1;1\n{};6;8;10\n",
    "long": "month;sku;units\n2025-01;A;1\n2025-02;A;2\n2025-01;B;4\n2025-02;B;5\n2025-01;{0};5\n2025-02;{0};7\n",
}


@pytest.mark.parametrize("word", ["Total", "Sum", "Summe", "Gesamt", "Grand Total", "Z99"])
@pytest.mark.parametrize("layout", TOTALS_WRITTEN)
def test_a_row_of_totals_is_no_series(tmp_path: Path, layout: str, word: str) -> None:
    text = TOTALS_WRITTEN[layout].format(word)
    reading = read(tmp_path, text)
    assert word not in reading.panel.keys["sku"] and reading.panel.n_series == (3 if layout == "row" else 2)
    finding = next(f for f in reading.findings if f.kind == "total-row")
    assert finding.examples[0].text == word and "left out" in finding.remedy
    kept = read(tmp_path, text, totals="keep")
    assert word in kept.panel.keys["sku"] and "kept" in next(f for f in kept.findings if f.kind == "total-row").remedy


@pytest.mark.parametrize("written", ["{} Total", "Total {}", "Summe von {}", "{} Ergebnis", "{} - total"])
def test_a_subtotal_is_no_series_where_there_is_what_it_sums(tmp_path: Path, written: str) -> None:
    rows = "".join(f"{sku},{shop},{v},{2 * v},0\n" for sku in "AB" for v, shop in enumerate("xyz", 1))
    sums = "".join(f"{written.format(sku)},all,6,12,0\n" for sku in "AB")
    text = f"sku,shop,2025-01,2025-02,2025-03\n{rows}{sums}{written.format('C')},x,1,1,0\n"  # there is no C
    reading = read(tmp_path, text)
    assert reading.panel.values.sum() == 36 + 2 and reading.panel.n_series == 7


REPORT = """region,sku,shop,2025-01,2025-02,2025-03
North,A,x,1,2,3
,,y,4,5,6
,A Total,,5,7,9
,B,x,1,1,1
,,y,,2,2
South,A,z,3,3,3
,C,,9,9,9
,,z,9,9,9
"""


def test_a_report_has_its_keys_from_the_row_above_when_told(tmp_path: Path) -> None:
    """Where a key stays the same it is left out; a sum below its group and one above it are none of its series."""
    as_written = read(tmp_path, REPORT, keys=("region", "sku", "shop"))
    assert as_written.panel.n_series == 2 and {f.kind for f in as_written.findings} == {"missing-key", "total-row"}
    reading = read(tmp_path, REPORT, keys=("region", "sku", "shop"), empty_keys="as-above")
    keys = list(zip(*reading.panel.keys.values(), strict=True))
    assert keys == [
        ("North", "A", "x"),
        ("North", "A", "y"),
        ("North", "B", "x"),
        ("North", "B", "y"),
        ("South", "A", "z"),
        ("South", "C", "z"),
    ]
    np.testing.assert_array_equal(reading.panel.values[:, -1], [3, 6, 1, 2, 3, 9])
    assert reading.n_refused == 6  # two sums over three periods
    rolled_up = "sku,shop,month,units\nA,x,2025-01,1\nA,y,2025-01,2\nA,,2025-01,3\nA,x,2025-02,1\n"
    summed = read(tmp_path, rolled_up, empty_keys="as-above")
    assert summed.panel.values.sum() == 4 and summed.n_refused == 1  # no sum is put to the row above it
    long = "month,sku,units\n2025-01,A,1\n,B,2\n2025-02,A,3\n,B,4\n"
    np.testing.assert_array_equal(read(tmp_path, long, empty_keys="as-above").panel.values, [[1, 3], [2, 4]])


def test_two_alike_stay_beside_their_total(tmp_path: Path) -> None:
    """Without the total, that has no rows left, each of the two is the sum of all others."""
    reading = read(tmp_path, "sku;2025-01;2025-02;2025-03\nA;1;2;3\nB;1;2;3\nTotal;2;4;6\n")
    assert reading.panel.keys["sku"] == ["A", "B"] and [f.count for f in reading.findings] == [1]


@pytest.mark.parametrize("heading", ["Total", "Summe", "all of it"])
def test_a_column_of_totals_is_no_key(tmp_path: Path, heading: str) -> None:
    rows = "".join(f"P{i};{i};{2 * i};{5 + i};{5 + 4 * i}\n" for i in range(1, 6))
    reading = read(tmp_path, f"sku;2025-01;2025-02;2025-03;{heading}\n" + rows)
    assert reading.panel.key_names == ("sku",) and reading.panel.values.sum() == sum(5 + 4 * i for i in range(1, 6))
    assert [f.examples[0].text for f in reading.findings if f.kind == "total-column"] == [heading]
