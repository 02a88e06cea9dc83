"""5 million long rows of CSV: to findings (promised: 10 s), to a loaded portfolio (40 s), with at most 4 GB.

python -m bench.reading [--rows N --runs N]
"""

from __future__ import annotations

import argparse
import os
import subprocess
import sys
import tempfile
from pathlib import Path

from bench.load import write

_PROBE = """
import os, sys, time
from pathlib import Path
import django
django.setup()
from django.contrib.auth.models import User
from tansy.engine.reading.history import read_panel
from tansy.engine.reading.options import ReadOptions
from tansy.engine.study.run import peak_memory_mb
from tansy.server.portfolios.services import store
from tansy.server.serving import migrate
migrate()
user = User.objects.create_user("bench")
began = time.perf_counter()
reading = read_panel(Path(sys.argv[1]), ReadOptions())
found = time.perf_counter() - began
store(reading, "bench", "sales.csv", "", user)
loaded = time.perf_counter() - began
print(f"{reading.n_rows:,} rows, {reading.panel.n_series:,} series: findings {found:.1f} s (promised 10), "
      f"loaded {loaded:.1f} s (promised 40), at most {peak_memory_mb():,.0f} MB (promised 4,000)")
"""


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rows", type=int, default=5_000_000)
    parser.add_argument("--runs", type=int, default=3)
    arguments, _ = parser.parse_known_args()
    with tempfile.TemporaryDirectory() as name:
        path = Path(name) / "sales.csv"
        write(path, arguments.rows // 156, 156)
        print(f"{path.stat().st_size / 1e6:,.0f} MB of CSV")
        for run in range(arguments.runs):  # a process each, so that the peak is its own
            data = Path(name) / f"data{run}"
            env = {**os.environ, "TANSY_DATA": str(data), "DJANGO_SETTINGS_MODULE": "tansy.server.settings"}
            subprocess.run([sys.executable, "-c", _PROBE, str(path)], env=env, check=True)


if __name__ == "__main__":
    main()
