"""The learner: what one model found out about all series of a study says of one."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from tansy.engine.methods.distribution import Normal
from tansy.engine.methods.features import reach_of
from tansy.engine.methods.fits import Batch, Fits, note
from tansy.engine.methods.form import RICHEST, Form
from tansy.engine.methods.learning import learn
from tansy.engine.methods.method_text import Written
from tansy.engine.methods.shared_season import season_profiles


@dataclass(frozen=True)
class Learner(Form):
    family: str = "learner"
    bare = True
    names = ("learner",)
    examples = ("learner",)
    menu = (("learner", "learner over all series"),)

    @classmethod
    def read(cls, written: Written) -> Learner:
        if written.transformed:
            raise written.wrong("the learner takes values relative to their level; leave the transform out.")
        return cls()

    def richness(self) -> tuple[int, int]:
        return RICHEST, 1_000

    @property
    def learns(self) -> bool:
        return True

    @property
    def has_season(self) -> bool:
        return True

    def in_words(self) -> str:
        return (
            "One model for all series: boosted trees on recent values, earlier seasons, the season of its group, the "
            "calendar and all drivers."
        )

    def fit(self, batch: Batch, horizon: int, bands: str) -> Fits:
        n, length = batch.values.shape
        found = batch.learned
        if found is None or found.mean.shape[1] < horizon:
            profiles = batch.profiles
            if profiles is None:
                profiles = season_profiles(batch.own_sources, batch.timeline, horizon)
            reach = reach_of(batch.drivers, length, horizon)
            one_level = np.zeros(n, dtype=np.int64)
            found = learn(
                batch.values, batch.timeline, batch.drivers, reach, profiles, batch.groups, one_level, horizon
            )
        found = found.until(horizon)
        residuals = np.full((n, length), np.nan)
        residuals[:, length - found.errors.shape[1] :] = found.errors
        defined = ~np.isnan(found.mean[:, 0])
        residuals[~defined] = np.nan
        n_used = (~np.isnan(residuals)).sum(axis=1).astype(np.float64)
        squares = np.nansum(residuals**2, axis=1)
        notes: dict[int, tuple[str, ...]] = {}
        note(notes, ~defined, "not fitted: nothing was sold in the last season, or too few series to learn from")
        distribution = None
        if bands != "none":
            covariance = found.spread[:, :, None] * found.together * found.spread[:, None, :]
            sums = np.diagonal(covariance.cumsum(axis=1).cumsum(axis=2), axis1=1, axis2=2)
            distribution = Normal(found.mean, found.spread**2, np.maximum(sums, found.spread[:, :1] ** 2))
        return Fits(
            forecast=found.mean, residuals=residuals, parameters=np.empty((n, 0)), parameter_names=(),
            loglik=np.full(n, np.nan), sigma2=squares / np.maximum(n_used, 1.0), n_used=n_used, sum_squares=squares,
            n_parameters=np.zeros(n), forms=(self,), form_of=np.zeros(n, dtype=np.int64),
            standard_errors=None if bands == "none" else np.empty((n, 0)), distribution=distribution, notes=notes,
        )  # fmt: skip
