"""The example study from end to end: data, load, study, release, and a short summary."""

from __future__ import annotations

import json
import os
import shutil
import sys
import time
from pathlib import Path
from typing import Any

from tansy.engine.adjust.adjustment import Adjustment
from tansy.server.backup import check_start
from tansy.server.data_folder import data_folder, database

USER, PASSWORD = "demo", "hollowmere"
BEYOND_DOUBT = 7.0  # standard deviations
PORTFOLIO = "Hollowmere Garden Centres"


_JUDGEMENT = (
    Adjustment({"group": "Wreaths"}, "2026-W46", "2026-W50", "percent", 15.0, reason="Christmas market in town"),
    Adjustment({"group": "Pansies", "region": "Downs"}, "2026-W44", "2026-W47", "percent", -10.0, reason="roadworks"),
    Adjustment({"group": "Bird feed"}, "2026-W44", "2026-W49", "add", 400.0, over="sum", reason="cold spell expected"),
)
"""What a planner of the demo believes to know; made up before anything came of it."""


def prepare(*, reset: bool, port: int) -> None:
    """Bring the demo to where it has a published release; what is there already is kept."""
    folder = data_folder("demo")
    os.environ["TANSY_DATA"] = str(folder)
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "tansy.server.settings")
    if reset and folder.exists():
        if not (folder / "demo.json").exists() and any(folder.iterdir()):
            raise SystemExit(f"{folder} was not made by the demo, so it is not cleared.")
        shutil.rmtree(folder)
    import django

    check_start(folder, database(folder))
    django.setup()
    _prepare(port)


def _say(text: str) -> None:
    print(text, file=sys.stderr, flush=True)


def _prepare(port: int) -> None:
    from django.conf import settings
    from django.contrib.auth.models import User

    from tansy.demo.generator import generate
    from tansy.engine.reading.history import read_panel
    from tansy.engine.reading.options import ReadOptions
    from tansy.server.portfolios.models import Portfolio
    from tansy.server.portfolios.services import store
    from tansy.server.releases.models import Release
    from tansy.server.releases.services import publish
    from tansy.server.serving import migrate
    from tansy.server.studies import adjustments, services
    from tansy.server.studies.models import Result

    migrate()
    settings.DEMO_MARK.write_text(json.dumps({"username": USER, "password": PASSWORD}))
    user = User.objects.filter(username=USER).first() or User.objects.create_user(
        USER, password=PASSWORD, is_staff=True
    )
    kept = settings.DATA / "seconds.json"
    seconds: dict[str, float] = json.loads(kept.read_text()) if kept.exists() else {}
    files = settings.DATA / "files"
    if not (files / "sales.csv").exists():
        _say("making the data of Hollowmere Garden Centres ...")
        began = time.perf_counter()
        generate().write(files)
        seconds["make data"] = time.perf_counter() - began
    portfolio = Portfolio.objects.filter(name=PORTFOLIO).first()
    if portfolio is None:
        _say("loading sales.csv ...")
        began = time.perf_counter()
        options = ReadOptions(
            file="sales.csv", attribute_files={"products.csv": "", "stores.csv": "", "drivers.csv": ""}
        )
        reading = read_panel(files / "sales.csv", options)
        portfolio = store(reading, PORTFOLIO, "sales.csv", _sha256(files / "sales.csv"), user)
        seconds["load"] = time.perf_counter() - began
        _say("looking for suspicious values ...")
        began = time.perf_counter()
        _correct(portfolio.load, user)
        seconds["find suspicious"] = time.perf_counter() - began
    if not Release.objects.filter(portfolio=portfolio).exists():
        study = portfolio.studies.first() or services.make(portfolio, user)
        _say("running the example study ...")
        seconds.update(_run(study))
        began = time.perf_counter()
        if not portfolio.adjustments.exists():
            for one in _JUDGEMENT:
                adjustments.keep(study, user, [one])
        publish(study, user, "first release of the demo")
        seconds["publish"] = time.perf_counter() - began
    if Release.objects.filter(portfolio=portfolio).count() == 1:
        _say("four weeks later: loading sales-update.csv, running the study again ...")
        began = time.perf_counter()
        if portfolio.loads.count() == 1:
            _four_weeks_later(portfolio, files / "sales-update.csv", user)
        first = Release.objects.get(portfolio=portfolio).study
        later = portfolio.studies.exclude(pk=first.pk).first() or services.again(first, user)
        _run(later)
        for row in list(adjustments.rows_of(portfolio)):
            outcome = adjustments.adjusted(later).outcomes[row.pk]
            if outcome.problem and not outcome.past:
                adjustments.decide_again(row, later, user)
        publish(later, user, "four weeks later")
        seconds["four weeks later"] = time.perf_counter() - began
    kept.write_text(json.dumps(seconds))
    release = Release.objects.filter(portfolio=portfolio).order_by("number").first()
    assert release is not None
    print(
        _summary(Result.objects.get(study=release.study).summary, release.number, settings.DATA, port),
        flush=True,
    )


def _run(study: Any) -> dict[str, float]:
    """Run a study that has not ended yet; returns its seconds by step."""
    from tansy.server.studies import running, services
    from tansy.server.studies.models import Result, Run

    began = time.perf_counter()
    if not Result.objects.filter(study=study).exists():
        run = study.run
        if not run.is_open:
            run = services.enqueue(study)
        running.carry_out(run)
        run.refresh_from_db()
        if run.state != Run.State.DONE:
            raise SystemExit(f"The example study did not end well: {run.message}")
    found: dict[str, float] = Result.objects.get(study=study).summary["seconds"]
    return {**found, "save": max(0.0, time.perf_counter() - began - sum(found.values()))}


def _four_weeks_later(portfolio: Any, path: Path, user: Any) -> None:
    """Later actuals put to the history, and what is beyond doubt corrected, as a planner would each month."""
    from tansy.engine.reading.append import append, later_options
    from tansy.engine.reading.history import read_panel
    from tansy.engine.reading.options import ReadOptions
    from tansy.server.portfolios.services import store_load

    before = portfolio.load
    columns = path.read_text().splitlines()[0].split(",")
    reading = read_panel(path, later_options(ReadOptions.from_mapping(before.options), columns))
    panel, summary = append(before.panel(), reading.panel, reading.has_row, reading.options.gaps)
    made = store_load(portfolio, reading, panel, path.name, _sha256(path), user, summary)
    _correct(made, user)


def _correct(load: Any, user: Any) -> None:
    """Accept what is beyond doubt, as a planner would; the rest is left open for whoever looks at the demo."""
    from tansy.engine.cleaning.rules import RULES, Rules
    from tansy.server.portfolios import corrections as ledger

    kept = ledger.search(load, Rules(), user)
    found = ledger.suspicions(kept)
    done = ledger.standing(load)
    corrected = set(zip(done.series.tolist(), done.period.tolist(), strict=True))

    def is_open(k: int) -> bool:
        periods = range(int(found.start[k]), int(found.start[k]) + int(found.length[k]))
        return not any((int(found.series[k]), t) in corrected for t in periods)

    for rule, reason in (("spike", "till error"), ("zero-run", "sold out")):
        sure = (found.rule == RULES.index(rule)) & (found.score >= BEYOND_DOUBT)
        chosen = [k for k in sure.nonzero()[0].tolist() if is_open(k)]
        if chosen:
            ledger.accept(kept, ledger.Choice(chosen, "expected", None, reason), user)


def _sha256(path: Path) -> str:
    import hashlib

    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def _summary(summary: dict[str, Any], release: int, data: Path, port: int) -> str:
    kept = data / "seconds.json"
    seconds = json.loads(kept.read_text()) if kept.exists() else summary["seconds"]
    finest, everything = summary["published"]["finest"], summary["published"]["all nodes"]
    coverage = ", ".join(
        f"{100 * share:.1f} % in the {level} % band" for level, share in summary["coverage"]["finest"].items()
    )
    steps = ", ".join(f"{step} {value:.1f}" for step, value in seconds.items())
    return "\n".join(
        [
            "",
            PORTFOLIO,
            f"  series      {summary['series']:,} on {summary['nodes']:,} nodes of {summary['levels']} levels",
            f"  history     {summary['periods']} weeks, {summary['first']} to {summary['last']}",
            f"  backtest    {len(summary['origins'])} origins of {summary['leads']} weeks",
            f"  error       RMSSE {finest['RMSSE']:.3f} per series, {finest['gain']:.1f} % below the seasonal naive"
            f" (all nodes: {everything['gain']:.1f} %)",
            f"  bands       {coverage} (of the series' actuals)",
            f"  seconds     {steps}",
            f"  memory      {summary['peak_memory_mb']:.0f} MB at most while the study ran",
            f"  release     R{release}, largest gap {summary['largest_gap']:.0e}",
            f"  sign in     {USER} / {PASSWORD}",
            f"  address     http://127.0.0.1:{port}",
            "",
        ]
    )
