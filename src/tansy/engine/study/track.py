"""A release held against what came after it: errors, bands, and whether what planners changed has helped."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tansy.engine.graph.graph import Graph
from tansy.engine.panel import Panel
from tansy.engine.study.accuracy import over

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]

_MOST_LISTED = 50


@dataclass(frozen=True, eq=False)
class Released:
    """What was published. first: number of its first period. forecast, statistical, naive: [nodes, H], the last is the
    seasonal naive of that day. quantiles: [nodes, Q, H]."""

    graph: Graph
    first: int
    forecast: Floats
    statistical: Floats
    naive: Floats
    quantiles: Floats


@dataclass(frozen=True, eq=False)
class Sums:
    """Of cells whose actual has come, per level (or other part) and lead, [levels, H]: how many, their volume, absolute
    errors of the forecast, of the statistical one and of the naive one (over cells that it has; `naive_error` of the
    forecast over the same), and errors with their sign, actual minus forecast. held: [levels, H, bands], widest
    first. tracking: [levels], mean size of the tracking signals of the nodes, NaN where nothing has come."""

    count: Floats
    volume: Floats
    error: Floats
    statistical: Floats
    naive: Floats
    naive_error: Floats
    signed: Floats
    held: Floats
    tracking: Floats


@dataclass(frozen=True)
class Measures:
    """In percent of the volume that came; bias is actual minus forecast. gain: of the absolute error over the seasonal
    naive's, on what both forecast. held: share inside each band, widest first. tracking: mean size of the nodes'
    tracking signals. None where nothing has come."""

    wape: float | None
    wape_statistical: float | None
    bias: float | None
    gain: float | None
    held: tuple[float | None, ...]
    tracking: float | None


@dataclass(frozen=True, eq=False)
class Seen:
    """A forecast of one node held against what came: what came less the forecast, and how many bands hold it, [H], NaN
    where nothing has; the error in percent of volume."""

    missed: Floats
    held: Floats
    wape: float | None


@dataclass(frozen=True)
class Left:
    """A series that left its widest band. outside: periods. tracking: its signal, see `tracking_signal`."""

    node: int
    actual: float
    forecast: float
    error: float
    outside: int
    of: int
    tracking: float


@dataclass(frozen=True)
class Help:
    """What a change brought: absolute error before it less that after it, in units, over its periods that have come.
    error: before it. signed: sum of actual minus what it was changed to."""

    periods: int
    gained: float
    error: float
    signed: float = 0.0

    @property
    def tracking(self) -> float | None:
        """Sum of what was missed after it over its mean size: near `periods`, always missed to one side."""
        size = (self.error - self.gained) / self.periods if self.periods else 0.0
        return self.signed / size if size > 0.0 else None

    @property
    def percent(self) -> float | None:
        """Of the error before it."""
        return 100.0 * self.gained / self.error if self.error > 0.0 else None


def naive(graph: Graph, history: Floats, m: int, horizon: int) -> Floats:
    """The last season again, [nodes, H], from history [finest, T]; the last value where there is no whole season."""
    n = history.shape[1]
    back = m if 1 < m <= n else 1
    return _summed(graph, history[:, n - back + np.arange(horizon) % back])


def _summed(graph: Graph, finest: Floats) -> Floats:
    """All nodes [nodes, H]: a total is the sum of what is known below it, and unknown where nothing is."""
    known = graph.summation.matrix @ (~np.isnan(finest)).astype(np.float64) > 0.0
    totals = graph.summation.matrix @ np.nan_to_num(finest)
    return np.concatenate([np.where(known, totals, np.nan), finest])


def actuals(graph: Graph, then: Panel, now: Panel, first: int, horizon: int) -> Floats:
    """What came in the periods from the one numbered `first` on, [nodes, H], NaN where nothing has.

    then: the panel that the graph is of. now: the newest history; of series that it lacks nothing is known.
    """
    row = {key: i for i, key in enumerate(zip(*(now.keys[name] for name in now.key_names), strict=True))}
    found = np.full((graph.n_series, horizon), np.nan)
    at = first - now.timeline.first + np.arange(horizon)
    inside = (at >= 0) & (at < now.timeline.n_periods)
    keys = list(zip(*(then.keys[name] for name in then.key_names), strict=True))
    rows = np.array([row.get(key, -1) for key in keys], dtype=np.int64)
    known = np.nonzero(rows >= 0)[0]
    found[np.ix_(known, inside)] = now.values[np.ix_(rows[known], at[inside])]
    return _summed(graph, found)


def sums(released: Released, came: Floats, parts: Sequence[Integers] | None = None) -> Sums:
    """came: [nodes, H], what `actuals` found. parts: nodes of each, instead of those of each level."""
    firsts = [level.first for level in released.graph.levels]
    known = ~np.isnan(came)
    benchmarked = known & ~np.isnan(released.naive)

    def by_level(values: Floats, where: NDArray[np.bool_]) -> Floats:
        own = np.where(where, values, 0.0)
        if parts is not None:
            return np.stack([own[part].sum(axis=0) for part in parts])
        return np.asarray(np.add.reduceat(own, firsts, axis=0))

    error = came - released.forecast
    come = np.asarray(known.any(axis=1, keepdims=True))
    signal = by_level(np.abs(tracking_signal(error))[:, None], come)[:, 0]
    n_bands = released.quantiles.shape[1] // 2
    held = [
        by_level(((came >= released.quantiles[:, b]) & (came <= released.quantiles[:, -1 - b])).astype(float), known)
        for b in range(n_bands)
    ]
    return Sums(
        by_level(np.ones_like(came), known),
        by_level(np.abs(came), known),
        by_level(np.abs(error), known),
        by_level(np.abs(came - released.statistical), known),
        by_level(np.abs(came - released.naive), benchmarked),
        by_level(np.abs(error), benchmarked),
        by_level(error, known),
        np.stack(held, axis=2),
        over(signal, by_level(np.ones_like(come, dtype=float), come)[:, 0]),
    )


def measures(found: Sums, level: int, leads: slice) -> Measures:
    """Of the nodes of a level, over some leads together; of all leads with the tracking signal."""

    def of(part: Floats) -> float:
        return float(part[level, leads].sum())

    volume, count, naive_error = of(found.volume), of(found.count), of(found.naive)

    def percent(part: Floats) -> float | None:
        return 100.0 * of(part) / volume if volume > 0.0 else None

    held = found.held[level, leads].sum(axis=0)
    tracking = float(found.tracking[level]) if leads == slice(None) and count else None
    return Measures(
        percent(found.error),
        percent(found.statistical),
        percent(found.signed),
        100.0 * (1.0 - of(found.naive_error) / naive_error) if naive_error > 0.0 else None,
        tuple(float(one) / count if count else None for one in held),
        tracking,
    )


def seen(forecast: Floats, quantiles: Floats, came: Floats) -> Seen:
    """One node: forecast and came [H], NaN where nothing has; quantiles [Q, H]."""
    known = ~np.isnan(came)
    n_bands = len(quantiles) // 2
    inside = (came >= quantiles[:n_bands]) & (came <= quantiles[::-1][:n_bands])
    missed = came - forecast
    volume = float(np.abs(came[known]).sum())
    wape = 100.0 * float(np.abs(missed[known]).sum()) / volume if volume > 0.0 else None
    return Seen(missed, np.where(known, inside.sum(axis=0), np.nan), wape)


def tracking_signal(error: Floats) -> Floats:
    """Sum of errors over their mean absolute size (Trigg 1964, unsmoothed), [nodes] from [nodes, H], NaN unknown; 0
    where nothing was missed. Near the number of periods: always missed to the same side."""
    size = np.nan_to_num(np.abs(error)).sum(axis=1) / np.maximum((~np.isnan(error)).sum(axis=1), 1)
    total = np.nan_to_num(error).sum(axis=1)
    return np.asarray(np.divide(total, size, out=np.zeros_like(total), where=size > 0.0))


def left_their_bands(released: Released, came: Floats) -> list[Left]:
    """Series outside their widest band at least once, those that missed most units first."""
    n = released.graph.n_aggregates
    own, forecast = came[n:], released.forecast[n:]
    known = ~np.isnan(own)
    outside = known & ((own < released.quantiles[n:, 0]) | (own > released.quantiles[n:, -1]))
    error = np.where(known, own - forecast, np.nan)
    missed = np.nan_to_num(np.abs(error)).sum(axis=1)
    signal = tracking_signal(error)
    out = np.nonzero(outside.any(axis=1))[0]
    worst = out[np.argsort(-missed[out], kind="stable")][:_MOST_LISTED]
    return [
        Left(
            n + i, float(np.nansum(own[i])), float(forecast[i][known[i]].sum()), float(missed[i]),
            int(outside[i].sum()), int(known[i].sum()), float(signal[i]),
        )
        for i in worst.tolist()
    ]  # fmt: skip


def helped(before: Sequence[float], after: Sequence[float], leads: Sequence[int], came: Floats) -> Help:
    """What one change of a node brought. before, after: the node at the leads that it changes. came: [H], of the
    node."""
    was, now, y = np.asarray(before), np.asarray(after), came[list(leads)]
    known = ~np.isnan(y)
    missed = float(np.abs(y - was)[known].sum())
    after_it = (y - now)[known]
    return Help(int(known.sum()), missed - float(np.abs(after_it).sum()), missed, float(after_it.sum()))


def together(parts: Mapping[str, list[Help]]) -> dict[str, Help]:
    """By reason, or by planner."""
    return {
        name: Help(
            sum(one.periods for one in of),
            sum(one.gained for one in of),
            sum(one.error for one in of),
            sum(one.signed for one in of),
        )
        for name, of in parts.items()
    }
