"""The default recipe on real series, at the origins that their README suggests, and what each part brings.

    python -m bench.real [--sets monthly quarterly daily] [--ablations]

The series are not part of this project: where they are missing, the bench says so and ends. Printed over the finest
series and all origins: MASE (scale: in-sample mean absolute step over a season), WAPE, RMSSE, share inside the bands
and their interval score in naive steps; of what is published, and of every method of the recipe by itself.
"""

from __future__ import annotations

import argparse
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from unittest import mock

import numpy as np
from numpy.typing import NDArray

from tansy.engine.backtest.choice import ChoiceRule
from tansy.engine.backtest.intervals import Scale
from tansy.engine.backtest.measures import interval_score
from tansy.engine.methods.blend import Blend
from tansy.engine.methods.notation import parse
from tansy.engine.panel import Panel
from tansy.engine.reading.attributes import default_levels
from tansy.engine.reading.history import read_panel
from tansy.engine.reading.options import ReadOptions
from tansy.engine.study.defaults import default_recipe
from tansy.engine.study.recipe import Recipe
from tansy.engine.study.run import Backtest, run_study

Floats = NDArray[np.float64]

FOLDER = Path(__file__).parents[2] / "shared" / "data"


@dataclass(frozen=True)
class Asked:
    """origins: number, step: between them, last: periods seen at the newest."""

    season: int
    origins: int
    step: int
    last: int
    leads: int
    zeros: bool = False


SETS = {
    "monthly": Asked(12, 6, 12, 132, 12),
    "quarterly": Asked(4, 9, 2, 52, 8),
    "daily": Asked(7, 8, 14, 281, 14, zeros=True),
}


class Judge:
    """Errors of forecasts of the finest series, [series, origins, H]."""

    def __init__(self, found: Backtest, asked: Asked) -> None:
        graph, seen_at = found.prepared.graph, found.prepared.seen_at
        self.finest, self.zeros = slice(graph.n_aggregates, None), asked.zeros
        values = found.prepared.known().judged[self.finest]
        values = np.nan_to_num(values) if asked.zeros else values
        self.actuals = np.full((len(values), len(seen_at), asked.leads), np.nan)
        self.season_step, self.step = (np.empty((len(values), len(seen_at), 1)) for _ in range(2))
        for o, n in enumerate(seen_at):
            came = values[:, n : n + asked.leads]
            self.actuals[:, o, : came.shape[1]] = came
            seen = values[:, :n]
            with np.errstate(all="ignore"):
                self.season_step[:, o, 0] = np.nanmean(
                    np.abs(seen[:, asked.season :] - seen[:, : -asked.season]), axis=1
                )
                self.step[:, o, 0] = np.nanmean(np.diff(seen) ** 2, axis=1)

    def line(self, name: str, forecast: Floats, quantiles: Floats | None = None, p: Floats | None = None) -> str:
        if self.zeros:  # what is not known of yet is expected to sell nothing
            forecast = np.nan_to_num(forecast)
        y = np.where(np.isnan(forecast), np.nan, self.actuals)
        e = np.abs(y - forecast)
        with np.errstate(all="ignore"):
            mase = np.nanmean(np.where(self.season_step > 0.0, e / self.season_step, np.nan))
            wape = 100.0 * np.nansum(e) / np.nansum(np.abs(y))
            squares = np.nanmean(np.where(self.step > 0.0, e**2 / self.step, np.nan), axis=(1, 2))
        said = f"  {name[:78]:78}  {mase:.3f}  {wape:6.2f}  {np.nanmean(np.sqrt(squares)):.3f}"
        if quantiles is not None and p is not None:
            for b in range(len(p) // 2):
                known = ~np.isnan(y)
                low, high, level = quantiles[:, :, b], quantiles[:, :, -1 - b], float(p[-1 - b] - p[b])
                inside = (y >= low) & (y <= high)
                score = interval_score(y, low, high, level) / np.sqrt(self.step)
                score = np.where(self.step > 0.0, score, np.nan)
                said += f"  {100.0 * inside[known].mean():5.1f} in {100.0 * level:.0f}, {np.nanmean(score):.2f}"
        return said


def recipe_of(panel: Panel, asked: Asked) -> Recipe:
    recipe = default_recipe(panel, default_levels(panel))
    anchor = panel.timeline.labels[asked.last - 1]
    return replace(recipe, origins=asked.origins, step=asked.step, leads=asked.leads, anchor=anchor)


def without(recipe: Recipe) -> Iterator[tuple[str, Recipe]]:
    """The recipe without each of the things that make it what it is."""

    def plain(texts: tuple[str, ...]) -> tuple[str, ...]:
        leaves = [str(leaf) for text in texts for leaf in parse(text).leaves]
        return tuple(dict.fromkeys(leaves))

    blend = next(form for form in map(parse, recipe.methods) if isinstance(form, Blend))
    yield "without blends", replace(recipe, methods=plain(recipe.methods), fallback=plain(recipe.fallback))
    yield "the blend alone", replace(recipe, methods=(str(blend),))
    yield "reconciled by variance", replace(recipe, reconciliation="variance")
    yield "without a margin", replace(recipe, choice=replace(recipe.choice, margin=0.0, own=0.0))
    yield "margin of one", replace(recipe, choice=replace(recipe.choice, margin=1.0))
    yield "absolute errors", replace(recipe, choice=ChoiceRule("absolute"))


@contextmanager
def bands_without_the_fits() -> Iterator[None]:
    """Bands from past errors alone: what the fits say of how doubt grows with the lead is not told."""
    usual = Scale.of

    def without(sigma: Floats, spread: Floats, relative: Floats) -> Scale:
        return usual(sigma, np.full_like(spread, np.nan), relative)

    with mock.patch.object(Scale, "of", without):
        yield


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--sets", nargs="+", default=list(SETS), choices=list(SETS))
    parser.add_argument("--ablations", action="store_true")
    given, _ = parser.parse_known_args()
    for name in given.sets:
        path, asked = FOLDER / f"{name}.csv", SETS[name]
        if not path.exists():
            print(f"{path} is not here: nothing to measure.")
            continue
        panel = read_panel(path, ReadOptions()).panel
        recipe = recipe_of(panel, asked)

        def said(found: Backtest, asked: Asked = asked) -> None:
            judge = Judge(found, asked)
            own = slice(found.prepared.graph.n_aggregates, None)
            print(judge.line("published", found.published[own], found.published_quantiles[own], found.probabilities))
            n = found.prepared.graph.n_nodes
            for j, method in enumerate(found.methods):
                means = [one.results[j].rows(0, n).mean[own] for one in found.endings[:-1]]
                print(judge.line(method, np.stack(means, axis=1)))

        def short(label: str, asked: Asked = asked):
            def tell(found: Backtest) -> None:
                own = slice(found.prepared.graph.n_aggregates, None)
                bands = found.published_quantiles[own], found.probabilities
                print(Judge(found, asked).line(label, found.published[own], *bands))

            return tell

        print(f"{name}: {panel.n_series} series, {asked.origins} origins, {asked.leads} leads; MASE, WAPE %, RMSSE, %")
        began = time.perf_counter()
        run_study(panel, recipe, backtest=said)
        print(f"  {time.perf_counter() - began:.1f} s")
        if given.ablations:
            for label, changed in without(recipe):
                run_study(panel, changed, backtest=short(label))
            with bands_without_the_fits():
                run_study(panel, recipe, backtest=short("bands without the fits' distributions"))


if __name__ == "__main__":
    main()
