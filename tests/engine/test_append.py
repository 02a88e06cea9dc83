"""Later actuals: new, revised, silent; and nothing else is touched."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from tansy.engine.errors import FileError
from tansy.engine.panel import Panel
from tansy.engine.reading.append import Appended, append, read_history
from tansy.engine.reading.history import read_panel
from tansy.engine.reading.options import ReadOptions

HEAD = "week,sku,shop,units\n"
OLD = HEAD + "".join(f"2025-W{w:02d},{s},x,{w}\n" for w in range(1, 11) for s in "ABC")


def put(folder: Path, text: str, gaps: str = "zero", old: str = OLD) -> tuple[Panel, Appended, Panel]:
    panels = []
    for content in (old, text):
        path = folder / "sales.csv"
        path.write_text(content)
        panels.append(read_panel(path, ReadOptions(gaps=gaps)))
    first, second = panels
    return *append(first.panel, second.panel, second.has_row, gaps), first.panel


def test_new_revised_silent_and_new_series(tmp_path: Path) -> None:
    text = HEAD + "2025-W11,A,x,20\n2025-W12,A,x,21\n2025-W09,B,x,30\n2025-W10,B,x,10\n2025-W12,B,x,7\n2025-W12,D,y,5\n"
    panel, summary, old = put(tmp_path, text)
    assert panel.timeline.labels[-2:] == summary.new_periods == ["2025-W11", "2025-W12"]
    assert panel.keys["sku"] == ["A", "B", "C", "D"]
    np.testing.assert_array_equal(panel.values[0], [*range(1, 11), 20, 21])
    np.testing.assert_array_equal(panel.values[1], [*range(1, 9), 30, 10, 0, 7])
    np.testing.assert_array_equal(panel.values[2], [*range(1, 11), 0, 0])
    assert np.isnan(panel.values[3, :11]).all() and panel.values[3, 11] == 5
    assert (summary.n_revised, summary.revised_by) == (1, 21.0)
    assert (summary.revisions[0].key, summary.revisions[0].period) == (["B", "x"], "2025-W09")
    assert (summary.revisions[0].old, summary.revisions[0].new) == (9.0, 30.0)
    assert summary.new_series == [["D", "y"]] and summary.silent_series == [["C", "x"]]
    assert summary.n_new == 4 and summary.total_new == 53.0
    np.testing.assert_array_equal(old.values[1], range(1, 11))  # nothing is overwritten


def test_unknown_gaps_stay_unknown(tmp_path: Path) -> None:
    panel, _, _ = put(tmp_path, HEAD + "2025-W11,A,x,20\n2025-W12,A,x,21\n2025-W12,B,x,7\n", gaps="unknown")
    assert np.isnan(panel.values[1, 10]) and np.isnan(panel.values[2, 10:]).all()


def test_largest_revisions_come_first_and_equal_values_are_none(tmp_path: Path) -> None:
    text = HEAD + "2025-W08,A,x,8\n2025-W09,A,x,10\n2025-W10,A,x,-90\n2025-W10,B,x,60\n"
    _, summary, _ = put(tmp_path, text)
    assert [r.new for r in summary.revisions] == [-90, 60, 10] and summary.new_periods == []


@pytest.mark.parametrize(
    ("text", "sentence"),
    [
        (HEAD + "2025-W14,A,x,1\n2025-W15,A,x,1\n", "begins with 2025-W14, but history ends with 2025-W10; 2025-W11"),
        ("month,sku,shop,units\n2025-04,A,x,1\n2025-05,A,x,1\n", "holds months; this portfolio holds weeks"),
        ("week,sku,units\n2025-W11,A,1\n2025-W12,A,1\n", "has the keys sku; this portfolio has sku, shop"),
    ],
)
def test_what_does_not_fit_is_said(tmp_path: Path, text: str, sentence: str) -> None:
    with pytest.raises(FileError, match=sentence):
        put(tmp_path, text)


def test_later_files_are_read_as_the_first_one_was(tmp_path: Path) -> None:
    """One week, named by its Monday, cannot show by itself that it is a week; and two columns could be the sales."""
    (tmp_path / "sales.csv").write_text(
        "day,sku,sold,returned\n" + "".join(f"2025-03-{d:02d},A,{d},0\n" for d in (3, 10, 17, 24))
    )
    (tmp_path / "more.csv").write_text("day,sku,sold,returned\n2025-03-31,A,7,1\n2025-03-24,A,25,0\n")
    (tmp_path / "last.csv").write_text("day,sku,sold,returned\n2025-04-07,A,9,2\n")
    options = ReadOptions(value="sold", more=("more.csv", "last.csv"))
    reading = read_history(tmp_path / "sales.csv", options, tmp_path)
    assert reading.panel.timeline.frequency == "W"
    assert reading.panel.values.tolist() == [[3, 10, 17, 25, 7, 9]]
