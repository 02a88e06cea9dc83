"""Results of tasks, kept on disk and used again by any later study.

A shelf holds what one method gives at one length of history; on it lie blocks, each a file with the results of some
nodes, found by a key of all that the method saw of them. So a node is found again wherever it stands and whatever it is
called, and what a change does not touch is not fitted again. A block is written whole under another name and carries a
checksum: one that is damaged, or was cut off, is one to compute again.
"""

from __future__ import annotations

import json
import os
import platform
import struct
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, fields
from functools import lru_cache
from hashlib import blake2b
from importlib.metadata import version
from pathlib import Path
from uuid import uuid4

import numba
import numpy as np
import scipy
from numpy.typing import NDArray

from tansy.engine.errors import TansyError
from tansy.engine.methods.drives import Drives
from tansy.engine.methods.learned import Learned
from tansy.engine.methods.pooled import Pooled

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]
Keys = NDArray[np.uint64]

USUAL_MB = 8192
_MAGIC = b"TANSY-BLOCK-1\n"
_DIGEST = 16
_ENGINE = Path(__file__).parents[1]
_MAKING_RESULTS = ("kernels", "methods", "reconcile", "profile", "timeline.py", "residue.py", "study")


@dataclass(frozen=True)
class Block:
    """What a method gives for some nodes from one origin.

    mean: [nodes, H], NaN where it is not defined. sigma: [nodes], root mean squared one-step error. spread: [nodes, H],
    standard deviation of each lead with parameters taken as known. parameters: [nodes, P], named by names.
    """

    mean: Floats
    sigma: Floats
    spread: Floats
    parameters: Floats
    names: tuple[str, ...]


_ARRAYS = tuple(field.name for field in fields(Block) if field.name != "names")


def _packed(keys: Keys, arrays: dict[str, Floats], names: tuple[str, ...]) -> bytes:
    header = json.dumps({"n": len(keys), "names": names, "shapes": {k: v.shape for k, v in arrays.items()}}).encode()
    parts = [_MAGIC, struct.pack("<I", len(header)), header, np.ascontiguousarray(keys, "<u8").tobytes()]
    parts += [np.ascontiguousarray(one, "<f8").tobytes() for one in arrays.values()]
    body = b"".join(parts)
    return body + blake2b(body, digest_size=_DIGEST).digest()


def _unpacked(data: bytes) -> tuple[Keys, dict[str, Floats], tuple[str, ...]] | None:
    """Keys, arrays and names; None of what is damaged."""
    if (
        not data.startswith(_MAGIC)
        or blake2b(memoryview(data)[:-_DIGEST], digest_size=_DIGEST).digest() != data[-_DIGEST:]
    ):
        return None
    at = len(_MAGIC) + 4
    (length,) = struct.unpack("<I", data[at - 4 : at])
    header = json.loads(data[at : at + length])
    at += length
    n = header["n"]
    keys = np.frombuffer(data, "<u8", 2 * n, at).reshape(n, 2)
    at += keys.nbytes
    arrays = {}
    for name, shape in header["shapes"].items():
        own = np.frombuffer(data, "<f8", int(np.prod(shape, dtype=int)), at).reshape(shape)
        arrays[name] = own
        at += own.nbytes
    return keys, arrays, tuple(header["names"])


def _write(path: Path, data: bytes) -> None:
    """Raises TansyError where the folder cannot be written to."""
    unfinished = path.with_suffix(f".{uuid4().hex}.part")  # several threads may write the same
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        unfinished.write_bytes(data)
        os.replace(unfinished, path)
    except OSError as error:
        raise TansyError(
            f"The store {path.parent} cannot be written to: {error.strerror}. What was fitted is "
            "kept; make room or let this user write there, and run it again."
        ) from error


def _use(path: Path) -> None:
    """Mark a file as used now, if it is still there and this user may."""
    with suppress(OSError):
        os.utime(path)


def _read(path: Path) -> tuple[Keys, dict[str, Floats], tuple[str, ...]] | None:
    try:
        return _unpacked(path.read_bytes())
    except OSError:
        return None


class Shelf:
    """Blocks of one method at one length of history."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._files: list[Path] = []
        self._keys: list[Keys] = []
        for path in sorted(folder.glob("*.block")):
            found = _read(path)
            if found is not None:
                self._files.append(path)
                self._keys.append(found[0])

    def find(self, keys: Keys) -> tuple[Integers, Integers]:
        """Where each of `keys` [n, 2] lies: number of its block, -1 where there is none, and its row there."""
        block, row = np.full(len(keys), -1), np.zeros(len(keys), dtype=np.int64)
        if not self._keys:
            return block, row
        known = np.concatenate(self._keys)
        of = np.repeat(np.arange(len(self._keys)), [len(one) for one in self._keys])
        rows = np.concatenate([np.arange(len(one)) for one in self._keys])
        order = np.argsort(known[:, 0], kind="stable")
        at = order[np.minimum(np.searchsorted(known[order, 0], keys[:, 0]), len(known) - 1)]
        same = (known[at] == keys).all(axis=1)
        block[same], row[same] = of[at[same]], rows[at[same]]
        return block, row

    def path(self, block: int) -> Path:
        return self._files[block]

    def add(self, keys: Keys, block: Block) -> None:
        """Keep the results of some nodes. Safe from several threads."""
        name = blake2b(np.ascontiguousarray(keys).tobytes(), digest_size=_DIGEST).hexdigest()
        path = self._folder / f"{name}.block"
        _write(path, _packed(keys, {one: getattr(block, one) for one in _ARRAYS}, block.names))


@lru_cache(maxsize=1)
def code() -> str:
    """Hash of the code that results depend on, and of what it stands on, so that none is used that other code made or
    another kind of machine."""
    content = blake2b(digest_size=_DIGEST)
    versions = (np.__version__, scipy.__version__, numba.__version__, version("scikit-learn"))
    content.update(f"{platform.machine()} {' '.join(versions)}".encode())
    for path in sorted(_ENGINE.rglob("*.py")):
        if path.relative_to(_ENGINE).parts[0] in _MAKING_RESULTS:
            content.update(path.name.encode() + path.read_bytes())
    return content.hexdigest()


class Store:
    """A folder of shelves, and of single results. What other code made is not found.

    most_mb: size to which `sweep` brings it, oldest use first. What this run used is never swept.
    """

    def __init__(self, folder: Path, most_mb: float = USUAL_MB) -> None:
        self._folder, self._most = folder, most_mb * 1e6
        self._began = time.time() - 1.0

    def shelf(self, content: str) -> Shelf:
        """The shelf for what `content` says: all that a result depends on, but for what its keys say."""
        return Shelf(self._folder / self._name(content))

    def _name(self, content: str) -> str:
        return blake2b(f"{content} {code()}".encode(), digest_size=_DIGEST).hexdigest()

    def pooled(self, key: str, compute: Callable[[], Pooled]) -> Pooled:
        """Pooled effects under a key of all that they depend on, computed where they are not kept."""

        def made() -> tuple[dict[str, Floats], tuple[str, ...]]:
            found = compute()
            return {"effects": found.effects, "errors": found.errors}, found.names

        arrays, names = self._single(f"pooled {key}", made)
        return Pooled(names, arrays["effects"], arrays["errors"])

    def learned(self, key: str, compute: Callable[[], Learned]) -> Learned:
        """What a learner found, under a key of all that it depends on, computed where it is not kept."""

        def made() -> tuple[dict[str, Floats], tuple[str, ...]]:
            found = vars(compute()).copy()
            drives = found.pop("drives")
            arrays = {"worse": drives.worse, "relative": drives.relative.astype(float), "effects": drives.effects}
            return found | arrays, (*drives.groups, *drives.drivers)

        arrays, names = self._single(f"learned {key}", made)
        own = dict(arrays)
        worse, relative, effects = (own.pop(name) for name in ("worse", "relative", "effects"))
        n = len(worse)
        return Learned(**own, drives=Drives(names[:n], worse, names[n:], relative > 0.0, effects))

    def array(self, key: str, compute: Callable[[], Floats]) -> Floats:
        """An array under a key of all that it depends on, computed where it is not kept."""
        return self._single(f"array {key}", lambda: ({"values": compute()}, ()))[0]["values"]

    def _single(
        self, key: str, compute: Callable[[], tuple[dict[str, Floats], tuple[str, ...]]]
    ) -> tuple[dict[str, Floats], tuple[str, ...]]:
        path = self._folder / f"{self._name(key)}.single"
        found = _read(path)
        if found is not None:
            _use(path)
            return found[1], found[2]
        arrays, names = compute()
        with suppress(TansyError):  # it is there, kept or not
            _write(path, _packed(np.zeros((0, 2), dtype=np.uint64), arrays, names))
        return arrays, names

    def sweep(self) -> int:
        """Remove what was not used for longest until the store is small enough; how many files went."""
        found = []
        for path in self._folder.rglob("*"):
            if path.suffix in (".block", ".single", ".part"):
                try:
                    known = path.stat()
                except FileNotFoundError:
                    continue
                found.append((known.st_mtime, known.st_size, path))
        size, gone = sum(one[1] for one in found), 0
        for used, own, path in sorted(found, key=lambda one: one[0]):
            if size <= self._most or used >= self._began:
                break
            path.unlink(missing_ok=True)
            size -= own
            gone += 1
        return gone


class Results:
    """The results of one method at one origin for the nodes of a study, wherever in the store they lie."""

    def __init__(self, shelf: Shelf, keys: Keys, horizon: int) -> None:
        self._horizon = horizon
        block, row = shelf.find(keys)
        self._block, self._row = block.astype(np.int32), row.astype(np.int32)
        self._paths = {one: shelf.path(one) for one in np.unique(block).tolist() if one >= 0}

    @property
    def missing(self) -> Integers:
        """Nodes without a result."""
        return np.nonzero(self._block < 0)[0]

    def touch(self) -> None:
        """Mark the blocks as used now."""
        for path in self._paths.values():
            _use(path)

    def rows(self, start: int, stop: int) -> Block:
        """Results of the nodes start..stop, NaN where there are none. Raises TansyError where a block has gone."""
        block, row = self._block[start:stop], self._row[start:stop]
        n = stop - start
        parts: dict[str, Floats] = {}
        parameters: dict[str, Floats] = {}
        if (block < 0).all():
            leads = np.full((n, self._horizon), np.nan)
            return Block(leads, np.full(n, np.nan), leads.copy(), np.empty((n, 0)), ())
        for one in np.unique(block[block >= 0]).tolist():
            arrays, names = _block_at(self._paths[one])
            here = block == one
            for name, own in arrays.items():
                columns = parameters if name == "parameters" else parts
                split = dict(zip(names, own.T, strict=True)) if name == "parameters" else {name: own}
                for each, values in split.items():
                    if each not in columns:
                        columns[each] = np.full((n, *values.shape[1:]), np.nan)
                    columns[each][here] = values[row[here]]
        own_names = tuple(parameters)
        table = np.stack([parameters[name] for name in own_names], axis=1) if own_names else np.empty((n, 0))
        return Block(parts["mean"], parts["sigma"], parts["spread"], table, own_names)


@lru_cache(maxsize=32)
def _block_at(path: Path) -> tuple[dict[str, Floats], tuple[str, ...]]:
    found = _read(path)
    if found is None:
        raise TansyError("The store was changed while the study ran; run it again.")
    return found[1], found[2]
