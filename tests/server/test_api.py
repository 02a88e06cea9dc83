"""The API as a whole: what it answers is what it describes, strangers get nothing, and errors are problem documents."""

from __future__ import annotations

import gzip
import json
import re
from pathlib import Path
from typing import Any

import pytest
from django.contrib.auth.models import User
from django.test import Client
from jsonschema import Draft202012Validator
from rest_framework.test import APIClient

from tansy.server.accounts.models import Scope, Token
from tansy.server.releases.models import Release
from tansy.server.studies import running
from tansy.server.studies.models import Run, Study
from tests.garden import DRIVERS, PRODUCTS, RECIPE, SALES
from tests.server.conftest import DESCRIBED, hand_in

OPEN_TO_ALL = {
    ("get", "/api/session/"), ("post", "/api/session/"), ("delete", "/api/session/"), ("post", "/api/join/"),
    ("post", "/api/session/elsewhere/"), ("get", "/api/session/back/"),
}  # fmt: skip
VERBS = ("get", "post", "delete", "patch")
OPERATIONS = [(verb, path) for path, verbs in DESCRIBED["paths"].items() for verb in verbs if verb in VERBS]


def schema_of(part: Any) -> Any:
    """OpenAPI 3.0 as JSON Schema: `nullable` is a type of its own there, and references are resolved."""
    if isinstance(part, list):
        return [schema_of(one) for one in part]
    if not isinstance(part, dict):
        return part
    if "$ref" in part:
        name = part["$ref"].rsplit("/", 1)[1]
        return schema_of(DESCRIBED["components"]["schemas"][name])
    found = {key: schema_of(value) for key, value in part.items() if key not in ("nullable", "readOnly", "format")}
    return {"anyOf": [found, {"type": "null"}]} if part.get("nullable") else found


def holds_to(path: str, body: Any, verb: str = "get", status: str = "200") -> None:
    content = DESCRIBED["paths"][path][verb]["responses"][status]["content"]["application/json"]
    problems = list(Draft202012Validator(schema_of(content["schema"])).iter_errors(body))
    assert not problems, f"{path}: {problems[0].json_path}: {problems[0].message[:200]}"


@pytest.fixture
def world(client: APIClient) -> dict[str, int]:
    """A portfolio with drivers, a finished study of it, its release, a token, an address and a file not yet loaded."""
    upload = hand_in(client, SALES, ("products.csv", PRODUCTS), ("drivers.csv", DRIVERS)).json()
    loaded = client.post(f"/api/uploads/{upload['id']}/load/", {"name": "Garden", "options": {}}, format="json").json()
    client.post(f"/api/portfolios/{loaded['id']}/studies/", {"recipe": RECIPE}, format="json")
    study = Study.objects.get()
    running.carry_out(study.run)
    told = {"url": "http://127.0.0.1:9/orders"}
    client.post(f"/api/portfolios/{loaded['id']}/webhooks/", told, format="json")
    client.post(f"/api/studies/{study.pk}/publish/", {"note": "first"}, format="json")
    client.post("/api/tokens/", {"name": "order desk"}, format="json")
    body = {"method": "mean", "reason": "as agreed"}
    kept = client.post(f"/api/studies/{study.pk}/nodes/0/keep/", body, format="json").json()
    waiting = hand_in(client, SALES).json()
    return {
        "portfolio": loaded["id"], "load": loaded["load"]["id"], "study": study.pk, "kept": kept["id"],
        "release": Release.objects.get().pk, "upload": waiting["id"],
    }  # fmt: skip


def address(path: str, world: dict[str, int]) -> str:
    """A described path with the ids of the world in it."""
    noun = path.split("/")[2].rstrip("s").replace("studie", "study")
    filled = path.replace("{id}", str(world.get(noun, 1))).replace("{form}", "csv")
    filled = filled.replace("{node}", "0").replace("{series}", "0").replace("{other}", str(world.get("study", 1)))
    assert "{" not in filled
    return filled


QUERIES = {
    "/api/portfolios/{id}/overview/": "?by=group&last=4&within=region=North",
    "/api/portfolios/{id}/kinds/": "?kind=smooth",
    "/api/studies/{id}/nodes/{node}/fit/": "?method=arima(1,0,1)",
    "/api/studies/{id}/nodes/{node}/tested/": "?method=arima(best)&method=mean",
    "/api/studies/{id}/nodes/{node}/drivers/": "?method=regression(price, promotion)",
    "/api/studies/{id}/nodes/{node}/workings/": "?method=ets(A,N,N)",
    "/api/studies/{id}/nodes/{node}/workings.{form}": "?method=ets(A,N,N)",
    "/api/releases/{id}/rows/": "?lead=1&limit=5",
    "/api/studies/{id}/bridge/": "?release={release}",
}


def test_every_answer_is_as_described(client: APIClient, user: User, world: dict[str, int]) -> None:
    """All that can be read, of a world in which there is something of each kind."""
    user.is_staff = True
    user.save()
    seen = 0
    for verb, path in OPERATIONS:
        if verb != "get" or path in ("/api/schema/", "/api/session/back/"):  # the latter for who comes from elsewhere
            continue
        answer = client.get(address(path, world) + QUERIES.get(path, "").format(**world))
        described = DESCRIBED["paths"][path]["get"]["responses"]
        kinds = described["200"].get("content", {})
        if path == "/api/portfolios/{id}/searches/" and answer.status_code == 204:
            continue
        assert answer.status_code == 200, f"{path}: {answer.content[:300]!r}"
        assert answer["Content-Type"].split(";")[0] in kinds, path
        if "application/json" in kinds:
            packed = answer.headers.get("Content-Encoding") == "gzip"
            body = json.loads(gzip.decompress(answer.content) if packed else answer.content)
            holds_to(path, body)
            empty = ("/plans/", "/corrections/", "/nodes/{node}/releases/", "/comments/")
            assert body != [] or path.endswith(empty), f"{path} was empty: nothing was tested"
            seen += 1
    assert seen >= 25


def test_what_is_made_is_answered_as_described(client: APIClient, world: dict[str, int]) -> None:
    node = f"/api/studies/{world['study']}/nodes/0"
    tries = {"methods": ["ets(A,N,N)", "ets(x)"], "actuals": [5.0, None]}
    holds_to("/api/studies/{id}/nodes/{node}/try/", client.post(f"{node}/try/", tries, format="json").json(), "post")
    preview = client.post(f"/api/uploads/{world['upload']}/preview/", {}, format="json").json()
    holds_to("/api/uploads/{id}/preview/", preview, "post")
    look = {"portfolio": world["portfolio"], "only_look": True}
    body = client.post(f"/api/uploads/{world['upload']}/append/", look, format="json").json()
    holds_to("/api/uploads/{id}/append/", body, "post")
    token = client.post("/api/tokens/", {"name": "second"}, format="json").json()
    holds_to("/api/tokens/", token, "post", "201")


@pytest.mark.parametrize(("verb", "path"), OPERATIONS, ids=[f"{verb} {path}" for verb, path in OPERATIONS])
def test_a_stranger_gets_nothing(verb: str, path: str, db: None) -> None:
    stranger = APIClient()
    answer = getattr(stranger, verb)(address(path, {}), format="json")
    if (verb, path) in OPEN_TO_ALL:
        assert answer.status_code in (200, 204, 400, 404)
        return
    assert answer.status_code in (401, 403), path
    assert answer["Content-Type"].startswith("application/problem+json")
    assert set(answer.json()) >= {"status", "title", "detail"}
    forged = APIClient()
    forged.credentials(HTTP_AUTHORIZATION="Bearer tansy_guessed")
    assert getattr(forged, verb)(address(path, {}), format="json").status_code == 401


def test_what_is_not_there_is_a_404_with_a_word(client: APIClient) -> None:
    for path in (
        "/api/portfolios/9/", "/api/studies/9/", "/api/studies/9/field/", "/api/studies/9/nodes/0/", "/api/uploads/9/",
        "/api/studies/9/nodes/0/look/", "/api/studies/9/draft/", "/api/releases/9/csv/", "/api/portfolios/9/coverage/",
    ):  # fmt: skip
        answer = client.get(path)
        assert answer.status_code == 404, path
        assert answer["Content-Type"].startswith("application/problem+json") and answer.json()["detail"]


def test_a_node_beyond_the_last_is_not_there(client: APIClient, world: dict[str, int]) -> None:
    for page in ("", "look/", "fit/?method=mean", "tested/?method=mean", "drivers/", "parts/", "workings/?method=mean"):
        assert client.get(f"/api/studies/{world['study']}/nodes/9999/{page}").status_code == 404, page


def test_a_study_without_a_result_says_how_far_it_is(client: APIClient, portfolio: dict[str, Any]) -> None:
    client.post(f"/api/portfolios/{portfolio['id']}/studies/", {"recipe": RECIPE}, format="json")
    study = Study.objects.get()
    for page in ("field/", "summary/", "nodes/0/", "draft/"):
        answer = client.get(f"/api/studies/{study.pk}/{page}")
        assert answer.status_code in (404, 409), page
        if page == "field/":
            assert answer.status_code == 409 and "its run is queued" in answer.json()["detail"]
    assert client.post(f"/api/studies/{study.pk}/run/").status_code == 409  # it waits already
    assert client.post(f"/api/studies/{study.pk}/stop/").json()["run"]["state"] == "stopped"  # it had not begun
    running.carry_out(study.run)
    assert study.run.state == "stopped"
    stopped = client.post(f"/api/studies/{study.pk}/stop/")
    assert stopped.status_code == 409 and "not running" in stopped.json()["detail"]


def test_a_study_is_run_again_only_when_there_is_something_new(client: APIClient, world: dict[str, int]) -> None:
    """The kept method is new; once a study has seen it, nothing is."""
    first = client.post(f"/api/studies/{world['study']}/again/")
    assert first.status_code == 201
    newer = Study.objects.get(pk=first.json()["id"])
    running.carry_out(newer.run)
    again = client.post(f"/api/studies/{newer.pk}/again/")
    assert again.status_code == 409 and "nothing new" in again.json()["detail"]
    assert Run.objects.count() == 2


def test_the_field_is_sent_once(client: APIClient, world: dict[str, int]) -> None:
    address = f"/api/studies/{world['study']}/field/"
    first = client.get(address)
    assert first["Content-Encoding"] == "gzip" and "no-cache" in first["Cache-Control"]
    again = client.get(address, HTTP_IF_NONE_MATCH=first["ETag"])
    assert again.status_code == 304 and not again.content
    assert client.get(address, HTTP_IF_NONE_MATCH='"another"').status_code == 200


def test_rows_of_a_release_come_in_pages(client: APIClient, world: dict[str, int]) -> None:
    address = f"/api/releases/{world['release']}/rows/"
    everything = client.get(address).json()
    assert len(everything["rows"]) == min(everything["count"], 1000)
    pages = [client.get(f"{address}?start={start}&limit=50").json()["rows"] for start in (0, 50)]
    assert pages[0] + pages[1] == everything["rows"][:100]
    assert client.get(f"{address}?start=100000").json()["rows"] == []
    one = client.get(f"{address}?product=P1&store=S0&lead=2").json()
    assert one["count"] == 1 and one["rows"][0]["q0.025"] <= one["rows"][0]["forecast"] <= one["rows"][0]["q0.975"]
    for wrong in ("start=-1", "limit=ten", "start=²"):
        answer = client.get(f"{address}?{wrong}")
        assert answer.status_code == 400 and "A whole number up to" in answer.json()["detail"]


def test_a_token_is_its_makers_alone_and_kept_as_a_hash(client: APIClient, world: dict[str, int]) -> None:
    other = User.objects.create_user("omar")
    _, text = Token.issue(other, "his", Scope.READ, 1)
    assert [one["name"] for one in client.get("/api/tokens/").json()] == ["order desk"]
    assert client.delete(f"/api/tokens/{Token.objects.get(name='his').pk}/").status_code == 404
    assert text not in {token.digest for token in Token.objects.all()}
    assert re.fullmatch(r"tansy_[\w-]{43}", text)
    machine = APIClient()
    machine.credentials(HTTP_AUTHORIZATION=f"Bearer {text}")
    assert machine.get("/api/portfolios/").status_code == 200
    other.is_active = False
    other.save()
    assert machine.get("/api/portfolios/").status_code == 401  # who left takes their tokens along


def test_a_page_elsewhere_cannot_act_for_somebody_signed_in(user: User, portfolio: dict[str, Any]) -> None:
    browser = APIClient(enforce_csrf_checks=True)
    browser.get("/")  # the page, which leaves the cookie
    signed_in = browser.post(
        "/api/session/", {"username": "ines", "password": "quiet-garden"}, format="json",
        HTTP_X_CSRFTOKEN=browser.cookies["csrftoken"].value,
    )  # fmt: skip
    assert signed_in.json()["user"] == "ines"
    forged = browser.patch(f"/api/portfolios/{portfolio['id']}/", {"whole_units": True}, format="json")
    assert forged.status_code == 403 and "CSRF" in forged.json()["detail"]
    own = browser.patch(
        f"/api/portfolios/{portfolio['id']}/", {"whole_units": True}, format="json",
        HTTP_X_CSRFTOKEN=browser.cookies["csrftoken"].value,
    )  # fmt: skip
    assert own.status_code == 200
    browser.delete("/api/session/", HTTP_X_CSRFTOKEN=browser.cookies["csrftoken"].value)
    assert browser.get("/api/portfolios/").status_code in (401, 403)


def test_every_address_of_the_front_end_is_the_page_and_no_address_of_the_api_is(settings: Any, tmp_path: Path) -> None:
    page = tmp_path / "index.html"
    settings.WEB_INDEX = page
    missing = Client().get("/")
    assert missing.status_code == 503 and b"make setup" in missing.content
    page.write_text("<title>Tansy</title>")
    for path in ("/", "/p/1/s/2/series/60?page=try", "/p/1/intake/some.file.csv"):
        answer = Client().get(path)
        assert answer.status_code == 200 and b"Tansy" in answer.content, path
        assert "no-cache" in answer["Cache-Control"] and "csrftoken" in answer.cookies
    assert Client().get("/api/nothing/").status_code == 404
    assert b"Tansy" not in Client().get("/api/nothing/").content


def test_what_the_planner_decides_is_checked_at_its_field(client: APIClient, world: dict[str, int]) -> None:
    study, portfolio = world["study"], world["portfolio"]
    for verb, path, body, field in (
        ("post", f"/api/studies/{study}/nodes/0/try/", {"methods": []}, "methods"),
        ("post", f"/api/studies/{study}/nodes/0/try/", {"methods": ["mean"] * 5}, "methods"),
        ("post", f"/api/studies/{study}/nodes/0/try/", {"methods": ["mean"], "actuals": ["nan"]}, "actuals"),
        ("post", f"/api/studies/{study}/nodes/0/keep/", {"method": "mean"}, "reason"),
        ("post", f"/api/studies/{study}/nodes/0/keep/", {"method": "mean", "reason": "so", "kind": "odd"}, "kind"),
        ("post", f"/api/studies/{study}/publish/", {"note": "x" * 401}, "note"),
        ("post", f"/api/portfolios/{portfolio}/corrections/revert/", {"ids": [10**30]}, "ids"),
        ("post", f"/api/portfolios/{portfolio}/plans/", {"kind": "arrival", "low": "inf"}, "low"),
        ("post", "/api/tokens/", {"name": ""}, "name"),
        ("patch", f"/api/portfolios/{portfolio}/", {"whole_units": "perhaps"}, "whole_units"),
        ("post", f"/api/uploads/{world['upload']}/preview/", {"gaps": "maybe"}, "gaps"),
        ("post", f"/api/uploads/{world['upload']}/load/", {"name": "Garden", "options": {}}, "name"),
    ):
        answer = getattr(client, verb)(path, body, format="json")
        assert answer.status_code == 400, (path, body)
        assert field in answer.json()["errors"] and answer.json()["detail"], (path, body)
    for path in (
        f"/api/portfolios/{portfolio}/overview/?by=colour", f"/api/portfolios/{portfolio}/overview/?within=region=Mars",
        f"/api/portfolios/{portfolio}/overview/?last=4000", f"/api/portfolios/{portfolio}/series/9999/",
        f"/api/portfolios/{portfolio}/kinds/?kind=odd",
    ):  # fmt: skip
        answer = client.get(path)
        assert answer.status_code in (400, 404, 422) and answer.json()["detail"], path
