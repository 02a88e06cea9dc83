"""The same study here and on a cluster of worker processes on this machine, with one of them killed at work.

    python -m bench.cluster [--products N] [--stores N] [--workers N]

Says how long fitting took here with as many threads, on the cluster, and on the cluster with a worker that dies; and
whether forecasts, bands and parameters are the same to the bit.
"""

from __future__ import annotations

import argparse
import re
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path

import numpy as np

from bench.many import panel_of, without_learner
from tansy.engine.reading.attributes import default_levels
from tansy.engine.study.defaults import default_recipe
from tansy.engine.study.run import Study, run_study
from tansy.engine.study.steps import Progress


class Processes:
    """A scheduler and its workers, each a process."""

    def __init__(self, folder: Path, address: str) -> None:
        self.address, self._folder = address, folder
        self.workers: list[subprocess.Popen[bytes]] = []

    def add(self) -> None:
        asked = ["worker", self.address, "--nthreads", "1", "--no-dashboard", "--no-nanny", "--death-timeout", "60"]
        self.workers.append(_dask(self._folder, *asked, "--local-directory", str(self._folder)))

    def kill_one(self) -> None:
        """Without a word to it."""
        self.workers.pop(0).kill()


def _dask(folder: Path, *asked: str) -> subprocess.Popen[bytes]:
    with (folder / f"{asked[0]}.log").open("ab") as log:
        return subprocess.Popen([sys.executable, "-m", "dask", *asked], stdout=log, stderr=log)


@contextmanager
def processes(n_workers: int) -> Iterator[Processes]:
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as name:
        folder = Path(name)
        scheduler = _dask(folder, "scheduler", "--host", "127.0.0.1", "--port", "0", "--no-dashboard")
        found = None
        try:
            while found is None:
                assert scheduler.poll() is None, (folder / "scheduler.log").read_text()
                time.sleep(0.1)
                found = re.search(r"tcp://127\.0\.0\.1:\d+", (folder / "scheduler.log").read_text())
            running = Processes(folder, found.group())
            for _ in range(n_workers):
                running.add()
            try:
                yield running
            finally:
                for worker in running.workers:
                    worker.kill()
        finally:
            scheduler.kill()
            scheduler.wait()


def same(a: Study, b: Study) -> bool:
    """Whether what is published, its bands and what was fitted are the same to the bit."""
    return all(
        np.array_equal(getattr(a, name), getattr(b, name), equal_nan=True)
        for name in ("forecast", "base", "quantiles", "tested", "parameters", "chosen_at", "sigma")
    )


def after(done: float, act: threading.Event) -> Progress:
    """Progress that sets an event when so much of the fitting is done."""

    def say(step: str, n: int, of: int) -> None:
        if step == "fit and backtest" and of and n >= done * of:
            act.set()

    return say


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--products", type=int, default=200)
    parser.add_argument("--stores", type=int, default=50)
    parser.add_argument("--workers", type=int, default=2)
    given, _ = parser.parse_known_args()
    of = panel_of(given.products, given.stores)
    recipe = replace(without_learner(default_recipe(of, default_levels(of))), origins=6, step=13)

    def told(name: str, study: Study) -> None:
        fitting, rest = study.seconds["fit and backtest"], sum(study.seconds.values())
        print(
            f"{name:<48}{fitting:8.1f} s of fitting, {rest:6.1f} s in all, {study.tasks.computed:,} tasks", flush=True
        )

    print(f"{of.n_series:,} series, the recipe of bench.many without the learner", flush=True)
    one = run_study(of, recipe, workers=1)
    told("here, one thread", one)
    here = run_study(of, recipe, workers=given.workers)
    told(f"here, {given.workers} threads", here)
    for n in sorted({1, given.workers}):
        with processes(n) as running:
            far = run_study(of, recipe, workers=given.workers, scheduler=running.address)
        told(f"on {n} worker processes of one thread", far)
        print(f"  the same to the bit: {same(here, far)}", flush=True)
    with processes(given.workers + 1) as running:
        reached = threading.Event()

        def kill() -> None:
            reached.wait()
            running.kill_one()

        threading.Thread(target=kill, daemon=True).start()
        far = run_study(of, recipe, workers=given.workers, scheduler=running.address, progress=after(0.3, reached))
    told(f"on {given.workers + 1}, one killed when three tenths were done", far)
    print(f"  killed: {reached.is_set()}; the same to the bit: {same(here, far)}", flush=True)


if __name__ == "__main__":
    main()
