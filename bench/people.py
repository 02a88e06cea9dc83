"""People clicking while studies run: how long each kind of answer takes, and whether one fails.

    python -m bench.people [--data var/demo] [--people 8] [--minutes 10]

Promised for 8 people and 2 runs over 10 minutes: no error, no reset connection, p95 under 300 ms. A copy of the demo's
folder is served for real; each person keeps one connection and pauses for half a second to two between clicks.
"""

from __future__ import annotations

import argparse
import gzip
import http.client
import json
import os
import random
import re
import shutil
import socket
import subprocess
import sys
import tempfile
import threading
import time
from collections import defaultdict
from pathlib import Path
from statistics import median, quantiles
from typing import Any

PASSWORD = "slow-river-stone"
TANSY = [sys.executable, "-m", "tansy.cli"]
PAUSE = (0.5, 2.0)
PEOPLE = """
from django.contrib.auth.models import User
from tansy.server.portfolios.models import Member, Portfolio
for i in range({n}):
    user = User.objects.create_user(f"planner{{i}}", password="{password}")
    for portfolio in Portfolio.objects.all():
        Member.objects.create(portfolio=portfolio, user=user, role="signer")
"""


class Person:
    """One who clicks, on one connection. took: seconds by name of what was asked; failed: what went wrong."""

    def __init__(self, name: str, port: int) -> None:
        self._line = http.client.HTTPConnection("127.0.0.1", port, timeout=60)
        self._cookies: dict[str, str] = {}
        self._random = random.Random(name)
        self.took: dict[str, list[float]] = defaultdict(list)
        self.failed: list[str] = []
        self.ask("page", "GET", "/")
        self.ask("sign in", "POST", "/api/session/", {"username": name, "password": PASSWORD})

    def ask(self, name: str, verb: str, path: str, body: Any = None) -> bytes:
        headers = {"Cookie": "; ".join(f"{key}={value}" for key, value in self._cookies.items())}
        headers |= {
            "X-CSRFToken": self._cookies.get("csrftoken", ""),
            "Content-Type": "application/json",
            "Accept-Encoding": "gzip",
        }
        began = time.perf_counter()
        try:
            self._line.request(verb, path, None if body is None else json.dumps(body), headers)
            answer = self._line.getresponse()
            content = answer.read()
            if answer.headers.get("Content-Encoding") == "gzip":
                content = gzip.decompress(content)
        except (OSError, http.client.HTTPException) as error:
            self.failed.append(f"{name}: {error!r}")
            self._line.close()
            return b""
        self.took[name].append(time.perf_counter() - began)
        for one in answer.headers.get_all("Set-Cookie", []):
            key, _, value = one.split(";", 1)[0].partition("=")
            self._cookies[key] = value
        if answer.status >= 400:
            self.failed.append(f"{name}: {answer.status} {content[:120]!r}")
        return content

    def click(self, portfolio: int, study: int, release: int, nodes: list[str], ahead: list[str]) -> None:
        node = self._random.choice(nodes)
        of_node, of_study, of = (
            f"/api/studies/{study}/nodes/{node}",
            f"/api/studies/{study}",
            f"/api/portfolios/{portfolio}",
        )
        change = {"nodes": [node], "first": ahead[0], "last": ahead[3], "change": "percent", "amount": 5.0}
        clicks: list[tuple[str, str, str, Any]] = [
            ("portfolios", "GET", "/api/portfolios/", None),
            ("studies", "GET", f"{of}/studies/", None),
            ("field", "GET", f"{of_study}/field/", None),
            ("summary", "GET", f"{of_study}/summary/", None),
            ("node", "GET", f"{of_node}/", None),
            ("node", "GET", f"{of_node}/", None),
            ("node", "GET", f"{of_node}/", None),
            ("node's parts", "GET", f"{of_node}/parts/", None),
            ("node followed", "GET", f"{of_node}/kin/", None),
            ("structure", "GET", f"{of_study}/structure/", None),
            ("draft", "GET", f"{of_study}/draft/", None),
            ("releases", "GET", f"{of}/releases/", None),
            ("release's CSV", "GET", f"/api/releases/{release}/csv/", None),
            ("track", "GET", f"/api/releases/{release}/track/", None),
            ("kinds", "GET", f"{of}/kinds/", None),
            ("overview", "GET", f"{of}/overview/", None),
            ("corrections", "GET", f"{of}/corrections/", None),
            ("adjustments", "GET", f"{of}/adjustments/?study={study}", None),
            ("adjusting, looked at", "POST", f"{of_study}/adjustments/", {"changes": [change], "preview": True}),
            ("comment", "POST", f"{of_study}/comments/", {"text": "looked at", "where": {}}),
        ]
        self.ask(*self._random.choice(clicks))

    def go_on(self, until: float, *world: Any) -> None:
        while time.monotonic() < until:
            self.click(*world)
            time.sleep(self._random.uniform(*PAUSE))


def _served(folder: Path, people: int) -> tuple[subprocess.Popen[bytes], int]:
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = int(free.getsockname()[1])
    env = {**os.environ, "TANSY_DATA": str(folder)}
    subprocess.run([*TANSY, "admin", "migrate", "--verbosity", "0"], env=env, check=True)
    made = PEOPLE.format(n=people, password=PASSWORD)
    subprocess.run([*TANSY, "admin", "shell", "--verbosity", "0", "-c", made], env=env, check=True)
    server = subprocess.Popen([*TANSY, "serve", "--port", str(port)], env=env)
    for _ in range(300):
        try:
            socket.create_connection(("127.0.0.1", port), timeout=1.0).close()
            return server, port
        except OSError:
            time.sleep(0.2)
    raise SystemExit("the server did not start")


def _report(people: list[Person], runs: list[dict[str, Any]]) -> None:
    took: dict[str, list[float]] = defaultdict(list)
    for one in people:
        for name, seconds in one.took.items():
            took[name] += seconds
    print(f"{'answer':<24}{'n':>6}{'median':>9}{'p95':>8}{'most':>8}  ms")
    for name, seconds in sorted(took.items()):
        print(
            f"{name:<24}{len(seconds):>6}{1000 * median(seconds):>9.0f}{_p95(seconds):>8.0f}{1000 * max(seconds):>8.0f}"
        )
    every = [seconds for name, own in took.items() if name not in ("page", "sign in") for seconds in own]
    failed = [one for person in people for one in person.failed]
    print(f"{'all clicks':<24}{len(every):>6}{1000 * median(every):>9.0f}{_p95(every):>8.0f}{1000 * max(every):>8.0f}")
    print(f"{len(failed)} failed; runs: {', '.join(one['state'] for one in runs)}")
    for said in failed[:10]:
        print(f"  {said}")


def _p95(seconds: list[float]) -> float:
    return 1000.0 * (quantiles(seconds, n=20)[-1] if len(seconds) > 1 else seconds[0])


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--data", type=Path, default=Path("var/demo"))
    parser.add_argument("--people", type=int, default=8)
    parser.add_argument("--minutes", type=float, default=10.0)
    given, _ = parser.parse_known_args()
    if not (given.data / "tansy.sqlite3").exists():
        raise SystemExit(f"{given.data} holds no demo; make one with `tansy demo --no-serve`.")
    with tempfile.TemporaryDirectory() as folder:
        copy = Path(folder) / "data"
        shutil.copytree(given.data, copy)
        server, port = _served(copy, given.people)
        try:
            people = [Person(f"planner{i}", port) for i in range(given.people)]
            first = people[0]
            portfolio = json.loads(first.ask("portfolios", "GET", "/api/portfolios/"))[0]["id"]
            of = f"/api/portfolios/{portfolio}"
            studies = json.loads(first.ask("studies", "GET", f"{of}/studies/"))
            study = next(one["id"] for one in studies if one["run"]["state"] == "done")
            release = json.loads(first.ask("releases", "GET", f"{of}/releases/"))[0]["id"]
            nodes = json.loads(first.ask("field", "GET", f"/api/studies/{study}/field/"))["node"]
            draft = json.loads(first.ask("draft", "GET", f"/api/studies/{study}/draft/"))
            recipe = first.ask("recipe", "GET", f"/api/studies/{study}/recipe/").decode()
            runs = []
            for step in (11, 12):  # other origins than those of the demo, so that runs have work to do
                other = re.sub(r"(?m)^step = .*", f"step = {step}", recipe)
                made = first.ask("run", "POST", f"{of}/studies/", {"recipe": other})
                runs.append(json.loads(made)["id"])
            until = time.monotonic() + 60.0 * given.minutes
            world = (until, portfolio, study, release, nodes, draft["periods"])
            threads = [threading.Thread(target=one.go_on, args=world) for one in people]
            for thread in threads:
                thread.start()
            for thread in threads:
                thread.join()
            _report(people, [json.loads(first.ask("run", "GET", f"/api/studies/{one}/"))["run"] for one in runs])
        finally:
            server.terminate()
            server.wait(timeout=60)


if __name__ == "__main__":
    main()
