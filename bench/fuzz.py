"""Calls that no person would make, made by chance from the API's own description: none may be a server error.

    python -m bench.fuzz [--calls 100000] [--seed 1]

Every operation that is described is called with numbers that are there and not, and with bodies that hold to the
description, hold to it in part, or are something else altogether: other types, numbers beyond all bounds, names with
markup, paths, bytes and control characters, files that are damaged at random. What is answered is below 500, an error
is a problem document with a sentence, and its status is one that the description names. What is refused has changed
nothing (but the count of failed attempts), and what is only read neither. Calls come in sequences, each on the same
world: what a sequence has changed is undone at its end.
"""

from __future__ import annotations

import argparse
import hashlib
import json
import logging
import os
import random
import re
import tempfile
import time
import traceback
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from typing import Any

DESCRIBED: dict[str, Any] = json.loads((Path(__file__).parents[1] / "web" / "openapi.json").read_text())
OPERATIONS = [
    (verb, path)
    for path, verbs in DESCRIBED["paths"].items()
    for verb in verbs
    if verb in ("get", "post", "patch", "put", "delete") and path != "/api/schema/"
]
SEQUENCE = 150
WORDS = (
    "", " ", "top", "P1", "S0", "Herbs", "North", "Plant 1 × S0", "group", "region", "product", "store",
    "week", "units", "sales.csv", "products.csv", "2019-W01", "2022-W30", "2026-W99", "2021-02", "20260101",
    "ets(A,N,N)", "ets(M,Ad,M)",
    "arima(best)", "arima(9,9,9)", "mean + x(price)", "blend(mean; naive)", "log(ets(A,A,A))", "naive(", "variance",
    "percent", "set", "csv", "xlsx", "spike", "zero-run", "median", "expected", "small", "(group > product) * store",
    "reader", "keeper", "true", "null", "NaN", "-1", "1e400", "0x10", "<script>alert(1)</script>",
    "'; DROP TABLE x; --", "../../etc/passwd", "%00", "\u0000", "\u202eabc", "💐" * 40, "a" * 5_000, "=1+1",
    "x" * 200 + "é", "9" * 5_000, "١٢", "[data]\nname=1",
)  # fmt: skip
NUMBERS = (0, 1, -1, 2, 7, 52, 100, 9_999, 2**31, 2**63, -(2**63), 10**30, 0.1, -0.5, 1e-300, 1e308, -1e308, 37.5)


_last_raised: dict[str, str] = {}


class _Heard(logging.Handler):
    """Where the last error was raised that was logged."""

    def emit(self, record: logging.LogRecord) -> None:
        if record.exc_info and record.exc_info[1] is not None:
            lines = traceback.format_exception(record.exc_info[1])
            _last_raised["said"] = " ".join(" ".join(lines[-3:]).split())


class Caller:
    """Makes calls by chance. world: values by their kind that are there. met: how many answers had each status."""

    changes_nothing: bool
    """Whether the last call had to leave all as it was, for it was refused or only read."""
    last: str

    def __init__(self, client: Any, world: dict[str, list[Any]], seed: int) -> None:
        self._client, self._world, self.random = client, world, random.Random(seed)
        self.met = Counter[int]()
        self.faults: list[str] = []
        self.slowest: tuple[float, str] = (0.0, "")

    def call(self) -> None:
        verb, path = self.random.choice(OPERATIONS)
        told = DESCRIBED["paths"][path][verb]
        address = re.sub(r"\{(\w+)\}", lambda found: self._in_path(path, found.group(1)), path)
        asked = self._query(told.get("parameters", []))
        body, form = self._body(told)
        began = time.perf_counter()
        self.last = said = f"{verb} {address} {asked} {str(body)[:600]}"
        self.changes_nothing = verb == "get" and not address.endswith("/archive/")  # that is on the trail
        try:
            answer = self._ask(verb, address, asked, body, form)
        except Exception as error:
            self.faults.append(f"{said}: {error!r}")
            return
        took = time.perf_counter() - began
        self.slowest = max(self.slowest, (took, said[:200]))
        self.met[answer.status_code] += 1
        self.changes_nothing |= answer.status_code >= 400
        if answer.status_code >= 500:
            self.faults.append(f"{said}: {answer.status_code} {_last_raised.pop('said', answer.content[:200])}")
        elif answer.status_code >= 400:
            if str(answer.status_code) not in told["responses"]:
                self.faults.append(f"{said}: {answer.status_code} is not described: {answer.content[:200]!r}")
            elif not (answer.headers.get("Content-Type", "").startswith("application/problem+json")):
                self.faults.append(f"{said}: {answer.status_code} is no problem document: {answer.content[:200]!r}")
            elif not answer.json().get("detail"):
                self.faults.append(f"{said}: {answer.status_code} says nothing")

    def _ask(self, verb: str, address: str, asked: dict[str, str], body: Any, form: str) -> Any:
        query = f"?{'&'.join(f'{_quoted(k)}={_quoted(v)}' for k, v in asked.items())}" if asked else ""
        ask = getattr(self._client, verb)
        if verb == "get" or body is None:
            return ask(f"{address}{query}")
        if form == "raw":
            return ask(f"{address}{query}", body, content_type="application/json")
        return ask(f"{address}{query}", body, format=form)

    def _in_path(self, path: str, name: str) -> str:
        noun = path.split("/")[2]
        kind = name if name in ("node", "series", "form") else "studies" if name == "other" else noun
        known = self._world.get(kind, [])
        if known and self.random.random() < 0.85:
            return str(self.random.choice(known))
        return self.random.choice(("1", "999999", "0", "top", "ffffffffffffffff", str(2**70), "9" * 5_000))

    def _query(self, parameters: list[dict[str, Any]]) -> dict[str, str]:
        found = {}
        for one in parameters:
            if one["in"] == "query" and self.random.random() < 0.6:
                value = self._value(one.get("schema", {}), 3)
                found[one["name"]] = value if isinstance(value, str) else json.dumps(value)
        if self.random.random() < 0.1:
            found[self.random.choice(("before", "limit", "format", "by", "x"))] = str(self._anything(1))
        return found

    def _body(self, told: dict[str, Any]) -> tuple[Any, str]:
        content = told.get("requestBody", {}).get("content", {})
        if not content:
            return None, "json"
        form = "json" if "application/json" in content else "multipart"
        if form == "multipart":
            return self._files(_resolved(content["multipart/form-data"]["schema"])), form
        if self.random.random() < 0.05:
            return self.random.choice(("{", "[1,", b"\xed\xa0\xbd", "\x00", '{"a": NaN}', "[" * 5_000, "", "0")), "raw"
        return self._value(content["application/json"]["schema"], 6), form

    def _files(self, schema: dict[str, Any]) -> dict[str, Any]:
        from django.core.files.uploadedfile import SimpleUploadedFile

        found: dict[str, Any] = {}
        for name, own in schema.get("properties", {}).items():
            if self.random.random() < 0.2:
                continue
            several = own.get("type") == "array"
            files = [
                SimpleUploadedFile(
                    self.random.choice(("sales.csv", "sales.xlsx", "a.parquet", "a.zip", "x" * 300)), one
                )
                for one in (self._content() for _ in range(self.random.randint(1, 3) if several else 1))
            ]
            found[name] = files if several else files[0]
        return found

    def _content(self) -> bytes:
        content = bytearray(self.random.choice(self._world["content"]))
        for _ in range(self.random.choice((0, 1, 3, 30))):
            if content:
                content[self.random.randrange(len(content))] = self.random.randrange(256)
        return bytes(content[: self.random.choice((len(content), len(content) // 2, 40, 0))] or b"")

    def _value(self, schema: dict[str, Any], deep: int) -> Any:
        """A value of a schema, nearly always; else anything."""
        if self.random.random() < 0.08:
            return self._anything(2)
        schema = _resolved(schema)
        if schema.get("nullable") and self.random.random() < 0.1:
            return None
        for way in ("oneOf", "anyOf", "allOf"):
            if way in schema:
                return self._value(self.random.choice(schema[way]), deep)
        if "enum" in schema:
            return self.random.choice(schema["enum"])
        kind = schema.get("type")
        if kind == "object":
            return self._object(schema, deep)
        if kind == "array":
            some = self.random.choice((0, 1, 1, 2, 5))
            return [self._value(schema.get("items", {}), deep - 1) for _ in range(some if deep > 0 else 0)]
        if kind in ("integer", "number"):
            known = [one for name in ("studies", "portfolios", "found") for one in self._world.get(name, [])]
            pick = self.random.choice((*known, *NUMBERS) if self.random.random() < 0.5 else (0, 1, 2, 4, 8, 13))
            return int(pick) if kind == "integer" and self.random.random() < 0.9 else pick
        if kind == "boolean":
            return self.random.random() < 0.5
        if kind == "string":
            return self.random.choice((*WORDS, *self._world["words"]))
        return self._anything(2)

    def _object(self, schema: dict[str, Any], deep: int) -> dict[str, Any]:
        found = {}
        for name, own in schema.get("properties", {}).items():
            if own.get("readOnly") or deep <= 0:
                continue
            needed = name in schema.get("required", [])
            if self.random.random() < (0.95 if needed else 0.5):
                found[name] = self._value(own, deep - 1)
        more = schema.get("additionalProperties")
        if more is not None or self.random.random() < 0.05:
            key = self.random.choice((*WORDS, *self._world["words"]))
            found[key] = self._value(more, deep - 1) if isinstance(more, dict) else self._anything(1)
        return found

    def _anything(self, deep: int) -> Any:
        kinds: list[Callable[[], Any]] = [
            lambda: None, lambda: self.random.choice(WORDS), lambda: self.random.choice(NUMBERS), lambda: True,
        ]  # fmt: skip
        if deep:
            kinds += [
                lambda: [self._anything(deep - 1) for _ in range(3)],
                lambda: {self.random.choice(WORDS): self._anything(deep - 1)},
            ]
        return self.random.choice(kinds)()


def _quoted(text: str) -> str:
    from urllib.parse import quote

    return quote(text.encode("utf-8", "surrogatepass"))


def _resolved(schema: dict[str, Any]) -> dict[str, Any]:
    while "$ref" in schema:
        schema = DESCRIBED["components"]["schemas"][schema["$ref"].rsplit("/", 1)[1]]
    return schema


def world_of(client: Any) -> dict[str, list[Any]]:
    """A portfolio with drivers, a study of it that has been run, a release, and something of most other kinds; and a
    portfolio of three weeks, which is too short for most of what can be asked."""
    from django.core.files.uploadedfile import SimpleUploadedFile
    from tests.garden import DRIVERS, PRODUCTS, RECIPE, SALES

    from tansy.server.releases.models import Release
    from tansy.server.studies import running
    from tansy.server.studies.models import Node, Study

    def made(path: str, body: Any, form: str = "json") -> Any:
        answer = client.post(f"/api/{path}", body, format=form)
        assert answer.status_code < 400, f"{path}: {answer.content[:300]!r}"
        return answer.json()

    def handed_in() -> int:
        beside = [SimpleUploadedFile("products.csv", PRODUCTS.encode()), SimpleUploadedFile("d.csv", DRIVERS.encode())]
        files = {"sales": SimpleUploadedFile("sales.csv", SALES.encode()), "attributes": beside}
        return int(made("uploads/", files, "multipart")["id"])

    garden = made(f"uploads/{handed_in()}/load/", {"name": "Garden", "options": {}})
    portfolio = garden["id"]
    made(f"portfolios/{portfolio}/studies/", {"recipe": RECIPE})
    study = Study.objects.get()
    running.carry_out(study.run)
    ahead = study.load.timeline.after(6).labels
    change = {"nodes": ["top"], "first": ahead[0], "last": ahead[-1], "change": "percent", "amount": 5.0}
    made(f"studies/{study.pk}/adjustments/", {"changes": [change], "reason": "fair"})
    made(f"studies/{study.pk}/publish/", {"note": "first"})
    search = made(f"portfolios/{portfolio}/searches/", {"find": ["spike", "zero-run"]})
    made(f"studies/{study.pk}/comments/", {"text": "looks right"})
    made(f"portfolios/{portfolio}/webhooks/", {"url": "http://127.0.0.1:9/orders"})
    member = made(f"portfolios/{portfolio}/members/", {"name": "omar", "role": "planner"})
    token = made("tokens/", {"name": "desk"})
    sales = SALES.encode()
    few = b"week,product,units\n2026-W01,P1,3\n2026-W02,P1,\n2026-W03,P1,4\n2026-W03,P2,1\n"
    sprout = made("uploads/", {"sales": SimpleUploadedFile("few.csv", few)}, "multipart")
    sprout = made(f"uploads/{sprout['id']}/load/", {"name": "Sprout", "options": {}})
    return {
        "portfolios": [portfolio, portfolio, sprout["id"]], "studies": [study.pk],
        "releases": [Release.objects.get().pk],
        "loads": [garden["load"]["id"], sprout["load"]["id"]], "uploads": [handed_in()], "searches": [search["id"]],
        "members": [member["id"]], "tokens": [token["id"]], "people": [1, 2],
        "adjustments": [1], "comments": [1], "webhooks": [1],
        "node": [*Node.objects.values_list("ref", flat=True)[:12], "top", "0"], "series": [0, 3, 17],
        "form": ["csv", "xlsx", "parquet"], "found": [one["id"] for one in search["found"][:3]],
        "words": [*ahead, *study.load.timeline.labels[-20:], RECIPE, *Node.objects.values_list("ref", flat=True)[:5]],
        "content": [sales, sales[:400], PRODUCTS.encode(), DRIVERS.encode(), b"", b"PK\x03\x04" + sales[:200],
                    b"PAR1" + sales[:90], sales[:2000].decode().encode("utf-16"), b"a;b\n1,5;2\n"],
    }  # fmt: skip


def digest() -> str:
    """Of every row in the database but failed attempts."""
    from django.apps import apps

    found = hashlib.sha256()
    for model in apps.get_models():
        if model.__name__ != "FailedSignIn":
            rows = sorted(map(repr, model._default_manager.values_list()))
            found.update("\n".join(rows).encode("utf-8", "backslashreplace"))
    return found.hexdigest()


def left_alone(caller: Caller) -> None:
    """Make a call, and note it as a fault where it changed what it had to leave alone. Within a transaction.

    Rows that were written are no proof: what is refused is undone. They only say where to look.
    """
    from django.db import connection, transaction

    before, written = transaction.savepoint(), connection.connection.total_changes
    caller.call()
    if caller.changes_nothing and connection.connection.total_changes != written:
        after = digest()
        transaction.savepoint_rollback(before)
        if digest() != after:
            caller.faults.append(f"{caller.last}: was refused, or only read, and changed something")
    else:
        transaction.savepoint_commit(before)


def fuzzed(client: Any, world: dict[str, list[Any]], calls: int, seed: int, forget: Callable[[], None]) -> Caller:
    """So many calls, in sequences that are undone. forget: empties what is kept in memory of rows."""
    from django.db import transaction

    caller = Caller(client, world, seed)
    done = told = 0
    while done < calls:
        with transaction.atomic():
            for _ in range(min(SEQUENCE, calls - done)):
                with transaction.atomic():  # what a call leaves broken is its own
                    left_alone(caller)
                done += 1
            transaction.set_rollback(True)
        forget()
        if done % (20 * SEQUENCE) == 0:
            print(f"{done:,} calls: {dict(sorted(caller.met.items()))}, {len(caller.faults)} faults", flush=True)
            for one in caller.faults[told:]:
                print(_plain(one), flush=True)
            told = len(caller.faults)
    return caller


def forget_all() -> None:
    from tansy.server.portfolios import overview, panels
    from tansy.server.releases import bridge, track
    from tansy.server.studies import adjustments, compare_api, services, tries_api

    for own in (panels, overview, bridge, track, adjustments, compare_api, services, tries_api):
        own.forget()


def _plain(fault: str) -> str:
    return f"  {fault[:900]}".encode("utf-8", "backslashreplace").decode()


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--calls", type=int, default=100_000)
    parser.add_argument("--seed", type=int, default=1)
    given, _ = parser.parse_known_args()
    with tempfile.TemporaryDirectory() as folder:
        os.environ |= {"TANSY_DATA": folder, "TANSY_HOSTS": "testserver"}
        os.environ["DJANGO_SETTINGS_MODULE"] = "tansy.server.settings"
        os.environ.pop("TANSY_DATABASE", None)
        import django

        django.setup()
        logging.root.handlers = [_Heard()]
        for name in ("tansy", "django", "django.request"):
            logging.getLogger(name).handlers, logging.getLogger(name).propagate = [], True
        from django.contrib.auth.models import User
        from rest_framework.test import APIClient

        from tansy.server.serving import migrate

        migrate()
        client = APIClient(raise_request_exception=False)
        client.force_authenticate(User.objects.create_superuser("ines", password="slow-river-stone"))
        began = time.monotonic()
        caller = fuzzed(client, world_of(client), given.calls, given.seed, forget_all)
    print(f"{given.calls:,} calls in {time.monotonic() - began:.0f} s: {dict(sorted(caller.met.items()))}")
    print(f"slowest {caller.slowest[0]:.2f} s: {caller.slowest[1]}")
    print(f"{len(caller.faults)} faults")
    for one in caller.faults[:40]:
        print(_plain(one))
    raise SystemExit(1 if caller.faults else 0)


if __name__ == "__main__":
    main()
