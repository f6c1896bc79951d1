"""Difference of two schemas to steps, and steps run against a database."""

FOLDER = "migrations"
"""Where they lie in a project."""
