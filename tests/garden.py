"""A small garden: six products in three stores over 130 weeks, with a plain season. Made anew, the same every time."""

from __future__ import annotations

import numpy as np

from tansy.engine.timeline import label

FIRST_WEEK = 2800
N_WEEKS = 130


def _sales() -> str:
    rng = np.random.default_rng(3)
    rows = ["week,product,store,region,units"]
    for p in range(6):
        for s in range(3):
            volume = rng.lognormal(2.6, 0.5)
            for t in range(N_WEEKS):
                mean = volume * (1 + 0.5 * np.sin(2 * np.pi * t / 52.18))
                units = rng.poisson(mean)
                if units:
                    region = "North" if s < 2 else "South"
                    rows.append(f"{label(FIRST_WEEK + t, 'W')},P{p},S{s},{region},{units}")
    return "\n".join(rows) + "\n"


SALES = _sales()
PRODUCTS = "product,product_name,group\n" + "".join(
    f"P{p},Plant {p},{'Herbs' if p < 3 else 'Ferns'}\n" for p in range(6)
)
N_AHEAD = 13


def _drivers() -> str:
    """Price and promotion of each product, known for 13 weeks to come."""
    rng = np.random.default_rng(6)
    rows = ["week,product,price,promotion"]
    for p in range(6):
        for t in range(N_WEEKS + N_AHEAD):
            promotion = int(rng.random() < 0.15)
            price = (4.0 + p) * (0.8 if promotion else 1.0) * (1.05 if t > 70 else 1.0)
            rows.append(f"{label(FIRST_WEEK + t, 'W')},P{p},{price:.2f},{promotion}")
    return "\n".join(rows) + "\n"


DRIVERS = _drivers()
RECIPE = """
name = "small"
[structure]
product = ["group"]
store = ["region"]
[methods]
candidates = ["seasonal-naive", "mean", "ets(A,N,N)", "arima(1,0,0) + harmonics(1)"]
[backtest]
origins = 3
step = 6
leads = 6
"""
