"""Suspicious values and corrections of history."""
