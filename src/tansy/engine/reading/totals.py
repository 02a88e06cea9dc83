"""Totals in a file: a row or column that is the sum of the others is no series and no key."""

from __future__ import annotations

import re

import numpy as np
import polars as pl
from numpy.typing import NDArray

from tansy.engine.reading.numbers import numbers

WORDS = (
    r"(grand[ -]?)?totals?( general| général| result)?|sum(me|s|ma|a)?|gesamt(summe|ergebnis)?|insgesamt|zusammen"
    r"|somme|totaal|totale|razem|yhteensä|i alt|overall"
)
_COLUMN = re.compile(rf"^({WORDS})([ _-].*)?$", re.I)
_KEY = rf"(?i)^\s*({WORDS})\s*:?\s*$"
_SUBTOTAL = (
    rf"(?i)^\s*(?:(?:{WORDS})(?: (?:of|von|de|di|van))? (?P<behind>.+?)"
    rf"|(?P<before>.+?)[ :-]+(?:{WORDS}|ergebnis|result))\s*:?\s*$"
)
_PARTS = [re.compile(_SUBTOTAL).groupindex[name] for name in ("behind", "before")]
_ENOUGH = 0.95  # of the rows


def is_named_total(column: str) -> bool:
    return _COLUMN.match(column.strip()) is not None


def adds_up(table: pl.DataFrame, column: str, periods: list[str]) -> bool:
    """Whether a column holds the sum of the columns of periods in nearly all rows."""
    own = numbers(table[column]).fill_null(float("nan")).to_numpy()
    total = np.sum([numbers(table[name]).fill_null(0.0).to_numpy() for name in periods], axis=0)
    seen = ~np.isnan(own)
    close = np.abs(own - total) <= 1e-6 * np.maximum(np.abs(total), 1.0)
    return bool(seen.sum() >= 3 and (close & seen).sum() >= _ENOUGH * seen.sum() and (own[seen] != 0.0).any())


def named_total(keys: pl.Series) -> NDArray[np.bool_]:
    """Which keys say that they are totals: of all, or of another one, as "Roses Total" where there are Roses."""
    codes = keys.str.strip_chars()
    distinct = codes.unique()
    of = pl.DataFrame({"code": distinct}).select(pl.coalesce(pl.col("code").str.extract(_SUBTOTAL, i) for i in _PARTS))
    totals = distinct.filter(distinct.str.contains(_KEY) | of.to_series().is_in(distinct.implode()).fill_null(False))
    return codes.is_in(totals.implode()).to_numpy()


def series_of_sums(values: NDArray[np.float64], has_row: NDArray[np.bool_]) -> NDArray[np.int64]:
    """Series [series, periods] that are the sum of all others in every period, of three or more that have a row."""
    if has_row.any(axis=1).sum() < 3:
        return np.empty(0, dtype=np.int64)
    known = np.nan_to_num(values)
    total = known.sum(axis=0)
    same = np.abs(2.0 * known - total) <= 1e-6 * np.maximum(np.abs(total), 1.0)
    return np.nonzero(same.all(axis=1) & (known != 0.0).any(axis=1))[0][:1]
