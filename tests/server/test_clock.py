"""A clock that went ahead by years and was set back: nobody waits for those years to pass."""

from __future__ import annotations

import os
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from django.contrib.auth.models import User
from django.utils import timezone
from rest_framework.test import APIClient

from tansy.server.accounts import door
from tansy.server.accounts.models import FailedSignIn, Invitation, Token
from tansy.server.backup import DATABASE, scheduled
from tansy.server.releases import webhooks
from tansy.server.releases.models import Delivery, Webhook
from tests.server.test_backup import folder  # noqa: F401
from tests.server.test_doors import RIGHT, WRONG, sign_in

AHEAD = timedelta(days=4 * 365)


def test_a_door_that_was_shut_in_those_years_opens(user: User) -> None:
    for _ in range(door.MOST + 1):
        sign_in(APIClient(), WRONG)
    assert sign_in(APIClient(), RIGHT).status_code == 429
    FailedSignIn.objects.update(at=timezone.now() + AHEAD)
    assert sign_in(APIClient(), RIGHT).status_code == 200


def test_tokens_and_links_end_and_begin_again_with_the_clock(user: User, monkeypatch: Any) -> None:
    token, text = Token.issue(user, "desk", "read", 30)
    secret = Invitation.issue(User.objects.create_user("omar"), user)
    usual = timezone.now
    monkeypatch.setattr(timezone, "now", lambda: usual() + AHEAD)
    assert token.has_ended and Invitation.of(secret) is None
    monkeypatch.setattr(timezone, "now", usual)
    machine = APIClient()
    machine.credentials(HTTP_AUTHORIZATION=f"Bearer {text}")
    assert not token.has_ended and Invitation.of(secret) is not None
    assert machine.get("/api/portfolios/").status_code == 200


def test_backups_go_on_and_those_of_those_years_stay(folder: Path, tmp_path: Path) -> None:  # noqa: F811
    to, now, day = tmp_path / "backups", datetime.now(UTC), timedelta(days=1)
    ahead = scheduled(folder / DATABASE, folder, to, 2, now + AHEAD, day)
    made = [scheduled(folder / DATABASE, folder, to, 2, now + i * day, day) for i in range(4)]
    assert ahead and all(made)
    assert sorted(to.iterdir()) == sorted([*made[-2:], ahead])  # type: ignore[list-item]


def test_what_another_system_is_to_hear_is_sent(user: User, done: Any) -> None:
    hook = Webhook.objects.create(
        portfolio=done.portfolio, url="http://127.0.0.1:9/", secret="whsec_cXVpZXQ=", made_by=user
    )
    later = Delivery.objects.create(webhook=hook, event="x", body="{}", next_at=timezone.now() + AHEAD, attempts=1)
    soon = Delivery.objects.create(webhook=hook, event="x", body="{}", next_at=timezone.now() + webhooks.WAITS[-1])
    assert webhooks.deliver_due() == 1
    later.refresh_from_db()
    soon.refresh_from_db()
    assert (later.attempts, soon.attempts) == (2, 0)


def test_a_worker_that_died_in_those_years_is_missed(client: APIClient, data_folder: Path) -> None:
    beat = data_folder / "worker.beat"
    beat.touch()
    assert client.get("/healthz").json()["worker"] is True
    os.utime(beat, (time.time() + AHEAD.total_seconds(),) * 2)
    assert client.get("/healthz").json()["worker"] is False
