"""What every method is given and what it gives back."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tansy.engine.timeline import Timeline

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Batch:
    """Series to be fitted together: values [series, periods], NaN missing, and the timeline they stand on."""

    values: Floats
    timeline: Timeline


@dataclass(frozen=True)
class Uncertainty:
    """What not knowing the parameters adds to the variance of a forecast.

    linear [series, H]: of what is linear (starting states, regression), in units of sigma2. searched [series, H]: of
    the numbers found by search. standard_errors [series, P].
    """

    linear: Floats
    searched: Floats
    standard_errors: Floats


@dataclass(frozen=True)
class Fits:
    """One method fitted to a batch. Rows of series that have too few values are NaN.

    forecast [series, H]: means. variance [series, H]: of the forecast errors, parameters taken as known, with
    sigma2 = Q/n. residuals [series, T]: one-step errors. parameters [series, P], named by parameter_names.
    loglik, sigma2, n_used, sum_squares [series]. n_parameters: k, which counts the variance.
    raw [series, free]: where the search ended, to start the next one from; empty where nothing is searched.
    """

    forecast: Floats
    variance: Floats
    residuals: Floats
    parameters: Floats
    parameter_names: tuple[str, ...]
    loglik: Floats
    sigma2: Floats
    n_used: Floats
    sum_squares: Floats
    n_parameters: int
    raw: Floats
    uncertainty: Uncertainty | None = None

    @property
    def defined(self) -> NDArray[np.bool_]:
        return ~np.isnan(self.forecast[:, 0])

    @property
    def aic(self) -> Floats:
        return -2.0 * self.loglik + 2.0 * self.n_parameters

    @property
    def aicc(self) -> Floats:
        k = self.n_parameters
        room = self.n_used - k - 1.0
        correction = np.divide(2.0 * k * (k + 1.0), room, out=np.full_like(room, np.inf), where=room > 0)
        return self.aic + correction

    @property
    def bic(self) -> Floats:
        return -2.0 * self.loglik + self.n_parameters * np.log(np.maximum(self.n_used, 1.0))

    @property
    def estimated_variance(self) -> Floats:
        """Variance of the forecast errors that people get, [series, H]: sigma2 = Q/(n - k + 1) where it was
        estimated by maximum likelihood, and the uncertainty of the parameters added."""
        if self.uncertainty is None:
            return self.variance
        freedom = np.maximum(self.n_used - self.n_parameters + 1.0, 1.0)
        sigma2 = (self.sum_squares / freedom)[:, None]
        psi_squared = np.divide(
            self.variance,
            self.sigma2[:, None],
            out=np.ones_like(self.variance),
            where=self.sigma2[:, None] > 0,
        )
        return sigma2 * (psi_squared + self.uncertainty.linear) + self.uncertainty.searched

    def standard_errors(self, series: int) -> dict[str, float]:
        """Standard error of each estimated parameter of one series; parameters given by hand have none."""
        if self.uncertainty is None:
            return {}
        found = zip(self.parameter_names, self.uncertainty.standard_errors[series], strict=True)
        return {name: float(error) for name, error in found if np.isfinite(error) and error > 0.0}
