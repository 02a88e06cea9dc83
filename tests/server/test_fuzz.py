"""The short form of `bench.fuzz`: calls that no person would make, and what they have found."""

from __future__ import annotations

from typing import Any

import pytest
from bench.fuzz import forget_all, fuzzed, world_of
from django.contrib.auth.models import User
from django.core.files.uploadedfile import SimpleUploadedFile
from rest_framework.test import APIClient

from tansy.server.portfolios import services
from tansy.server.studies.models import Study
from tests.garden import SALES
from tests.server.conftest import hand_in


def test_no_call_by_chance_is_a_fault_of_the_server(user: User) -> None:
    User.objects.filter(pk=user.pk).update(is_staff=True)
    client = APIClient(raise_request_exception=False)
    client.force_authenticate(User.objects.get(pk=user.pk))
    caller = fuzzed(client, world_of(client), 1_200, 7, forget_all)
    assert not caller.faults, "\n".join(caller.faults[:10])
    assert sum(caller.met.values()) == 1_200 and len(caller.met) >= 6


@pytest.mark.parametrize("body", ["small", 1e308, []])
def test_a_rule_of_choice_that_is_no_object_is_refused(client: APIClient, done: Study, body: Any) -> None:
    answer = client.post(f"/api/studies/{done.pk}/choice/", body, format="json")
    assert answer.status_code == 400 and answer.json()["detail"]


def test_what_a_hand_in_that_was_undone_left_behind_is_in_nobodys_way(client: APIClient, user: User) -> None:
    first = hand_in(client).json()["id"]
    upload = services.Upload.objects.get(pk=first)
    left = services.folder_of(upload).with_name(str(first + 1))
    left.mkdir()
    (left / "file-0").write_bytes(b"of another")
    again = client.post("/api/uploads/", {"sales": SimpleUploadedFile("sales.csv", SALES.encode())}, format="multipart")
    assert again.status_code == 201 and again.json()["id"] == first + 1
    assert (left / "file-0").read_bytes() == SALES.encode()
