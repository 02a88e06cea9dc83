"""What planners change in a forecast: read, spread over the nodes so that totals add up, and laid over it."""
