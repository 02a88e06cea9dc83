"""A served Tansy on a disk that fills up, that turns read-only, and without memory: said in words, nothing lost.

    python -m bench.drills        (as root, on Linux: it mounts a small disk in memory)

What people do is tried on the full disk; each act is refused with a sentence that says so, what is there is still read,
and after there is room again the same acts go well and everything that was answered before is there (as `bench.kill`
looks for it). A folder that cannot be written to is said at start, in one sentence.

Memory runs out in two ways. Where the system refuses it, an act or a run fails with a sentence. Where it kills, as
Linux does by itself, a large file is refused with a sentence, by the same web server; a run is taken up again, and
after three times said to have failed, while people are answered. With memory again, all goes well.
"""

from __future__ import annotations

import os
import random
import resource
import signal
import sqlite3
import subprocess
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from pathlib import Path

import requests
from tests.garden import FIRST_WEEK

from bench.kill import TANSY, Served, children_of
from tansy.engine.timeline import label

DISK_MB = 420
ACTS = ("load", "append", "correct", "release", "run")
N_SERIES, N_WEEKS = 10_000, 120
SMALL_RECIPE = """
name = "{name}"
[methods]
candidates = ["seasonal-naive", "mean"]
[backtest]
origins = 3
step = 6
leads = 6
"""
MB = 1 << 20
ROOM = 40 * MB
"""What a worker has beyond what it needs to wait; a run of the large portfolio takes several times that."""
READ_ROOM = 400 * MB
"""What is left for reading a file of TIMES as many weeks as the large one, which takes some 900 MB. In a group of
processes Linux weighs this room against what the web server has: in one much smaller it would end that first."""
TIMES = 4
TOO_LARGE = "more memory or time to read than this machine has"
ENDED = "the web server ended, was started again and answers"


@contextmanager
def disk(at: Path) -> Iterator[None]:
    at.mkdir()
    subprocess.run(["mount", "-t", "tmpfs", "-o", f"size={DISK_MB}m", "tmpfs", str(at)], check=True)
    try:
        yield
    finally:
        subprocess.run(["umount", "-l", str(at)], check=True)


def fill(folder: Path) -> Path:
    """Until nothing more can be written."""
    path = folder / "filler"
    with path.open("wb", buffering=0) as file:
        for size in (1 << 20, 1 << 12, 1):
            try:
                while True:
                    file.write(b"x" * size)
            except OSError:
                continue
    return path


def tried(served: Served, acts: tuple[str, ...]) -> dict[str, str]:
    """What is said to each act; empty where it went well."""
    said = {}
    for name in acts:
        try:
            getattr(served, name)()
            said[name] = ""
        except AssertionError as error:
            said[name] = str(error)
    return said


def drill(name: str, served: Served, begin: Callable[[], object], end: Callable[[], object], words: str) -> None:
    begin()
    refused = tried(served, ACTS)
    for act, said in refused.items():
        print(f"{name}, {act}: {said[:230] or 'went well'}", flush=True)
        assert not said or words in said, f"{act} is not refused in words: {said}"
    assert any(refused.values()), f"{name}: nothing was refused, so nothing was shown"
    for path in ("portfolios/", f"studies/{served.study}/draft/"):
        served.ask("GET", path)  # what is there is read
    end()
    time.sleep(2.0)
    again = tried(served, ACTS)
    assert not any(again.values()), again
    served.again()
    served.wait()
    print(f"{name}: afterwards everything goes well, and nothing was lost", flush=True)


def large(times: int = 1) -> bytes:
    """A file of many series that needs more memory than what people do with the small one; of so many times N_WEEKS."""
    rng = random.Random(4)
    weeks = [label(FIRST_WEEK + t, "W") for t in range(times * N_WEEKS)]
    rows = [f"{week},P{i % 500},S{i // 500},{rng.randrange(30)}" for i in range(N_SERIES) for week in weeks]
    return ("week,product,store,units\n" + "\n".join(rows) + "\n").encode()


def size_of(pid: int, what: str) -> int:
    """Bytes of a process by /proc: VmSize, VmRSS, VmHWM."""
    lines = Path(f"/proc/{pid}/status").read_text().splitlines()
    return next(int(line.split()[1]) for line in lines if line.startswith(f"{what}:")) << 10


class Starved:
    """A served Tansy with a large portfolio, whose web server and worker are given too little memory."""

    def __init__(self, served: Served) -> None:
        self._served, self._file, self._n = served, large(), 0
        self.hand_in("Large")
        [self._portfolio] = [one["id"] for one in served.ask("GET", "portfolios/") if one["name"] == "Large"]

    def hand_in(self, name: str, file: bytes | None = None) -> None:
        upload = self._served.ask("POST", "uploads/", files={"sales": ("large.csv", file or self._file)})
        self._served.ask("POST", f"uploads/{upload['id']}/load/", json={"name": name, "options": {}})

    def tried(self, file: bytes | None = None) -> str:
        """What is said to a large file; ENDED where the web server ended over it, and answers again."""
        try:
            self.hand_in(f"Too large {self._n}", file)
        except AssertionError as error:
            return str(error)
        except requests.ConnectionError:
            self._served.until_it_answers()
            return ENDED
        return ""

    def study(self) -> int:
        self._n += 1
        recipe = SMALL_RECIPE.format(name=f"large {self._n}")
        return int(self._served.ask("POST", f"portfolios/{self._portfolio}/studies/", json={"recipe": recipe})["id"])

    def ended(self, study: int) -> dict[str, object]:
        """The run of a study when it has ended; people are answered meanwhile."""
        for _ in range(600):
            run: dict[str, object] = self._served.ask("GET", f"studies/{study}/")["run"]
            if run["state"] not in ("queued", "running"):
                return run
            time.sleep(0.5)
        raise AssertionError(f"the run does not end: {run}")

    def well(self, study: int) -> None:
        """With memory again: the study is run to its end, and another file loaded."""
        self._served.ask("POST", f"studies/{study}/run/")
        run = self.ended(study)
        assert run["state"] == "done", run
        self.hand_in(f"Large after {self._n}")

    def processes(self) -> tuple[int, int]:
        """The web server and the worker."""
        web, worker = sorted(self._served.processes(), key=_is_worker)
        return web, worker

    def fresh_worker(self) -> int:
        """Another worker than there is, when it has begun to wait for runs."""
        _, old = self.processes()
        os.kill(old, signal.SIGKILL)
        for _ in range(600):
            time.sleep(0.2)
            among = [pid for pid in self._served.processes() if pid != old and _is_worker(pid)]
            if among and size_of(among[0], "VmRSS") > 150 * MB:
                time.sleep(5.0)
                return among[0]
        raise AssertionError("there is no other worker")


def _is_worker(pid: int) -> bool:
    return b"worker" in Path(f"/proc/{pid}/cmdline").read_bytes()


def refused(starved: Starved, more: int) -> None:
    """The system gives the processes no more than so many bytes."""
    limits = [(pid, size_of(pid, "VmSize") + more) for pid in starved.processes()]
    for pid, most in limits:
        resource.prlimit(pid, resource.RLIMIT_AS, (most, resource.RLIM_INFINITY))
    name = f"memory refused beyond {more // MB} MB"
    said = starved.tried()
    print(f"{name}, load: {said[:230] or 'went well'}", flush=True)
    study = starved.study()
    run = starved.ended(study)
    print(f"{name}, run: {run['message'] or 'went well'}", flush=True)
    for what in (said, str(run["message"])):
        assert not what or "not enough memory" in what or TOO_LARGE in what or what == ENDED, what
    assert run["message"], "the run was not refused, so nothing was shown"  # files are read by other processes
    for pid, _ in limits:
        if pid in starved.processes():
            resource.prlimit(pid, resource.RLIMIT_AS, (resource.RLIM_INFINITY, resource.RLIM_INFINITY))
    starved.well(study)


@contextmanager
def memory_group(most: int, pids: list[int]) -> Iterator[None]:
    """Processes, and those that they start, among which the system kills where they have more than `most` together."""
    old, new = Path("/sys/fs/cgroup/memory"), Path("/sys/fs/cgroup")
    at = (old if old.exists() else new) / f"tansy-drill-{os.getpid()}"
    at.mkdir()
    try:
        limit = "memory.limit_in_bytes" if old.exists() else "memory.max"
        (at / limit).write_text(str(most))
        for one in pids:
            (at / "cgroup.procs").write_text(str(one))
        yield
    finally:
        for within in (at / "cgroup.procs").read_text().split():
            (at.parent / "cgroup.procs").write_text(within)
        at.rmdir()


def killed(starved: Starved, serving: int) -> None:
    """The system kills the worker whenever it has more than a run of the large portfolio needs."""
    fresh = starved.fresh_worker()
    most = size_of(fresh, "VmRSS") + ROOM
    with memory_group(most, [serving]):
        starved.fresh_worker()  # one whose every byte counts
        study = starved.study()
        run = starved.ended(study)
        print(f"killed beyond {most // MB} MB, run: {run['message'] or 'went well'}", flush=True)
        assert run["state"] == "failed" and "memory" in str(run["message"]), run
    starved.well(study)


def killed_reading(starved: Starved, serving: int) -> None:
    """The system kills what reads a large file, and nothing else."""
    before = starved.processes()
    file, readers = large(TIMES), children_of(before[0])
    with memory_group(READ_ROOM, [serving, *before, *readers]):  # what they have already is not counted
        said = starved.tried(file)
        print(f"killed beyond {READ_ROOM // MB} MB, load: {said[:230] or 'went well'}", flush=True)
        assert TOO_LARGE in said, said
        assert starved.processes() == before, "it was not the process that reads that ended"
    starved.hand_in("Large after what read it was killed")


def without_memory(folder: Path) -> None:
    served = Served(folder, 2)
    try:
        served.start()
        served.prepare()
        starved = Starved(served)
        for more in (24 * MB, 0):
            refused(starved, more)
        killed_reading(starved, served.serving())
        killed(starved, served.serving())
        assert not any(tried(served, ACTS).values())
        served.wait()
    finally:
        served.kill()
    served.sound()
    print("without memory: afterwards everything goes well, and nothing was lost", flush=True)


def held_up(served: Served) -> None:
    """Something large is written for longer than people wait: they are told so, and a run goes on afterwards."""
    with closing(sqlite3.connect(served.folder / "tansy.sqlite3", isolation_level=None)) as other:
        served.ask_for_run()
        other.execute("BEGIN IMMEDIATE")
        refused = tried(served, ("correct",))["correct"]
        print(f"written to by another for long, correct: {refused[:230]}", flush=True)
        assert "503" in refused and "Something large is being written" in refused, refused
        time.sleep(15.0)
        other.execute("ROLLBACK")
    served.wait()  # it raises where a run has failed
    assert not any(tried(served, ("correct", "release")).values())
    print("written to by another for long: afterwards everything goes well, no run was given up", flush=True)


def main() -> None:
    if os.geteuid() != 0:
        raise SystemExit("This mounts a disk, which takes root.")
    with tempfile.TemporaryDirectory() as name:
        at = Path(name) / "disk"
        with disk(at):
            served = Served(at / "data", 1)
            try:
                served.start()
                served.prepare()
                filler = at / "data" / "filler"
                drill("disk full", served, lambda: fill(at / "data"), filler.unlink, "disk is full")

                def mode(how: str) -> None:
                    subprocess.run(["mount", "-o", f"remount,{how}", str(at)], check=True)

                # read-only cannot be had while files are open to be written; a kill closes them
                served.kill()
                time.sleep(2.0)
                mode("ro")
                env = {**os.environ, "TANSY_DATA": str(at / "data")}
                start = subprocess.run([*TANSY, "serve"], env=env, capture_output=True, text=True, check=False)
                print(f"read-only, at start: {start.stderr.strip().splitlines()[-1]}")
                assert start.returncode == 2 and "written" in start.stderr, start.stderr
                mode("rw")
                served.start()
                served.wait()
                held_up(served)
                served.sound()
            finally:
                served.kill()
            served.sound()
        without_memory(Path(name) / "memory")
    print("all drills went as they should")


if __name__ == "__main__":
    main()
