"""The demo study over five seeds: seconds per step, memory, error against the seasonal naive, coverage of the bands.

    python -m bench.study [--seeds N] [--centres N]

Each seed runs in a process of its own, so that peak memory is that of one study.
"""

from __future__ import annotations

import argparse
import json
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

FIRST_SEED = 20261


def one(seed: int) -> dict[str, Any]:
    from tansy.demo.generator import generate
    from tansy.engine.reading.attributes import default_levels
    from tansy.engine.reading.history import read_panel
    from tansy.engine.reading.options import ReadOptions
    from tansy.engine.study import export
    from tansy.engine.study.defaults import default_recipe
    from tansy.engine.study.run import run_study

    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        generate(seed).write(folder)
        options = ReadOptions(attribute_files={"products.csv": "", "stores.csv": "", "drivers.csv": ""})
        began, cpu = time.perf_counter(), time.process_time()
        panel = read_panel(folder / "sales.csv", options).panel
        study = run_study(panel, default_recipe(panel, default_levels(panel)))
        seconds, cpu = time.perf_counter() - began, time.process_time() - cpu
        export.write(study, panel, folder / "out")
    return {**export.summary(study), "wall": seconds, "cpu": cpu}


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seeds", type=int, default=5)
    parser.add_argument("--one", type=int, help=argparse.SUPPRESS)
    arguments = parser.parse_args()
    if arguments.one is not None:
        print(json.dumps(one(arguments.one)))
        return
    found = []
    print("seed    series  nodes  wall s  cpu s  fit s  MB    RMSSE  gain %  (all nodes)  in 80 %  in 95 %  gap")
    for seed in range(FIRST_SEED, FIRST_SEED + arguments.seeds):
        command = [sys.executable, "-m", "bench.study", "--one", str(seed)]
        r = json.loads(subprocess.run(command, check=True, capture_output=True, text=True).stdout)
        found.append(r)
        finest, everything, inside = r["published"]["finest"], r["published"]["all nodes"], r["coverage"]["finest"]
        print(
            f"{seed}  {r['series']:6,} {r['nodes']:6,}  {r['wall']:6.1f} {r['cpu']:6.1f} "
            f"{r['seconds']['fit and backtest']:6.1f}  {r['peak_memory_mb']:4.0f}  {finest['RMSSE']:.3f}  "
            f"{finest['gain']:6.1f}  {everything['gain']:11.1f}  {100 * inside['80']:7.1f}  {100 * inside['95']:7.1f}  "
            f"{r['largest_gap']:.0e}",
            flush=True,
        )
    print(f"median wall {statistics.median(r['wall'] for r in found):.1f} s (promised: at most 180 s)")
    print(f"most memory {max(r['peak_memory_mb'] for r in found):.0f} MB (promised: under 2,000 MB)")


if __name__ == "__main__":
    main()
