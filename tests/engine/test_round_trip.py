"""Whatever way a panel is written down, reading gives it back exactly."""

from __future__ import annotations

import io
import tempfile
from datetime import date
from pathlib import Path

import numpy as np
import polars as pl
from hypothesis import given, settings
from hypothesis import strategies as st
from numpy.typing import NDArray

from tansy.engine.reading.history import read_panel
from tansy.engine.reading.options import ReadOptions
from tansy.engine.timeline import first_day, label

STYLES = {
    "D": ("iso", "day first", "month first", "serial"),
    "W": ("label", "iso"),
    "M": ("label", "iso", "day first"),
    "Q": ("label",),
    "4W": ("label",),
}


def written(number: int, frequency: str, style: str) -> str:
    day = first_day(number, frequency)
    if style == "label":
        return label(number, frequency)
    if style == "iso":
        return day.isoformat()
    if style == "serial":
        return str((day - date(1899, 12, 30)).days)
    return f"{day:%d/%m/%Y}" if style == "day first" else f"{day:%m/%d/%Y}"


def as_text(value: float, decimal: str) -> str:
    text = "" if np.isnan(value) else repr(value)
    return text.replace(".", decimal)


def to_bytes(table: pl.DataFrame, form: str, separator: str, encoding: str) -> bytes:
    buffer = io.BytesIO()
    if form == "csv":
        return table.write_csv(separator=separator, quote_style="necessary").encode(encoding)
    if form == "xlsx":
        table.write_excel(buffer)
    else:
        table.write_parquet(buffer)
    return buffer.getvalue()


names = st.text(st.sampled_from("abcXYZ0189 äöé-_/&\"';"), min_size=1, max_size=8).map(str.strip).filter(
    lambda name: name and not name.startswith(("=", "'")) and any(c.isalpha() for c in name)
)  # fmt: skip


@settings(max_examples=150)
@given(data=st.data())
def test_reading_gives_back_what_was_written(data: st.DataObject) -> None:
    frequency = data.draw(st.sampled_from(list(STYLES)))
    style = data.draw(st.sampled_from(STYLES[frequency]))
    form = data.draw(st.sampled_from(["csv", "csv", "xlsx", "parquet"]))
    separator = data.draw(st.sampled_from([",", ";", "\t", "|"]))
    decimal = data.draw(st.sampled_from([".", ","]))
    encoding = data.draw(st.sampled_from(["utf-8", "utf-8-sig", "utf-16", "cp1252"]))
    layout = data.draw(st.sampled_from(["long", "wide"]))
    n_periods = data.draw(st.integers(40 if frequency == "D" else 5, 45))
    keys = data.draw(st.lists(names, min_size=2, max_size=5, unique_by=str.strip))
    first = {"D": 20000, "W": 2860, "M": 24290, "Q": 8090, "4W": 715}[frequency] + data.draw(st.integers(0, 30))
    # a value in every cell but some: at both ends of each series there is one, so that the panel is fully told
    exact = st.integers(-999, 999_999).map(lambda n: n / 8)
    cells = st.lists(exact, min_size=len(keys) * n_periods, max_size=len(keys) * n_periods)
    values: NDArray[np.float64] = np.array(data.draw(cells)).reshape(len(keys), n_periods)
    holes = np.array(data.draw(st.lists(st.booleans(), min_size=values.size, max_size=values.size)))
    holes = holes.reshape(values.shape)
    holes[:, [0, 1, 2, -1]] = False
    values[holes & (np.arange(n_periods) % 3 == 1)] = np.nan

    periods = [written(first + t, frequency, style) for t in range(n_periods)]
    texts = [[as_text(v, decimal) for v in row] for row in values.tolist()]
    if layout == "long":
        order = data.draw(st.permutations(range(len(keys))))
        rows = [(periods[t], keys[i], texts[i][t]) for i in order for t in range(n_periods) if texts[i][t]]
        table = pl.DataFrame(rows, schema=["period", "sku", "units"], orient="row")
    else:
        columns = {"sku": keys} | {p: [texts[i][t] for i in range(len(keys))] for t, p in enumerate(periods)}
        table = pl.DataFrame(columns)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "file"
        path.write_bytes(to_bytes(table, form, separator, encoding))
        reading = read_panel(path, ReadOptions(gaps="unknown", frequency=frequency))
    panel = reading.panel
    assert reading.layout == layout and panel.timeline.frequency == frequency and panel.timeline.first == first
    at = [panel.keys["sku"].index(key) for key in keys]
    np.testing.assert_array_equal(panel.values[at], values)
