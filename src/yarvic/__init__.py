"""Yarvic: the calibrator's bench."""

__version__ = "0.1.0"
