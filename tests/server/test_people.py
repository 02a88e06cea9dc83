"""What each role may do on every address that the API's description has; how people come in and leave; the trail."""

from __future__ import annotations

import csv
import io
from datetime import timedelta
from typing import Any

import pytest
from django.contrib.auth.models import User
from django.db import DatabaseError, IntegrityError, connection, transaction
from django.utils import timezone
from rest_framework.exceptions import APIException
from rest_framework.test import APIClient
from rest_framework.views import APIView

from tansy.server.accounts import door
from tansy.server.accounts.acts import Role
from tansy.server.accounts.models import Invitation, Scope, Token, Trace
from tansy.server.portfolios.models import Member, Portfolio
from tansy.server.studies.models import Study
from tests.server.conftest import DESCRIBED, colleague, hand_in
from tests.server.test_adjustments import change

VERBS = ("get", "post", "delete", "patch")
OPERATIONS = [(verb, path) for path, verbs in DESCRIBED["paths"].items() for verb in verbs if verb in VERBS]
OPEN = {
    ("get", "/api/schema/"), ("get", "/api/session/"), ("post", "/api/session/"), ("delete", "/api/session/"),
    ("post", "/api/join/"), ("post", "/api/session/elsewhere/"), ("get", "/api/session/back/"),
}  # fmt: skip
OWN = ("password", "tokens", "uploads", "calendars", "portfolios/")
ADMINISTRATORS = ("people", "trail")
LOOKS = {
    ("post", "/api/studies/{id}/nodes/{node}/form/"), ("post", "/api/studies/{id}/nodes/{node}/try/"),
    ("post", "/api/studies/{id}/structure/"),
}  # fmt: skip
SIGNERS = {("post", "/api/studies/{id}/publish/"), ("post", "/api/releases/{id}/withdraw/")}
KEEPERS = {
    ("patch", "/api/portfolios/{id}/"), ("post", "/api/portfolios/{id}/webhooks/"),
    ("get", "/api/portfolios/{id}/webhooks/"), ("delete", "/api/webhooks/{id}/"), ("post", "/api/webhooks/{id}/try/"),
    ("post", "/api/portfolios/{id}/members/"), ("patch", "/api/members/{id}/"), ("delete", "/api/members/{id}/"),
    ("post", "/api/members/{id}/link/"), ("get", "/api/portfolios/{id}/trail/"),
    ("get", "/api/portfolios/{id}/trail/file/"), ("get", "/api/portfolios/{id}/archive/"),
}  # fmt: skip
PEOPLE_ALONE = ("/api/password/", "/api/tokens/", "/api/people/", "/api/trail/", "/api/members/")


class Passed(APIException):
    """Raised where a call is let through, before anything is done."""

    status_code = 418


@pytest.fixture
def let_through(monkeypatch: Any) -> None:
    checked = APIView.initial

    def initial(view: APIView, request: Any, *args: Any, **more: Any) -> None:
        checked(view, request, *args, **more)
        raise Passed

    monkeypatch.setattr(APIView, "initial", initial)


@pytest.fixture
def ids(client: APIClient, done: Study, portfolio: dict[str, Any], user: User) -> dict[str, int]:
    """Of one thing of each kind, by the first word of its address. The client's user keeps the portfolio."""
    of = f"/api/portfolios/{portfolio['id']}"
    client.post(f"/api/studies/{done.pk}/publish/", {"note": ""}, format="json")
    webhook = client.post(f"{of}/webhooks/", {"url": "http://127.0.0.1:9/orders"}, format="json").json()
    search = client.post(f"{of}/searches/", {}, format="json").json()
    ahead = done.load.timeline.after(3).labels[-1]
    plan = {"kind": "arrival", "keys": {"product": "P9", "store": "S0"}, "start": ahead, "low": 1, "high": 3}
    comment = client.post(f"/api/studies/{done.pk}/comments/", {"text": "so be it", "where": {}}, format="json").json()
    kept = client.post(f"/api/studies/{done.pk}/nodes/0/keep/", {"method": "mean", "reason": "x"}, format="json").json()
    changed = change(client, done, "Herbs × every store")
    made = {"plan": client.post(f"{of}/plans/", plan, format="json").json()}
    return {
        "portfolios": portfolio["id"], "studies": done.pk, "loads": portfolio["load"]["id"], "releases": 1,
        "webhooks": webhook["id"], "searches": search["id"], "plans": made["plan"]["id"], "kept": kept["id"],
        "comments": comment["id"], "adjustments": changed.json()["kept"][0],
        "members": Member.objects.get(user=user).pk, "uploads": 1, "tokens": 1, "people": user.pk,
    }  # fmt: skip


def address(path: str, ids: dict[str, int]) -> str:
    filled = path.replace("{id}", str(ids.get(path.split("/")[2], 1))).replace("{other}", str(ids["studies"]))
    return filled.replace("{form}", "csv").replace("{node}", "0").replace("{series}", "0")


def needed(verb: str, path: str) -> Role | None:
    """The role that a call takes, None where it is in no portfolio. Written down here once more, on purpose."""
    if path.removeprefix("/api/").startswith(OWN[:-1]) or path == "/api/portfolios/":
        return None
    if (verb, path) in KEEPERS:
        return Role.KEEPER
    if (verb, path) in SIGNERS:
        return Role.SIGNER
    return Role.READER if verb == "get" or (verb, path) in LOOKS else Role.PLANNER


@pytest.mark.parametrize("role", [None, *Role])
def test_every_address_lets_a_role_do_what_it_may_and_no_more(
    role: Role | None, ids: dict[str, int], let_through: None
) -> None:
    person = User.objects.create_user("mara") if role is None else colleague("mara", role)
    own = APIClient()
    own.force_authenticate(person)
    seen = 0
    for verb, path in OPERATIONS:
        if (verb, path) in OPEN:
            continue
        answer = getattr(own, verb)(address(path, ids), format="json")
        takes = needed(verb, path)
        if path.removeprefix("/api/").startswith(ADMINISTRATORS):
            assert answer.status_code == 403 and "administrators" in answer.json()["detail"], path
            continue
        if takes is None:
            expected = 418
        elif role is None:
            expected = 404
        else:
            expected = 418 if list(Role).index(role) >= list(Role).index(takes) else 403
        assert answer.status_code == expected, (verb, path, role, answer.content)
        if expected == 403:
            assert f"You are a {role} of this portfolio; this takes a {takes}. Ask ines" in answer.json()["detail"]
        seen += 1
    assert seen > 85


@pytest.mark.parametrize("scope", [Scope.READ, Scope.ACT])
def test_every_address_lets_a_token_do_what_it_was_made_for(
    scope: str, user: User, ids: dict[str, int], let_through: None
) -> None:
    _, text = Token.issue(user, "machine", scope, 1)
    machine = APIClient(HTTP_AUTHORIZATION=f"Bearer {text}")
    for verb, path in OPERATIONS:
        if (verb, path) in OPEN:
            continue
        alone = path.startswith(PEOPLE_ALONE) or path == "/api/portfolios/{id}/members/"
        expected = 403 if alone or (verb != "get" and scope == Scope.READ) else 418
        answer = getattr(machine, verb)(address(path, ids), format="json")
        assert answer.status_code == expected, (verb, path, answer.content)


def test_an_administrator_keeps_all_and_what_nobody_declared_is_refused(
    ids: dict[str, int], let_through: None, monkeypatch: Any
) -> None:
    own = APIClient()
    own.force_authenticate(User.objects.create_user("root", is_staff=True))
    for verb, path in OPERATIONS:
        if (verb, path) not in OPEN:
            assert getattr(own, verb)(address(path, ids), format="json").status_code == 418, path
    from tansy.server.studies.api import RunView

    monkeypatch.setattr(RunView, "acts", {})
    assert own.post(f"/api/studies/{ids['studies']}/run/").status_code == 403


def test_a_portfolio_is_not_there_for_others_and_actuals_do_not_get_in_by_a_body(
    client: APIClient, portfolio: dict[str, Any]
) -> None:
    other = APIClient()
    other.force_authenticate(User.objects.create_user("mara"))
    assert other.get("/api/portfolios/").json() == []
    upload = hand_in(other).json()
    body = {"portfolio": portfolio["id"], "only_look": True}
    assert other.post(f"/api/uploads/{upload['id']}/append/", body, format="json").status_code == 404
    Member.objects.create(portfolio_id=portfolio["id"], user=User.objects.get(username="mara"), role=Role.READER)
    told = other.post(f"/api/uploads/{upload['id']}/append/", body, format="json")
    assert told.status_code == 403 and "this takes a planner" in told.json()["detail"]
    assert [one["role"] for one in other.get("/api/portfolios/").json()] == ["reader"]
    assert client.get(f"/api/portfolios/{portfolio['id']}/").json()["role"] == "keeper"


def test_who_is_invited_chooses_a_password_once_and_has_the_role(client: APIClient, portfolio: dict[str, Any]) -> None:
    members = f"/api/portfolios/{portfolio['id']}/members/"
    added = client.post(members, {"name": "mara", "role": "planner"}, format="json")
    assert added.status_code == 201 and added.json()["invited"]
    address, secret = added.json()["link"].split("#")
    assert address == "/join" and secret not in {one.digest for one in Invitation.objects.all()}
    again = client.post(members, {"name": "mara", "role": "reader"}, format="json")
    assert again.status_code == 409 and "mara is a planner of this portfolio already" in again.json()["detail"]
    hers = APIClient()
    assert hers.post("/api/join/", {"secret": secret}, format="json").json() == {"name": "mara"}
    easy = hers.post("/api/join/", {"secret": secret, "password": "mara"}, format="json")
    assert easy.status_code == 400 and "password" in easy.json()["errors"]
    assert hers.post("/api/join/", {"secret": secret, "password": "slow-river-stone"}, format="json").status_code == 200
    assert hers.get("/api/session/").json()["user"] == "mara"
    assert [one["role"] for one in hers.get("/api/portfolios/").json()] == ["planner"]
    used = APIClient().post("/api/join/", {"secret": secret, "password": "other-river-stone"}, format="json")
    assert used.status_code == 422 and "was used" in used.json()["detail"]
    # a link of hers now would be her: only an administrator makes one
    refused = client.post(f"/api/members/{added.json()['id']}/link/")
    assert refused.status_code == 409 and "ask an administrator" in refused.json()["detail"]


def test_a_link_ends_by_time_by_a_newer_one_and_with_its_person(client: APIClient, portfolio: dict[str, Any]) -> None:
    members = f"/api/portfolios/{portfolio['id']}/members/"
    added = client.post(members, {"name": "mara", "role": "planner"}, format="json").json()
    first = added["link"].split("#")[1]
    second = client.post(f"/api/members/{added['id']}/link/").json()["link"].split("#")[1]

    def comes_in(secret: str) -> int:
        return APIClient().post("/api/join/", {"secret": secret}, format="json").status_code

    assert (comes_in(first), comes_in(second)) == (422, 200)
    mara = User.objects.get(username="mara")
    mara.is_active = False
    mara.save()
    assert comes_in(second) == 422
    mara.is_active = True
    mara.save()
    Invitation.objects.update(expires_at=timezone.now() - timedelta(seconds=1))
    assert comes_in(second) == 422
    # a keeper of another portfolio adds her too, and gets no link that would be her
    omar = APIClient()
    omar.force_authenticate(User.objects.create_user("omar"))
    upload = hand_in(omar).json()
    other = omar.post(f"/api/uploads/{upload['id']}/load/", {"name": "Other", "options": {}}, format="json").json()
    body = {"name": "mara", "role": "reader"}
    his = omar.post(f"/api/portfolios/{other['id']}/members/", body, format="json").json()
    assert his["link"] is None and omar.post(f"/api/members/{his['id']}/link/").status_code == 409


def test_a_portfolio_and_the_server_never_lose_their_last_keeper(client: APIClient, portfolio: dict[str, Any]) -> None:
    own = Member.objects.get()
    for verb, body in (("patch", {"role": "signer"}), ("delete", {})):
        answer = getattr(client, verb)(f"/api/members/{own.pk}/", body, format="json")
        assert answer.status_code == 409 and "Somebody has to keep" in answer.json()["detail"]
        assert Member.objects.get().role == Role.KEEPER
    colleague("mara", Role.KEEPER)
    assert client.patch(f"/api/members/{own.pk}/", {"role": "reader"}, format="json").json()["role"] == "reader"
    assert client.patch(f"/api/members/{own.pk}/", {"role": "keeper"}, format="json").status_code == 403
    root = User.objects.create_user("root", is_staff=True)
    his = APIClient()
    his.force_authenticate(root)
    for body in ({"administrator": False}, {"active": False}):
        answer = his.patch(f"/api/people/{root.pk}/", body, format="json")
        assert answer.status_code == 409 and "stay an administrator" in answer.json()["detail"]
    assert User.objects.get(pk=root.pk).is_staff
    mara = User.objects.get(username="mara")
    _, text = Token.issue(mara, "hers", Scope.READ, 1)
    assert his.patch(f"/api/people/{mara.pk}/", {"active": False}, format="json").json()["active"] is False
    assert APIClient(HTTP_AUTHORIZATION=f"Bearer {text}").get("/api/portfolios/").status_code == 401
    assert APIClient().post("/api/session/", {"username": "mara", "password": "quiet-garden"}).status_code == 401


@pytest.mark.parametrize("name", ["", "a b", "=1+1", "<script>", "x" * 151, "Ines"])
def test_names_that_cannot_be_had_are_told(name: str, client: APIClient, portfolio: dict[str, Any]) -> None:
    body = {"name": name, "role": "planner"}
    answer = client.post(f"/api/portfolios/{portfolio['id']}/members/", body, format="json")
    assert answer.status_code in (400, 422) and answer.json()["detail"]
    assert User.objects.count() == 1


def test_the_trail_says_who_did_what_and_is_only_added_to(
    client: APIClient, user: User, portfolio: dict[str, Any]
) -> None:
    of = f"/api/portfolios/{portfolio['id']}"
    _, text = Token.issue(user, "night job", Scope.ACT, 1)
    machine = APIClient(HTTP_AUTHORIZATION=f"Bearer {text}")
    assert machine.patch(f"{of}/", {"whole_units": True}, format="json").status_code == 200
    assert machine.patch(f"{of}/", {"whole_units": "maybe"}, format="json").status_code == 400
    added = client.post(f"{of}/members/", {"name": "mara", "role": "reader"}, format="json").json()
    client.patch(f"/api/members/{added['id']}/", {"role": "signer"}, format="json")
    client.delete(f"/api/members/{added['id']}/")
    told = client.get(f"{of}/trail/").json()
    rows = [(one["who"], one["by"], one["words"]) for one in told["traces"]]
    assert rows == [
        ("ines", "", "took mara out"), ("ines", "", "made mara a signer"), ("ines", "", "made mara a reader"),
        ("ines", "night job", "changed what the portfolio asks"),
        ("ines", "", f"loaded portfolio {portfolio['id']}, Garden, from upload 1"),
    ]  # fmt: skip
    assert told["count"] == 5 and not any("None" in words for _, _, words in rows)
    page = client.get(f"{of}/trail/?before={told['traces'][2]['id']}").json()
    assert page["traces"] == told["traces"][3:]
    kept = list(csv.reader(io.StringIO(client.get(f"{of}/trail/file/").content.decode())))
    assert kept[0] == ["at", "who", "token", "portfolio", "did"] and [row[4] for row in kept[:0:-1]] == [
        words for _, _, words in rows
    ]
    for order in ("UPDATE accounts_trace SET who = 'omar'", "DELETE FROM accounts_trace"):
        with pytest.raises(IntegrityError, match="only added to"), transaction.atomic(), connection.cursor() as cursor:
            cursor.execute(order)
    assert Trace.objects.filter(who="ines", portfolio=portfolio["id"]).count() == 5
    Portfolio.objects.get().delete()
    assert Trace.objects.filter(portfolio=portfolio["id"]).count() == 5  # what was done in it stays


def test_what_was_only_looked_at_is_not_on_the_trail(client: APIClient, done: Study) -> None:
    before = Trace.objects.count()
    upload = hand_in(client).json()
    look = {"portfolio": done.portfolio_id, "only_look": True}
    assert client.post(f"/api/uploads/{upload['id']}/append/", look, format="json").status_code == 200
    assert change(client, done, "Herbs × every store", preview=True).status_code == 200
    assert (
        client.post(f"/api/studies/{done.pk}/structure/", {"formula": "product * store"}, format="json").status_code
        == 200
    )
    assert [one.words for one in Trace.objects.order_by("pk")[before:]] == [f"handed in upload {upload['id']}"]
    assert change(client, done, "Herbs × every store").status_code == 201
    assert Trace.objects.latest("pk").words == f"adjusted study {done.pk}"


def test_no_word_of_the_trail_is_missing(ids: dict[str, int], client: APIClient, user: User) -> None:
    user.is_staff = True
    user.save()
    client.patch(f"/api/studies/{ids['studies']}/", {"archived": True}, format="json")
    client.post("/api/people/", {"name": "omar"}, format="json")
    client.delete(f"/api/plans/{ids['plans']}/")
    words = list(Trace.objects.order_by("pk").values_list("words", flat=True))
    assert len(words) >= 12 and not [one for one in words if "None" in one or "{" in one]
    assert "invited omar" in words and f"published study {ids['studies']} as release 1" in words
    # of everything: acts in no portfolio first, in any number, and then others
    Trace.objects.bulk_create(Trace(who=f"@{i}", words="signed in") for i in range(150))
    Trace.objects.create(who="ines", words="x", portfolio=1)
    kept = list(csv.reader(io.StringIO(client.get("/api/trail/file/").content.decode())))
    assert len(kept) == len(words) + 152 and kept[-1][1:4] == ["ines", "", "1"] and kept[-2][1] == "'@149"


def test_strangers_who_guess_links_keep_nobody_from_theirs(client: APIClient, portfolio: dict[str, Any]) -> None:
    members = f"/api/portfolios/{portfolio['id']}/members/"
    link = client.post(members, {"name": "mara", "role": "planner"}, format="json").json()["link"]
    stranger = APIClient(REMOTE_ADDR="192.0.2.7")
    guessed = [
        stranger.post("/api/join/", {"secret": f"no{i}"}, format="json") for i in range(door.MOST_OF_ADDRESS + 1)
    ]
    assert [one.status_code for one in guessed] == [422] * door.MOST_OF_ADDRESS + [429]
    own = {"secret": link.split("#")[1], "password": "slow-river-stone"}
    assert APIClient(REMOTE_ADDR="192.0.2.8").post("/api/join/", own, format="json").status_code == 200


def test_who_has_not_come_in_is_made_no_administrator(client: APIClient, portfolio: dict[str, Any]) -> None:
    """A keeper's link would make the keeper one."""
    body = {"name": "mara", "role": "reader"}
    client.post(f"/api/portfolios/{portfolio['id']}/members/", body, format="json")
    root = APIClient()
    root.force_authenticate(User.objects.create_user("root", is_staff=True))
    mara = User.objects.get(username="mara")
    refused = root.patch(f"/api/people/{mara.pk}/", {"administrator": True}, format="json")
    assert refused.status_code == 409 and "has not come in yet" in refused.json()["detail"]
    mara.set_password("slow-river-stone")
    mara.save()
    assert root.patch(f"/api/people/{mara.pk}/", {"administrator": True}, format="json").json()["administrator"]


def test_what_cannot_be_written_on_the_trail_is_done_even_so(
    client: APIClient, portfolio: dict[str, Any], monkeypatch: Any, caplog: Any
) -> None:
    def fails(row: Trace, *args: Any, **more: Any) -> None:
        raise DatabaseError("disk I/O error")

    monkeypatch.setattr(Trace, "save", fails)
    changed = client.patch(f"/api/portfolios/{portfolio['id']}/", {"whole_units": True}, format="json")
    assert changed.status_code == 200 and "not on the trail: ines changed what the portfolio asks" in caplog.text


def test_signing_in_and_out_is_on_the_trail(user: User) -> None:
    browser = APIClient()
    browser.post("/api/session/", {"username": "ines", "password": "loud-garden"}, format="json")
    browser.post("/api/session/", {"username": "ines", "password": "quiet-garden"}, format="json")
    browser.delete("/api/session/")
    assert [(one.who, one.words) for one in Trace.objects.order_by("pk")] == [
        ("ines", "signed in"), ("ines", "signed out"),
    ]  # fmt: skip
