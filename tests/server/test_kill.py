"""The short form of `bench.kill`: all of a served Tansy killed at random moments of what people and runs do."""

from __future__ import annotations

from pathlib import Path

from bench.kill import kills


def test_nothing_is_lost_or_half_written_when_it_is_killed(tmp_path: Path) -> None:
    served = kills(tmp_path / "data", times=6, seed=3, say=print)
    assert sum(served.met.values()) == 6 and len(served.met) > 2
