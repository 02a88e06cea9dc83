"""A file of corrections: a row each, as `tansy run`, a study on the screen and the ledger hand them out."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import polars as pl

from tansy.engine.cleaning.corrections import Corrections
from tansy.engine.errors import FileError
from tansy.engine.panel import Panel
from tansy.engine.reading.table import open_table
from tansy.engine.timeline import number_of

_SAID = 5
_ESCAPED = r"^'([=+\-@])"
"""How a file that we wrote has a text that a spreadsheet would take for a formula."""


def read_corrections(path: Path, panel: Panel) -> Corrections:
    """The corrections of a file, in its order.

    Columns: the keys of the panel (with "key " before a name that is taken), `period`, `corrected`, which is empty or
    "unknown" where the value is unknown; `unjudged` (yes), `reason` and `score` where there are some. What was reverted
    (`reverted at`) is passed over. Numbers have a decimal point: nothing is guessed in a file of our own. Raises
    FileError that names the first rows that cannot be used; then none is.
    """
    table = open_table(path)
    frame = table.frame
    heads = {column.strip().casefold(): column for column in frame.columns}
    keys = [heads.get(f"key {name}".casefold()) or heads.get(name.casefold()) for name in panel.key_names]
    lacking = [name for name, column in zip(panel.key_names, keys, strict=True) if column is None]
    lacking += [name for name in ("period", "corrected") if name not in heads]
    if lacking:
        raise FileError(f"{path.name} has no column {lacking[0]!r}.")
    place = {key: i for i, key in enumerate(zip(*(panel.keys[name] for name in panel.key_names), strict=True))}
    texts = frame.with_columns(pl.all().cast(pl.String).fill_null("").str.strip_chars())
    texts = texts.with_columns(pl.all().str.replace(_ESCAPED, "${1}")).with_row_index("row", table.header_line + 1)
    if "reverted at" in heads:
        texts = texts.filter(pl.col(heads["reverted at"]) == "")
    written = texts[heads["corrected"]].replace("unknown", "")
    value = written.cast(pl.Float64, strict=False)
    value = value.set(~value.is_finite(), None)
    timeline = panel.timeline
    series, periods, wrong = [], [], []
    seen: set[tuple[int, int]] = set()
    rows = zip(*(texts[column].to_list() for column in keys if column), strict=True)
    given = zip(
        texts["row"].to_list(), rows, texts[heads["period"]].to_list(), written.to_list(), value.to_list(), strict=True
    )
    for line, key, period, text, number in given:
        i, t = place.get(key, -1), number_of(period, timeline.frequency)
        series.append(i)
        periods.append(-1 if t is None else t - timeline.first)
        if i < 0:
            wrong.append(f"row {line}: there is no series {' × '.join(key)}.")
        elif not 0 <= periods[-1] < timeline.n_periods:
            wrong.append(f"row {line}: {period!r} is no period of this history.")
        elif text and number is None:
            wrong.append(f"row {line}: {text!r} is no number such as 12.5; leave it empty where the value is unknown.")
        elif (i, periods[-1]) in seen:
            wrong.append(f"row {line}: {' × '.join(key)} in {period} is corrected twice.")
        seen.add((i, periods[-1]))
    if wrong:
        more = f" And {len(wrong) - _SAID} more." if len(wrong) > _SAID else ""
        raise FileError(f"{path.name}, {' '.join(wrong[:_SAID])}{more} Nothing was taken.")

    def column(name: str) -> list[str]:
        return texts[heads[name]].to_list() if name in heads else [""] * texts.height

    scores = pl.Series(column("score"), dtype=pl.String).cast(pl.Float64, strict=False).fill_null(float("nan"))
    return Corrections(
        np.array(series, dtype=np.int64),
        np.array(periods, dtype=np.int64),
        value.fill_null(float("nan")).to_numpy().astype(np.float64),
        np.array([text.casefold() in ("yes", "true", "1") for text in column("unjudged")], dtype=bool),
        tuple(column("reason")),
        scores.to_numpy().astype(np.float64),
    )
