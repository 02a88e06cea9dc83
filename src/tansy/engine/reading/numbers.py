"""Numbers as people and their programs write them.

What is a number in the file is one, whatever stands beside it. Texts are read cell by cell. Most say themselves how
they are meant: in 10,5 the comma is decimal, in 1,234,567 and 1,234.5 it stands between thousands. Those that can be
read either way, 1,234 and 1.234, are read as the others of their column are written: with a decimal comma where any
says so and no more say the other thing, else with a decimal point.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import polars as pl
from numpy.typing import NDArray

MOST = 1e15  # larger ones are slips: whole units can no longer be told apart there, and squares soon overflow

_COMMA_SURE = r"^[+-]?(\d+(\.\d{3})*,\d*|,\d+)$"  # a comma with decimals behind it, points between thousands
_POINT_SURE = r"^[+-]?(\d{1,3}(,\d{3})+\.\d*|\d{1,3}(,\d{3}){2,}|\d*\.\d*|\d+\.\d*[eE][+-]?\d+)$"
_COMMA_EITHER = r"^[+-]?\d{1,3},\d{3}$"
_POINT_EITHER = r"^[+-]?\d{1,3}\.\d{3}$"
_THOUSAND_POINTS = r"^[+-]?\d{1,3}(\.\d{3}){2,}$"


@dataclass(frozen=True)
class Numbers:
    """value: Float64, null where a cell holds no number or one larger than `MOST` in size. decimal: "comma" or "point",
    how texts that can be read either way were read; "" where no text has either. other: texts that are sure to be
    written the other way."""

    value: pl.Series
    decimal: str
    other: NDArray[np.bool_]


def read_numbers(column: pl.Series, is_number: pl.Series | None = None) -> Numbers:
    """Numbers of a column of texts. is_number: which cells are numbers in the file, none where it is not given."""
    text = column.str.strip_chars().str.replace_all(r"(\d)[ \u00a0\u202f'’](\d{3})", "$1$2")
    text = _as_plain(text)
    typed = pl.repeat(False, len(column), eager=True) if is_number is None else is_number
    loose = ~typed
    comma_either = text.str.contains(_COMMA_EITHER)
    point_either = text.str.contains(_POINT_EITHER)
    thousand_points = text.str.contains(_THOUSAND_POINTS)
    comma = loose & ((text.str.contains(_COMMA_SURE) & ~comma_either) | thousand_points)
    point = loose & text.str.contains(_POINT_SURE) & ~point_either & text.str.contains(r"\d")
    with_comma = bool(comma.any()) and int(comma.sum()) >= int(point.sum())
    as_comma = comma | (loose & with_comma & (comma_either | point_either))
    plain = (
        pl.DataFrame({"text": text, "comma": as_comma, "typed": typed})
        .select(
            pl.when("typed")
            .then("text")
            .when("comma")
            .then(pl.col("text").str.replace_all(".", "", literal=True).str.replace(",", ".", literal=True))
            .when(pl.col("text").str.contains(r"^[+-]?\d{1,3}(,\d{3})+(\.\d*)?$"))
            .then(pl.col("text").str.replace_all(",", "", literal=True))
            .otherwise("text")
        )
        .to_series()
    )
    found = plain.cast(pl.Float64, strict=False) + 0.0  # zero has no sign
    found = found.set(found.is_nan() | (found.abs() > MOST), None).alias(column.name)
    other = point if with_comma else comma
    any_mark = bool((comma | point | (loose & (comma_either | point_either))).any())
    return Numbers(found, ("comma" if with_comma else "point") if any_mark else "", other.to_numpy())


def _as_plain(text: pl.Series) -> pl.Series:
    """Without the sign of a currency, and what programs of accounts write for -12: 12- and (12)."""
    if not (text.str.contains_any(["€", "$", "£", "¥", "("]).any() or text.str.ends_with("-").any()):
        return text
    bare = text.str.replace(r"^([+-]?) ?[€$£¥] ?(.*\d.*)$", "$1$2").str.replace(r"^(.*\d.*) ?[€$£¥]$", "$1")
    return bare.str.replace(r"^\((\d[^()]*)\)$|^(\d.*)-$", "-$1$2").str.strip_chars()


def numbers(column: pl.Series, is_number: pl.Series | None = None) -> pl.Series:
    """The values of `read_numbers` alone."""
    return read_numbers(column, is_number).value
