"""How long the Structure screen waits at 42,840 nodes: answers of the server, first and then in the median of five.

    python -m bench.screen [--series N]

Promised: under 500 ms. The portfolio of `bench.chain` is loaded into a folder of its own and run with two plain
methods; answers are timed without the network.
"""

from __future__ import annotations

import argparse
import os
import tempfile
import time
from pathlib import Path
from statistics import median
from typing import Any

from bench.chain import write

SETTINGS = "tansy.server.settings"
RECIPE = """name = "chain"
[structure]
article = ["department", "group"]
store = ["region"]
[methods]
candidates = ["ets(A,N,N)", "mean"]
[backtest]
origins = 3
step = 13
leads = 13
[reconciliation]
method = "variance"
"""
FORMULA = "(department > group > article) * (region > store)"
ROWS = [{"total": "South", "below": "region: R1"}, {"total": "South", "below": "region: R2"}]


def loaded(folder: Path, n_series: int) -> Any:
    """A study that has been run, on the portfolio of a chain."""
    from django.contrib.auth.models import User

    from tansy.engine.reading.history import read_panel
    from tansy.engine.reading.options import ReadOptions
    from tansy.engine.study.recipe import read_recipe
    from tansy.server.portfolios.services import store
    from tansy.server.studies import running, services

    write(folder, n_series)
    user = User.objects.create_user("bench")
    beside = ReadOptions(attribute_files={"articles.csv": "", "stores.csv": ""})
    portfolio = store(read_panel(folder / "sales.csv", beside), "Chain", "sales.csv", "", user)
    study = services.make(portfolio, user, read_recipe(RECIPE))
    running.carry_out(study.run)
    assert study.run.state == "done", study.run.message
    return study


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--series", type=int, default=30_490)
    given, _ = parser.parse_known_args()
    with tempfile.TemporaryDirectory() as folder:
        os.environ |= {"TANSY_DATA": f"{folder}/data", "TANSY_HOSTS": "testserver", "DJANGO_SETTINGS_MODULE": SETTINGS}
        import django

        django.setup()
        from rest_framework.test import APIClient

        from tansy.server.serving import migrate
        from tansy.server.studies import services

        migrate()
        study = loaded(Path(folder), given.series)
        services.forget()
        client = APIClient()
        client.force_authenticate(study.made_by)
        address = f"/api/studies/{study.pk}"
        top = client.get(f"{address}/structure/").json()["top"]
        kin = client.get(f"{address}/nodes/{top}/kin/").json()
        below = kin["children"][-1]["nodes"][0]["node"]
        services.forget()

        def pruned(mean: float, **more: Any) -> dict[str, Any]:
            limits = [{"feature": "mean", "limit": mean}, {"feature": "empty", "limit": 0.5}]
            rule = {"limits": limits, "share": 50.0, "by": "parts", "lump": True}
            return {"formula": FORMULA, "pruning": rule, **more}

        asked: list[tuple[str, str, Any]] = [
            ("the page", "structure/", None),
            ("the total followed (reads and builds the series, the first time)", f"nodes/{top}/kin/", None),
            ("a department followed", f"nodes/{below}/kin/", None),
            ("a structure counted", "structure/", {"formula": FORMULA}),
            ("pruned", "structure/", pruned(2.0)),
            ("pruned over four weeks and quarters too", "structure/", pruned(4.0, time_levels=["4 weeks", "quarter"])),
            ("rows by hand", "structure/", {"rows": ROWS}),
        ]
        for name, path, body in asked:
            took = []
            for _ in range(6):
                began = time.perf_counter()
                where = f"{address}/{path}"
                answer = client.get(where) if body is None else client.post(where, body, format="json")
                took.append(1000.0 * (time.perf_counter() - began))
                assert answer.status_code == 200, answer.content
            print(f"{name:<68}{took[0]:7.0f} ms first, then {median(took[1:]):6.0f} ms", flush=True)


if __name__ == "__main__":
    main()
