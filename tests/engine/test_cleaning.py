"""Suspicious values on data whose truth is known, and what corrections do to a study."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from numpy.typing import NDArray
from scipy import stats

from tansy.demo.generator import generate
from tansy.engine.cleaning.corrections import Corrections, by_rules, from_suspicions
from tansy.engine.cleaning.expectation import expect
from tansy.engine.cleaning.rules import RULES, Rules
from tansy.engine.cleaning.suspicious import Suspicions, find_suspicious
from tansy.engine.errors import RecipeError
from tansy.engine.panel import Panel
from tansy.engine.study.defaults import default_recipe
from tansy.engine.study.recipe import read_recipe
from tansy.engine.study.run import run_study
from tansy.engine.timeline import Timeline
from tests.planted import LEVELS, planted

Floats = NDArray[np.float64]
WEEKS = Timeline("W", 2782, 182, 52)


def one_key(values: Floats, timeline: Timeline = WEEKS) -> Panel:
    return Panel(timeline, ("sku",), {"sku": [f"S{i}" for i in range(len(values))]}, values)


def found_in(panel: Panel, *rules: str, **settings: float | str) -> Suspicions:
    return find_suspicious(panel, Rules(find=rules or Rules.find, **settings))  # type: ignore[arg-type]


def test_planted_wild_values_are_found_and_little_else() -> None:
    """Five seeds of the demo. Noise is the generator's: counts of variance mean + c mean^2, at least one sale."""
    found_wild = beyond = flagged = flagged_wild = 0
    in_peaks, promoted = np.zeros(2), np.zeros(2)
    for seed in (1, 2, 3, 4, 5):
        truth = planted(generate(seed))
        found = find_suspicious(truth.panel, Rules(find=("spike",)), LEVELS)
        flags = np.zeros(truth.wild.shape, dtype=bool)
        flags[found.series, found.start] = True
        far = truth.wild & (truth.panel.values - truth.mean >= 6.0 * truth.noise)
        found_wild += int((flags & far).sum())
        beyond += int(far.sum())
        flagged += int(flags.sum())
        flagged_wild += int((flags & truth.wild).sum())
        plain = ~truth.wild & (truth.mean > 0)
        usual = np.nanmedian(truth.mean, axis=1, keepdims=True)
        for tally, where in ((in_peaks, truth.mean > 3.0 * usual), (promoted, truth.promotion > 1.3)):
            tally += [(flags & plain & where).sum(), (plain & where).sum()]
        # a share of all innocent values so small that nobody tires of them, in a peak or promotion too
        assert (flags & plain).sum() < 5e-5 * plain.sum()
    assert beyond > 400
    assert found_wild / beyond >= 0.95
    assert flagged_wild / flagged >= 0.90
    for n_flagged, n in (in_peaks, promoted):
        assert n > 50_000 and n_flagged / n < 2e-4  # fewer than one in five thousand


def test_slow_movers_are_judged_by_the_tail_of_their_counts() -> None:
    """At a mean of 0.05 the median absolute deviation is 0; two pieces are rare, eight do not come by chance."""
    rng = np.random.default_rng(0)
    values = rng.poisson(0.05, (200, 182)).astype(float)
    values[7, 90] = 8.0
    found = found_in(one_key(values), "spike")
    best = int(np.argmax(found.score))
    assert (found.series[best], found.start[best], found.expected[best]) == (7, 90, 0.0) and found.score[best] > 6
    # 36,400 values, of which a share of 2e-5 is three or more by chance
    assert len(found) <= 3 and (np.delete(found.received, best) >= 3).all()


def test_scores_are_the_tail_of_the_negative_binomial() -> None:
    """Against SciPy's distribution, with the expectation that was used."""
    rng = np.random.default_rng(5)
    values = stats.nbinom.rvs(8, 8 / (8 + 12.0), size=(50, 182), random_state=rng).astype(float)
    values[3, 50] = 80.0
    values[4, 60] = 4.0 + values[4, 60]
    panel = one_key(values)
    found = found_in(panel, "spike", spike=2.5)
    there = expect(values, WEEKS, [])
    for k in range(len(found)):
        i, t = found.series[k], found.start[k]
        r = 1.0 / (there.dispersion[i] + there.doubt[i, t])
        law = stats.nbinom(r, r / (r + there.mean[i, t]))
        p = law.sf(values[i, t] - 1) if found.received[k] > there.mean[i, t] else law.cdf(values[i, t])
        assert found.score[k] == pytest.approx(stats.norm.isf(p), rel=1e-6)
    assert len(found) > 10


def test_a_season_without_siblings_is_taken_from_other_years() -> None:
    rng = np.random.default_rng(2)
    t = np.arange(182)
    season = 4.0 + 60.0 * np.exp(-0.5 * (((t % 52.18) - 20.0) / 2.0) ** 2)  # one sharp peak a year
    values = rng.poisson(season, (6, 182)).astype(float)
    values[2, 100] = 40.0
    found = found_in(one_key(values), "spike")
    assert (2, 100) in set(zip(found.series.tolist(), found.start.tolist(), strict=True))
    peak = np.abs((found.start % 52.18) - 20.0) < 5
    assert not peak[found.start != 100].any()


def test_promotions_are_explained_by_their_driver() -> None:
    rng = np.random.default_rng(3)
    on = rng.random((40, 182)) < 0.02
    values = rng.poisson(np.where(on, 75.0, 15.0)).astype(float)
    blind = found_in(one_key(values), "spike")
    assert len(blind) > 50
    told = found_in(replace(one_key(values), drivers={"promotion": on.astype(float)}), "spike")
    assert len(told) <= 2


def test_stock_outs_are_found_and_quiet_series_are_left_alone() -> None:
    rng = np.random.default_rng(4)
    values = rng.poisson(20.0, (30, 182)).astype(float)
    values[5, 60:63] = 0.0
    values[6, 170:] = 0.0  # an end, not a stock-out
    slow = rng.poisson(0.3, (30, 182)).astype(float)
    found = found_in(one_key(np.concatenate([values, slow])), "zero-run")
    assert list(zip(found.series, found.start, found.length, strict=True)) == [(5, 60, 3)]
    assert found.expected[0] == pytest.approx(20.0, abs=4)  # 15 values of other years: three times 6 %
    stock = np.full((60, 182), 50.0)
    stock[8, 30] = 0.0
    told = found_in(replace(one_key(np.concatenate([values, slow])), drivers={"stock": stock}), "out-of-stock")
    # the period that ended without stock, and the next, which began without
    assert list(zip(told.series, told.start, told.length, strict=True)) == [(8, 30, 2)]


def test_demo_stock_outs_of_lively_series() -> None:
    """Weeks of the demo where the shelf was empty and ten or more would have been sold."""
    truth = planted(generate(3))
    found = find_suspicious(truth.panel, Rules(find=("zero-run",)), LEVELS)
    flags = np.zeros(truth.wild.shape, dtype=bool)
    for i, start, n in zip(found.series, found.start, found.length, strict=True):
        flags[i, start : start + n] = True
    empty = truth.stock_out | (truth.mean == 0)  # the refit closed a whole centre
    lively = truth.stock_out & (truth.mean >= 10.0) & (truth.panel.values == 0)
    assert (flags & lively).sum() / lively.sum() >= 0.9
    assert (flags & empty).sum() / flags.sum() >= 0.9


def test_levels_fences_and_same_week() -> None:
    rng = np.random.default_rng(6)
    values = rng.poisson(30.0, (20, 182)).astype(float)
    values[3, 90:] = rng.poisson(75.0, 92)
    shift = found_in(one_key(values), "level-shift")
    best = int(np.argmax(shift.score))
    assert set(shift.series.tolist()) == {3} and abs(int(shift.start[best]) - 90) <= 1
    assert shift.ratio[best] == pytest.approx(2.5, rel=0.1) and not shift.is_change().any()
    values = rng.poisson(30.0, (20, 182)).astype(float)
    values[1, 40] = 300.0
    fence = found_in(one_key(values), "fence")
    assert (fence.series.tolist(), fence.start.tolist()) == ([1], [40])
    q1, q3 = np.quantile(values[1], [0.25, 0.75])
    assert fence.score[0] == pytest.approx((300 - q3) / (q3 - q1), rel=0.25)
    week = found_in(one_key(values), "same-week")
    assert (1, 40) in set(zip(week.series.tolist(), week.start.tolist(), strict=True)) and len(week) <= 3


def test_one_wild_value_inflates_plain_deviations_and_not_the_robust_ones() -> None:
    rng = np.random.default_rng(7)
    values = rng.normal(1000.5, 20.0, (1, 104)).round(2)
    values[0, 30], values[0, 70] = 9000.0, 1300.0
    timeline = Timeline("W", 2800, 104, 52)
    robust = found_in(one_key(values, timeline), "spike")
    assert robust.start.tolist() == [30, 70]
    plain = found_in(one_key(values, timeline), "spike", level="plain")
    assert plain.start.tolist() == [30]


def test_replacements() -> None:
    values = np.full((1, 104), 10.0)
    values[0, 46:50], values[0, 50], values[0, 51:55] = [8, 8, 9, 12], 200.0, [16, 9, 9, 11]
    found = found_in(one_key(values, Timeline("W", 2800, 104, 52)), "spike")
    assert found.start.tolist() == [50]
    assert found.median[0] == 9.0 and found.interpolated[0] == 14.0
    assert found.expected[0] == round(found.expected[0])  # whole, as the series is
    assert np.isnan(found.proposal("unknown")[0]) and found.proposal("interpolated")[0] == 14.0


@pytest.mark.parametrize(
    ("section", "sentence"),
    [
        ('find = ["spikes"]', "unknown rule 'spikes'"),
        ("spike = -1", "number above 0"),
        ("spike = true", "spike is a number, not true"),
        ('find = "spike"', 'find is a list of texts, not "spike"'),
        ('level = "mean"', "robust or plain"),
        ('replace = "zero"', "one of expected"),
        ("treshold = 3", "unknown entry 'treshold'"),
    ],
)
def test_a_recipe_says_what_is_wrong_with_its_rules(section: str, sentence: str) -> None:
    text = f'[cleaning]\n{section}\n[methods]\ncandidates=["mean"]\n[backtest]\norigins=1\nstep=1\nleads=1\n'
    with pytest.raises(RecipeError, match=sentence):
        read_recipe(text)


def test_rules_survive_the_recipe() -> None:
    panel = one_key(np.full((2, 182), 5.0))
    recipe = replace(default_recipe(panel, {"sku": []}), cleaning=Rules(find=("fence",), fence=2.5, accept_above=6.0))
    assert read_recipe(recipe.to_toml()) == recipe


def test_degenerate_history_gives_no_findings_and_no_numbers_that_are_none() -> None:
    values = np.full((6, 30), np.nan)
    values[1] = 0.0
    values[2] = 7.0
    values[3, 4] = 2.0
    values[4, :2] = [1.0, 5.0]
    values[5] = -3.0
    timeline = Timeline("W", 2800, 30, 52)
    assert len(found_in(one_key(values, timeline), *RULES)) == 0
    found = expect(values, timeline, [np.zeros(6, dtype=np.int64)])
    assert np.isfinite(found.mean).all() and np.isfinite(found.spread()).all()


def test_the_result_does_not_depend_on_the_order_of_series() -> None:
    rng = np.random.default_rng(8)
    values = rng.poisson(6.0, (40, 182)).astype(float)
    values[rng.integers(0, 40, 12), rng.integers(0, 182, 12)] += 60
    order = rng.permutation(40)
    one, other = found_in(one_key(values)), found_in(one_key(values[order]))
    back = {(int(order[i]), int(t)): s for i, t, s in zip(other.series, other.start, other.score, strict=True)}
    assert back.keys() == set(zip(one.series.tolist(), one.start.tolist(), strict=True))
    for i, t, s in zip(one.series.tolist(), one.start.tolist(), one.score.tolist(), strict=True):
        assert back[i, t] == pytest.approx(s, rel=1e-9)


class TestCorrectedStudy:
    """A study sees the corrected history and is scored against what was received."""

    @staticmethod
    def panel() -> Panel:
        rng = np.random.default_rng(9)
        values = rng.poisson(20.0, (4, 120)).astype(float)
        values[0, 30] = 900.0
        values[1, 100:102] = 0.0
        return one_key(values, Timeline("W", 2800, 120, 52))

    def test_rules_correct_by_themselves_only_when_told(self) -> None:
        panel = self.panel()
        assert len(by_rules(panel, Rules(), {})) == 0 and len(by_rules(panel, None, {})) == 0
        made = by_rules(panel, Rules(accept_above=5.0), {})
        assert list(zip(made.series, made.period, made.reason, strict=True)) == [
            (0, 30, "spike"), (1, 100, "zero-run"), (1, 101, "zero-run"),
        ]  # fmt: skip
        assert made.value[0] == pytest.approx(20.0, abs=3) and np.isnan(made.value[1:]).all()

    def test_the_planners_word_stands_before_the_rules(self) -> None:
        mine = Corrections(
            np.array([0]),
            np.array([30]),
            np.array([25.0]),
            np.array([False]),
            ("agreed with the store",),
            np.array([np.nan]),
        )
        both = mine.and_then(by_rules(self.panel(), Rules(accept_above=5.0), {}))
        assert len(both) == 3 and both.value[0] == 25.0 and both.reason[0] == "agreed with the store"

    def test_methods_see_the_correction_and_scores_the_history_as_received(self) -> None:
        panel = self.panel()
        recipe = replace(
            default_recipe(panel, {"sku": []}),
            methods=("mean",),
            origins=2,
            step=6,
            leads=6,
            cleaning=Rules(accept_above=5.0),
        )
        before = panel.values.copy()
        study = run_study(panel, recipe, workers=1)
        assert np.array_equal(panel.values, before)
        finest = study.graph.n_aggregates
        assert study.history[finest, 30] < 40 and study.received[finest, 30] == 900.0
        assert (
            np.isnan(study.history[finest + 1, 100:102]).all() and np.isnan(study.received[finest + 1, 100:102]).all()
        )
        # the total is drawn across the stock-out, and forecasts are about 20 a series
        assert study.history[0, 100] == pytest.approx(80.0, abs=25)
        assert study.forecast[finest].mean() == pytest.approx(20.0, abs=2)
        assert len(study.corrections) == 3

    def test_a_value_that_breaks_two_rules_is_changed_once(self) -> None:
        stock = np.full((4, 120), 9.0)
        stock[0, 29:31] = 0.0  # the shelf was empty around the wild value
        panel = replace(self.panel(), drivers={"stock": stock})
        made = by_rules(panel, Rules(accept_above=5.0), {})
        cells = list(zip(made.series.tolist(), made.period.tolist(), made.reason, strict=True))
        assert cells[:3] == [(0, 29, "out-of-stock"), (0, 30, "spike"), (0, 31, "out-of-stock")]
        assert len({cell[:2] for cell in cells}) == len(cells)

    def test_the_volume_moved_is_summed_by_group(self) -> None:
        panel = self.panel()
        changes = Corrections(
            np.array([0, 1, 2]), np.array([30, 5, 6]), np.array([20.0, np.nan, 100.0]), np.zeros(3, dtype=bool),
            ("a", "b", "c"), np.full(3, np.nan),
        )  # fmt: skip
        y = panel.values
        found = {one.name: one for one in changes.moved(panel, ["x", "x", "y", "y"])}
        assert (found["x"].count, found["x"].removed, found["x"].unknown) == (2, 880.0, y[1, 5])
        assert (found["y"].count, found["y"].added, found["y"].removed) == (1, 100.0 - y[2, 6], 0.0)
        assert list(found) == ["x", "y"] and Corrections.none().moved(panel, ["x"] * 4) == []

    def test_from_suspicions_spells_out_runs(self) -> None:
        found = find_suspicious(self.panel(), Rules(), {})
        made = from_suspicions(found, "median")
        assert made.unjudged.tolist() == [False, True, True] and made.value[0] > 0


@pytest.mark.parametrize("n_periods", [1, 2, 3, 4, 7])
def test_rules_run_on_histories_of_a_few_periods(n_periods: int) -> None:
    """Also at the first origins of a short backtest, which sees less than the whole."""
    values = np.random.default_rng(1).poisson(5.0, (3, n_periods)).astype(float)
    panel = Panel(Timeline("D", 20_000, n_periods, 7), ("sku",), {"sku": ["a", "b", "c"]}, values)
    for level in ("robust", "plain"):
        assert len(find_suspicious(panel, Rules(find=tuple(RULES), level=level))) == 0
