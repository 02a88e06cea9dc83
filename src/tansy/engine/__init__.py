"""The computation: panels, methods, backtests, reconciliation and bands. Knows no server and no screen."""
