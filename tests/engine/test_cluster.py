"""A study on a cluster of worker processes: the same bytes as here, also when a worker dies; and stopped as here."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import pytest
from bench.cluster import Processes, after, processes

from tansy.engine.compute.cluster import Cluster
from tansy.engine.errors import Stopped, TansyError
from tansy.engine.study.run import Study, run_study
from tansy.engine.study.store import Store
from tests.engine.test_store import RECIPE, garden, same

OF_ALL = replace(RECIPE, time_levels=("4 weeks",), leads=8, step=4)


@pytest.fixture(scope="module")
def cluster() -> Iterator[Processes]:
    with processes(2) as running:
        yield running


@pytest.fixture(scope="module")
def here() -> Study:
    return run_study(garden(), OF_ALL, workers=2)


def _sleep_or(data: bytes, job: float) -> float:
    time.sleep(job)
    return job + len(data)


def _raise(data: bytes, job: str) -> None:
    raise TansyError(job)


def test_a_study_is_the_same_to_the_bit_and_is_kept_here(cluster: Processes, here: Study, tmp_path: Path) -> None:
    store, said = Store(tmp_path), []
    far = run_study(
        garden(),
        OF_ALL,
        store=store,
        scheduler=cluster.address,
        progress=lambda step, n, of: said.append((step, n, of)),
    )
    assert same(here, far)
    assert far.tasks.computed == here.tasks.computed > 0
    fitted = [(n, of) for step, n, of in said if step == "fit and backtest" and of]
    assert fitted == sorted(fitted) and fitted[-1] == (fitted[0][1], fitted[0][1])
    again = run_study(garden(), OF_ALL, store=store)  # without a cluster, from what was kept
    assert again.tasks.computed == 0 and same(here, again)


def test_what_learns_from_all_series_learns_here(cluster: Processes, tmp_path: Path) -> None:
    store, recipe = Store(tmp_path), replace(RECIPE, methods=("mean", "learner"), origins=1)
    far = run_study(garden(), recipe, store=store, scheduler=cluster.address)
    again = run_study(garden(), recipe, store=store)
    assert far.tasks.seconds["learner"] > 0.0 and again.tasks.computed == 0 and same(far, again)


def test_a_batch_whose_worker_dies_is_given_to_another(cluster: Processes) -> None:
    cluster.add()
    looked = 0

    def look() -> None:
        nonlocal looked
        looked += 1
        if looked == 3:
            cluster.kill_one()

    with Cluster(cluster.address) as there:
        while there._n_workers() < 3:
            time.sleep(0.1)
        jobs = [0.5 + 0.001 * i for i in range(12)]
        found = dict(there.each(_sleep_or, [b"four"], jobs, look))
    assert found == {job: job + 4 for job in jobs}
    assert looked > 3


def test_all_workers_may_die_and_others_come(cluster: Processes, here: Study) -> None:
    reached = threading.Event()

    def replace_all() -> None:
        reached.wait()
        for _ in range(len(cluster.workers)):
            cluster.kill_one()
        cluster.add()
        cluster.add()

    other = threading.Thread(target=replace_all)
    other.start()
    far = run_study(garden(), OF_ALL, scheduler=cluster.address, progress=after(0.3, reached))
    other.join()
    assert same(here, far)


def test_it_stops_when_asked_and_goes_on_from_there(cluster: Processes, here: Study, tmp_path: Path) -> None:
    store, reached = Store(tmp_path), threading.Event()
    with pytest.raises(Stopped):
        run_study(
            garden(), OF_ALL, store=store, scheduler=cluster.address, progress=after(0.5, reached),
            should_stop=reached.is_set,
        )  # fmt: skip
    far = run_study(garden(), OF_ALL, store=store, scheduler=cluster.address)
    assert 0 < far.tasks.computed < here.tasks.computed
    assert same(here, far)


def test_what_fails_there_is_said_here(cluster: Processes, monkeypatch: pytest.MonkeyPatch) -> None:
    with Cluster(cluster.address) as there, pytest.raises(TansyError, match="as it was raised"):
        list(there.each(_raise, [b""], ["as it was raised"], lambda: None))
    monkeypatch.setattr("tansy.engine.study.far.code", lambda: "other")
    with pytest.raises(TansyError, match="another version of Tansy"):
        run_study(garden(), OF_ALL, scheduler=cluster.address)


def test_an_address_without_a_scheduler_is_said(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("tansy.engine.compute.cluster._ANSWERS_WITHIN", 0.5)
    for wrong in ("tcp://127.0.0.1:9", "nonsense"):
        with pytest.raises(TansyError, match="No scheduler answers at"):
            Cluster(wrong)


def test_without_workers_it_ends_in_words(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("tansy.engine.compute.cluster._WORKERS_WITHIN", 0.5)
    with processes(0) as none, pytest.raises(TansyError, match="No worker is left"):
        run_study(garden(), OF_ALL, scheduler=none.address)
