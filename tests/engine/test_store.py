"""Results that are kept: found again by content, computed again where damaged, swept; and no study the worse for it."""

from __future__ import annotations

import os
import random
import signal
import subprocess
import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from numpy.typing import NDArray

from tansy.engine.cleaning.corrections import Corrections
from tansy.engine.compute.threads import run_chunks
from tansy.engine.errors import Stopped, TansyError
from tansy.engine.panel import Panel
from tansy.engine.study.recipe import Recipe
from tansy.engine.study.run import Study, run_study
from tansy.engine.study.store import Block, Results, Store
from tansy.engine.timeline import Timeline, label

Floats = NDArray[np.float64]
WEEKS = 80
METHODS = (
    "seasonal-naive",
    "ets(A,N,N) + shared-season",
    "ets(A,N,N) + pooled(promotion)",
    "arima(1,0,0) + x(promotion)",
)
RECIPE = Recipe(
    "kept", {"product": ["group"]}, METHODS, origins=3, step=6, leads=6, anchor=label(2763 + 69, "W"), levels=(80.0,),
)  # fmt: skip


def garden(n_weeks: int = WEEKS) -> Panel:
    rng = np.random.default_rng(5)
    products, stores = np.repeat([f"P{i}" for i in range(4)], 3), np.tile(["S0", "S1", "S2"], 4)
    promotion = (rng.random((12, WEEKS + 12)) < 0.15).astype(float)
    season = 1.0 + 0.4 * np.sin(2.0 * np.pi * np.arange(WEEKS) / 52.18)
    values = rng.poisson(25.0 * season * (1.0 + 0.5 * promotion[:, :WEEKS])).astype(float)
    groups = {f"P{i}": f"g{i % 2}" for i in range(4)}
    return Panel(
        Timeline("W", 2763, WEEKS, 52), ("product", "store"), {"product": products.tolist(), "store": stores.tolist()},
        values, attributes={"product": {"group": groups}}, drivers={"promotion": promotion},
    ).until(n_weeks, 12)  # fmt: skip


def corrected(cells: dict[tuple[int, int], float]) -> Corrections:
    at = np.array(list(cells), dtype=np.int64).reshape(-1, 2)
    n = len(at)
    return Corrections(
        at[:, 0], at[:, 1], np.array(list(cells.values())), np.zeros(n, dtype=bool), ("agreed",) * n, np.full(n, np.nan)
    )


def same(a: Study, b: Study) -> bool:
    names = (
        "history", "received", "chosen", "chosen_at", "base", "forecast", "quantiles", "tested", "tested_quantiles",
        "parameters", "sigma", "method_scores", "node_scores",
    )  # fmt: skip
    tables = ("by_method", "by_reconciliation", "coverage", "cells")
    bands = ("hits", "coverage_error", "between", "interval_score")
    pairs = ((a, b, names), (a.tables, b.tables, tables), (a.report.bands, b.report.bands, bands))
    return a.reconciled_by == b.reconciled_by and all(
        np.array_equal(getattr(one, name), getattr(other, name), equal_nan=True)
        for one, other, own in pairs
        for name in own
    )


def test_what_a_change_does_not_touch_is_not_fitted_again(tmp_path: Path) -> None:
    store, panel = Store(tmp_path), garden()
    first = run_study(panel, RECIPE, store=store)
    n_tasks = 4 * (len(METHODS) + 1)  # three origins and the end; the mean stands beside the recipe's methods
    assert (first.tasks.computed, first.tasks.reused) == (n_tasks, 0)
    for recipe in (
        replace(RECIPE, levels=(50.0, 95.0)),
        replace(RECIPE, reconciliation="structural", name="another", whole_units=True),
        replace(RECIPE, fallback=("mean",)),
        replace(RECIPE, methods=METHODS[::-1]),
    ):
        assert run_study(panel, recipe, store=store).tasks.computed == 0, recipe
    more = run_study(panel, replace(RECIPE, methods=(*METHODS, "naive")), store=store)
    assert (more.tasks.computed, more.tasks.reused) == (4, n_tasks), "one more method costs that method"
    seen_at = first.seen_at
    change = corrected({(4, seen_at[1] + 2): 99.0})  # seen from the third origin on, and at the end
    later = run_study(panel, RECIPE, corrections=change, store=store)
    assert later.tasks.computed == 2 * (len(METHODS) + 1)
    flat = run_study(
        panel, replace(RECIPE, structure={}, methods=("seasonal-naive", "arima(1,0,0) + x(promotion)")), store=store
    )
    assert flat.tasks.computed == 0, "levels that are gone leave the others"


def test_a_corrected_value_costs_the_nodes_that_hold_it(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from tansy.engine.study import tasks

    store, panel, recipe = Store(tmp_path), garden(), replace(RECIPE, methods=("seasonal-naive", "ets(A,N,N)"))
    run_study(panel, recipe, store=store)
    fitted: list[int] = []
    fit_task = tasks.fit_task
    monkeypatch.setattr(tasks, "fit_task", lambda task, known: fitted.append(len(task.nodes)) or fit_task(task, known))
    run_study(panel, recipe, corrections=corrected({(4, 10): 99.0}), store=store)
    # its product and group in one store and in all, the store, and all of it, each by three methods at four ends
    assert sum(fitted) == 6 * 3 * 4 and len(fitted) == 3 * 4


def test_weeks_that_come_cost_what_is_new_and_change_nothing_of_before(tmp_path: Path) -> None:
    store = Store(tmp_path)
    before = run_study(garden(WEEKS - 4), RECIPE, store=store)
    after = run_study(garden(), RECIPE, store=store)
    assert after.seen_at[:-1] == before.seen_at[1:], "origins stand still"
    assert after.seen_at[-1] == WEEKS - 4
    assert after.tasks.computed == len(METHODS) + 1, "the end alone: what was the end then is an origin now"
    assert same(after, run_study(garden(), RECIPE))
    # what is reported of an origin was decided there: the one they share with the same past behind it is the same
    longer = replace(RECIPE, origins=4)
    both = [run_study(garden(n), replace(longer, origins=o), store=store) for n, o in ((WEEKS - 4, 3), (WEEKS, 4))]
    assert both[1].seen_at[:3] == both[0].seen_at
    np.testing.assert_array_equal(both[1].tested[:, :3], both[0].tested)
    np.testing.assert_array_equal(both[1].tested_quantiles[:, :3], both[0].tested_quantiles)


CHANGES = st.lists(
    st.one_of(
        st.tuples(st.just("correct"), st.integers(0, 11), st.integers(0, WEEKS - 5)),
        st.tuples(st.just("weeks"), st.sampled_from([WEEKS - 4, WEEKS - 2, WEEKS]), st.just(0)),
        st.tuples(st.just("methods"), st.integers(1, 4), st.just(0)),
        st.tuples(st.just("levels"), st.booleans(), st.just(0)),
        st.tuples(st.just("reconciliation"), st.sampled_from(["bottom-up", "variance"]), st.just(0)),
        st.tuples(st.just("damage"), st.integers(0, 1000), st.just(0)),
    ),
    min_size=2, max_size=4,
)  # fmt: skip


@settings(max_examples=12, suppress_health_check=[HealthCheck.too_slow])
@given(CHANGES)
def test_any_way_to_a_study_ends_at_the_same_one(changes: list[tuple[str, int | str, int]]) -> None:
    with tempfile.TemporaryDirectory() as folder:
        recipe, weeks, cells = RECIPE, WEEKS - 4, dict[tuple[int, int], float]()
        run_study(garden(weeks), recipe, store=Store(Path(folder)))
        for what, how, where in changes:
            if what == "correct":
                cells[int(how), where] = 60.0
            elif what == "weeks":
                weeks = int(how)
            elif what == "methods":
                recipe = replace(recipe, methods=METHODS[: int(how)])
            elif what == "levels":
                recipe = replace(recipe, structure={"product": ["group"]} if how else {})
            elif what == "reconciliation":
                recipe = replace(recipe, reconciliation=str(how))
            else:
                blocks = sorted(Path(folder).rglob("*.block")) + sorted(Path(folder).glob("*.single"))
                path = blocks[int(how) % len(blocks)]
                content = bytearray(path.read_bytes())
                content[len(content) // 2] ^= 1
                path.write_bytes(bytes(content))
            given_cells = {at: value for at, value in cells.items() if at[1] < weeks}
            found = run_study(garden(weeks), recipe, corrections=corrected(given_cells), store=Store(Path(folder)))
        assert same(found, run_study(garden(weeks), recipe, corrections=corrected(given_cells)))


def test_a_stop_keeps_what_was_fitted(tmp_path: Path) -> None:
    panel, whole = garden(), run_study(garden(), RECIPE)

    def some_done() -> bool:
        return len(list(tmp_path.rglob("*.block"))) >= 3

    with pytest.raises(Stopped):
        run_study(panel, RECIPE, store=Store(tmp_path), should_stop=some_done, workers=1)
    kept = len(list(tmp_path.rglob("*.block")))
    heard: list[tuple[int, int]] = []
    resumed = run_study(
        panel, RECIPE, store=Store(tmp_path), workers=1,
        progress=lambda step, done, of: heard.append((done, of)) if step == "fit and backtest" and of else None,
    )  # fmt: skip
    assert resumed.tasks.reused == kept and same(resumed, whole)
    assert heard == sorted(heard) and heard[-1][0] == heard[-1][1] == resumed.tasks.reused + resumed.tasks.computed


def test_a_run_that_is_killed_goes_on_and_ends_the_same(tmp_path: Path) -> None:
    """Three kills at random moments; `python -m bench.kills` makes forty."""
    store, out = tmp_path / "store", tmp_path / "found.npy"
    script = (
        "import sys; from pathlib import Path; import numpy as np\n"
        "from tests.engine.test_store import RECIPE, garden, run_study, Store\n"
        f"found = run_study(garden(), RECIPE, store=Store(Path({str(store)!r})))\n"
        f"np.save({str(out)!r}, found.quantiles)\n"
    )
    rng = random.Random(1)
    for _ in range(3):
        process = subprocess.Popen([sys.executable, "-c", script], stderr=subprocess.DEVNULL)
        deadline, n = time.monotonic() + 60, rng.randint(1, 5) + len(list(store.rglob("*.block")))
        while len(list(store.rglob("*.block"))) < n and process.poll() is None and time.monotonic() < deadline:
            time.sleep(0.01)
        process.send_signal(signal.SIGKILL)
        process.wait()
    subprocess.run([sys.executable, "-c", script], check=True)
    np.testing.assert_array_equal(np.load(out), run_study(garden(), RECIPE).quantiles)


def some_block(n: int, seed: int = 0) -> tuple[NDArray[np.uint64], Block]:
    rng = np.random.default_rng(seed)
    keys = rng.integers(0, 2**63, (n, 2)).astype(np.uint64)
    return keys, Block(
        rng.normal(size=(n, 3)), rng.normal(size=n), rng.normal(size=(n, 3)), rng.normal(size=(n, 2)), ("a", "b")
    )


def test_results_are_found_by_their_keys_in_any_order(tmp_path: Path) -> None:
    store = Store(tmp_path)
    parts = [some_block(5, 1), some_block(4, 2)]
    shelf = store.shelf("mean")
    for keys, block in parts:
        shelf.add(keys, block)
    keys = np.concatenate([one for one, _ in parts])
    order = np.random.default_rng(0).permutation(9)
    found = Results(store.shelf("mean"), keys[order], 2)
    assert not len(found.missing)
    rows = found.rows(2, 8)
    means = np.concatenate([block.mean for _, block in parts])[order]
    np.testing.assert_array_equal(rows.mean, means[2:8])
    assert rows.names == ("a", "b") and rows.parameters.shape == (6, 2)
    assert len(Results(store.shelf("mean"), some_block(3, 9)[0], 2).missing) == 3
    assert len(Results(store.shelf("median"), keys, 2).missing) == 9, "another method's shelf"


def test_a_block_that_goes_while_a_study_runs_is_said(tmp_path: Path) -> None:
    keys, block = some_block(5)
    Store(tmp_path).shelf("mean").add(keys, block)
    found = Results(Store(tmp_path).shelf("mean"), keys, 2)
    for path in tmp_path.rglob("*.block"):
        path.write_bytes(b"gone")
    with pytest.raises(TansyError, match="run it again"):
        found.rows(0, 5)


def test_the_oldest_results_are_swept_and_those_of_this_run_never(tmp_path: Path) -> None:
    shelf = Store(tmp_path).shelf("mean")
    for seed in range(6):
        shelf.add(*some_block(1000, seed))
    paths = sorted(tmp_path.rglob("*.block"))
    for age, path in enumerate(paths):
        os.utime(path, (1e9 - age, 1e9 - age))
    size = paths[0].stat().st_size
    store = Store(tmp_path, most_mb=3.5 * size / 1e6)
    used = Results(store.shelf("mean"), some_block(1000, 0)[0], 2)
    used.touch()
    assert store.sweep() == 3
    left = set(tmp_path.rglob("*.block"))
    by_age = [path for path in reversed(paths) if path not in left]
    assert len(left) == 3 and used.rows(0, 1000).mean.shape == (1000, 3)
    assert by_age == [path for path in reversed(paths) if path in by_age], "the oldest went first"
    assert Store(tmp_path, most_mb=0.0).sweep() == 2, "what was just used stays"


def test_a_store_that_cannot_be_written_to_is_said_in_a_sentence_by_a_run_and_is_nothing_to_a_page(
    tmp_path: Path,
) -> None:
    (tmp_path / "file").write_text("")
    store = Store(tmp_path / "file" / "store")
    with pytest.raises(TansyError, match="cannot be written to"):
        store.shelf("mean").add(*some_block(3))
    np.testing.assert_array_equal(store.array("one", lambda: np.arange(3.0)), [0.0, 1.0, 2.0])


def test_threads_that_keep_the_same_result_do_not_disturb_each_other(tmp_path: Path) -> None:
    store, wanted = Store(tmp_path), np.random.default_rng(0).normal(size=50_000)
    for key in map(str, range(20)):
        for found in run_chunks(lambda _, key=key: store.array(key, lambda: wanted), list(range(8)), 8):
            np.testing.assert_array_equal(found, wanted)
    assert not list(tmp_path.glob("*.part"))
