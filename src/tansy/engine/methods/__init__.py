"""Ways to forecast, a family per module, each fitting a whole batch of series at once."""
