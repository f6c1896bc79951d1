"""Welbik: one declaration, and every artefact agrees with it."""

__version__ = "0.7.0"
