"""What could have been known at an origin, and nothing else: all that methods, choice and bands get to see.

The end of the history is one more origin.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from functools import cached_property
from hashlib import blake2b
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from tansy.engine.graph.graph import Graph
from tansy.engine.graph.histories import aggregate_history
from tansy.engine.graph.node_drivers import node_drivers
from tansy.engine.methods.fits import Batch
from tansy.engine.methods.form import Form
from tansy.engine.methods.learned import Learned
from tansy.engine.methods.learning import learn
from tansy.engine.methods.method_text import driver_of
from tansy.engine.methods.pooled import Pooled, pooled_effects
from tansy.engine.methods.shared_season import season_profiles
from tansy.engine.panel import Panel
from tansy.engine.profile.kinds import Kinds, find_kinds
from tansy.engine.timeline import Timeline

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]
Entries = tuple[str, ...]

KEY_BYTES = 16


class Keep(Protocol):
    """Keeps what is found for all series at once. It is called with a key of all that this depends on and with what
    computes it, and may return what was kept under that key."""

    def pooled(self, key: str, compute: Callable[[], Pooled]) -> Pooled: ...

    def learned(self, key: str, compute: Callable[[], Learned]) -> Learned: ...


class Anew:
    """Keeps nothing."""

    def pooled(self, key: str, compute: Callable[[], Pooled]) -> Pooled:
        return compute()

    def learned(self, key: str, compute: Callable[[], Learned]) -> Learned:
        return compute()


class Known:
    """A state of knowledge, of all nodes or of some.

    Attributes
    ----------
    timeline : the periods seen.
    panel : the series with plans, as received, with drivers as they were planned then.
    horizon : leads that forecasts are made for.
    nodes : positions of the nodes in the graph; None for all. "nodes" in shapes means these.
    """

    def __init__(
        self,
        graph: Graph,
        panel: Panel,
        series: Floats,
        judged: Floats,
        horizon: int,
        ended_after: int,
        kinds_by_hand: dict[int, str] | None = None,
        keep: Keep | None = None,
        reach: Mapping[str, int] | None = None,
        nodes: Integers | None = None,
    ) -> None:
        """series, judged: [series, periods], as methods see them, and as forecasts are scored. kinds_by_hand: node ->
        kind that a person gave to it. keep: where effects and learners are kept; nowhere without.
        reach: for how many leads drivers are planned, as the end of the history shows it, which a learner is told."""
        self.graph = graph
        self.panel = panel
        self.timeline: Timeline = panel.timeline
        self.horizon = horizon
        self.nodes = nodes
        self._series, self._judged = series, judged
        self._ended_after = ended_after
        self._by_hand = kinds_by_hand or {}
        self._keep = keep or Anew()
        self._reach = reach or {}
        self._learned: Learned | None = None
        self._drivers: dict[str, Floats] = {}
        self._pooled: dict[Entries, Pooled] = {}
        self._row_hashes: dict[tuple[str, str | Entries], list[bytes]] = {}

    @property
    def n_seen(self) -> int:
        return self.timeline.n_periods

    def only(self, nodes: Integers | None) -> Known:
        """The same of some nodes, or of all. What is of all of them is looked for once, for both."""
        found = Known(
            self.graph, self.panel, self._series, self._judged, self.horizon, self._ended_after, self._by_hand,
            self._keep, self._reach, nodes,
        )  # fmt: skip
        if nodes is not None:
            found._of_all = self._of_all
        return found

    @cached_property
    def values(self) -> Floats:
        """[nodes, periods], history as methods see it: corrected, totals bridged over gaps between known values."""
        return aggregate_history(self.graph, self._series, self.nodes)

    @cached_property
    def judged(self) -> Floats:
        """[nodes, periods], what forecasts are scored against: as received, without stock-outs and closures."""
        if self._judged is self._series:
            return self.values
        return aggregate_history(self.graph, self._judged, self.nodes)

    @cached_property
    def kinds(self) -> Kinds:
        """Of every node of the graph, and whether a lead may lie in its season."""
        assert self.nodes is None
        return find_kinds(self.values, self.timeline, self._ended_after, self.horizon).moved(self._by_hand)

    @cached_property
    def _season_sources(self) -> Integers:
        sources = self.graph.season_source
        return sources if self.nodes is None else sources[self.nodes]

    @cached_property
    def season_group(self) -> Integers:
        """Row of `profiles` that holds the season each node may share, [nodes]."""
        return np.unique(self._season_sources, return_inverse=True)[1].ravel()

    @cached_property
    def profiles(self) -> Floats:
        """Seasons of the nodes that these share them with, [groups, periods + leads]."""
        return self.season(self.timeline, self.horizon)

    def season(self, timeline: Timeline, horizon: int) -> Floats:
        """The same on a timeline that may go on beyond what was seen."""
        sources = np.unique(self._season_sources)
        values = self.values[sources] if self.nodes is None else self.only(sources).values
        ahead = timeline.n_periods - self.n_seen + horizon
        return season_profiles(values, self.timeline, ahead)

    def drivers(self, names: Iterable[str]) -> dict[str, Floats]:
        """Per name [nodes, periods and those ahead]."""
        names = list(dict.fromkeys(names))
        missing = [name for name in names if name not in self._drivers]
        if missing:
            self._drivers |= node_drivers(self.graph, self.panel, missing, self.nodes)
        return {name: self._drivers[name] for name in names if name in self._drivers}

    def pooled(self, entries: Entries) -> Pooled:
        """Effects of drivers as the nodes of a group share them."""
        if entries not in self._pooled:
            self._pooled[entries] = self._effects(entries)
        return self._pooled[entries]

    def _effects(self, entries: Entries) -> Pooled:
        groups = self.graph.effect_groups
        if self.nodes is not None:
            members = np.nonzero(np.isin(groups[-1], groups[-1][self.nodes]))[0]
            whole = self if len(members) == len(self.nodes) else self.only(members)
            groups = (groups[0][members], groups[1][members])
        else:
            whole = self
        drivers = {name: one[:, : self.n_seen] for name, one in whole.drivers(driver_of(e)[0] for e in entries).items()}
        values = whole.values

        def compute() -> Pooled:
            return pooled_effects(entries, values, drivers, self.timeline, groups)

        content = blake2b(repr((entries, self.timeline)).encode(), digest_size=KEY_BYTES)
        for part in (whole._hashes("values"), *(whole._hashes("driver", name) for name in sorted(drivers))):
            content.update(b"".join(part))
        for group in groups:
            content.update(group.tobytes())
        found = self._keep.pooled(content.hexdigest(), compute)
        return found if self.nodes is None else found.rows(np.searchsorted(members, self.nodes))

    def learned(self) -> Learned:
        """What one model of all nodes of the graph says of these."""
        if self.nodes is not None:
            return self._of_all.learned().rows(self.nodes)
        if self._learned is None:
            self._learned = self._keep.learned(self._learner_key, self._learn)
        return self._learned

    @cached_property
    def _of_all(self) -> Known:
        return self if self.nodes is None else self.only(None)

    def _learn(self) -> Learned:
        return learn(
            self.values, self.timeline, self.drivers(self._reach), self._reach, self.profiles, self.season_group,
            self.graph.level_of, self.horizon,
        )  # fmt: skip

    @cached_property
    def _learner_key(self) -> str:
        """Key of all that the model depends on."""
        assert self.nodes is None
        content = blake2b(repr((self.timeline, self.horizon, self._reach)).encode(), digest_size=KEY_BYTES)
        for kind, name in (("values", ""), ("profiles", ""), *(("driver", name) for name in self._reach)):
            content.update(f"{kind} {name} ".encode() + b"".join(self._hashes(kind, name)))
        for place in (self.season_group, self.graph.level_of):
            content.update(place.tobytes())
        return content.hexdigest()

    def prepare(self, forms: Iterable[Form]) -> None:
        """Make what forms share, so that threads find it ready; what a learner learns is for its own alone."""
        for form in forms:
            self.drivers(self._reach if form.learns else _driver_names(form))
            for leaf in form.leaves:
                if leaf.pooled:
                    self.pooled(leaf.pooled)
            if form.shares_season or form.learns:
                _ = self.profiles, self.season_group

    @property
    def shared(self) -> dict[Entries, Pooled]:
        """Effects that were found so far."""
        return self._pooled

    def share(self, found: Mapping[Entries, Pooled]) -> None:
        """Take effects as found for the same state of knowledge, so that they are not looked for again."""
        self._pooled |= found

    def batch(self, form: Form, rows: Integers) -> Batch:
        """What a method may see of some nodes."""
        names = _driver_names(form)
        return Batch(
            np.ascontiguousarray(self.values[rows]),
            self.timeline,
            {name: one[rows] for name, one in self.drivers(names).items()},
            {leaf.pooled: self.pooled(leaf.pooled).rows(rows) for leaf in form.leaves if leaf.pooled},
            self.learned().rows(rows) if form.learns else None,
            profiles=self.profiles if form.shares_season else None,
            source_of=self.season_group[rows] if form.shares_season else None,
        )

    def keys(self, form: Form) -> NDArray[np.uint64]:
        """For every node a key of all that `batch` gives a method of it, [nodes, 2]: the same for the same content,
        wherever the node stands and whatever it is called. Not of a blend, which is not fitted itself."""
        if form.learns:
            learner = bytes.fromhex(self._of_all._learner_key)
            at = np.arange(self.graph.n_nodes) if self.nodes is None else self.nodes
            own = [blake2b(learner + i.to_bytes(8, "big"), digest_size=KEY_BYTES).digest() for i in at.tolist()]
            return np.frombuffer(b"".join(own), dtype="<u8").reshape(-1, 2)
        parts = [self._hashes("values")]
        if form.shared_season:
            own = self._hashes("profiles")
            parts.append([own[group] for group in self.season_group.tolist()])
        parts += [self._hashes("driver", name) for name in _driver_names(form)]
        if form.pooled:
            parts.append(self._hashes("pooled", form.pooled))
        if len(parts) == 1:
            joined = parts[0]
        else:
            joined = [blake2b(b"".join(row), digest_size=KEY_BYTES).digest() for row in zip(*parts, strict=True)]
        return np.frombuffer(b"".join(joined), dtype="<u8").reshape(-1, 2)

    def _hashes(self, kind: str, name: str | Entries = "") -> list[bytes]:
        """Hash of each row of one kind of content."""
        if (kind, name) not in self._row_hashes:
            if isinstance(name, tuple):
                effects = self.pooled(name)
                rows = np.concatenate([effects.effects, effects.errors], axis=1)
            elif kind == "driver":
                rows = self.drivers([name])[name][:, : self.n_seen + self.horizon]
            else:
                rows = self.values if kind == "values" else self.profiles
            rows = np.ascontiguousarray(rows)
            self._row_hashes[kind, name] = [blake2b(row, digest_size=KEY_BYTES).digest() for row in rows]
        return self._row_hashes[kind, name]


def _driver_names(form: Form) -> list[str]:
    return list(dict.fromkeys(driver_of(entry)[0] for leaf in form.leaves for entry in leaf.drivers + leaf.pooled))
