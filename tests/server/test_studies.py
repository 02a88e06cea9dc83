"""Runs and results: resumable, all-or-nothing, and the same numbers as the command line."""

from __future__ import annotations

import gzip
import json
import os
import signal
import subprocess
import sys
import time
from dataclasses import replace
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import numpy as np
import polars as pl
import pytest
from django.conf import settings
from django.contrib.auth.models import User
from django.core.management import call_command
from django.db import OperationalError, connection
from django_tasks_db.models import DBTaskResult
from rest_framework.test import APIClient

from tansy.engine.methods.drives import Drives
from tansy.engine.study.export import forecasts
from tansy.engine.study.run import run_study
from tansy.server.accounts import trail
from tansy.server.management.commands.worker import take_up_again
from tansy.server.releases.models import Release
from tansy.server.studies import choice_api, running, services
from tansy.server.studies.models import Node, Result, Run, Study, pack, unpack
from tests.garden import DRIVERS, PRODUCTS, RECIPE, SALES
from tests.server.conftest import hand_in


@pytest.fixture
def study(client: APIClient, portfolio: dict[str, Any]) -> Study:
    answer = client.post(f"/api/portfolios/{portfolio['id']}/studies/", {"recipe": RECIPE}, format="json")
    assert answer.status_code == 201, answer.content
    return Study.objects.get()


@pytest.fixture
def done(study: Study) -> Study:
    running.carry_out(study.run)
    assert study.run.state == "done", study.run.message
    return study


def test_a_study_is_queued_with_its_run(study: Study) -> None:
    assert study.run.state == "queued" and DBTaskResult.objects.count() == 1
    assert study.recipe.methods[0] == "seasonal-naive"


@pytest.mark.parametrize(("right", "wrong"), [("origins = 3", "origins = 0"), ('"mean"', '"meen"')])
def test_a_wrong_recipe_is_refused_before_anything_is_stored(
    client: APIClient, portfolio: dict[str, Any], right: str, wrong: str
) -> None:
    recipe = RECIPE.replace(right, wrong)
    answer = client.post(f"/api/portfolios/{portfolio['id']}/studies/", {"recipe": recipe}, format="json")
    assert answer.status_code == 422 and not Study.objects.exists()


def test_a_level_that_the_data_lacks_fails_the_run_in_words(client: APIClient, portfolio: dict[str, Any]) -> None:
    recipe = RECIPE.replace('["group"]', '["colour"]')
    client.post(f"/api/portfolios/{portfolio['id']}/studies/", {"recipe": recipe}, format="json")
    running.carry_out(Study.objects.get().run)
    run = Study.objects.get().run
    assert run.state == "failed" and "no attribute 'colour'" in run.message


def test_results_are_those_of_the_engine(client: APIClient, done: Study) -> None:
    found = run_study(done.load.panel(), done.recipe)
    node = Node.objects.get(study=done, position=0)
    np.testing.assert_array_equal(unpack(node.layers), found.forecast[0])
    page = client.get(f"/api/studies/{done.pk}/nodes/0/").json()
    np.testing.assert_allclose(page["forecast"], found.forecast[0], atol=1e-4)
    assert page["method"] == found.methods[found.chosen[0]]
    assert [band["level"] for band in page["bands"]] == [95, 80, 50]
    assert len(page["origins"]) == 3 and len(page["scores"]) == 4
    assert page["trail"][0][0]["name"] == "every product"
    sheet = json.loads(gzip.decompress(bytes(Result.objects.get().sheet)))
    assert len(sheet["node"]) == found.graph.n_nodes and sheet["rows"][1]["name"] == "Ferns"
    summary = client.get(f"/api/studies/{done.pk}/summary/").json()
    assert summary["largest_gap"] == 0 and summary["n_nodes"] == found.graph.n_nodes


def test_the_recipe_of_a_study_gives_the_same_numbers_on_the_command_line(
    client: APIClient, done: Study, tmp_path: Path
) -> None:
    (tmp_path / "sales.csv").write_text(SALES)
    (tmp_path / "products.csv").write_text(PRODUCTS)
    (tmp_path / "study.toml").write_bytes(client.get(f"/api/studies/{done.pk}/recipe/").content)
    subprocess.run(
        [sys.executable, "-m", "tansy.cli", "run", tmp_path / "study.toml", "--out", tmp_path / "out"],
        check=True, capture_output=True,
    )  # fmt: skip
    screen = as_table(done)
    assert pl.read_parquet(tmp_path / "out" / "forecasts.parquet").equals(screen)


def as_table(study: Study) -> pl.DataFrame:
    """What a release of the study would hold."""
    found = services.forecast_of(study)
    assert found is not None
    return forecasts(found)


def blocks() -> list[Path]:
    return list((settings.DATA / "store").glob("*/*.block"))


def stop_early(monkeypatch: Any, study: Study) -> None:
    """Run it, and stop it when the first results are there."""
    monkeypatch.setattr("tansy.engine.study.tasks.BLOCK", 8)
    monkeypatch.setattr(running.Reporter, "should_stop", lambda self: bool(blocks()))
    running.carry_out(study.run)
    monkeypatch.undo()
    assert study.run.state == "stopped" and not Result.objects.exists() and not Node.objects.exists()


def test_a_stopped_run_keeps_what_was_fitted_and_goes_on(client: APIClient, study: Study, monkeypatch: Any) -> None:
    stop_early(monkeypatch, study)
    kept = len(blocks())
    assert kept
    monkeypatch.setattr("tansy.engine.study.tasks.BLOCK", 8)
    assert client.post(f"/api/studies/{study.pk}/run/").status_code == 200
    running.carry_out(study.run)
    assert study.run.state == "done" and Result.objects.count() == 1
    tasks = Result.objects.get().summary["tasks"]
    # nodes of the same series are fitted once, so that a task may be there of which no block was written
    assert tasks["reused"] >= kept and tasks["computed"] >= len(blocks()) - kept
    assert client.post(f"/api/studies/{study.pk}/run/").status_code == 409
    again = services.make(study.portfolio, study.made_by, replace(study.recipe, levels=(90.0,)))
    running.carry_out(again.run)
    assert Result.objects.get(study=again).summary["tasks"]["computed"] == 0, "other bands refit nothing"


def test_a_wish_to_stop_that_comes_in_while_a_run_begins_is_heard(study: Study) -> None:
    stale = study.run
    Run.objects.update(stop_requested=True)
    assert stale.begin()
    assert running.Reporter(stale).should_stop()


def test_a_wish_to_stop_from_a_row_read_before_does_not_stop_what_has_begun(study: Study) -> None:
    """The page was read while the run was queued; it has begun since, and goes on until it hears the wish."""
    read_before = study.run
    assert study.run.begin()
    read_before.ask_to_stop()
    assert study.run.state == "running" and study.run.stop_requested
    done = study.run
    assert done.end(Run.State.DONE)
    assert not done.end(Run.State.STOPPED, "too late") and study.run.state == "done"
    assert not done.begin() and study.run.state == "done", "what has ended is not taken up"


def test_a_worker_that_is_told_to_end_leaves_the_run_in_the_queue_without_an_attempt(
    study: Study, monkeypatch: Any
) -> None:
    for _ in range(5):
        monkeypatch.setattr(running, "worker_is_ending", lambda: True)
        running.carry_out(study.run)
        assert (study.run.state, study.run.attempts) == ("queued", 0)
        assert take_up_again() == 1
    monkeypatch.undo()
    running.carry_out(study.run)
    assert study.run.state == "done" and study.run.attempts == 1


def test_a_run_that_claims_to_be_open_and_has_no_task_goes_back_to_the_queue(study: Study) -> None:
    study.run.begin()
    DBTaskResult.objects.update(status="FAILED")
    assert take_up_again() == 1
    assert study.run.state == "queued" and DBTaskResult.objects.filter(status="READY").count() == 1
    assert take_up_again() == 1, "and once only, however often a worker is started"
    assert DBTaskResult.objects.filter(status="READY").count() == 1


def test_a_block_cut_short_is_computed_again(study: Study, monkeypatch: Any) -> None:
    stop_early(monkeypatch, study)
    for i, kept in enumerate(blocks()):
        whole = kept.read_bytes()
        kept.write_bytes(whole[: len(whole) // 2] if i % 2 == 0 else b"")
    services.enqueue(study)
    running.carry_out(study.run)
    assert study.run.state == "done", study.run.message
    assert Result.objects.get().summary["tasks"]["reused"] == 0


@pytest.mark.parametrize(
    ("error", "says"),
    [(OSError(28, "No space left on device"), "disk is full"), (MemoryError(), "not enough memory"),
     (OSError(12, "Cannot allocate memory"), "not enough memory"),
     (RuntimeError("can't start new thread"), "not enough memory"),
     (OperationalError("database is locked"), "Something large"),
     (PermissionError(13, "denied"), "cannot be written to"), (ZeroDivisionError("x"), "not your doing")],
)  # fmt: skip
def test_what_the_machine_lacks_is_said_in_a_sentence(
    client: APIClient, study: Study, monkeypatch: Any, error: Exception, says: str
) -> None:
    def fails(*a: Any, **more: Any) -> None:
        raise error

    monkeypatch.setattr(running, "run_study", fails)
    with pytest.raises(type(error)):
        running.carry_out(study.run)
    assert study.run.state == "failed" and says in study.run.message and repr(error) not in study.run.message
    monkeypatch.setattr("tansy.server.studies.results_api.result_of", fails)
    answer = client.get(f"/api/studies/{study.pk}/summary/")
    assert answer.status_code >= 500 and says in answer.json()["detail"]
    assert answer["Content-Type"] == "application/problem+json"


def test_what_was_kept_does_not_count_as_speed(study: Study, monkeypatch: Any) -> None:
    """Of 300 nodes 200 were kept; 10 more in 5 seconds leave 90, which take 45."""
    study.run.begin()
    now = iter([0.0, 2.0, 7.0])
    monkeypatch.setattr(running, "time", SimpleNamespace(monotonic=lambda: next(now)))
    reporter = running.Reporter(study.run)
    for done, of in ((0, 0), (200, 300), (210, 300)):
        reporter("fit and backtest", done, of)
    assert (study.run.done, study.run.of, study.run.seconds_left) == (210, 300, 45.0)


def test_a_study_that_cannot_be_saved_leaves_no_half_of_it(study: Study, monkeypatch: Any) -> None:
    monkeypatch.setattr(running, "trails", lambda graph: [])
    with pytest.raises(IndexError):
        running.carry_out(study.run)
    assert study.run.state == "failed" and "not your doing" in study.run.message
    assert not Result.objects.exists() and not Node.objects.exists()


@pytest.fixture
def no_trail(monkeypatch: Any) -> None:
    """The database of a test that writes for real is emptied after it, which a trail refuses."""
    monkeypatch.setattr(trail, "_write", lambda request, response: None)


@pytest.mark.usefixtures("no_trail")
@pytest.mark.django_db(transaction=True)
def test_a_killed_worker_leaves_nothing_half_written_and_the_run_is_taken_up(
    client: APIClient, study: Study, data_folder: Path
) -> None:
    """A real worker process on this database, killed with SIGKILL while it fits."""
    env = {**os.environ, "TANSY_DATA": str(data_folder), "TANSY_DATABASE": str(connection.settings_dict["NAME"])}
    slow = (
        "import django, time; django.setup()\n"
        "from tansy.engine.study import tasks\n"
        "fit = tasks.fit_task\n"
        "tasks.fit_task = lambda *a, **more: (time.sleep(0.2), fit(*a, **more))[1]\n"
        "from django.core.management import call_command; call_command('worker')\n"
    )
    command = [sys.executable, "-c", slow]
    worker = subprocess.Popen(command, env=env)
    deadline = time.monotonic() + 180
    while not blocks():
        assert time.monotonic() < deadline and worker.poll() is None
        time.sleep(0.05)
    worker.send_signal(signal.SIGKILL)
    worker.wait()
    assert study.run.state == "running" and not Result.objects.exists() and not Node.objects.exists()
    again = subprocess.Popen(command, env=env)
    try:
        while study.run.state != "done":
            assert time.monotonic() < deadline and again.poll() is None
            time.sleep(0.1)
    finally:
        again.terminate()
        again.wait()
    assert study.run.attempts == 2
    assert Node.objects.filter(study=study).count() == Result.objects.get().summary["nodes"]


def test_a_run_that_killed_its_worker_three_times_is_given_up(study: Study) -> None:
    Run.objects.update(state="running", attempts=3)
    DBTaskResult.objects.update(status="RUNNING")
    assert take_up_again() == 0
    assert study.run.state == "failed" and "3 times" in study.run.message
    running.carry_out(study.run)
    assert not Result.objects.exists()


def test_publishing_checks_numbers_and_freezes(client: APIClient, done: Study, user: User) -> None:
    draft = client.get(f"/api/studies/{done.pk}/draft/").json()
    assert draft["holds"] and [c["name"] for c in draft["checks"]] == [
        "adds up", "no negatives", "bands ordered and plausible", "every series covered",
        "every adjustment decided",
    ]  # fmt: skip
    answer = client.post(f"/api/studies/{done.pk}/publish/", {"note": "first"}, format="json")
    assert answer.status_code == 201 and answer.json()["number"] == 1
    assert client.post(f"/api/studies/{done.pk}/publish/", {}, format="json").status_code == 409
    release = Release.objects.get()
    with pytest.raises(TypeError, match="frozen"):
        release.save()
    with pytest.raises(TypeError, match="frozen"):
        Release.objects.update(note="changed")
    parquet = pl.read_parquet(client.get(f"/api/releases/{release.pk}/parquet/").content)
    csv = pl.read_csv(client.get(f"/api/releases/{release.pk}/csv/").content)
    assert csv.columns == parquet.columns and csv.height == parquet.height == draft["n_nodes"] * 6
    graph = run_study(done.load.panel(), done.recipe).graph
    published = parquet["forecast"].to_numpy().reshape(graph.n_nodes, 6)
    assert graph.summation.largest_gap(published) <= 1e-9


def test_a_forecast_that_does_not_add_up_is_not_published(client: APIClient, done: Study) -> None:
    top = Node.objects.get(study=done, position=0)
    Node.objects.filter(pk=top.pk).update(layers=pack(unpack(top.layers) + np.eye(1, 6)[0]))
    answer = client.post(f"/api/studies/{done.pk}/publish/", {}, format="json")
    assert answer.status_code == 422 and "adds up" in answer.json()["detail"]
    assert not Release.objects.exists()


def test_a_machine_reads_a_release_with_its_token(client: APIClient, done: Study) -> None:
    client.post(f"/api/studies/{done.pk}/publish/", {}, format="json")
    release = Release.objects.get()
    made = client.post("/api/tokens/", {"name": "warehouse"}, format="json").json()
    machine = APIClient()
    assert machine.get(f"/api/releases/{release.pk}/rows/").status_code == 401
    machine.credentials(HTTP_AUTHORIZATION=f"Bearer {made['token']}")
    rows = machine.get(f"/api/releases/{release.pk}/rows/?product=P1&store=S0").json()
    assert rows["count"] == 6 and rows["rows"][0]["lead"] == 1 and rows["rows"][0]["forecast"] >= 0
    wrong = machine.get(f"/api/releases/{release.pk}/rows/?colour=red")
    assert wrong.status_code == 422 and "no column 'colour'" in wrong.json()["detail"]
    client.delete(f"/api/tokens/{made['id']}/")
    assert machine.get(f"/api/releases/{release.pk}/rows/").status_code == 401


def test_one_worker_per_data_folder(data_folder: Path, db: None) -> None:
    import fcntl

    from django.core.management.base import CommandError

    with (data_folder / "worker.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        with pytest.raises(CommandError, match="Another worker"):
            call_command("worker")


def test_the_demo_sign_in_is_shown_in_demo_mode_only(client: APIClient, data_folder: Path, user: User) -> None:
    anyone = APIClient()
    stranger = {"user": None, "administrator": False, "demo": None}
    provider = {"elsewhere": "", "password": False, "connects": False, "refused": ""}
    assert anyone.get("/api/session/").json() == stranger | provider
    (data_folder / "demo.json").write_text('{"username": "demo", "password": "x"}')
    assert anyone.get("/api/session/").json()["demo"]["username"] == "demo"
    wrong = anyone.post("/api/session/", {"username": "ines", "password": "no"}, format="json")
    assert wrong.status_code in (401, 403) and "do not belong together" in wrong.json()["detail"]
    assert (
        anyone.post("/api/session/", {"username": "ines", "password": "quiet-garden"}, format="json").json()["user"]
        == "ines"
    )


def test_screen_and_command_line_give_the_same_bytes_with_drivers(client: APIClient, tmp_path: Path) -> None:
    """On one thread and on two, with drivers, pooled effects and rules that correct."""
    recipe = RECIPE.replace(
        '"arima(1,0,0) + harmonics(1)"',
        '"arima(1,0,1) + x(log price, promotion)", "ets(A,N,N) + pooled(log price, promotion)", '
        '"boxcox(0.5) arima(1,0,1) + harmonics(3) + x(log price, promotion)"',
    )
    upload = hand_in(client, SALES, ("products.csv", PRODUCTS), ("drivers.csv", DRIVERS)).json()
    loaded = client.post(f"/api/uploads/{upload['id']}/load/", {"name": "Garden", "options": {}}, format="json")
    client.post(f"/api/portfolios/{loaded.json()['id']}/studies/", {"recipe": recipe}, format="json")
    study = Study.objects.get()
    running.carry_out(study.run)
    assert study.run.state == "done", study.run.message
    assert {"arima(1,0,1) + x(log price, promotion)", "ets(A,N,N) + pooled(log price, promotion)"} <= set(
        study.result.methods
    )
    for name, text in (("sales.csv", SALES), ("products.csv", PRODUCTS), ("drivers.csv", DRIVERS)):
        (tmp_path / name).write_text(text)
    data = '[data]\nfile = "sales.csv"\ndriver_files = ["drivers.csv"]\n'
    (tmp_path / "recipe.toml").write_text(f'{recipe}\n{data}[data.attribute_files]\n"products.csv" = "product"\n')
    screen = as_table(study)
    for threads in (1, 2):
        out = tmp_path / f"out-{threads}"
        cores = sorted(os.sched_getaffinity(0))[:threads]
        code = f"import os; os.sched_setaffinity(0, {cores}); from tansy.cli import app; app()"
        command = [sys.executable, "-c", code, "run", str(tmp_path / "recipe.toml"), "--out", str(out)]
        subprocess.run(command, check=True, capture_output=True)
        own = pl.read_parquet(out / "forecasts.parquet")
        assert own.columns == screen.columns and own.height == screen.height > 0
        for name in own.columns:
            if own[name].dtype == pl.Float64:
                assert own[name].to_numpy().tobytes() == screen[name].to_numpy().tobytes(), name
            else:
                assert own[name].equals(screen[name]), name


def test_another_choice_is_tried_and_kept_as_a_study_of_its_own(client: APIClient, done: Study) -> None:
    url = f"/api/studies/{done.pk}/choice/"
    as_run = client.get(url).json()
    assert as_run["as_run"]["measure"] == "squared"
    assert all(level["n_changed"] == 0 and level["rmsse"] == level["rmsse_as_run"] for level in as_run["levels"])
    assert sum(level["n_nodes"] for level in as_run["levels"]) == done.nodes.count()
    rule = {"fallback": "seasonal-naive", "margin": 10, "own": 99, "measure": "absolute"}
    tried = client.get(url, rule).json()
    own = {one["method"]: one for one in tried["methods"]}["seasonal-naive"]
    assert own["n_nodes"] > own["n_as_run"]
    assert sum(level["n_changed"] for level in tried["levels"]) > 0
    for wrong, says in (({"margin": -1}, "margin"), ({"fallback": "theta(2)"}, "theta"), ({"fallback": "tsb"}, "tsb")):
        answer = client.get(url, wrong)
        assert answer.status_code in (400, 422) and says in answer.content.decode()
    answer = client.post(url, rule, format="json")
    assert answer.status_code == 201, answer.content
    refused = client.post(url, {"fallback": "theta"}, format="json")
    assert refused.status_code == 400 and "not a method of this study" in refused.content.decode()
    other = Study.objects.get(pk=answer.json()["id"])
    running.carry_out(other.run)
    assert other.recipe.choice.measure == "absolute" and other.recipe.fallback[0] == "seasonal-naive"
    result = Result.objects.get(study=other)
    assert result.tasks_computed == 0, "nothing is fitted anew"
    chosen = [result.methods[j] for j in other.nodes.exclude(chosen=-1).values_list("chosen", flat=True)]
    promised = {one["method"]: one["n_nodes"] for one in tried["methods"] if one["n_nodes"]}
    assert {name: chosen.count(name) for name in set(chosen)} == promised
    Result.objects.filter(study=done).update(evidence=b"")
    choice_api._evidence_of.cache_clear()
    choice_api._had.cache_clear()
    old = client.get(url)
    assert old.status_code == 409 and "run it again" in old.json()["detail"]


def test_what_a_learner_goes_by_is_told_with_what_matters_most_first() -> None:
    effects = np.array([[0.0, -10.0, 21.5], [0.0, 0.0, 0.0], [1.0, 1.0, -8.0]])
    both = Drives(
        ("recent", "price", "fair"), np.array([1.0, 30.0, -0.5]), ("price", "fair"), np.array([True, False]), effects
    )
    told = running.drives_json(both)
    assert told is not None and running.drives_json(None) is None
    assert [one["name"] for one in told["groups"]] == ["price", "recent", "fair"]
    assert told["effects"] == [
        {"driver": "price", "relative": True, "points": [{"at": -10.0, "change": 21.5}, {"at": 0.0, "change": 0.0}]},
        {"driver": "fair", "relative": False, "points": [{"at": 1.0, "change": -8.0}]},
    ]


def test_a_learner_is_not_learned_for_a_page(client: APIClient, done: Study) -> None:
    """The study has none; to learn at every origin would be a run's work."""
    node = done.nodes.order_by("-position")[0]
    for page, query in (("fit", {}), ("tested", {}), ("workings", {"origin": 0})):
        answer = client.get(f"/api/studies/{done.pk}/nodes/{node.ref}/{page}/", {"method": "learner", **query})
        assert answer.status_code == 422 and "add learner to the methods" in answer.content.decode(), page


def test_long_lists_come_a_page_at_a_time(client: APIClient, done: Study) -> None:
    one = Study.objects.get(pk=done.pk)
    for i in range(104):
        one.pk, one.name = None, f"copy {i}"
        one._state.adding = True
        one.save(force_insert=True)
        Run.objects.create(study=one)
    address = f"/api/portfolios/{done.portfolio_id}/studies/"
    newest = client.get(address).json()
    assert [one["name"] for one in newest] == [f"copy {i}" for i in range(103, 3, -1)]
    older = client.get(f"{address}?before={newest[-1]['id']}").json()
    assert [one["name"] for one in older] == ["copy 3", "copy 2", "copy 1", "copy 0", done.name]
    assert client.get(f"{address}?before={older[-1]['id']}").json() == []
    wrong = client.get(f"{address}?before=newest")
    assert wrong.status_code == 400 and "A whole number up to" in wrong.json()["detail"]
