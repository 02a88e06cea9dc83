"""The command line: JSON on stdout, one sentence and status 2 where the input is at fault."""

from __future__ import annotations

import json
import subprocess
import sys
from datetime import date, timedelta
from pathlib import Path

import jsonschema
import numpy as np
import polars as pl
import pytest

SALES = "week,sku,shop,units\n" + "".join(
    f"{2023 + i // 52}-W{i % 52 + 1:02d},{sku},{shop},{10 + 5 * np.sin(i / 8.3) + (i * 7 + len(sku)) % 5:.0f}\n"
    for i in range(120)
    for sku in ("a", "bb")
    for shop in ("n", "s")
)


def tansy(*arguments: object, ok: bool = True) -> subprocess.CompletedProcess[str]:
    command = [sys.executable, "-m", "tansy.cli", *map(str, arguments)]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    assert (done.returncode == 0) == ok, done.stderr
    return done


@pytest.fixture
def sales(tmp_path: Path) -> Path:
    path = tmp_path / "sales.csv"
    path.write_text(SALES)
    return path


def test_check_says_what_was_understood(sales: Path) -> None:
    found = json.loads(tansy("check", sales).stdout)
    assert found["layout"] == "long"
    assert found["columns"] == {"week": "time", "units": "value", "sku": "key", "shop": "key"}
    assert (found["frequency"], found["series"], found["periods"]) == ("W", 4, 120)
    assert (found["first"], found["last"], found["missing"]) == ("2023-W01", "2025-W16", 0)


def test_bad_input_is_one_sentence_and_status_2(tmp_path: Path, sales: Path) -> None:
    (tmp_path / "empty.csv").write_text("")
    for arguments in (
        ("check", tmp_path / "empty.csv"),
        ("check", tmp_path / "nowhere.csv"),
        ("fit", sales, "--time", "week", "--value", "units", "--model", "ets(X)", "--horizon", "3"),
        ("run", tmp_path / "none.toml", "--out", tmp_path / "out"),
        ("check", sales, "--json", tmp_path),
        ("run", sales, "--out", sales),
        ("check", tmp_path),
    ):
        done = tansy(*arguments, ok=False)
        assert done.returncode == 2 and done.stdout == ""
        assert len(done.stderr.strip().splitlines()) == 1 and "Traceback" not in done.stderr


def test_fit_prints_the_contract(tmp_path: Path) -> None:
    path = tmp_path / "y.csv"
    path.write_text("t,y\n" + "".join(f"2025-{m:02d},{v}\n" for m, v in enumerate([12, 10, 14, 11, 15], start=1)))
    common = ("fit", path, "--time", "t", "--value", "y", "--horizon", 2, "--model", "ets(A,N,N; alpha=0.5, level=10)")
    (fit,) = json.loads(tansy(*common, "--bands", "known").stdout)["fits"]
    assert fit["model"] == "ets(A,N,N; alpha=0.5, level=10)" and fit["parameters"] == {"alpha": 0.5, "level": 10}
    assert fit["residuals"] == [2.0, -1.0, 3.5, -1.25, 3.375]
    assert fit["fitted"] == [10, 11, 10.5, 12.25, 11.625]
    assert fit["forecast"]["period"] == ["2025-06", "2025-07"] and fit["forecast"]["mean"] == [13.3125, 13.3125]
    sigma2 = np.mean(np.square(fit["residuals"]))
    assert fit["sigma2"] == pytest.approx(sigma2)
    assert fit["forecast"]["quantiles"]["0.975"] == pytest.approx(
        [13.3125 + 1.959964 * np.sqrt(sigma2 * (1 + 0.25 * h)) for h in range(2)], rel=1e-6
    )
    estimated = json.loads(tansy(*common[:-1], "arima(1,1,0)").stdout)["fits"][0]
    assert estimated["fitted"][0] is None and set(estimated["standard_errors"]) == {"ar1"}
    short = json.loads(tansy(*common[:-1], "ets(A,A,A)").stdout)["fits"][0]
    assert "too few" in short["notes"][0]


def test_fit_says_what_was_wrong_with_the_file_and_with_what_was_asked_for(tmp_path: Path) -> None:
    path = tmp_path / "one.csv"
    path.write_text("t,y\n2025-01,3\n2025-02,three\n2025-02,4\n2025-03,5\n")
    common = ("fit", path, "--time", "t", "--value", "y", "--horizon", 1)
    heard = tansy(*common, "--model", "naive")
    assert "not-a-number: 1 (these values are unknown)" in heard.stderr and "duplicate: 1" in heard.stderr
    for wrong, says in (
        (("--levels", "80,nan"), "between 0 and 100"),
        (("--model", "arima(best; d=nan)"), "not a number"),
        (("--season-length", "99999999999"), "from 1 to 20,000"),
        (("--horizon", "99999999"), "from 1 to 5,000"),
    ):
        refused = tansy(*common, "--model", "naive", *wrong, ok=False)
        assert refused.returncode == 2 and says in refused.stderr and not refused.stdout


def test_fit_says_what_periods_together_may_need(tmp_path: Path) -> None:
    """What an order for two or three months has to cover: errors move the level, so its variance is more than a sum."""
    path = tmp_path / "one.csv"
    path.write_text("t,y\n" + "".join(f"2025-{m:02d},{v}\n" for m, v in enumerate([12, 10, 14, 11, 15], start=1)))
    model = "ets(A,N,N; alpha=0.5, level=10)"
    printed = tansy("fit", path, "--time", "t", "--value", "y", "--horizon", 3, "--model", model, "--bands", "known")
    (fit,) = json.loads(printed.stdout)["fits"]
    sigma = np.sqrt(fit["sigma2"])
    weights = [[1.0], [1.5, 1.0], [2.0, 1.5, 1.0]]  # what the shock of each lead adds to the sum
    expected = [13.3125 * (h + 1) + 1.959964 * sigma * np.sqrt(np.square(w).sum()) for h, w in enumerate(weights)]
    assert fit["forecast"]["total_quantiles"]["0.975"] == pytest.approx(expected, rel=1e-6)
    assert fit["forecast"]["total_quantiles"]["0.975"][0] == fit["forecast"]["quantiles"]["0.975"][0]


EVERY_METHOD = (
    "mean", "naive", "seasonal-naive", "drift", "moving-average(3)", "moving-average(best)",
    "moving-average(2; weights=2/1)", "trend(linear)", "trend(quadratic)", "trend(exponential)",
    "trend(linear; indices)", "theta", "ets(A,N,N)", "ets(M,Ad,M)", "ets(A,A,A; alpha=0.3, start=season)", "ets(best)",
    "ets(A,N,N) + harmonics(1)", "ets(A,N,N) + shared-season", "ets(A,N,N) + pooled(price)", "croston", "sba", "tsb",
    "arima(1,0,1)", "arima(0,1,1)(0,1,1)4", "arima(best)", "arima(1,0,0) + x(log price, promotion -1..0)",
    "regression(price, promotion)", "log ets(A,Ad,N)", "boxcox(0.5) arima(1,0,0) + x(price)", "boxcox(best) naive",
)  # fmt: skip


def test_fit_prints_every_method_as_its_schema_says(tmp_path: Path) -> None:
    """Two series, one of them too short for most methods; drivers known for four quarters after the last value."""
    rng = np.random.default_rng(2)
    rows = ["t,sku,y,price,promotion"]
    for sku, first in (("a", 0), ("b", 36)):
        for t in range(first, 44):
            units = "" if t >= 40 else f"{rng.poisson(20 + 8 * (t % 4))}"
            rows.append(f"{2016 + t // 4}-Q{t % 4 + 1},{sku},{units},{4 + 0.1 * (t * 7 % 5):.2f},{int(t % 6 == 0)}")
    (tmp_path / "q.csv").write_text("\n".join(rows) + "\n")
    models = [word for text in EVERY_METHOD for word in ("--model", text)]
    common = ("--time", "t", "--value", "y", "--by", "sku", "--driver", "price", "--driver", "promotion")
    printed = json.loads(tansy("fit", tmp_path / "q.csv", *common, "--horizon", 4, *models).stdout)
    schema = json.loads((Path(__file__).parents[2] / "docs" / "fit.schema.json").read_text())
    jsonschema.Draft202012Validator(schema).validate(printed)
    assert len(printed["fits"]) == 2 * len(EVERY_METHOD)
    for text, fit in zip(np.repeat(EVERY_METHOD, 2), printed["fits"], strict=True):
        assert fit["forecast"]["period"] == ["2026-Q1", "2026-Q2", "2026-Q3", "2026-Q4"], text
        assert None not in fit["forecast"]["mean"], text
        assert fit["series"]["sku"] == "a" or fit["model"] or fit["notes"]
    driven = printed["fits"][2 * EVERY_METHOD.index("regression(price, promotion)")]
    assert set(driven["p_values"]) == {"constant", "price", "promotion"}
    assert driven["correlation"]["names"] == ["constant", "price", "promotion"]
    far = tansy("fit", tmp_path / "q.csv", *common, "--horizon", 5, "--model", "regression(price)", ok=False)
    assert far.returncode == 2 and "price is not known for 2027-Q1" in far.stderr


def test_score_reads_quantile_columns(tmp_path: Path) -> None:
    (tmp_path / "f.csv").write_text("sku,t,mean,q0.1,q0.9\na,2025-04,10,8,12\na,2025-05,10,8,12\n")
    (tmp_path / "a.csv").write_text("sku,t,y\na,2025-04,11\na,2025-05,14\n")
    (tmp_path / "h.csv").write_text("sku,t,y\na,2025-01,8\na,2025-02,10\na,2025-03,9\n")
    found = json.loads(
        tansy(
            "score", tmp_path / "f.csv", "--actual", tmp_path / "a.csv", "--train", tmp_path / "h.csv",
            "--time", "t", "--value", "y", "--by", "sku", "--season-length", 1,
        ).stdout
    )  # fmt: skip
    assert found["pooled"]["MAE"] == 2.5 and found["pooled"]["coverage"] == {"80": 0.5}
    assert found["series"][0]["series"] == {"sku": "a"} and found["series"][0]["MASE"] == pytest.approx(2.5 / 1.5)


def test_reconcile_makes_any_structure_add_up(tmp_path: Path) -> None:
    (tmp_path / "s.csv").write_text("parent,child\ntotal,a\ntotal,b\n")
    (tmp_path / "b.csv").write_text("node,lead,value\ntotal,1,13\na,1,4\nb,1,6\n")
    (tmp_path / "r.csv").write_text(
        "node,period,value\n" + "".join(f"{n},{i},{v}\n" for n, v in (("total", 1), ("a", 1), ("b", 2)) for i in (1, 2))
    )
    common = (
        "reconcile",
        "--base",
        tmp_path / "b.csv",
        "--structure",
        tmp_path / "s.csv",
        "--residuals",
        tmp_path / "r.csv",
    )
    rows = pl.read_csv(tansy(*common, "--method", "variance").stdout.encode())
    value = dict(zip(rows["node"], rows["value"], strict=True))
    # gap 3 shared by the variances 1 (total), 1 (a), 4 (b)
    assert value == pytest.approx({"total": 12.5, "a": 4.5, "b": 8.0})
    assert "choose one of" in tansy(*common, "--method", "guess", ok=False).stderr
    # what it errs by, if W is true: 1 / (1/1 + 1/5) for the total, 1 - 1/6 and 4 - 16/6 for its parts
    rows = pl.read_csv(tansy(*common, "--method", "variance", "--variances").stdout.encode())
    assert rows["variance"].to_list() == pytest.approx([5 / 6, 5 / 6, 4 / 3])
    # two periods whose errors are the same at all nodes: both paths are the base and once its error, reconciled
    rows = pl.read_csv(tansy(*common, "--method", "variance", "--levels", "80").stdout.encode())
    off = (13 + 1) - (4 + 1) - (6 + 2)  # the gap of a path, shared by the variances as above
    assert rows["q0.1"].to_list() == pytest.approx([14 - off / 6, 5 + off / 6, 8 + 4 * off / 6], rel=1e-6)
    assert rows["q0.9"].to_list() == rows["q0.1"].to_list()
    assert "need --residuals" in tansy(*common[:-2], "--method", "ols", "--levels", "80", ok=False).stderr
    (tmp_path / "f.csv").write_text("node,lead,value\na,1,9\n")
    rows = pl.read_csv(tansy(*common, "--method", "variance", "--fixed", tmp_path / "f.csv").stdout.encode())
    assert rows["value"].to_list() == pytest.approx([13.4, 9.0, 4.4])
    (tmp_path / "f.csv").write_text("node,lead,value\ntotal,1,20\na,1,7\nb,1,9\n")
    wrong = tansy(*common, "--method", "ols", "--fixed", tmp_path / "f.csv", ok=False).stderr
    assert "No forecast has all of these as they are set: total, a, b." in wrong
    (tmp_path / "h.csv").write_text("node,period,value\na,1,5\na,2,1\nb,1,5\nb,2,3\n")
    shared = (*common[:-2], "--history", tmp_path / "h.csv", "--season-length", 1, "--method", "top-down")
    pl.read_csv(tmp_path / "b.csv").write_parquet(tmp_path / "b.parquet")
    tansy(*shared[:2], tmp_path / "b.parquet", *shared[3:], "--out", tmp_path / "out.parquet")
    assert pl.read_parquet(tmp_path / "out.parquet")["value"].to_list() == pytest.approx([13.0, 3.25, 9.75])
    assert "to share forecasts out" in tansy(*common, "--method", "top-down", ok=False).stderr
    (tmp_path / "b.csv").write_text("node,lead,value\ntotal,1,13\na,1,4\nb,1,6\na,1,5\n")
    assert "row 5: node 'a', lead 1 stands there twice" in tansy(*common, "--method", "ols", ok=False).stderr


def test_fit_takes_every_row_that_it_is_given(tmp_path: Path) -> None:
    """A sparse last period and empty cells at the end are data here, not things to be left out."""
    rows = [f"2024-W{w:02d},{s},{w},3" for w in range(1, 21) for s in "abcdef"] + ["2024-W21,a,21,3", "2024-W22,a,,3"]
    (tmp_path / "sales.csv").write_text("week,sku,units,price\n" + "\n".join(rows) + "\n")
    common = ("--time", "week", "--value", "units", "--by", "sku", "--model", "naive", "--horizon", "1")
    fits = json.loads(tansy("fit", tmp_path / "sales.csv", *common).stdout)["fits"]
    assert len(fits) == 6 and len(fits[0]["fitted"]) == 22 and fits[0]["forecast"]["period"] == ["2024-W23"]
    assert fits[0]["forecast"]["mean"] == [21.0]


def test_run_writes_forecasts_accuracy_and_summary(sales: Path, tmp_path: Path) -> None:
    (tmp_path / "recipe.toml").write_text(
        'name = "small"\n[data]\nfile = "sales.csv"\n[methods]\ncandidates = ["naive", "ets(A,N,N)"]\n'
        "[backtest]\norigins = 2\nstep = 4\nleads = 4\n"
    )
    done = tansy("run", tmp_path / "recipe.toml", "--out", tmp_path / "out", "--format", "csv", "--paths", 50)
    summary = json.loads((tmp_path / "out" / "summary.json").read_text())
    assert json.loads(done.stdout) == summary
    assert summary["series"] == 4 and summary["nodes"] == 9 and summary["largest_gap"] == 0
    table = pl.read_csv(tmp_path / "out" / "forecasts.csv")
    quantiles = ["q0.025", "q0.1", "q0.25", "q0.75", "q0.9", "q0.975"]
    of_period = ["statistical", "forecast", *quantiles]
    of_sums = ["sum", *(f"sum_{q}" for q in quantiles)]
    assert table.columns == ["sku", "shop", "node", "level", "period", "lead", *of_period, *of_sums]
    first = table.filter(pl.col("lead") == 1)
    np.testing.assert_array_equal(first[of_sums], first[of_period[1:]])
    paths = pl.read_parquet(tmp_path / "out" / "paths.parquet")
    assert paths.height == 4 * 4 * 50 and paths["path"].max() == 50
    assert table.height == 9 * 4
    finest = table.filter(pl.col("level") == "sku × shop")
    total = table.filter(pl.col("node") == "every sku × every shop")
    by_lead = finest.group_by("lead").agg(pl.col("forecast").sum()).sort("lead")
    np.testing.assert_allclose(by_lead["forecast"], total["forecast"], rtol=1e-12)
    measures = pl.read_csv(tmp_path / "out" / "accuracy.csv")
    assert measures.columns == ["level", "method", "lead", "measure", "value"]


def test_dates_of_no_frequency_get_a_recipe_when_told_one(tmp_path: Path) -> None:
    days = [date(2023, 1, 16) + timedelta(14 * i) for i in range(60)]
    (tmp_path / "s.csv").write_text("date,sku,units\n" + "".join(f"{day},A,{i % 7}\n" for i, day in enumerate(days)))
    assert "some 14 days apart" in tansy("recipe", tmp_path / "s.csv", ok=False).stderr
    tansy("run", tmp_path / "s.csv", "--freq", "4W", "--out", tmp_path / "out")
    assert 'frequency = "4W"' in (tmp_path / "out" / "recipe.toml").read_text()
    again = ("run", tmp_path / "out" / "recipe.toml", "--out", tmp_path / "again")
    assert "--freq are for a file" in tansy(*again, "--freq", "M", ok=False).stderr
    tansy(*again)
    first, second = (tmp_path / folder / "forecasts.parquet" for folder in ("out", "again"))
    assert first.read_bytes() == second.read_bytes()


def test_a_file_is_run_without_a_recipe_and_the_recipe_it_gets_gives_the_same(sales: Path, tmp_path: Path) -> None:
    (tmp_path / "skus.csv").write_text("sku,line\na,A\nbb,B\n")
    beside = ["--beside", tmp_path / "skus.csv"]
    tansy("run", sales, "--out", tmp_path / "unasked", *beside)
    written = tansy("recipe", sales, *beside, "--out", tmp_path / "own.toml")
    assert written.stdout == "" and "blend(" in (tmp_path / "own.toml").read_text()
    tansy("run", tmp_path / "own.toml", "--out", tmp_path / "again")
    tansy("run", tmp_path / "unasked" / "recipe.toml", "--out", tmp_path / "third")
    first, again, third = (
        pl.read_parquet(tmp_path / one / "forecasts.parquet") for one in ("unasked", "again", "third")
    )
    assert first.equals(again) and first.equals(third)
    assert "skus.csv" in (tmp_path / "unasked" / "recipe.toml").read_text()
    said = tansy("run", tmp_path / "own.toml", "--out", tmp_path / "fourth", *beside, ok=False).stderr
    assert "--beside, --holidays and --freq are for a file of sales" in said


def test_what_was_corrected_by_hand_is_a_file_of_its_own(sales: Path, tmp_path: Path) -> None:
    (tmp_path / "recipe.toml").write_text(
        'name = "small"\n[data]\nfile = "sales.csv"\n[methods]\ncandidates = ["mean"]\n'
        "[backtest]\norigins = 2\nstep = 4\nleads = 4\n"
    )
    (tmp_path / "by_hand.csv").write_text(
        "sku,shop,period,corrected,unjudged,reason\na,n,2024-W20,1.234,,typed wrong\nbb,n,2024-W21,,yes,closed\n"
    )
    run = ("run", tmp_path / "recipe.toml", "--corrections")
    done = tansy(*run, tmp_path / "by_hand.csv", "--out", tmp_path / "out")
    assert json.loads(done.stdout)["values_corrected"] == 2
    changed = pl.read_csv(tmp_path / "out" / "corrections.csv")
    assert changed["corrected"].to_list() == [1.234, None] and changed["reason"].to_list() == ["typed wrong", "closed"]
    assert changed["unjudged"].to_list() == ["", "yes"]
    again = tansy(*run, tmp_path / "out" / "corrections.csv", "--out", tmp_path / "two")
    first, second = (pl.read_parquet(tmp_path / one / "forecasts.parquet") for one in ("out", "two"))
    assert again.returncode == 0 and first.equals(second)
    for row, said in (("a,x,2024-W20,1", "row 2: there is no series a × x"), ("a,n,1999-W01,1", "no period of this"),
                      ("a,n,2024-W20,many", "'many' is no number"), ("a,n,2024-W20,inf", "'inf' is no number"),
                      ("a,n,2024-W20,1\na,n,2024-W20,2", "row 3: a × n in 2024-W20 is corrected twice")):  # fmt: skip
        (tmp_path / "by_hand.csv").write_text(f"sku,shop,period,corrected\n{row}\n")
        wrong = tansy(*run, tmp_path / "by_hand.csv", "--out", tmp_path / "no", ok=False)
        assert said in wrong.stderr and "Nothing was taken" in wrong.stderr


def test_run_corrects_by_the_recipes_rules_and_lists_every_value(tmp_path: Path) -> None:
    rows = SALES.splitlines()
    at = next(i for i, row in enumerate(rows) if row.startswith("2024-W20,bb,n"))
    rows[at] = rows[at].rsplit(",", 1)[0] + ",900"
    (tmp_path / "sales.csv").write_text("\n".join(rows) + "\n")
    (tmp_path / "recipe.toml").write_text(
        'name = "small"\n[data]\nfile = "sales.csv"\n[methods]\ncandidates = ["naive"]\n'
        '[cleaning]\nfind = ["spike"]\naccept_above = 6.0\nreplace = "median"\n'
        "[backtest]\norigins = 2\nstep = 4\nleads = 4\n"
    )
    tansy("run", tmp_path / "recipe.toml", "--out", tmp_path / "out")
    changed = pl.read_csv(tmp_path / "out" / "corrections.csv")
    assert changed.columns == ["sku", "shop", "period", "received", "corrected", "unjudged", "reason", "score"]
    assert changed.height == 1 and changed.rows()[0][:4] == ("bb", "n", "2024-W20", 900.0)
    assert changed["corrected"][0] < 30 and changed["reason"][0] == "spike"
    assert json.loads((tmp_path / "out" / "summary.json").read_text())["values_corrected"] == 1


def test_run_puts_later_actuals_to_the_history(tmp_path: Path) -> None:
    rows = SALES.splitlines()
    (tmp_path / "sales.csv").write_text("\n".join(rows[:401]) + "\n")
    (tmp_path / "more.csv").write_text("\n".join([rows[0], *rows[401:]]) + "\n")
    text = (
        '[methods]\ncandidates = ["naive"]\n[backtest]\norigins = 2\nstep = 4\nleads = 4\n[data]\nfile = "sales.csv"\n'
    )
    (tmp_path / "whole.csv").write_text(SALES)
    (tmp_path / "two.toml").write_text(text + 'more = ["more.csv"]\n')
    (tmp_path / "one.toml").write_text(text.replace("sales.csv", "whole.csv"))
    for name in ("one", "two"):
        tansy("run", tmp_path / f"{name}.toml", "--out", tmp_path / name)
    one, two = (pl.read_parquet(tmp_path / name / "forecasts.parquet") for name in ("one", "two"))
    assert one.equals(two) and one.height > 0
