"""Exponential smoothing written from `methods.md` without a thought for speed, to hold the engine against."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import minimize

Floats = NDArray[np.float64]

ALL_FORMS = [(e, t, s) for e in "AM" for t in ("N", "A", "Ad") for s in "NAM"]


@dataclass(frozen=True)
class Run:
    """mu and errors per period (NaN where missing), and forecasts from the states at the end."""

    mu: Floats
    errors: Floats
    ahead: Floats
    states: list[tuple[float, float, list[float]]]


def run(y: Floats, letters: tuple[str, str, str], p: dict[str, float], m: int, horizon: int = 4) -> Run:
    """Hyndman, Koehler, Ord, Snyder (2008), tables 2.2 and 2.3, each form by its own line."""
    error, trend, season = letters
    level, slope = p["level"], p.get("trend", 0.0)
    phi = {"N": 0.0, "A": 1.0, "Ad": p.get("phi", 1.0)}[trend]
    s = [p.get(f"season{j + 1}", 1.0 if season == "M" else 0.0) for j in range(m)]
    alpha, beta, gamma = p["alpha"], p.get("beta", 0.0), p.get("gamma", 0.0)
    mus, errors, states = [], [], []
    for t, value in enumerate(y):
        q, at = level + phi * slope, s[t % m]
        mu = {"N": q, "A": q + at, "M": q * at}[season]
        e = 0.0 if math.isnan(value) else value - mu
        states.append((level, slope, list(s)))
        mus.append(mu)
        errors.append(math.nan if math.isnan(value) else e)
        if error == "A":
            shock = e / at if season == "M" else e
            level, slope = q + alpha * shock, phi * slope + beta * shock
            s[t % m] = at + gamma * (e / q if season == "M" else e)
        else:
            eps = e / mu
            if season == "A":
                level, slope = q + alpha * (q + at) * eps, phi * slope + beta * (q + at) * eps
                s[t % m] = at + gamma * (q + at) * eps
            else:
                level, slope = q * (1 + alpha * eps), phi * slope + beta * q * eps
                s[t % m] = at * (1 + gamma * eps) if season == "M" else at
        if trend == "N":
            slope = 0.0
    ahead = []
    for h in range(1, horizon + 1):
        q = level + sum(phi**i for i in range(1, h + 1)) * slope
        at = s[(len(y) + h - 1) % m]
        ahead.append({"N": q, "A": q + at, "M": q * at}[season])
    return Run(np.array(mus), np.array(errors), np.array(ahead), states)


def loglik(y: Floats, letters: tuple[str, str, str], p: dict[str, float], m: int) -> float:
    """The log-likelihood of `methods.md`; minus infinity outside the region it is maximised in."""
    alpha, beta, gamma, phi = p["alpha"], p.get("beta", 0.0), p.get("gamma", 0.0), p.get("phi", 0.9)
    if not (0.0 < alpha < 1.0 and 0.0 <= beta <= alpha and 0.0 <= gamma <= 1.0 - alpha and 0.8 <= phi <= 0.98):
        return -math.inf
    with np.errstate(all="ignore"):
        found = run(y, letters, p, m)
    e, mu = found.errors[~np.isnan(y)], found.mu[~np.isnan(y)]
    n = len(e)
    if letters[2] == "M" and any(
        level + slope * p.get("phi", 1.0) <= 0 or min(s) <= 0 for level, slope, s in found.states
    ):
        return -math.inf
    if letters[0] == "M":
        if mu.min() <= 0.0:
            return -math.inf
        return float(-n / 2 * (math.log(2 * math.pi * ((e / mu) ** 2).sum() / n) + 1) - np.log(mu).sum())
    return float(-n / 2 * (math.log(2 * math.pi * (e**2).sum() / n) + 1))


def names(letters: tuple[str, str, str], m: int) -> list[str]:
    """Free parameters; the last season follows from the others."""
    _, trend, season = letters
    found = ["alpha", *(["beta"] if trend != "N" else []), *(["gamma"] if season != "N" else [])]
    found += [*(["phi"] if trend == "Ad" else []), "level", *(["trend"] if trend != "N" else [])]
    return found + ([f"season{j}" for j in range(1, m)] if season != "N" else [])


def complete(p: dict[str, float], letters: tuple[str, str, str], m: int) -> dict[str, float]:
    if letters[2] == "N":
        return p
    total = float(m) if letters[2] == "M" else 0.0
    return {**p, f"season{m}": total - sum(p[f"season{j}"] for j in range(1, m))}


def best_by_search(
    y: Floats,
    letters: tuple[str, str, str],
    m: int,
    start: dict[str, float],
    rng: np.random.Generator,
    restarts: int = 1,
) -> float:
    """The highest log-likelihood that a slow search over everything at once finds (Nelder, Mead 1965, restarted)."""
    keys = names(letters, m)

    def lost(x: Floats) -> float:
        value = loglik(y, letters, complete(dict(zip(keys, x, strict=True)), letters, m), m)
        return 1e9 if value == -math.inf else -value

    best = math.inf
    for i in range(restarts):
        x = np.array([start[key] for key in keys]) * (rng.uniform(0.9, 1.1, len(keys)) if i else 1.0)
        for _ in range(2):  # a simplex that has shrunk too early is opened again
            found = minimize(
                lost, x, method="Nelder-Mead", options={"maxfev": 6000, "fatol": 1e-8, "xatol": 1e-8, "adaptive": True}
            )
            x = found.x
            best = min(best, found.fun)
    return -best


def simulate(
    letters: tuple[str, str, str], p: dict[str, float], m: int, n: int, sigma: float, rng: np.random.Generator
) -> Floats:
    """One series of length n from a form with the given first states."""
    y = np.full(n, math.nan)
    for t in range(n):
        mu = run(np.append(y[:t], math.nan), letters, p, m).mu[t]
        y[t] = mu * (1 + sigma * rng.standard_normal()) if letters[0] == "M" else mu + sigma * rng.standard_normal()
    return y
