"""The Django project: keeps inputs and outputs, and never computes statistics."""
