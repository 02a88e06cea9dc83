"""The short form of `bench.fuzz`: calls that no person would make, and what they have found."""

from __future__ import annotations

from typing import Any

import pytest
from bench.fuzz import Caller, forget_all, fuzzed, left_alone, world_of
from django.contrib.auth.models import User
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import transaction
from rest_framework.test import APIClient

from tansy.server.portfolios import services
from tansy.server.studies.models import Study
from tests.garden import RECIPE, SALES
from tests.server.conftest import hand_in


def test_no_call_by_chance_is_a_fault_of_the_server(user: User) -> None:
    User.objects.filter(pk=user.pk).update(is_staff=True)
    client = APIClient(raise_request_exception=False)
    client.force_authenticate(User.objects.get(pk=user.pk))
    caller = fuzzed(client, world_of(client), 1_200, 7, forget_all)
    assert not caller.faults, "\n".join(caller.faults[:10])
    assert sum(caller.met.values()) == 1_200 and len(caller.met) >= 6


@pytest.mark.parametrize(("refused", "kept", "faults"), [(True, True, 1), (True, False, 0), (False, True, 0)])
def test_what_is_refused_and_changes_something_is_found(db: None, refused: bool, kept: bool, faults: int) -> None:
    """Of a call that writes: a fault where it is refused and what it wrote stays, none where that is undone."""

    class Writer(Caller):
        def call(self) -> None:
            self.last, self.changes_nothing = "a call", refused
            with transaction.atomic():
                User.objects.create_user("mara")
                transaction.set_rollback(not kept)

    caller = Writer(None, {}, 1)
    left_alone(caller)
    assert len(caller.faults) == faults and User.objects.filter(username="mara").exists() == (kept and not refused)


@pytest.mark.parametrize("body", ["small", 1e308, []])
def test_a_rule_of_choice_that_is_no_object_is_refused(client: APIClient, done: Study, body: Any) -> None:
    answer = client.post(f"/api/studies/{done.pk}/choice/", body, format="json")
    assert answer.status_code == 400 and answer.json()["detail"]


def test_an_act_is_refused_before_it_is_done_where_its_answer_cannot_be_given(client: APIClient, done: Study) -> None:
    client.post(f"/api/portfolios/{done.portfolio.pk}/studies/", {"recipe": RECIPE}, format="json")
    waiting = Study.objects.latest("pk")
    address, ahead = f"/api/portfolios/{done.portfolio.pk}/adjustments/", done.load.timeline.after(6).labels
    change = {"nodes": ["top"], "first": ahead[0], "last": ahead[0], "change": "percent", "amount": 5}
    client.post(f"/api/studies/{done.pk}/adjustments/", {"changes": [change], "reason": "fair"}, format="json")
    for of, status in ((waiting.pk, 409), ("9" * 5_000, 400), ("١", 400), (done.pk + 99, 404)):
        for act in ("undo", "redo"):
            assert client.post(f"{address}{act}/?study={of}").status_code == status
        assert client.get(f"{address}?study={of}").status_code == status
    assert client.get(address).json()["adjustments"][0]["state"] == "standing"


@pytest.mark.parametrize(
    ("address", "status"),
    [
        ("studies/{study}/beside/{study}/?also={n}", 400),
        ("studies/{study}/nodes/{n}/", 404),
        ("portfolios/{portfolio}/series/{n}/", 404),
        ("portfolios/{n}/", 404),
    ],
)
def test_a_number_of_five_thousand_digits_is_no_number(
    client: APIClient, done: Study, address: str, status: int
) -> None:
    place = address.format(study=done.pk, portfolio=done.portfolio.pk, n="9" * 5_000)
    assert client.get(f"/api/{place}").status_code == status


def test_what_a_hand_in_that_was_undone_left_behind_is_in_nobodys_way(client: APIClient, user: User) -> None:
    first = hand_in(client).json()["id"]
    upload = services.Upload.objects.get(pk=first)
    left = services.folder_of(upload).with_name(str(first + 1))
    left.mkdir()
    (left / "file-0").write_bytes(b"of another")
    again = client.post("/api/uploads/", {"sales": SimpleUploadedFile("sales.csv", SALES.encode())}, format="multipart")
    assert again.status_code == 201 and again.json()["id"] == first + 1
    assert (left / "file-0").read_bytes() == SALES.encode()
