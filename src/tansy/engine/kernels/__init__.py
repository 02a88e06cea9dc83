"""Compiled leaves: arrays and scalars in, arrays out. They release the GIL and know no classes.

What they compile to is kept beside them. Where that folder cannot be written to, as where an administrator installed
it for a service, it is kept in the user's cache or with the data instead: else every process would compile anew.
"""

from __future__ import annotations

import os
from collections.abc import Iterable
from pathlib import Path

import numba

WITH_DATA = "kernels"
"""Name of the folder in the data folder, where there is no better place."""


def first_with_room(places: Iterable[Path]) -> Path | None:
    """The first of some folders that is there, or can be made, and be written to."""
    for place in places:
        try:
            place.mkdir(parents=True, exist_ok=True)
        except OSError:
            continue
        if os.access(place, os.W_OK):
            return place
    return None


def _settle() -> None:
    beside = Path(__file__).parent / "__pycache__"
    if "NUMBA_CACHE_DIR" in os.environ or first_with_room([beside]):
        return
    data, cache = os.environ.get("TANSY_DATA"), os.environ.get("XDG_CACHE_HOME")
    of_user = Path(cache) if cache else Path.home() / ".cache"
    place = first_with_room([of_user / "tansy", *([Path(data) / WITH_DATA] if data else [])])
    if place is None:
        raise RuntimeError(
            f"Compiled kernels have no place to be kept: {beside} cannot be written to; set NUMBA_CACHE_DIR to a "
            "folder that can."
        )
    os.environ["NUMBA_CACHE_DIR"] = str(place)  # for processes that this one starts
    numba.config.CACHE_DIR = str(place)  # type: ignore[attr-defined]  # it may have been read before


_settle()
