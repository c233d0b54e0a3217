"""Eddyfall: finds out why an interactive 3D build does not render cleanly, proves the cause and the repair."""

__version__ = "0.1.0"
