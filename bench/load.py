"""A CSV of 1,500,000 rows to a loaded portfolio in the database (promised: at most 20 s).

python -m bench.load [--series N]
"""

from __future__ import annotations

import argparse
import os
import tempfile
import time
from pathlib import Path

import numpy as np
import polars as pl


def write(path: Path, n_series: int, n_weeks: int) -> int:
    rng = np.random.default_rng(0)
    product, store = np.divmod(np.arange(n_series), 25)
    rows = rng.permutation(n_series * n_weeks)
    i, t = np.divmod(rows, n_weeks)
    from tansy.engine.timeline import label

    labels = np.array([label(2800 + w, "W") for w in range(n_weeks)])
    table = pl.DataFrame(
        {
            "product": [f"P{p:05d}" for p in product[i]],
            "store": [f"S{s:03d}" for s in store[i]],
            "week": labels[t],
            "units": rng.poisson(8.0, len(rows)),
        }
    )
    table.write_csv(path)
    return table.height


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--series", type=int, default=10_000)
    arguments = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        os.environ.update(TANSY_DATA=name, DJANGO_SETTINGS_MODULE="tansy.server.settings")
        import django

        django.setup()
        from django.contrib.auth.models import User
        from django.core.files.uploadedfile import TemporaryUploadedFile

        from tansy.engine.reading.options import ReadOptions
        from tansy.server.portfolios.services import hand_in, load, preview
        from tansy.server.serving import migrate

        migrate()
        path = Path(name) / "sales.csv"
        n_rows = write(path, arguments.series, 150)
        user = User.objects.create_user("bench")
        size = path.stat().st_size
        began = time.perf_counter()
        with path.open("rb") as file:
            upload = TemporaryUploadedFile("sales.csv", "text/csv", size, None)
            upload.file = file
            upload.size = size
            handed = hand_in(user, upload, [])
        in_hand = time.perf_counter()
        preview(handed, ReadOptions())
        seen = time.perf_counter()
        portfolio = load(handed, ReadOptions(), "Bench", user)
        done = time.perf_counter()
        print(f"{n_rows:,} rows, {size / 1e6:.0f} MB, {portfolio.load.n_series:,} series")
        print(f"hand in {in_hand - began:.1f} s, preview {seen - in_hand:.1f} s, load {done - seen:.1f} s")
        print(f"file to loaded portfolio: {done - began:.1f} s (promised: at most 20 s)")


if __name__ == "__main__":
    main()
