"""Where finished chunks are kept, so that a run that was stopped or killed goes on where it was."""

from __future__ import annotations

import json
import os
import shutil
import zipfile
import zlib
from pathlib import Path
from typing import Protocol

import numpy as np

from tansy.engine.backtest.origins import ChunkFits

_ARRAYS = ("tested", "tested_sigma", "final", "final_sigma", "parameters", "criteria")


class ChunkStore(Protocol):
    """Keeps the fits of finished chunks by number."""

    def load(self, chunk: int) -> ChunkFits | None: ...

    def save(self, chunk: int, fits: ChunkFits) -> None: ...


class FolderStore:
    """A file per chunk in a folder. Chunks of another study (another `fingerprint`) are cleared away."""

    def __init__(self, folder: Path, fingerprint: str) -> None:
        self._folder = folder
        mark = folder / "fingerprint"
        try:
            known = mark.read_text() == fingerprint
        except (OSError, UnicodeDecodeError):
            known = False
        if not known:
            shutil.rmtree(folder, ignore_errors=True)
            folder.mkdir(parents=True)
            mark.write_text(fingerprint)

    def load(self, chunk: int) -> ChunkFits | None:
        """What was kept of a chunk; None where nothing was, or where it cannot be read: then it is computed again."""
        try:
            with np.load(self._folder / f"{chunk}.npz") as kept:
                names = tuple(tuple(row) for row in json.loads(str(kept["names"])))
                return ChunkFits(**{name: kept[name] for name in _ARRAYS}, parameter_names=names)
        except (OSError, ValueError, KeyError, EOFError, zipfile.BadZipFile, zlib.error):
            return None

    def save(self, chunk: int, fits: ChunkFits) -> None:
        unfinished = self._folder / f"{chunk}.part"
        with unfinished.open("wb") as file:
            np.savez(
                file,
                names=np.array(json.dumps(fits.parameter_names)),
                **{name: getattr(fits, name) for name in _ARRAYS},
            )
            file.flush()
            os.fsync(file.fileno())  # else a machine that goes down may leave the new name on an empty file
        os.replace(unfinished, self._folder / f"{chunk}.npz")
