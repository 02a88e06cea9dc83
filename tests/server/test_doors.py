"""Who comes in: how often may be tried, by whom, and what tokens and passwords may do."""

from __future__ import annotations

import os
import subprocess
import sys
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest
from django.contrib.auth.models import User
from django.utils import timezone
from rest_framework.test import APIClient

from tansy.server.accounts import door
from tansy.server.accounts.models import FailedSignIn, Scope, Token

RIGHT, WRONG = "quiet-garden", "loud-garden"


def sign_in(client: APIClient, password: str, name: str = "ines", **more: Any) -> Any:
    return client.post("/api/session/", {"username": name, "password": password}, format="json", **more)


def test_strangers_who_guess_lock_strangers_out_and_not_her(user: User) -> None:
    hers, stranger = APIClient(), APIClient()
    assert sign_in(hers, RIGHT).status_code == 200
    hers.delete("/api/session/")
    codes = [sign_in(stranger, WRONG, REMOTE_ADDR=f"192.0.2.{i}").status_code for i in range(door.MOST + 3)]
    assert codes == [401] * door.MOST + [429] * 3
    refused = sign_in(APIClient(), RIGHT)  # the right password, from a browser that was never in
    assert refused.status_code == 429 and 800 <= int(refused["Retry-After"]) <= 900
    assert "or from a browser that you have signed in from before" in refused.json()["detail"]
    assert sign_in(hers, RIGHT).status_code == 200
    # her own slips count by themselves, and end
    hers.delete("/api/session/")
    assert [sign_in(hers, WRONG).status_code for _ in range(door.MOST + 1)] == [401] * door.MOST + [429]
    FailedSignIn.objects.update(at=timezone.now() - door.WITHIN - timedelta(seconds=1))
    assert sign_in(hers, RIGHT).status_code == 200 and sign_in(APIClient(), RIGHT).status_code == 200


def test_one_address_may_not_try_all_names_and_nobody_learns_which_there_are(user: User) -> None:
    stranger = APIClient()
    answers = [sign_in(stranger, WRONG, name=f"name{i}") for i in range(door.MOST_OF_ADDRESS + 1)]
    assert [one.status_code for one in answers] == [401] * door.MOST_OF_ADDRESS + [429]
    assert sign_in(stranger, WRONG, name="ines").status_code == 429
    assert sign_in(APIClient(), RIGHT, REMOTE_ADDR="192.0.2.9").status_code == 200
    there = sign_in(APIClient(), WRONG, name="Ines", REMOTE_ADDR="192.0.2.10").json()
    assert there == answers[0].json()


def test_a_mark_is_for_one_name_and_cannot_be_made_up(user: User) -> None:
    User.objects.create_user("omar", password=RIGHT)
    his = APIClient()
    sign_in(his, RIGHT, name="omar")
    mark = his.cookies["tansy-device"].value
    for _ in range(door.MOST):
        sign_in(APIClient(), WRONG)
    for value in (mark, mark[:-2] + "aa", "made-up"):
        guess = APIClient()
        guess.cookies["tansy-device"] = value
        assert sign_in(guess, WRONG).status_code == 429


def test_a_page_elsewhere_signs_nobody_in(user: User) -> None:
    browser = APIClient(enforce_csrf_checks=True)
    assert sign_in(browser, RIGHT).status_code == 403
    browser.get("/")  # the page, which leaves the cookie
    token = browser.cookies["csrftoken"].value
    assert sign_in(browser, RIGHT, HTTP_X_CSRFTOKEN=token).status_code == 200


def test_the_own_password_is_changed_by_who_knows_it_and_ends_other_sessions(user: User) -> None:
    here, there = APIClient(), APIClient()
    sign_in(here, RIGHT)
    sign_in(there, RIGHT)

    def change(old: str, new: str) -> Any:
        return here.post("/api/password/", {"old": old, "new": new}, format="json")

    assert "not your password" in change(WRONG, "a-new-long-one").json()["detail"]
    for weak, says in (("short", "too short"), ("9482650017", "entirely numeric"), ("password123", "too common")):
        assert says in change(RIGHT, weak).json()["detail"]
    assert there.get("/api/portfolios/").status_code == 200
    assert change(RIGHT, "a-new-long-one").status_code == 204
    assert here.get("/api/portfolios/").status_code == 200 and there.get("/api/portfolios/").status_code == 401
    user.refresh_from_db()
    assert user.password.startswith("argon2$argon2id$")
    assert sign_in(APIClient(), "a-new-long-one").status_code == 200


def machine(user: User, scope: str, days: int = 1) -> APIClient:
    client = APIClient()
    client.credentials(HTTP_AUTHORIZATION=f"Bearer {Token.issue(user, 'desk', scope, days)[1]}")
    return client


@pytest.mark.parametrize("scope", Scope.values)
def test_a_token_does_what_it_was_made_for_and_makes_no_other(
    user: User, portfolio: dict[str, Any], scope: str
) -> None:
    client = machine(user, scope)
    assert client.get("/api/portfolios/").status_code == 200
    changed = client.patch(f"/api/portfolios/{portfolio['id']}/", {"whole_units": True}, format="json")
    assert changed.status_code == (200 if scope == Scope.ACT else 403)
    for method, path in (("get", "/api/tokens/"), ("post", "/api/tokens/"), ("post", "/api/password/")):
        answer = getattr(client, method)(path, {"name": "more"}, format="json")
        assert answer.status_code == 403 and "not for tokens" in answer.json()["detail"], path
    assert Token.objects.count() == 1


def test_a_token_ends_when_it_was_said_to(client: APIClient, user: User) -> None:
    made = client.post("/api/tokens/", {"name": "desk", "scope": "act", "days": 30}, format="json").json()
    token = Token.objects.get(pk=made["id"])
    assert token.scope == Scope.ACT and 29 <= (token.expires_at - timezone.now()).days <= 30
    assert client.post("/api/tokens/", {"name": "desk", "days": 0}, format="json").status_code == 400
    other = machine(user, Scope.READ)
    Token.objects.update(expires_at=timezone.now() - timedelta(seconds=1))
    ended = other.get("/api/portfolios/")
    assert ended.status_code == 401 and "has ended" in ended.json()["detail"]


def test_no_answer_lets_a_script_of_elsewhere_or_of_a_name_run(client: APIClient, portfolio: dict[str, Any]) -> None:
    for path in ("/", "/p/1/s/1/field", "/api/portfolios/", f"/api/portfolios/{portfolio['id']}/report/", "/api/none/"):
        policy = dict(part.split(" ", 1) for part in client.get(path)["Content-Security-Policy"].split("; "))
        scripts = policy.get("script-src", policy["default-src"])
        assert scripts in ("'self'", "'none'") and policy["frame-ancestors"] == "'none'", path


def test_behind_a_proxy_cookies_travel_by_tls_alone(tmp_path: Path) -> None:
    """By one setting, in a process of its own, because settings are read once."""
    says = """
import django; django.setup()
from django.test import Client
by_tls = {"HTTP_X_FORWARDED_PROTO": "https"}
plain, safe = (Client().get("/api/session/", **more) for more in ({}, by_tls))
page = Client().get("/", **by_tls)
print(plain.status_code, plain["Location"], safe.status_code, safe["Strict-Transport-Security"])
print(page.cookies["csrftoken"]["secure"])
"""
    env = {**os.environ, "TANSY_DATA": str(tmp_path), "DJANGO_SETTINGS_MODULE": "tansy.server.settings",
           "TANSY_TLS": "proxy", "TANSY_HOSTS": "testserver"}  # fmt: skip
    found = subprocess.run([sys.executable, "-c", says], env=env, capture_output=True, text=True, check=True).stdout
    assert found.split() == ["301", "https://testserver/api/session/", "200", "max-age=31536000", "True"]
