"""A served Tansy on a disk that fills up, that turns read-only: said in words, nothing lost.

    python -m bench.drills        (as root, on Linux: it mounts a small disk in memory)

What people do is tried on the full disk; each act is refused with a sentence that says so, what is there is still read,
and after there is room again the same acts go well and everything that was answered before is there (as `bench.kill`
looks for it). A folder that cannot be written to is said at start, in one sentence.
"""

from __future__ import annotations

import os
import subprocess
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from bench.kill import TANSY, Served

DISK_MB = 420
ACTS = ("load", "append", "correct", "release", "run")


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


def main() -> None:
    if os.geteuid() != 0:
        raise SystemExit("This mounts a disk, which takes root.")
    with tempfile.TemporaryDirectory() as name:
        at = Path(name) / "disk"
        with disk(at):
            served = Served(at / "data", 1)
            served.start()
            try:
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
                served.sound()
            finally:
                served.kill()
            served.sound()
    print("all drills went as they should")


if __name__ == "__main__":
    main()
