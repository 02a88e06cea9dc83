"""Signing in by a provider: who comes in as whom, and what is refused."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any
from urllib.parse import parse_qs, urlsplit

import pytest
import requests
from django.contrib.auth.models import User
from rest_framework.test import APIClient

from tansy.server.accounts import elsewhere
from tansy.server.accounts.models import Identity, Invitation, Token, Trace
from tests.server.provider import CLIENT, SECRET, Provider, provider


@pytest.fixture
def there(settings: Any, db: None) -> Iterator[Provider]:
    with provider() as running:
        settings.OIDC, settings.OIDC_ID, settings.OIDC_SECRET = running.issuer, CLIENT, SECRET
        settings.OIDC_NAME = "Hollowmere sign-in"
        elsewhere.forget()
        yield running
        elsewhere.forget()


def go(browser: APIClient) -> str:
    """To the provider, and the address that it sends back to."""
    begun = browser.post("/api/session/elsewhere/")
    assert begun.status_code == 200, begun.content
    back = requests.get(begun.json()["address"], allow_redirects=False, timeout=5).headers["Location"]
    return back.removeprefix("http://testserver")


def come(browser: APIClient) -> dict[str, Any]:
    """All the way; who is signed in then."""
    answer = browser.get(go(browser))
    assert answer.status_code == 302 and answer["Location"] in ("/", "/sign-in")
    return browser.get("/api/session/").json()


def test_who_was_invited_comes_in_by_it_and_is_known_from_then_on(there: Provider) -> None:
    ines = User.objects.create_user("ines")
    Invitation.issue(ines, ines)
    browser = APIClient()
    assert browser.get("/api/session/").json() == {
        "user": None, "administrator": False, "demo": None, "elsewhere": "Hollowmere sign-in", "password": False,
        "connects": False, "refused": "",
    }  # fmt: skip
    found = come(browser)
    assert found["user"] == "ines" and not found["connects"] and found["refused"] == ""
    assert not Invitation.objects.exists()  # the link is of no use any more
    assert [(one.who, one.words) for one in Trace.objects.all()] == [("ines", "signed in by the provider")]
    there.person["preferred_username"] = "ines.married-name"  # the name there changes, the person does not
    assert come(APIClient())["user"] == "ines"
    ines.is_active = False
    ines.save()
    found = come(APIClient())
    assert (
        found["user"] is None and found["refused"] == "ines does not come in any more; ask an administrator of Tansy."
    )


def test_nobody_becomes_another_by_a_name(there: Provider, settings: Any) -> None:
    ines = User.objects.create_user("ines", password="quiet-garden")
    found = come(APIClient())
    assert found["user"] is None and "ines signs in with a password here" in found["refused"]
    invited = User.objects.create_user("omar")
    Identity.objects.create(user=invited, issuer=there.issuer, subject="other")
    there.person = {"sub": "8a1", "preferred_username": "OMAR"}
    assert come(APIClient())["user"] is None
    there.person = {"sub": "8a2", "preferred_username": "nobody"}
    assert come(APIClient())["refused"].startswith("Nobody is named nobody here; ask an administrator")
    settings.OIDC_NEWCOMERS = True
    new = APIClient()
    assert come(new)["user"] == "nobody" and not User.objects.get(username="nobody").is_staff
    assert new.get("/api/portfolios/").json() == []
    for odd in ("x" * 151, "two words", "\u202etfel"):
        there.person = {"sub": odd[:9], "preferred_username": odd}
        assert come(APIClient())["refused"].startswith("Nobody is named")
    User.objects.create_user("mara", is_active=False)  # as an archive leaves people who are not here
    there.person = {"sub": "8a4", "preferred_username": "mara"}
    assert "does not come in any more" in come(APIClient())["refused"]
    assert not Identity.objects.filter(user__username="mara").exists()
    settings.OIDC_CLAIM = "email"
    there.person = {"sub": "8a3", "email": "ines@hollowmere.example"}
    assert "tells no email of you that can be trusted" in come(APIClient())["refused"]
    there.person["email_verified"] = True
    assert come(APIClient())["user"] == "ines@hollowmere.example"
    assert not Identity.objects.filter(user=ines).exists()


def test_who_has_a_password_connects_while_signed_in(there: Provider) -> None:
    User.objects.create_user("ines", password="quiet-garden")
    User.objects.create_user("omar", password="quiet-garden")
    browser, other = APIClient(), APIClient()
    assert browser.login(username="ines", password="quiet-garden")
    assert browser.get("/api/session/").json()["connects"]
    found = come(browser)
    assert found["user"] == "ines" and not found["connects"]
    assert come(APIClient())["user"] == "ines"
    assert other.login(username="omar", password="quiet-garden")
    found = come(other)  # the same account there
    assert found["user"] == "omar" and found["connects"]
    assert found["refused"] == "At Hollowmere sign-in you are ines here already."
    there.person["sub"] = "8b0"
    assert come(browser)["refused"] == "You are connected with another account at Hollowmere sign-in."
    assert come(APIClient())["user"] is None


def test_what_was_not_begun_here_or_is_not_the_providers_signs_nobody_in(there: Provider) -> None:
    User.objects.create_user("ines")
    browser = APIClient()
    back = go(browser)
    begun_elsewhere = APIClient()
    begun_elsewhere.get(back)
    assert "begun in another browser" in begun_elsewhere.get("/api/session/").json()["refused"]
    wrong_state = back.replace(parse_qs(urlsplit(back).query)["state"][0], "made-up")
    browser.get(wrong_state)
    assert "did not sign you in" in browser.get("/api/session/").json()["refused"]
    for forged in (
        {"aud": "another"}, {"iss": "https://another.example"}, {"nonce": "another"}, {"exp": 1}, {"sub": None},
    ):  # fmt: skip
        there.forged = forged
        found = come(browser)
        assert found["user"] is None and found["refused"], forged
    there.forged, there.other_key = {}, True
    assert come(browser)["user"] is None
    there.other_key = False
    assert come(browser)["user"] == "ines"
    used = APIClient()
    back = go(used)
    used.get(back)
    used.delete("/api/session/")
    used.get(back)  # once more
    assert used.get("/api/session/").json()["user"] is None
    assert not Identity.objects.exclude(user__username="ines").exists()


def test_a_page_elsewhere_and_a_token_begin_nothing(there: Provider) -> None:
    ines = User.objects.create_user("ines", password="quiet-garden")
    assert APIClient(enforce_csrf_checks=True).post("/api/session/elsewhere/").status_code == 403
    machine = APIClient(enforce_csrf_checks=True)
    machine.credentials(HTTP_AUTHORIZATION=f"Bearer {Token.issue(ines, 'loader', 'act', 9)[1]}")
    assert machine.post("/api/session/elsewhere/").status_code == 403


def test_a_provider_that_is_silent_or_not_set_up_is_said(there: Provider, settings: Any) -> None:
    for there.down, there.lacks in ((True, ""), (False, "authorization_endpoint")):
        elsewhere.forget()
        answer = APIClient().post("/api/session/elsewhere/")
        assert answer.status_code == 422 and "Hollowmere sign-in does not answer now" in answer.json()["detail"]
    for there.lacks in ("token_endpoint", "jwks_uri"):
        elsewhere.forget()
        assert "did not sign you in" in come(APIClient())["refused"]
    settings.OIDC = ""
    for ask in (APIClient().post("/api/session/elsewhere/"), APIClient().get("/api/session/back/")):
        assert ask.status_code == 404 and "No provider is set up here" in ask.json()["detail"]
