"""A study again: with other bands, one more method, four more weeks, beside a run from scratch; and forty kills.

    python -m bench.again [--kills N]

Promised for the demo: other bands under 3 s, four more weeks at most 30 % of a run from scratch and equal to the bit,
the result the same after any number of kills.
"""

from __future__ import annotations

import argparse
import pickle
import random
import subprocess
import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path

import numpy as np

ARRAYS = ("forecast", "quantiles", "tested", "tested_quantiles", "method_scores", "parameters", "chosen_at")


def demo():
    """The demo's panel with its four later weeks."""
    from tansy.demo.generator import generate
    from tansy.engine.reading.history import read_panel
    from tansy.engine.reading.options import ReadOptions

    with tempfile.TemporaryDirectory() as name:
        generate(20261).write(Path(name))
        options = ReadOptions(attribute_files={"products.csv": "", "stores.csv": "", "drivers.csv": ""})
        return read_panel(Path(name) / "sales.csv", options).panel


def main() -> None:
    from tansy.engine.reading.attributes import default_levels
    from tansy.engine.study.defaults import default_recipe
    from tansy.engine.study.run import run_study
    from tansy.engine.study.store import Store

    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--kills", type=int, default=40)
    kills = parser.parse_known_args()[0].kills
    whole = demo()
    past = whole.until(whole.timeline.n_periods - 4, 17)
    recipe = default_recipe(past, default_levels(past))
    with tempfile.TemporaryDirectory() as folder:

        def run(what, panel, recipe, keep=True):
            began, cpu = time.perf_counter(), time.process_time()
            study = run_study(panel, recipe, store=Store(Path(folder) / "store") if keep else None)
            wall, cpu = time.perf_counter() - began, time.process_time() - cpu
            print(
                f"  {what:16} {wall:6.1f} s, {cpu:6.1f} s of processor; {study.tasks.computed:5,} tasks computed, "
                f"{study.tasks.reused:5,} used again; {study.peak_memory_mb:.0f} MB",
                flush=True,
            )
            return study, cpu

        run("from scratch", past, recipe)
        for level in (90.0, 85.0, 75.0):
            run("other bands", past, replace(recipe, levels=(level,)))
        run("one more method", past, replace(recipe, methods=(*recipe.methods, "theta")))
        later, cpu = run("four weeks on", whole, recipe)
        scratch, all_cpu = run("from scratch", whole, recipe, keep=False)
        print(f"  four weeks: {100 * cpu / all_cpu:.0f} % of a run from scratch; {said(later, scratch)}")
        if kills:
            killed(Path(folder), past, recipe, kills, run_study(past, recipe, store=Store(Path(folder) / "store")))


def said(a, b) -> str:
    equal = all(np.array_equal(getattr(a, name), getattr(b, name), equal_nan=True) for name in ARRAYS)
    return "the same to the bit" if equal else "NOT THE SAME"


def killed(folder: Path, panel, recipe, kills: int, whole) -> None:
    """Kill a run at random moments, let it go on, and hold the end against a run that was let alone."""
    (folder / "given.pickle").write_bytes(pickle.dumps((panel, recipe)))
    script = (
        "import pickle; from pathlib import Path\n"
        "from tansy.engine.study.run import run_study; from tansy.engine.study.store import Store\n"
        f"folder = Path({str(folder)!r}); panel, recipe = pickle.loads((folder / 'given.pickle').read_bytes())\n"
        "found = run_study(panel, recipe, store=Store(folder / 'killed'))\n"
        "(folder / 'found.pickle').write_bytes(pickle.dumps(found))\n"
    )
    rng = random.Random(7)
    for _ in range(kills):
        process = subprocess.Popen([sys.executable, "-c", script])
        time.sleep(rng.uniform(1.0, 6.0))
        process.kill()
        process.wait()
    n_blocks = len(list((folder / "killed").rglob("*.block")))
    subprocess.run([sys.executable, "-c", script], check=True)
    found = pickle.loads((folder / "found.pickle").read_bytes())
    print(f"  {kills} kills, {n_blocks} blocks kept by then: {said(found, whole)}")


if __name__ == "__main__":
    main()
