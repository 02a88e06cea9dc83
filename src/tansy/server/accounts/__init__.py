"""People and machines that may come in."""
