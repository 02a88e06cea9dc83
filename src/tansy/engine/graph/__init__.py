"""Nodes that must add up, whatever made them so."""
