"""Numbers as people and their programs write them."""

from __future__ import annotations

import polars as pl

MOST = 1e15  # larger ones are slips: whole units can no longer be told apart there, and squares soon overflow
# 1,234 and 1,234,567.5: commas between groups of three digits. In a column where any comma stands otherwise, commas are
# decimal and points stand between thousands.
_GROUPED = r"^[+-]?\d{1,3}(,\d{3})+(\.\d*)?$"


def numbers(column: pl.Series) -> pl.Series:
    """Float64 of a column of texts, null where a text is no number or larger than `MOST` in size.

    The whole column tells how commas are meant.
    """
    text = column.str.strip_chars().str.replace_all(r"(\d)[ \u00a0\u202f](\d{3})", "$1$2")
    with_comma = text.filter(text.str.contains(",", literal=True) & text.str.contains(r"^[+-]?[\d.,]+$"))
    if len(with_comma) and with_comma.str.contains(_GROUPED).all():
        text = text.str.replace_all(",", "", literal=True)
    elif len(with_comma):
        text = text.str.replace_all(".", "", literal=True).str.replace_all(",", ".", literal=True)
    found = text.cast(pl.Float64, strict=False)
    return found.set(found.is_nan() | (found.abs() > MOST), None)
