"""Fitting every method at every origin: the work of a study, one chunk of series at a time."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from tansy.engine.errors import RecipeError
from tansy.engine.methods import registry
from tansy.engine.methods.fits import Batch
from tansy.engine.methods.notation import Form
from tansy.engine.methods.pooled import Pooled, pooled_effects
from tansy.engine.methods.shared_season import season_profiles
from tansy.engine.timeline import Timeline

Floats = NDArray[np.float64]
Entries = tuple[str, ...]
PoolJob = tuple[Entries, int]
"""Entries of pooled(...), and the number of periods seen."""
PoolResult = tuple[PoolJob, Pooled]


def origins(n_periods: int, number: int, step: int, leads: int) -> list[int]:
    """Number of periods seen at each origin, oldest first; the newest leaves `leads` periods to be judged on.

    Raises RecipeError where the history is too short.
    """
    needed = leads + step * (number - 1) + 2
    if n_periods < needed:
        raise RecipeError(
            f"{number} origins, {step} periods apart and {leads} leads long, need at least {needed} periods of "
            f"history; there are {n_periods}. Ask for fewer origins or shorter leads."
        )
    return [n_periods - leads - step * i for i in range(number)][::-1]


@dataclass(frozen=True)
class ChunkFits:
    """All methods fitted to a chunk at all origins and at the end.

    tested: [series, methods, origins, H]; final: [series, methods, H]; NaN where a method is not defined.
    tested_sigma: [series, methods, origins] and final_sigma: [series, methods], root mean squared one-step errors.
    parameters: [series, methods, P], in the order of each method's names, then NaN. criteria: [series, methods, 2]:
    AICc and the number of values used. forms: per series and method, with its choices resolved, at each origin and at
    the end, None where it is not defined; empty unless asked for.
    """

    tested: Floats
    tested_sigma: Floats
    final: Floats
    final_sigma: Floats
    parameters: Floats
    criteria: Floats
    parameter_names: tuple[tuple[str, ...], ...]
    forms: list[list[list[Form | None]]] = field(default_factory=list)


@dataclass(frozen=True)
class Seasons:
    """Seasons that series may share, as they were known at each origin and are at the end.

    profiles: per origin, then at the end, [groups, periods seen + H]. group_of: [series].
    """

    profiles: tuple[Floats, ...]
    group_of: NDArray[np.int64]

    @classmethod
    def of(
        cls, history: Floats, source_of: NDArray[np.int64], timeline: Timeline, seen_at: Sequence[int], horizon: int
    ) -> Seasons:
        """Estimate the season of every row of `history` [nodes, periods] that is the source of another, or its own."""
        sources, group_of = np.unique(source_of, return_inverse=True)
        own = history[sources]
        return cls(
            tuple(season_profiles(own[:, :n], timeline.until(n), horizon) for n in (*seen_at, timeline.n_periods)),
            group_of.ravel(),
        )

    def rows(self, start: int, end: int) -> Seasons:
        """Those of series start..end, and only the groups they need."""
        groups, group_of = np.unique(self.group_of[start:end], return_inverse=True)
        return Seasons(tuple(profile[groups] for profile in self.profiles), group_of.ravel())


def pooled_at(
    forms: Sequence[Form], history: Floats, drivers: Mapping[str, Floats], timeline: Timeline, seen_at: Sequence[int],
    groups: tuple[NDArray[np.int64], ...],
    run: Callable[[Callable[[PoolJob], PoolResult], list[PoolJob]], Iterable[PoolResult]] = map,
) -> dict[Entries, tuple[Pooled, ...]]:  # fmt: skip
    """Effects that forms pool over the rows of `history` [nodes, periods], as known at each origin and at the end.

    run: works through the origins as `map` does, in any order.
    """
    ends = (*seen_at, timeline.n_periods)
    wanted = sorted({form.pooled for form in forms if form.pooled})

    def work(job: PoolJob) -> PoolResult:
        entries, n = job
        return job, pooled_effects(entries, history[:, :n], drivers, timeline.until(n), groups)

    found = dict(run(work, [(entries, n) for entries in wanted for n in ends]))
    return {entries: tuple(found[entries, n] for n in ends) for entries in wanted}


def fit_chunk(
    values: Floats,
    timeline: Timeline,
    forms: Sequence[Form],
    seen_at: Sequence[int],
    horizon: int,
    seasons: Seasons | None = None,
    drivers: Mapping[str, Floats] | None = None,
    pooled: Mapping[tuple[str, ...], Sequence[Pooled]] | None = None,
    with_forms: bool = False,
    said: Callable[[float], None] | None = None,
) -> ChunkFits:
    """Fit every form to every row of `values` [series, periods] at every origin and at the end of the history.

    seasons: those of the groups, for forms with a shared one; without, these series are one group. drivers: per name
    [series, periods + leads or more]; what they were in the leads of an origin counts as known then, as plans are.
    pooled: per entries of a form, the effects as they were known at each origin and are at the end, of these series.
    said: hears after every method and origin what share of all is done; what it raises ends the work.

    Searches start from where they ended at the origin before, oldest first, so the result does not depend on which
    series share the chunk. What is published starts anew: it is what the method gives for the history alone, to the
    last digit, wherever else it is fitted.
    """
    n, n_methods, n_origins = len(values), len(forms), len(seen_at)
    tested = np.full((n, n_methods, n_origins, horizon), np.nan)
    tested_sigma = np.full((n, n_methods, n_origins), np.nan)
    final = np.full((n, n_methods, horizon), np.nan)
    final_sigma = np.full((n, n_methods), np.nan)
    criteria = np.full((n, n_methods, 2), np.nan)
    parameters: list[Floats] = []
    names: list[tuple[str, ...]] = []
    resolved: list[list[list[Form | None]]] = [[[] for _ in forms] for _ in range(n)]
    for j, form in enumerate(forms):
        warm: Floats | None = None
        for i, n_seen in enumerate([*seen_at, timeline.n_periods]):
            effects = {entries: found[i] for entries, found in (pooled or {}).items()}
            batch = Batch(values[:, :n_seen], timeline.until(n_seen), drivers or {}, effects)
            if seasons is not None:
                batch = replace(batch, profiles=seasons.profiles[i], source_of=seasons.group_of)
            fits = registry.fit(form, batch, horizon, warm if i < n_origins else None)
            warm = fits.raw
            sigma = np.sqrt(mean_square(fits.residuals))
            if said:
                said((j * (n_origins + 1) + i + 1) / (n_methods * (n_origins + 1)))
            if with_forms:
                for s, defined in enumerate(fits.defined.tolist()):
                    resolved[s][j].append(fits.form(s) if defined else None)
            if i < n_origins:
                tested[:, j, i] = fits.forecast
                tested_sigma[:, j, i] = sigma
                continue
            final[:, j] = fits.forecast
            final_sigma[:, j] = sigma
            criteria[:, j, 0] = fits.aicc
            criteria[:, j, 1] = fits.n_used
            parameters.append(fits.parameters)
            names.append(fits.parameter_names)
    width = max(p.shape[1] for p in parameters)
    padded = np.full((n, n_methods, width), np.nan)
    for j, found in enumerate(parameters):
        padded[:, j, : found.shape[1]] = found
    return ChunkFits(tested, tested_sigma, final, final_sigma, padded, criteria, tuple(names), resolved)


def mean_square(residuals: Floats) -> Floats:
    """Uncentred mean of e^2 per series, NaN where there is none."""
    seen = ~np.isnan(residuals)
    count = seen.sum(axis=1)
    total = np.where(seen, residuals * residuals, 0.0).sum(axis=1)
    return np.divide(total, count, out=np.full(len(residuals), np.nan), where=count > 0)
