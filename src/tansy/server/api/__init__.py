"""The HTTP API: addresses, description and errors."""
