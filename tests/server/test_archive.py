"""A portfolio written as an archive and taken in: everything the same, or nothing changed."""

from __future__ import annotations

import hashlib
import io
import json
import os
import zipfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import polars as pl
import pytest
from django.apps import apps
from django.contrib.auth.models import User
from django.db import connection, models, transaction
from rest_framework.test import APIClient

from tansy.engine.reading.history import read_panel
from tansy.engine.reading.options import ReadOptions
from tansy.server import archive
from tansy.server.archive import ArchiveError, export, take_in
from tansy.server.portfolios import services
from tansy.server.portfolios.models import Member, Plan, Portfolio
from tansy.server.studies.models import Run, Study
from tests.garden import RECIPE, SALES
from tests.server.test_adjustments import change, ref


@pytest.fixture
def full(client: APIClient, done: Study, user: User) -> Portfolio:
    """With a correction, an adjustment, a comment, a release, and a study that waits."""
    at, garden = f"/api/studies/{done.pk}", f"/api/portfolios/{done.portfolio_id}"
    assert change(client, done, "Herbs × every store").status_code == 201
    assert client.post(f"{at}/publish/", {"note": "first"}, format="json").status_code == 201
    node = ref(done, "Herbs × every store")
    assert client.post(f"{at}/comments/", {"node": node, "text": "looks right"}, format="json").status_code == 201
    waits = client.post(f"{garden}/studies/", {"recipe": RECIPE.replace("small", "waits")}, format="json")
    assert waits.status_code == 201, waits.content
    found = Portfolio.objects.get()
    assert found.releases.count() == 1 and Run.objects.filter(state="queued").count() == 1
    return found


def records(portfolio: Portfolio) -> dict[str, list[Any]]:
    """All records without numbers."""
    found = {}
    for table, way in archive._TABLES.items():
        model = apps.get_model(table)
        fields = [f for f in model._meta.concrete_fields if not f.primary_key and not f.is_relation]
        rows = model._default_manager.filter(**{way: portfolio.pk}).order_by("pk")
        found[table] = [
            {f.attname: _plain(getattr(row, f.attname)) for f in fields} for row in rows
        ]  # fmt: skip
    return found


def _plain(value: Any) -> Any:
    if isinstance(value, list):
        return [{k: v for k, v in one.items() if k != "id"} if isinstance(one, dict) else one for one in value]
    return bytes(value) if isinstance(value, memoryview) else value


def test_what_is_taken_in_is_what_was_written(full: Portfolio, user: User, client: APIClient, tmp_path: Path) -> None:
    file = tmp_path / "garden.zip"
    User.objects.filter(pk=user.pk).update(is_staff=True)  # administrators keep what they take in
    client.force_authenticate(User.objects.get(pk=user.pk))
    told = export(full, file)
    assert file.stat().st_mode & 0o777 == 0o600
    made = take_in(file, user, "Garden again")
    before, after = records(full), records(made)
    assert after["portfolios.Portfolio"][0].pop("name") == "Garden again"
    assert before["portfolios.Portfolio"][0].pop("name") == full.name
    states = [[run.pop("state") for run in one["studies.Run"]] for one in (before, after)]
    assert states == [["done", "queued"], ["done", "stopped"]]
    assert before == after
    assert {name: len(rows) for name, rows in before.items()} == told.rows
    # and it is worked with
    study = made.studies.get(name=Study.objects.get(portfolio=full, result__isnull=False).name)
    mine = client.get(f"/api/studies/{study.pk}/")
    assert mine.status_code == 200 and mine.json()["run"]["state"] == "done"
    release = made.releases.get()
    assert release.content() == full.releases.get().content()
    laid = [one["id"] for one in release.adjustments]
    assert laid and set(made.adjustments.values_list("pk", flat=True)) == set(laid)
    handed_in = [p.read_bytes() for p in (archive.settings.DATA / "loads" / str(made.load.pk)).iterdir()]
    assert handed_in == [p.read_bytes() for p in (archive.settings.DATA / "loads" / str(full.load.pk)).iterdir()]
    again = client.post(f"/api/studies/{study.pk}/publish/", {"note": "again"}, format="json")
    assert again.status_code in (201, 409), again.content  # nothing new would go out


def test_who_keeps_it_gets_it_on_the_screen_and_nothing_stays_behind(
    client: APIClient, full: Portfolio, user: User, tmp_path: Path
) -> None:
    there = sorted(archive.settings.DATA.iterdir())
    left = archive.settings.DATA / "archive-left-by-a-kill"
    left.mkdir()
    os.utime(left, (0, 0))
    answer = client.get(f"/api/portfolios/{full.pk}/archive/")
    [told] = client.get(f"/api/portfolios/{full.pk}/trail/").json()["traces"][:1]
    assert (told["who"], told["words"]) == ("ines", "took everything out as an archive")
    assert answer.status_code == 200 and answer["Content-Type"] == "application/zip"
    assert answer["Content-Disposition"] == 'attachment; filename="garden.zip"'
    content = b"".join(answer.streaming_content)
    assert sorted(archive.settings.DATA.iterdir()) == there
    (tmp_path / "garden.zip").write_bytes(content)
    assert take_in(tmp_path / "garden.zip", user, "Garden again").releases.count() == 1
    full.name = "\u202e"
    full.save()
    assert f'"portfolio-{full.pk}.zip"' in client.get(f"/api/portfolios/{full.pk}/archive/")["Content-Disposition"]


def test_it_can_be_read_without_tansy(full: Portfolio, tmp_path: Path) -> None:
    export(full, tmp_path / "garden.zip")
    with zipfile.ZipFile(tmp_path / "garden.zip") as file:
        names = file.namelist()
        told = json.loads(file.read("portfolio.json"))
        assert all(hashlib.sha256(file.read(name)).hexdigest() == told["sums"][name] for name in told["sums"])
        load = full.load
        sales = pl.read_parquet(io.BytesIO(file.read(f"sales/{load.pk}.parquet")))
        assert sales["value"].sum() == pytest.approx(load.total, rel=1e-12)
        assert sales.height == load.n_series * load.n_periods
        study = full.studies.first()
        assert study and file.read(f"recipes/{study.pk}.toml").decode() == study.recipe_text
        assert file.read("releases/R1.parquet") == full.releases.get().content()
    assert sum(name.startswith("tables/") for name in names) == len(archive._TABLES)


def test_people_are_found_by_name_and_made_as_somebody_who_does_not_come_in(
    full: Portfolio, user: User, tmp_path: Path
) -> None:
    export(full, tmp_path / "garden.zip")
    User.objects.filter(pk=user.pk).update(username="ines.elsewhere")
    omar = User.objects.create_user("omar", password="quiet-garden", is_staff=True)
    made = take_in(tmp_path / "garden.zip", omar, "Garden again")
    ines = User.objects.get(username="ines")
    assert made.made_by == made.releases.get().published_by == ines
    assert not ines.is_active and not ines.is_staff and not ines.has_usable_password()
    assert not Member.objects.filter(portfolio=made).exists()


def test_no_record_gets_the_number_of_one_that_is_gone(full: Portfolio, user: User, tmp_path: Path) -> None:
    export(full, tmp_path / "garden.zip")
    gone = take_in(tmp_path / "garden.zip", user, "Garden again")
    numbers = {table: _last(table) for table in archive._TABLES}
    left = archive.settings.DATA / "loads" / str(numbers["portfolios.Load"] + 1)
    left.mkdir()
    (left / "of another").touch()
    gone.releases.all().delete()
    for study in gone.studies.all():
        study.delete()
    gone.delete()
    assert _last("portfolios.Load") < numbers["portfolios.Load"]
    take_in(tmp_path / "garden.zip", user, "Garden again")
    for table, last in numbers.items():
        first = apps.get_model(table)._default_manager.filter(pk__gt=last).order_by("pk").first()
        assert first is None or first.pk == last + 1, table
        assert apps.get_model(table)._default_manager.count() == 0 or _last(table) != last, table
    assert not (left / "of another").exists() and list(left.iterdir())


def _last(table: str) -> int:
    return apps.get_model(table)._default_manager.aggregate(last=models.Max("pk"))["last"] or 0


def test_a_release_that_is_not_what_went_out_is_said(full: Portfolio, tmp_path: Path) -> None:
    with connection.cursor() as cursor:
        cursor.execute("UPDATE releases_release SET forecasts = %s", [b"PAR1"])
    with pytest.raises(ArchiveError, match="is not what was published"):
        export(full, tmp_path / "garden.zip")
    assert list(tmp_path.glob("garden*")) == []


def test_what_is_damaged_or_newer_or_named_like_another_changes_nothing(
    full: Portfolio, user: User, tmp_path: Path
) -> None:
    good = tmp_path / "garden.zip"
    export(full, good)
    with pytest.raises(ArchiveError, match="is there already"):
        export(full, good)

    def altered(member: str, content: bytes | None, told: dict[str, Any] | None = None) -> Path:
        path = tmp_path / f"altered-{len(list(tmp_path.iterdir()))}.zip"
        with zipfile.ZipFile(good) as old, zipfile.ZipFile(path, "w") as new:
            for name in old.namelist():
                kept = old.read(name)
                if name == "portfolio.json" and told:
                    kept = json.dumps(json.loads(kept) | told).encode()
                if name != member:
                    new.writestr(name, kept)
                elif content is not None:
                    new.writestr(name, content)
        return path

    node = "tables/studies.Node.parquet"
    with zipfile.ZipFile(good) as file:
        columns = json.loads(file.read("portfolio.json"))["columns"]
        nodes = pl.read_parquet(io.BytesIO(file.read(node)))
    lacking = io.BytesIO()
    nodes[1:].write_parquet(lacking)
    changed = lacking.getvalue()
    sums = {"sums": {node: hashlib.sha256(changed).hexdigest()}}
    with zipfile.ZipFile(good) as file:
        sums["sums"] = json.loads(file.read("portfolio.json"))["sums"] | sums["sums"]
    columns["studies.Node"].append("mood")
    (tmp_path / "text.zip").write_bytes(b"not a zip")
    count = {table: apps.get_model(table)._default_manager.count() for table in archive._TABLES}
    folders = sorted((archive.settings.DATA / "loads").iterdir())
    for path, said in (
        (good, "There is a portfolio named 'Garden' already"),
        (altered(node, b"PAR1"), "damaged at tables/studies.Node.parquet"),
        (altered(node, None), "cannot be taken in"),
        (altered(node, changed, sums), "has .* rows of"),
        (altered("portfolio.json", None), "no archive of a portfolio"),
        (altered("", None, {"format": 2}), "another format, 2"),
        (altered("", None, {"columns": columns}), "keeps mood of studies.Node and this one does not"),
        (tmp_path / "text.zip", "cannot be taken in"),
        (tmp_path / "missing.zip", "cannot be taken in"),
    ):
        with pytest.raises(ArchiveError, match=said):
            take_in(path, user, "" if path == good else "Garden again")
    assert count == {table: apps.get_model(table)._default_manager.count() for table in archive._TABLES}
    assert sorted((archive.settings.DATA / "loads").iterdir()) == folders


@pytest.mark.django_db(transaction=True)
def test_nobody_who_writes_waits_for_an_export_and_it_is_of_one_moment(tmp_path: Path, monkeypatch: Any) -> None:
    user = User.objects.create_user("ines", password="quiet-garden")
    (tmp_path / "sales.csv").write_text(SALES)
    garden = services.store(read_panel(tmp_path / "sales.csv", ReadOptions()), "Garden", "sales.csv", "", user)
    written = archive._table

    def and_meanwhile(model: Any, *rest: Any) -> int:
        if model is Plan:  # tables before it have been written
            with ThreadPoolExecutor(1) as pool:
                pool.submit(_add_plan, garden.pk, user.pk).result(timeout=10)
        return written(model, *rest)

    monkeypatch.setattr(archive, "_table", and_meanwhile)
    told = export(garden, tmp_path / "garden.zip")
    assert Plan.objects.count() == 1 and told.rows["portfolios.Plan"] == 0


def _add_plan(portfolio: int, user: int) -> None:
    try:
        with transaction.atomic():
            Plan.objects.create(portfolio_id=portfolio, entries={"kind": "event"}, made_by_id=user)
    finally:
        connection.close()
