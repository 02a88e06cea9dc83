"""Fits as plain data, for the command line and for the screen."""

from __future__ import annotations

from typing import Any

import numpy as np

from tansy.engine.methods.fits import Batch, Fits, Floats
from tansy.engine.methods.form import Form
from tansy.engine.methods.inference import coefficients, correlations
from tansy.engine.methods.simpler import fit_or_simpler


def fits_json(
    form: Form, batch: Batch, series: list[dict[str, str]], horizon: int, p: Floats, bands: str
) -> list[dict[str, Any]]:
    """Fit a form, or where a series is too short for it a simpler one, and describe what came out, one entry a series.

    series: the key of each. p: probabilities of the quantiles. `total` holds the quantiles of the sum of leads 1..h.
    """
    entries: list[dict[str, Any] | None] = [None] * len(series)
    periods = batch.timeline.after(horizon).labels
    for rows, fits, settled in fit_or_simpler(form, batch, horizon, bands):
        each, total = None, None
        if fits.distribution is not None:
            each, total = fits.distribution.quantiles(p), fits.distribution.quantiles(p, together=True)
        for i in np.nonzero(settled)[0].tolist():
            row = int(rows[i])
            entry: dict[str, Any] = {
                "series": series[row],
                "model": str(fits.form(i)),
                "notes": list(fits.notes.get(i, ())),
            }
            entries[row] = entry
            if not fits.defined[i]:
                entry["model"] = str(form)
                continue
            figures = zip(
                ("loglik", "aic", "aicc", "bic", "sigma2"),
                (fits.loglik, fits.aic, fits.aicc, fits.bic, fits.sigma2),
                strict=True,
            )
            entry |= {
                "parameters": fits.named_parameters(i),
                "standard_errors": fits.named_errors(i),
                "p_values": {one.name: number(one.p) for one in coefficients(fits, i) if one.p is not None},
                "correlation": _correlation(fits, i),
                **{name: number(float(values[i])) for name, values in figures},
                "n_used": int(np.nan_to_num(fits.n_used[i])),
                "fitted": numbers(batch.values[row] - fits.residuals[i]),
                "residuals": numbers(fits.residuals[i]),
                "forecast": {"period": periods, "mean": numbers(fits.forecast[i])},
                "tried": tried(fits.tried, fits.criteria[i]) if fits.criteria is not None else [],
            }
            if each is not None and total is not None:
                entry["forecast"]["quantiles"] = {f"{q:g}": numbers(each[i, k]) for k, q in enumerate(p)}
                entry["forecast"]["total_quantiles"] = {f"{q:g}": numbers(total[i, k]) for k, q in enumerate(p)}
    return [entry for entry in entries if entry is not None]


def _correlation(fits: Fits, series: int) -> dict[str, Any]:
    """Of the estimates: their names, and a row for each."""
    names, matrix = correlations(fits, series)
    return {"names": names, "rows": [numbers(row) for row in matrix]}


def tried(texts: tuple[str, ...], criteria: Floats) -> list[dict[str, Any]]:
    """Forms that were tried with their AICc, best first; null where a form could not be fitted."""
    ordered = sorted(zip(texts, criteria.tolist(), strict=True), key=lambda pair: pair[1])
    return [{"model": text, "aicc": number(value)} for text, value in ordered]


def number(value: float) -> float | None:
    return value + 0.0 if np.isfinite(value) else None  # no minus before a zero


def numbers(values: Floats) -> list[float | None]:
    return [number(value) for value in values.tolist()]
