"""A served Tansy killed at random moments of what people and runs do: nothing lost, nothing half-written.

    python -m bench.kill [--times 200] [--seed 1]

Every process of it is killed at once (SIGKILL) while a file is loaded or appended, values are corrected, a forecast is
adjusted and released, or a study runs. Then, before it is served again, the database is looked at: it is sound, every
load has its series, every result its nodes, every release its sum; and whatever had been answered with a 2xx is there.
At the end every run that was asked for comes to its end. A power cut takes more than that, what the disk was told to
keep and did not: the database waits for the disk at every act (`synchronous=FULL`), which cannot be shown here.
"""

from __future__ import annotations

import argparse
import hashlib
import json
import os
import random
import signal
import socket
import sqlite3
import subprocess
import sys
import tempfile
import threading
import time
from collections import Counter
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from typing import Any

import requests
from tests.garden import FIRST_WEEK, N_WEEKS, PRODUCTS, RECIPE, SALES

from tansy.engine.timeline import label

TANSY = [sys.executable, "-m", "tansy.cli"]
PASSWORD = "slow-river-stone"
TOKEN = """
from django.contrib.auth.models import User
from tansy.server.accounts.models import Token
print(Token.issue(User.objects.create_superuser("ines", password="{password}"), "kill", "act", 9)[1])
"""


class Served:
    """A data folder that is served, and what its answers promised. log: what each kill met."""

    def __init__(self, folder: Path, seed: int) -> None:
        self.folder, self.random = folder, random.Random(seed)
        self._env = {**os.environ, "TANSY_DATA": str(folder), "DJANGO_SETTINGS_MODULE": "tansy.server.settings"}
        self._env.pop("TANSY_DATABASE", None)
        self._admin("migrate", "--verbosity", "0")
        made = self._admin("shell", "--verbosity", "0", "-c", TOKEN.format(password=PASSWORD))
        self._token = made.strip().splitlines()[-1]
        self._process: subprocess.Popen[bytes] | None = None
        self.port = 0
        self.portfolios: set[str] = set()
        self.releases: dict[int, str] = {}
        self.kept = Counter[str]()
        self.studies: set[int] = set()
        self.met = Counter[str]()
        self._took: dict[str, float] = {}
        self._n = 0
        self._weeks = N_WEEKS

    def _admin(self, *asked: str) -> str:
        return subprocess.run(
            [*TANSY, "admin", *asked], env=self._env, check=True, capture_output=True, text=True
        ).stdout  # fmt: skip

    def start(self) -> None:
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            self.port = int(free.getsockname()[1])
        with (self.folder.parent / "served.log").open("ab") as log:
            self._process = subprocess.Popen(
                [*TANSY, "serve", "--port", str(self.port)], env=self._env, stdout=log, stderr=log
            )
        self.until_it_answers()

    def until_it_answers(self) -> None:
        said = ""
        for _ in range(1_800):  # a worker stands behind whatever else the machine does
            assert self._process and self._process.poll() is None, self._said()
            try:
                answer = requests.get(f"http://127.0.0.1:{self.port}/healthz", timeout=2)
                said = f"{answer.status_code} {answer.text}"
                if answer.ok:
                    return
            except requests.RequestException as error:
                said = repr(error)
            time.sleep(0.1)
        raise AssertionError(f"it did not start again: {said}; {self._said()}")

    def _said(self) -> str:
        return (self.folder.parent / "served.log").read_text()[-3000:]

    def serving(self) -> int:
        """The process that keeps the web server and the worker."""
        assert self._process is not None
        return self._process.pid

    def processes(self) -> list[int]:
        return children_of(self.serving())

    def kill(self) -> None:
        """All of it at once: first stopped, so that none hears of another's death."""
        family = [self.serving()]
        for pid in family:
            family += children_of(pid)
        for how in (signal.SIGSTOP, signal.SIGKILL):
            for pid in family:
                try:
                    os.kill(pid, how)
                except ProcessLookupError:
                    continue
        if self._process:
            self._process.wait()

    def ask(self, verb: str, path: str, **more: Any) -> Any:
        """What is answered; raises where it is an error, or nothing comes."""
        answer = requests.request(
            verb, f"http://127.0.0.1:{self.port}/api/{path}", timeout=60,
            headers={"Authorization": f"Bearer {self._token}"}, **more,
        )  # fmt: skip
        assert answer.status_code < 400, f"{verb} {path}: {answer.status_code} {answer.text[:300]}"
        return answer.json() if answer.content and "json" in answer.headers["Content-Type"] else answer.content

    # what people do; each says what it was once it is answered

    def load(self) -> None:
        self._n += 1
        name = f"Garden {self._n}"
        files = {"sales": ("sales.csv", SALES), "attributes": ("products.csv", PRODUCTS)}
        upload = self.ask("POST", "uploads/", files=files)
        self.ask("POST", f"uploads/{upload['id']}/load/", json={"name": name, "options": {}})
        self.portfolios.add(name)

    def append(self) -> None:
        week = label(FIRST_WEEK + self._weeks, "W")
        self._n += 1  # another value each time: a week may be there though a kill came before it was answered
        rows = [f"{week},P{p},S{s},North,{7 + self._n}" for p in range(6) for s in range(3)]
        text = "week,product,store,region,units\n" + "\n".join(rows) + "\n"
        upload = self.ask("POST", "uploads/", files={"sales": ("more.csv", text)})
        self.ask("POST", f"uploads/{upload['id']}/append/", json={"portfolio": self.garden})
        self.kept["loads"] += 1
        self._weeks += 1

    def correct(self) -> None:
        week = label(FIRST_WEEK + self.random.randrange(N_WEEKS), "W")
        because = {"because": "closure", "reason": "refit", "first": week, "last": week}
        found = self.ask(
            "POST", f"portfolios/{self.garden}/corrections/mark/", json={"where": {"store": "S2"}, **because}
        )
        self.kept["corrections"] += found["count"]

    def release(self) -> None:
        change = {"nodes": ["top"], "change": "percent", "amount": 1.0 + self.random.random()}
        span = {"first": self.ahead[0], "last": self.ahead[-1]}
        study = f"studies/{self.study}"
        self.ask("POST", f"{study}/adjustments/", json={"changes": [change | span], "reason": "spring fair"})
        self.kept["adjustments"] += 1
        made = self.ask("POST", f"{study}/publish/", json={"note": f"after {sum(self.met.values())} kills"})
        self.releases[made["id"]] = hashlib.sha256(self.ask("GET", f"releases/{made['id']}/parquet/")).hexdigest()

    def run(self) -> None:
        self.ask_for_run()
        time.sleep(3.0)  # so that kills fall into the run

    def ask_for_run(self) -> None:
        self._n += 1
        recipe = RECIPE.replace('"small"', f'"study {self._n}"').replace("step = 6", f"step = {3 + self._n % 9}")
        made = self.ask("POST", f"portfolios/{self.garden}/studies/", json={"recipe": recipe})
        self.studies.add(made["id"])

    def prepare(self) -> None:
        """A portfolio with a study, to act on."""
        self.load()
        self.garden = self.ask("GET", "portfolios/")[0]["id"]
        self.study = self.ask("POST", f"portfolios/{self.garden}/studies/", json={"recipe": RECIPE})["id"]
        self.studies.add(self.study)
        self.wait()
        self.ahead = self.ask("GET", f"studies/{self.study}/draft/")["periods"]

    def again(self) -> None:
        """Have runs that failed for want of something taken up again."""
        for study in self.studies:
            if self.ask("GET", f"studies/{study}/")["run"]["state"] == "failed":
                self.ask("POST", f"studies/{study}/run/")

    def wait(self) -> None:
        """Until every run that was asked for has come to its end."""
        deadline = time.monotonic() + 60.0 + 20.0 * len(self.studies)
        for study in self.studies:
            while (run := self.ask("GET", f"studies/{study}/")["run"])["state"] in ("queued", "running"):
                assert time.monotonic() < deadline, f"study {study} does not come to its end: {run}"
                time.sleep(0.2)
            assert run["state"] == "done", f"study {study}: {run}"

    def sound(self) -> None:
        """Look at the folder of one that is not served. Raises AssertionError."""
        with closing(sqlite3.connect(f"file:{self.folder / 'tansy.sqlite3'}?mode=ro", uri=True)) as own:

            def rows(query: str) -> list[Any]:
                return own.execute(query).fetchall()

            assert rows("PRAGMA integrity_check") == [("ok",)] and not rows("PRAGMA foreign_key_check")
            for load, expected, found in rows(
                "SELECT l.id, n_series, COUNT(s.id) FROM portfolios_load l LEFT JOIN portfolios_series s "
                "ON s.load_id = l.id GROUP BY l.id"
            ):
                assert expected == found, f"load {load} has {found} of {expected} series"
                assert (self.folder / "loads" / str(load)).exists(), f"the file of load {load} is gone"
            assert not rows(
                "SELECT id FROM portfolios_portfolio WHERE id NOT IN (SELECT portfolio_id FROM portfolios_load)"
            )
            nodes = dict(rows("SELECT study_id, COUNT(*) FROM studies_node GROUP BY study_id"))
            written = rows("SELECT study_id, levels FROM studies_result")  # the last of the levels is all of them
            results = {study: json.loads(levels)[-1]["n_nodes"] for study, levels in written}
            assert nodes == results, f"studies have nodes {nodes}, their results say {results}"
            done = {study for (study,) in rows("SELECT study_id FROM studies_run WHERE state = 'done'")}
            assert done == results.keys()
            out = {
                pk: (content, told) for pk, content, told in rows("SELECT id, forecasts, sha256 FROM releases_release")
            }
            for pk, (content, told) in out.items():
                assert hashlib.sha256(content).hexdigest() == told, f"release {pk} is not what was published"
            for pk, told in self.releases.items():
                assert out[pk][1] == told, f"release {pk} was answered, and is another now"
            assert self.portfolios <= {name for (name,) in rows("SELECT name FROM portfolios_portfolio")}
            assert self.studies <= {study for (study,) in rows("SELECT id FROM studies_study")}
            for name, table in (
                ("corrections", "portfolios_correction"), ("adjustments", "studies_adjustmentrow"),
                ("loads", "portfolios_load"),
            ):  # fmt: skip
                [(n,)] = rows(f"SELECT COUNT(*) FROM {table}")
                assert n >= self.kept[name], f"{n} of {self.kept[name]} {name}"

    def kill_once(self) -> None:
        name = self.random.choice(("load", "append", "correct", "release", "run"))
        failed: list[BaseException] = []

        def act() -> None:
            try:
                began = time.monotonic()
                getattr(self, name)()
                self._took[name] = time.monotonic() - began
            except requests.RequestException:
                pass  # it was killed
            except BaseException as error:
                failed.append(error)

        acting = threading.Thread(target=act)
        acting.start()
        time.sleep(self.random.uniform(0.0, 1.2 * self._took.get(name, 0.5)))  # most of them while it is done
        within = acting.is_alive()
        self.kill()
        acting.join()
        if failed and not isinstance(failed[0], ConnectionError):
            raise failed[0]
        self.met[f"{name}{'' if within else ', just over'}"] += 1
        self.sound()
        self.start()


def children_of(pid: int) -> list[int]:
    found = []
    for one in Path("/proc").glob("[0-9]*/stat"):
        try:
            if int(one.read_text().rsplit(")", 1)[1].split()[1]) == pid:
                found.append(int(one.parent.name))
        except (OSError, IndexError):
            continue
    return found


def kills(folder: Path, times: int, seed: int, say: Callable[[str], None]) -> Served:
    """Kill one so many times. Raises AssertionError where anything was lost or is half-written."""
    served = Served(folder, seed)
    try:
        served.start()
        served.prepare()
        for i in range(times):
            served.kill_once()
            if (i + 1) % 20 == 0:
                say(f"{i + 1} kills: {dict(sorted(served.met.items()))}")
        served.again()  # who met three kills has failed, in words
        served.wait()
    finally:
        served.kill()
    served.sound()
    return served


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--times", type=int, default=200)
    parser.add_argument("--seed", type=int, default=1)
    given, _ = parser.parse_known_args()
    began = time.monotonic()
    with tempfile.TemporaryDirectory() as folder:
        served = kills(Path(folder) / "data", given.times, given.seed, lambda said: print(said, flush=True))
    print(
        f"{given.times} kills in {time.monotonic() - began:.0f} s: nothing lost, nothing half-written; at the end "
        f"{len(served.portfolios)} portfolios, {len(served.releases)} releases, {len(served.studies)} studies"
    )


if __name__ == "__main__":
    main()
