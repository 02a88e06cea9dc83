"""Rolling origins, measures, choice of a method, and bands calibrated on what the backtest missed."""
