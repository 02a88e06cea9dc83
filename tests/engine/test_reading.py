"""Files as companies have them, and files made badly on purpose."""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np
import polars as pl
import pytest

from tansy.engine.errors import FileError
from tansy.engine.graph.grouping import group
from tansy.engine.graph.histories import aggregate_history
from tansy.engine.reading.attributes import default_levels
from tansy.engine.reading.history import Reading, read_panel
from tansy.engine.reading.options import ReadOptions
from tansy.engine.reading.roles import guess_roles
from tansy.engine.reading.table import read_table


def read(folder: Path, text: str | bytes, **options: object) -> Reading:
    path = folder / "sales.csv"
    path.write_bytes(text if isinstance(text, bytes) else text.encode())
    return read_panel(path, ReadOptions(**options))  # type: ignore[arg-type]


def kinds(reading: Reading) -> dict[str, int]:
    return {finding.kind: finding.count for finding in reading.findings}


GOOD = """week,sku,shop,family,units
2025-W01,B,s1,pots,3
2025-W03,B,s1,pots,5
2025-W01,A,s1,tools,1
2025-W02,A,s1,tools,2
2025-W03,A,s1,tools,4
"""


def test_a_long_file_is_understood_without_being_told(tmp_path: Path) -> None:
    reading = read(tmp_path, GOOD)
    panel = reading.panel
    assert reading.options.time == "week" and reading.options.value == "units"
    assert panel.key_names == ("sku", "shop")
    assert panel.keys["sku"] == ["A", "B"]
    assert panel.attributes["sku"]["family"] == {"A": "tools", "B": "pots"}
    np.testing.assert_array_equal(panel.values, [[1, 2, 4], [3, 0, 5]])
    assert panel.timeline.labels == ["2025-W01", "2025-W02", "2025-W03"]
    assert kinds(reading) == {"gap": 1}


def test_the_planner_says_what_a_gap_means(tmp_path: Path) -> None:
    values = read(tmp_path, GOOD, gaps="unknown").panel.values
    np.testing.assert_array_equal(values, [[1, 2, 4], [3, np.nan, 5]])


def test_every_oddity_is_counted_with_its_row(tmp_path: Path) -> None:
    text = """week;sku;units
2025-W01;A;10
2025-W01;A;2
2025-W02;A;-3
2025-W03;A;twelve
2025-W60;A;1
someday;A;1
2025-W02; ;1
2025-W02;B;1
"""
    reading = read(tmp_path, text)
    assert kinds(reading) == {
        "off-calendar": 2, "not-a-number": 1, "negative": 1, "missing-key": 1, "duplicate": 1, "late-start": 1,
        "early-end": 1,
    }  # fmt: skip
    by_kind = {finding.kind: finding.examples[0] for finding in reading.findings}
    assert (by_kind["not-a-number"].row, by_kind["not-a-number"].column, by_kind["not-a-number"].text) == (
        5,
        "units",
        "twelve",
    )
    assert by_kind["duplicate"].row == 3 and by_kind["missing-key"].row == 8
    assert reading.n_refused == 3
    np.testing.assert_array_equal(reading.panel.values[0], [12, -3, np.nan])


@pytest.mark.parametrize(("how", "value"), [("sum", 12.0), ("first", 10.0), ("last", 2.0), ("mean", 6.0)])
def test_duplicates_are_put_together_as_chosen(tmp_path: Path, how: str, value: float) -> None:
    text = "day,sku,units\n2025-01-01,A,10\n2025-01-01,A,2\n2025-01-02,A,1\n"
    assert read(tmp_path, text, duplicates=how).panel.values[0, 0] == value


@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "latin-1", "utf-16"])
def test_encodings_and_decimal_commas(tmp_path: Path, encoding: str) -> None:
    text = "Datum;Artikel;Menge\n01.02.2025;Töpfe;1.234,5\n13.02.2025;Töpfe;2\n"
    reading = read(tmp_path, text.encode(encoding), time="Datum", value="Menge", keys=("Artikel",), frequency="D")
    assert reading.panel.keys["Artikel"] == ["Töpfe"]
    assert reading.panel.values[0, 0] == 1234.5 and reading.panel.timeline.labels[0] == "2025-02-01"


@pytest.mark.parametrize(
    ("texts", "values"),
    [
        (["1,234", "12", "1,234,567.5"], [1234, 12, 1234567.5]),
        (["1,5", "12", "1.234,25"], [1.5, 12, 1234.25]),
        (["1 234", "-3", "+4"], [1234, -3, 4]),
        (["1.5", "2e3", ""], [1.5, 2000, np.nan]),
        (["1e15", "2e15", "nan", "-inf", "1_0"], [1e15, np.nan, np.nan, np.nan, np.nan]),  # no sales are so large
    ],
)
def test_numbers_are_read_as_people_write_them(tmp_path: Path, texts: list[str], values: list[float]) -> None:
    rows = [f'2025-W0{i + 1};A;"{text}"' for i, text in enumerate(texts)]
    reading = read(
        tmp_path, "\n".join(["week;sku;units", *rows]), gaps="unknown", time="week", value="units", keys=("sku",)
    )
    np.testing.assert_array_equal(reading.panel.values[0], values)


def test_days_that_could_be_months_are_asked_about(tmp_path: Path) -> None:
    text = "date,sku,units\n03/04/2025,A,1\n04/04/2025,A,1\n"
    reading = read(tmp_path, text, frequency="D")
    assert kinds(reading)["ambiguous-date"] == 2 and reading.panel.timeline.labels[0] == "2025-04-03"
    american = read(tmp_path, text, frequency="D", day_first=False)
    assert american.panel.timeline.labels[0] == "2025-03-04" and "ambiguous-date" not in kinds(american)


def test_wide_xlsx_and_parquet_hold_the_same_panel(tmp_path: Path) -> None:
    long = read(tmp_path, GOOD, gaps="unknown", keys=("sku",)).panel
    table = pl.read_csv(io.StringIO(GOOD))
    table.write_parquet(tmp_path / "sales.parquet")
    table.write_excel(tmp_path / "sales.xlsx")
    wide = table.pivot(on="week", index="sku", values="units")
    wide.write_csv(tmp_path / "wide.csv")
    for name in ("sales.parquet", "sales.xlsx", "wide.csv"):
        panel = read_panel(tmp_path / name, ReadOptions(gaps="unknown", keys=("sku",))).panel
        np.testing.assert_array_equal(panel.values, long.values)
        assert panel.timeline == long.timeline


def test_an_odd_cell_of_a_wide_file_is_named_by_its_row_and_period(tmp_path: Path) -> None:
    text = "sku,2025-01,2025-02,2025-03\nA,1,2,3\nB,4,five,-6\n"
    found = {finding.kind: finding.examples[0] for finding in read(tmp_path, text).findings}
    assert (found["not-a-number"].row, found["not-a-number"].column, found["not-a-number"].text) == (
        3,
        "2025-02",
        "five",
    )
    assert (found["negative"].row, found["negative"].column) == (3, "2025-03")


@pytest.mark.parametrize(
    ("content", "says"),
    [
        (b"", "is empty"),
        (b"\n\n", "empty but for blanks"),
        (b"\x00\x01\x02" * 100, "binary file"),
        (b"PK\x03\x04nonsense", "not a readable XLSX"),
        (b"week,sku,units\n", "no rows below"),
        (b"2025-W01,A,3\n2025-W02,A,4\n", "looks like data"),
        (b"week,sku,\n2025-W01,A,3\n", "column 3 has no name"),
        (b"week,sku,sku\n2025-W01,A,3\n", "two columns are named 'sku'"),
        (b"one column\n1\n", "only one column"),
        (b"week,sku,units\n2025-W01,A,3,4\n", "row 2: 4 cells where the header names 3"),
        (b"sku,shop,units\nA,s,3\n", "holds dates or periods"),
        (b"week,sku,a1,a2\n2025-W01,A,3,4\n", "cannot be told, several hold numbers (a1, a2)"),
        (b"week,sku,units\n2025-W01,A,three\n2025-W02,A,4\n", "cannot be told, none holds numbers in most rows"),
        (b"week,sku,units\n2025-W01,A,3\n03/04/2025,A,4\n2025-W03,A,1\n", "row 3: '03/04/2025' is written as dates"),
        (b"week,sku,units\n1925-01-01,A,3\n2025-01-02,A,4\n", "look for a mistyped year"),
        (b"year,sku,units\n9998,A,3\n9999,A,4\n", "they run from 9998 to 9999; look for a mistyped year"),
    ],
)
def test_a_bad_file_is_refused_in_one_sentence(tmp_path: Path, content: bytes, says: str) -> None:
    with pytest.raises(FileError) as error:
        read(tmp_path, content)
    assert says in str(error.value)
    assert "\n" not in str(error.value)


def test_forty_columns_and_a_million_duplicates(tmp_path: Path) -> None:
    header = ",".join(["week", "sku", "units", *(f"n{i}" for i in range(37))])
    row = ",".join(["2025-W01", "A", "1", *["0"] * 37])
    reading = read(tmp_path, header + "\n" + (row + "\n") * 3)
    assert reading.panel.n_series == 1 and reading.panel.values[0, 0] == 1 and kinds(reading) == {"copy": 2}
    many = read(tmp_path, "week,sku,units\n" + "2025-W01,A,1\n" * 1_000_000, copies="all")
    assert kinds(many) == {"copy": 999_999, "duplicate": 999_999} and many.panel.values[0, 0] == 1_000_000


def test_attribute_files_are_matched_by_their_key(tmp_path: Path) -> None:
    (tmp_path / "products.csv").write_text("sku,sku_name,family\nA,Alba,tools\nC,Cora,pots\n")
    text = "week,sku,units\n2025-W01,A,1\n2025-W01,B,2\n"
    reading = read(tmp_path, text, attribute_files={"products.csv": ""})
    assert reading.panel.attributes["sku"] == {
        "name": {"A": "Alba", "C": "Cora"},
        "family": {"A": "tools", "B": "unassigned"},
    }
    assert kinds(reading)["missing-attribute"] == 1
    (tmp_path / "products.csv").write_text("code,family\nA,tools\n")
    with pytest.raises(FileError, match="exactly one of the key columns"):
        read(tmp_path, text, attribute_files={"products.csv": ""})


def test_levels_are_attributes_that_nest(tmp_path: Path) -> None:
    colours = ["red" if i % 3 else "blue" for i in range(8)]
    rows = ["week,sku,family,division,colour,units"]
    rows += [f"2025-W01,p{i},f{i // 2},d{i // 4},{colour},1" for i, colour in enumerate(colours)]
    panel = read(tmp_path, "\n".join(rows)).panel
    assert default_levels(panel) == {"sku": ["division", "family"]}


def test_a_remark_is_no_key_but_a_third_key_is(tmp_path: Path) -> None:
    rows = [f"2025-W0{w},{s},{c},r{w}{s},1" for w in range(1, 6) for s in "ab" for c in ("web", "till")]
    path = tmp_path / "t.csv"
    path.write_text("\n".join(["week,sku,channel,remark,units", *rows]))
    assert guess_roles(read_table(path)).columns("key") == ["sku", "channel", "remark"]
    path.write_text("\n".join(["week,sku,channel,remark,units", *rows[::2]]).replace("channel", "shop"))
    assert guess_roles(read_table(path)).columns("key") == ["sku", "shop"]


def test_roles_come_with_reasons(tmp_path: Path) -> None:
    (tmp_path / "t.csv").write_text(GOOD)
    roles = guess_roles(read_table(tmp_path / "t.csv")).roles
    assert {name: role.kind for name, role in roles.items()} == {
        "week": "time", "sku": "key", "shop": "key", "family": "attribute", "units": "value",
    }  # fmt: skip
    assert roles["family"].of == "sku" and all(role.reason for role in roles.values())


def test_a_column_of_names_says_what_codes_are_called(tmp_path: Path) -> None:
    flowers = ["Red rose", "White rose", "Tulip", "Lily", "Iris", "Aster", "Daisy", "Poppy"]

    def loaded(columns: dict[str, list[str]]) -> Reading:
        codes = range(len(next(iter(columns.values()))))
        beside = ["," + ",".join(texts[i] for texts in columns.values()) for i in codes]
        lines = [f"2025-W{w:02d},C{i}{beside[i]},{w}\n" for w in range(1, 13) for i in codes]
        path = tmp_path / "sales.csv"
        path.write_text(f"week,sku,{','.join(columns)},units\n" + "".join(lines))
        describing = dict.fromkeys(columns, "sku")
        return read_panel(path, ReadOptions(time="week", keys=("sku",), value="units", attribute_columns=describing))

    numbers = [str(4001 + i) for i in range(8)]
    for column in ("name", "sku_name", "Description", "Bezeichnung", "article name", "what it is"):
        reading = loaded({column: flowers, "ean": numbers})
        known = reading.panel.attributes["sku"]
        assert known["name"] == {f"C{i}": text for i, text in enumerate(flowers)}, column
        assert reading.named_by == {"sku": column} and known["ean"]["C0"] == "4001"
        assert (column in known) == (column not in ("sku_name",)), "a plan or a recipe may speak of it"
    assert loaded({"ean": numbers}).named_by == {}, "numbers are no names"
    # two products of ten may share a description, which makes no level of it
    alike = loaded({"Description": [*flowers, "Fern", "Fern"]})
    assert alike.named_by == {"sku": "Description"} and default_levels(alike.panel) == {"sku": []}
    # three shops in a region each are not called by their regions
    assert loaded({"region": ["North", "South", "West"]}).named_by == {}


def test_sales_and_returns_that_cancel_leave_nothing(tmp_path: Path) -> None:
    """0.3 - 0.1 - 0.2 is -2.8e-17 in floating point, which is below zero and keeps roots and logarithms away."""
    rows = "2025-01-06,A,0.3\n2025-01-06,A,-0.1\n2025-01-06,A,-0.2\n2025-01-07,A,5\n"
    later = "2025-01-13,A,0.3\n2025-01-14,A,-0.1\n2025-01-15,A,-0.2\n"
    later += "2025-01-16,B,0.3\n2025-01-16,C,-0.1\n2025-01-16,D,-0.2\n"
    daily = read(tmp_path, "date,sku,units\n" + rows + later).panel
    assert daily.values[0, 0] == 0.0 and daily.values[0, 1] == 5.0
    weekly = read(tmp_path, "date,sku,units\n" + rows + later, frequency="W", unfinished="keep").panel
    assert weekly.values[0].tolist() == [5.0, 0.0]
    nodes = aggregate_history(group(daily, {"sku": []}), daily.values)
    assert nodes[0, 10] == 0.0 and nodes[0, 7] == 0.3
