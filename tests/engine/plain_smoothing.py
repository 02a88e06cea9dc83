"""Exponential smoothing written from `methods.md` without a thought for speed, to hold the engine against."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

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


@njit(cache=True)
def _lost(x: Floats, y: Floats, error: int, trend: int, season: int, m: int) -> float:
    """Minus `loglik` at the numbers that `names` lists, written out once more, for a search that takes thousands."""
    alpha, c = x[0], 1
    beta = gamma = slope = 0.0
    phi = 1.0
    if trend > 0:
        beta, c = x[c], c + 1
    if season > 0:
        gamma, c = x[c], c + 1
    if trend == 2:
        phi, c = x[c], c + 1
        if not 0.8 <= phi <= 0.98:
            return 1e9
    if not (0.0 < alpha < 1.0 and 0.0 <= beta <= alpha and 0.0 <= gamma <= 1.0 - alpha):
        return 1e9
    level, c = x[c], c + 1
    if trend > 0:
        slope, c = x[c], c + 1
    s = np.zeros(max(m, 1))
    if season > 0:
        last = float(m) if season == 2 else 0.0
        for j in range(m - 1):
            s[j] = x[c + j]
            last -= x[c + j]
        s[m - 1] = last
    squares, logs, n = 0.0, 0.0, 0
    for t in range(len(y)):
        q, at = level + phi * slope, s[t % m]
        mu = q * at if season == 2 else q + at
        if (season == 2 and (q <= 0.0 or at <= 0.0)) or (error == 1 and mu <= 0.0):
            return 1e9
        e = 0.0
        if not math.isnan(y[t]):
            e = y[t] - mu
            squares += (e / mu) ** 2 if error == 1 else e**2
            logs += math.log(mu) if error == 1 else 0.0
            n += 1
        by_level, by_season = (e / at, e / q) if season == 2 else (e, e)
        level, slope = q + alpha * by_level, phi * slope + beta * by_level
        if season > 0:
            s[t % m] = at + gamma * by_season
    return n / 2 * (math.log(2 * math.pi * squares / n) + 1) + logs


@njit(cache=True)
def _nelder_mead(x: Floats, y: Floats, error: int, trend: int, season: int, m: int, most: int) -> float:
    """Nelder and Mead (1965) with the coefficients of Gao and Han (2012); x becomes the best point."""
    k = len(x)
    points = np.empty((k + 1, k))
    values = np.empty(k + 1)
    for i in range(k + 1):
        points[i] = x
        if i > 0:
            points[i, i - 1] = x[i - 1] * 1.05 if x[i - 1] != 0.0 else 0.00025
        values[i] = _lost(points[i], y, error, trend, season, m)
    tried = 0
    while tried < most:
        order = np.argsort(values)
        points, values = points[order], values[order]
        if values[k] - values[0] < 1e-9 and np.abs(points - points[0]).max() < 1e-8:
            break
        middle = points[:k].sum(axis=0) / k
        away = middle - points[k]
        reflected = middle + away
        at = _lost(reflected, y, error, trend, season, m)
        tried += 1
        if values[0] <= at < values[k - 1]:
            points[k], values[k] = reflected, at
            continue
        if at < values[0]:
            candidate = middle + (1.0 + 2.0 / k) * away
        elif at < values[k]:
            candidate = middle + (0.75 - 0.5 / k) * away
        else:
            candidate = middle - (0.75 - 0.5 / k) * away
        there = _lost(candidate, y, error, trend, season, m)
        tried += 1
        if there < min(at, values[k]) or (at < values[0] and there < at):
            points[k], values[k] = candidate, there
        elif at < values[0]:
            points[k], values[k] = reflected, at
        else:
            for i in range(1, k + 1):
                points[i] = points[0] + (1.0 - 1.0 / k) * (points[i] - points[0])
                values[i] = _lost(points[i], y, error, trend, season, m)
            tried += k
    best = np.argmin(values)
    x[:] = points[best]
    return values[best]


def best_by_search(
    y: Floats, letters: tuple[str, str, str], m: int, start: dict[str, float], rng: np.random.Generator,
    restarts: int = 1,
) -> float:  # fmt: skip
    """The highest log-likelihood that a slow search over everything at once finds."""
    keys = names(letters, m)
    codes = ("AM".index(letters[0]), ("N", "A", "Ad").index(letters[1]), "NAM".index(letters[2]), m)
    best = math.inf
    for i in range(restarts):
        x = np.array([start[key] for key in keys]) * (rng.uniform(0.9, 1.1, len(keys)) if i else 1.0)
        for _ in range(4):  # a simplex that has shrunk too early is opened again
            best = min(best, _nelder_mead(x, y, *codes, 6000))
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
